"""Heights over which water finds its way out: hollows filled, breached, or whichever changes less."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.directions import COLS, ROWS, apart_on
from yama.terrain.drain.hollows import Flags, Hollows
from yama.terrain.drain.strips import in_turn
from yama.terrain.drain.working_off import LEFT, Limits, Method, work_off
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights


@dataclass(frozen=True)
class Conditioned:
    """Heights over which water finds its way out.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        In metres.
    done : ndarray of int8, shape (basins + 1,)
        What was done about each lowest place: LEFT, FILLED or BREACHED.
    raised, cut : ndarray, shape (basins + 1,)
        Cubic metres added and taken away for it.
    lengths : ndarray, shape (basins + 1,)
        Metres of the way that was cut for it.
    """

    heights: Heights = field(repr=False)
    done: npt.NDArray[np.int8] = field(repr=False)
    raised: FloatArray = field(repr=False)
    cut: FloatArray = field(repr=False)
    lengths: FloatArray = field(repr=False)

    @property
    def moved(self) -> float:
        """Cubic metres added and taken away."""
        return float(self.raised.sum() + self.cut.sum())


def condition(
    found: Hollows,
    method: Method,
    limits: Limits | None = None,
    kept: Flags | None = None,
    progress: Progress = ignore_progress,
) -> Conditioned:
    """Make water find its way out of hollows.

    Parameters
    ----------
    found : Hollows
    method : {"leave", "fill", "breach", "lesser"}
        lesser: each is filled or breached, whichever moves less ground.
    limits : Limits, optional
        What is beyond them is left as it is, but what lies within it is not.
    kept : ndarray of bool, shape (basins + 1,), optional
        Lowest places that keep their water.
    progress : callable

    Returns
    -------
    Conditioned

    Raises
    ------
    InputError
        Where a limit is not above 0, or `kept` is not of these hollows.
    """
    limits = limits or Limits()
    for title, limit in (("depth", limits.depth), ("area", limits.area), ("length", limits.length)):
        if limit is not None and not limit > 0:
            raise InputError(f"The largest {title} must be above 0.")
    count = found.basins
    if kept is not None and kept.shape != (count + 1,):
        raise InputError(f"There are {count} lowest places, and {kept.size - 1} are said to be kept or not.")
    heights = found.heights.copy()
    done, lengths = np.zeros(count + 1, np.int8), np.zeros(count + 1)
    raised, cut = np.zeros(count + 1), np.zeros(count + 1)
    if method == "fill" and kept is None and limits.depth is None and limits.area is None:
        return _all_filled(found, progress)
    if method != "leave":
        wanted = np.arange(1, count + 1)
        if kept is not None:
            wanted = wanted[~kept[1:]]
        # the highest first; of two alike the one that stands first, so that the outcome is always the same
        wanted = wanted[np.lexsort((found.low_at[wanted], -found.low[wanted]))]
        starts, told = found.low_at[wanted], part_of(progress, 0.0, 0.99)
        outcomes = work_off(heights, found.grid, starts, method, limits, True, told)
        done[wanted], raised[wanted], cut[wanted], lengths[wanted] = outcomes
    progress(1.0)
    return Conditioned(heights, done, raised * found.cell_area, cut * found.cell_area, lengths)


def _all_filled(found: Hollows, progress: Progress) -> Conditioned:
    """Every hollow filled: told by the tree, without flooding any."""
    count = found.basins
    done = np.ones(count + 1, np.int8)
    done[0] = LEFT
    raised, nothing = np.zeros(count + 1), np.zeros(count + 1)
    outer = found.outermost
    at = found.basin.ravel()[found.low_at[outer]]
    raised[at] = found.volume[outer]
    return Conditioned(found.filled(progress=progress), done, raised, nothing, nothing.copy())


def with_fall(
    heights: Heights,
    to: npt.NDArray[np.int8],
    fall: float,
    grid: Grid,
    progress: Progress = ignore_progress,
    zeros: Callable[..., npt.NDArray[Any]] = np.zeros,
) -> Heights:
    """Heights that fall along the way of the water.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        Conditioned, in metres.
    to : ndarray of int8, shape (rows, cols)
        Where water goes.
    fall : float
        Metres a metre that they fall at least. A fall smaller than what the numbers can tell is the next number.
    grid : Grid
    progress : callable
    zeros : callable
        As `accumulation` has it.
    """
    raised = zeros(heights.shape, np.float32)
    raised[:] = heights
    done = zeros(heights.shape, np.bool_)
    way = np.empty(heights.size, np.int64)  # what is not used takes no memory
    in_turn(_raise, heights.shape, (to, fall * apart_on(grid)), (done, way, raised), progress)
    return raised


@kernel
def _raise(to, falls, first, last, done, way, heights):
    """Raise cells of rows, and all below them, in place, from the end of their way up."""
    cols = to.shape[1]
    for row in range(first, last):
        for col in range(cols):
            r = row
            c = col
            size = 0
            while not done[r, c]:
                done[r, c] = True
                n = to[r, c]
                if n < 0 or n > 7:
                    break
                way[size] = r * cols + c
                size += 1
                r += ROWS[n]
                c += COLS[n]
            for k in range(size - 1, -1, -1):
                r = way[k] // cols
                c = way[k] % cols
                n = to[r, c]
                below = heights[r + ROWS[n], c + COLS[n]]
                least = below + falls[n]
                if heights[r, c] < least:
                    z = np.float32(least)
                    heights[r, c] = z if z > below else np.nextafter(below, np.float32(np.inf))
