"""Values of a surface at positions."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.grid import FloatArray, Window
from yama.terrain.kernels import kernel
from yama.terrain.surface.base import Heights, Surface

_NEAR = 256
"""Cells of a square whose positions are read together."""


def sample(surface: Surface, x: npt.ArrayLike, y: npt.ArrayLike, nearest: bool = False) -> FloatArray:
    """Values of a surface at positions.

    Parameters
    ----------
    surface : Surface
        Read in blocks, so that scattered positions stay cheap.
    x, y : array_like, shape (points,)
        In the surface's CRS.
    nearest : bool
        Take the value of the nearest cell centre; otherwise values are interpolated bilinearly between the four around.

    Returns
    -------
    ndarray, shape (points,)
        float64; NaN outside the grid, and where any of the cells that carry weight is empty.

    Examples
    --------
    >>> from yama.terrain.grid import Grid
    >>> from yama.terrain.surface import ArraySurface
    >>> grid = Grid("EPSG:32741", west=0.0, north=20.0, cell_width=10.0, cell_height=10.0, rows=2, cols=2)
    >>> surface = ArraySurface([[1.0, 2.0], [3.0, 4.0]], grid)
    >>> sample(surface, [5.0, 10.0, 25.0], [15.0, 10.0, 10.0]).tolist()
    [1.0, 2.5, nan]
    """
    cols = np.atleast_1d(surface.grid.col_of(x))
    rows = np.atleast_1d(surface.grid.row_of(y))
    if nearest:
        cols, rows = np.rint(cols), np.rint(rows)
    result = np.full(cols.size, np.nan)
    for chosen, heights, r, c in _in_blocks(surface, rows, cols, 0):
        result[chosen] = _at(heights, r, c)
    return result


def sample_with_rises(surface: Surface, x: npt.ArrayLike, y: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Values of a surface at positions, and how it rises there.

    Parameters
    ----------
    surface : Surface
    x, y : array_like, shape (points,)
        In the surface's CRS.

    Returns
    -------
    ndarray, shape (points,)
        As of `sample`.
    ndarray, shape (2, points)
        Rise over run towards east and north of the grid, in the surface's unit a metre: between the bilinear values
        one cell away on either side; NaN where one of them is.
    """
    cols = np.atleast_1d(surface.grid.col_of(x))
    rows = np.atleast_1d(surface.grid.row_of(y))
    values, rises = np.full(cols.size, np.nan), np.full((2, cols.size), np.nan)
    wide, high = surface.grid.metres_per_cell()
    for chosen, heights, r, c in _in_blocks(surface, rows, cols, 1):
        values[chosen] = _at(heights, r, c)
        rises[0, chosen] = (_at(heights, r, c + 1) - _at(heights, r, c - 1)) / (2 * wide)
        rises[1, chosen] = (_at(heights, r - 1, c) - _at(heights, r + 1, c)) / (2 * high)
    return values, rises


def _in_blocks(
    surface: Surface, rows: FloatArray, cols: FloatArray, halo: int
) -> Iterator[tuple[npt.NDArray[np.int64], Heights, FloatArray, FloatArray]]:
    """Positions that are read together: their numbers, the cells around them, and where they are among these."""
    grid = surface.grid
    inside = np.isfinite(cols) & np.isfinite(rows)
    inside &= (cols > -1) & (rows > -1) & (cols < grid.cols) & (rows < grid.rows)
    usable = np.flatnonzero(inside)
    down, across = (np.floor(at[usable] / _NEAR).astype(np.int64) for at in (rows, cols))
    blocks = down * (grid.cols // _NEAR + 2) + across
    order = np.argsort(blocks, kind="stable")
    for chosen in np.split(usable[order], np.flatnonzero(np.diff(blocks[order])) + 1):
        if not chosen.size:
            continue
        go_on()
        top, left = int(np.floor(rows[chosen].min())) - halo, int(np.floor(cols[chosen].min())) - halo
        bottom, right = int(np.floor(rows[chosen].max())) + 2 + halo, int(np.floor(cols[chosen].max())) + 2 + halo
        heights = surface.read(Window(top, left, bottom - top, right - left))
        yield chosen, heights, rows[chosen] - top, cols[chosen] - left


def _at(heights: Heights, rows: FloatArray, cols: FloatArray) -> FloatArray:
    found = np.empty(rows.size)
    _bilinear(heights, rows, cols, found)
    return found


@kernel
def _bilinear(heights, rows, cols, result):
    for i in range(result.size):
        r0 = min(max(int(np.floor(rows[i])), 0), heights.shape[0] - 1)
        c0 = min(max(int(np.floor(cols[i])), 0), heights.shape[1] - 1)
        r1 = min(r0 + 1, heights.shape[0] - 1)
        c1 = min(c0 + 1, heights.shape[1] - 1)
        down = rows[i] - r0
        right = cols[i] - c0
        total = 0.0
        for dr in range(2):
            for dc in range(2):
                weight = (down if dr else 1.0 - down) * (right if dc else 1.0 - right)
                if abs(weight) > 1e-9:  # a neighbour of no weight may be empty
                    total += weight * heights[r1 if dr else r0, c1 if dc else c0]
        result[i] = total
