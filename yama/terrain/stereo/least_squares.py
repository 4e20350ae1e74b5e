"""Least squares matching: the position of a piece of one image in another, to hundredths of a cell.

A. Gruen, "Adaptive least squares correlation: a powerful image matching technique", South African Journal of
Photogrammetry 14, 1985. The precision is that of W. Förstner, "On the geometric precision of digital correlation",
International Archives of Photogrammetry 24, 1982: it follows from the residuals and the texture.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel
from yama.terrain.stereo.epipolar import taken

_TURNS = 25
_REST = 0.003  # cells by which it may still move when it has come to rest


@kernel
def _one(left, right, lc, lr, rc, rr, affine, half, most, out):
    """Moves, shears and scales the right piece until it looks like the left one. out: column and row in the right
    image, correlation, and standard deviations of both; NaN where it does not come to rest within `most` cells of the
    start."""
    n = (2 * half + 1) ** 2
    design = np.empty((n, 8))
    wanted = np.empty(n)
    out[:] = np.nan
    p = np.array([rc, affine[0], affine[1], rr, affine[2], affine[3]])
    mine = np.empty(n)
    k = 0
    for i in range(-half, half + 1):
        for j in range(-half, half + 1):
            mine[k] = taken(left, lc + j, lr + i, 0, 0)
            k += 1
    centre = mine.mean()
    scale = max(mine.std(), 1e-9)
    if mine.std() == 0 or centre != centre:
        return
    mine = (mine - centre) / scale
    for _ in range(_TURNS):
        k = 0
        total, square, cross = 0.0, 0.0, 0.0
        for i in range(-half, half + 1):
            for j in range(-half, half + 1):
                x = p[0] + p[1] * j + p[2] * i
                y = p[3] + p[4] * j + p[5] * i
                value = taken(right, x, y, 0, 0)
                gx = taken(right, x + 0.5, y, 0, 0) - taken(right, x - 0.5, y, 0, 0)
                gy = taken(right, x, y + 0.5, 0, 0) - taken(right, x, y - 0.5, 0, 0)
                design[k, 0], design[k, 1], design[k, 2] = gx, gx * j, gx * i
                design[k, 3], design[k, 4], design[k, 5] = gy, gy * j, gy * i
                design[k, 6], design[k, 7] = 1.0, value
                wanted[k] = value
                total += value
                k += 1
        if total != total:
            return
        mean = total / n
        for k in range(n):
            square += (wanted[k] - mean) ** 2
            cross += (wanted[k] - mean) * mine[k]
        spread = np.sqrt(square / n)
        if spread == 0:
            return
        likeness = cross / n / spread
        # grey values of the right piece are brought to the left one's; what is left is explained by moving it
        gain = likeness / spread
        if not gain > 0:
            return
        for k in range(n):
            wanted[k] = mine[k] - gain * (design[k, 7] - mean)
            for q in range(6):
                design[k, q] *= gain
            design[k, 7] = design[k, 7] - mean
        normal = design.T @ design
        for q in range(8):
            normal[q, q] *= 1 + 1e-9
        if not np.linalg.cond(normal) < 1e14:
            return
        inverse = np.linalg.inv(normal)
        step = inverse @ (design.T @ wanted)
        for q in range(6):
            p[q] += step[q]
        if abs(p[0] - rc) > most or abs(p[3] - rr) > most or abs(p[1] * p[5] - p[2] * p[4]) < 0.2:
            return
        if abs(step[0]) + abs(step[3]) < _REST:
            rest = wanted - design @ step
            noise = (rest * rest).sum() / (n - 8)
            out[0], out[1], out[2] = p[0], p[3], likeness
            out[3], out[4] = np.sqrt(noise * inverse[0, 0]), np.sqrt(noise * inverse[3, 3])
            return


@kernel
def _all(left, right, cells, affine, half, most, first, last, out):
    for i in range(first, last):
        _one(left, right, cells[i, 0], cells[i, 1], cells[i, 2], cells[i, 3], affine[i], half, most, out[i])


@dataclass(frozen=True)
class Refined:
    """Where pieces of the left image lie in the right one, `(n,)` each: column and row, correlation, and standard
    deviations of column and row in cells. NaN where matching did not come to rest."""

    col: FloatArray
    row: FloatArray
    likeness: FloatArray
    col_sigma: FloatArray
    row_sigma: FloatArray


def refined(
    left: npt.NDArray[np.float32], right: npt.NDArray[np.float32], cells: FloatArray, affine: FloatArray,
    half: int = 8, most: float = 2.5,
) -> Refined:  # fmt: skip
    """Refine matches by least squares.

    Parameters
    ----------
    left, right : ndarray of float32, shape (rows, cols)
    cells : ndarray, shape (n, 4)
        Column and row in the left image, first guess of column and row in the right one.
    affine : ndarray, shape (n, 4)
        First guess of how the right piece lies: columns right per column and per row left, rows per column and per row.
    half : int
        Cells around the middle of a piece.
    most : float
        Cells by which a match may move.
    """
    out = np.full((len(cells), 5), np.nan)
    _all(left, right, np.ascontiguousarray(cells), np.ascontiguousarray(affine), half, most, 0, len(cells), out)
    return Refined(*out.T.copy())
