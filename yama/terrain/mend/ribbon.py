"""How far along a long, narrow area, as between the banks of a river, each of its cells lies."""

from __future__ import annotations

from heapq import heappop, heappush

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel

_MOST = 400_000  # cells that are walked through; of more, several are taken as one
_LONG = 3.0  # times its mean width that an area is at least as long as
_CUT_OFF = 0.02  # share of the cells that may be out of reach of the others

_HALF = np.array([(0, 1), (1, 0), (1, 1), (-1, 1), (1, 2), (2, 1), (-1, 2), (-2, 1)], np.int64)
_STEPS = np.concatenate([_HALF, -_HALF])


@kernel
def _walked(inside, row, col, wide, high, steps, far):
    """Shortest ways from a cell to all others through cells within (E. W. Dijkstra, Numerische Mathematik 1, 1959),
    with sixteen directions from each, so that a way is at most 2.8 % too long."""
    rows, cols = inside.shape
    far[:] = np.inf
    far[row, col] = 0.0
    heap = [(0.0, row, col)]
    while len(heap):
        at, r, c = heappop(heap)
        if at > far[r, c]:
            continue
        for k in range(steps.shape[0]):
            down, right = steps[k]
            rr, cc = r + down, c + right
            if rr < 0 or cc < 0 or rr >= rows or cc >= cols or not inside[rr, cc]:
                continue
            if abs(down) + abs(right) == 3:
                # not across what lies between two cells that meet at a corner
                if not (
                    inside[r + int(down / 2), c + int(right / 2)] and inside[rr - int(down / 2), cc - int(right / 2)]
                ):
                    continue
            new = at + np.sqrt((right * wide) ** 2 + (down * high) ** 2)
            if new < far[rr, cc]:
                far[rr, cc] = new
                heappush(heap, (new, rr, cc))


def along(inside: npt.NDArray[np.bool_], wide: float, high: float) -> tuple[FloatArray, float]:
    """How far along an area its cells lie, from one of its two ends to the other.

    The ends are the cells that are farthest from each other by ways within the area. A cell lies between them by half
    of how much farther it is from the one than from the other, so that cross-sections stand square to the banks.

    Parameters
    ----------
    inside : ndarray of bool, shape (rows, cols)
        The cells of the area.
    wide, high : float
        Of a cell, in metres.

    Returns
    -------
    at : ndarray of float64, shape (rows, cols)
        Metres from one end; NaN outside, and where the area is cut off by something narrower than a cell.
    step : float
        Metres within which distances are told.

    Raises
    ------
    InputError
        Where the area is not long and narrow, or falls apart.
    """
    count = int(inside.sum())
    many = max(int(np.ceil(np.sqrt(count / _MOST))), 1)
    rows, cols = (-(-size // many) for size in inside.shape)
    padded = np.zeros((rows * many, cols * many), np.bool_)
    padded[: inside.shape[0], : inside.shape[1]] = inside
    area = padded.reshape(rows, many, cols, many).any(axis=(1, 3))
    size = (wide * many, high * many)
    row, col = np.argwhere(area)[0].tolist() if count else (0, 0)
    far = np.zeros((2, rows, cols))

    def farthest(start: tuple[int, int], into: FloatArray) -> tuple[int, int]:
        _walked(area, *start, *size, _STEPS, into)
        reached = np.where(np.isfinite(into), into, -1.0)
        there = np.unravel_index(int(reached.argmax()), reached.shape)
        return int(there[0]), int(there[1])

    first = farthest((row, col), far[0])
    last = farthest(first, far[0])
    farthest(last, far[1])
    length = float(far[0][last])
    reached = np.isfinite(far[0])
    if (area & ~reached).sum() > _CUT_OFF * area.sum():
        raise InputError(
            "The outline is narrower than a cell in places, so that it falls apart. Draw its banks farther apart there, or "
            "draw the river as a line with a width."
        )
    if length**2 < _LONG * count * wide * high:
        raise InputError(
            "The outline is nearly as wide as it is long, so that nothing says which way the river runs. Draw it from "
            "bank to bank, or draw the river as a line with a width."
        )
    between = np.full((rows, cols), np.nan)
    between[reached] = (far[0][reached] - far[1][reached] + length) / 2
    fine = np.repeat(np.repeat(between, many, axis=0), many, axis=1)[: inside.shape[0], : inside.shape[1]]
    return np.where(inside, fine, np.nan), min(size)
