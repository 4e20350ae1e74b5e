"""How much ground drains through each cell.

Cells are worked off from those without any above them, each once. D-infinity: D. Tarboton, Water Resources Research 33
(1997). Spread over all lower neighbours: T. Freeman, Computers & Geosciences 17 (1991).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.directions import COLS, ROWS, Directions, apart_on
from yama.terrain.drain.strips import in_turn, over_rows
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights

Flow = Literal["one", "two", "many"]

_SPREAD = 1.1
"""Freeman's exponent: how much of the water goes to the steeper neighbours."""


@kernel
def _above(to, first, last, above):
    """How many neighbours in some rows drain into each cell."""
    cols = to.shape[1]
    for r in range(first, last):
        for c in range(cols):
            n = to[r, c]
            if 0 <= n < 8:
                above[r + ROWS[n], c + COLS[n]] += 1


@kernel
def _gather(to, first, last, above, total):
    """Add to cells what drains into them, in place, on all ways that are finished in some rows; empty cells keep what
    they have."""
    cols = to.shape[1]
    for row in range(first, last):
        for col in range(cols):
            if above[row, col] != 0 or to[row, col] < -1:
                continue
            r = row
            c = col
            while True:
                above[r, c] = -1
                n = to[r, c]
                if n < 0 or n > 7:
                    break
                i = r + ROWS[n]
                j = c + COLS[n]
                total[i, j] += total[r, c]
                above[i, j] -= 1
                if above[i, j] != 0:
                    break
                r = i
                c = j


@kernel
def _facets(heights, first, last, apart, facet, part):
    """D-infinity: the number of the steepest facet around each cell of rows, and the share of the water that goes to
    its diagonal neighbour; -1 where it falls nowhere."""
    rows, cols = heights.shape
    for r in range(first, last):
        for c in range(cols):
            z = np.float64(heights[r, c])
            best = 0.0
            facet[r, c] = -1
            rise = 0.0
            run = 1.0
            widest = 1.0
            for k in range(8):
                near = 2 * (((k + 1) // 2) % 4)
                far = k if k % 2 == 1 else k + 1
                i, j = r + ROWS[near], c + COLS[near]
                a, b = r + ROWS[far], c + COLS[far]
                if min(i, j, a, b) < 0 or max(i, a) >= rows or max(j, b) >= cols:
                    continue
                along = apart[near]
                across = apart[(near + 2) % 8]
                s1 = (z - heights[i, j]) / along
                s2 = (np.float64(heights[i, j]) - heights[a, b]) / across
                if s2 <= 0.0:  # towards the near one, or nowhere where one of them is empty
                    slope = s1
                    s2 = 0.0
                elif s2 * along >= s1 * across:
                    slope = (z - heights[a, b]) / apart[far]
                    s1, s2 = along, across
                else:
                    slope = np.sqrt(s1 * s1 + s2 * s2)
                if slope > best:
                    best = slope
                    facet[r, c] = k
                    rise, run, widest = s2, s1, across / along
            if best > 0.0:
                part[r, c] = np.arctan2(rise, run) / np.arctan(widest)


@kernel
def _ends(k):
    """The neighbours at the ends of a facet: beside the cell, and diagonally."""
    return 2 * (((k + 1) // 2) % 4), (k if k % 2 == 1 else k + 1)


@kernel
def _shares_of_two(to, facet, part, r, c, shares):
    """How the water of a cell is shared by the neighbours at the ends of its facet; where it falls nowhere it goes
    where level ground drains to."""
    for n in range(8):
        shares[n] = 0.0
    k = facet[r, c]
    if k >= 0:
        near, far = _ends(k)
        shares[near] = 1.0 - part[r, c]
        shares[far] = part[r, c]
    elif 0 <= to[r, c] < 8:
        shares[to[r, c]] = 1.0


@kernel
def _shares_of_many(heights, to, r, c, apart, shares):
    """All lower neighbours by how steeply it falls to them; where there is none, where level ground drains to."""
    rows, cols = heights.shape
    total = 0.0
    for n in range(8):
        i = r + ROWS[n]
        j = c + COLS[n]
        shares[n] = 0.0
        if 0 <= i < rows and 0 <= j < cols and heights[i, j] < heights[r, c]:
            shares[n] = ((np.float64(heights[r, c]) - heights[i, j]) / apart[n]) ** _SPREAD
            total += shares[n]
    if total > 0.0:
        for n in range(8):
            shares[n] /= total
    elif 0 <= to[r, c] < 8:
        shares[to[r, c]] = 1.0


@kernel
def _lower(heights, to, r, c, shares):
    """As `_shares_of_many`, but only whether there is a share."""
    rows, cols = heights.shape
    any_lower = False
    for n in range(8):
        i = r + ROWS[n]
        j = c + COLS[n]
        shares[n] = 0.0
        if 0 <= i < rows and 0 <= j < cols and heights[i, j] < heights[r, c]:
            shares[n] = 1.0
            any_lower = True
    if not any_lower and 0 <= to[r, c] < 8:
        shares[to[r, c]] = 1.0


@kernel
def _above_shares(heights, to, facet, part, two, first, last, above):
    """As `_above`, where a cell drains to several."""
    cols = to.shape[1]
    shares = np.empty(8)
    for r in range(first, last):
        for c in range(cols):
            if to[r, c] < -1:
                continue
            if two:
                _shares_of_two(to, facet, part, r, c, shares)
            else:
                _lower(heights, to, r, c, shares)
            for n in range(8):
                if shares[n] > 0.0:
                    above[r + ROWS[n], c + COLS[n]] += 1


@kernel
def _gather_shares(heights, to, facet, part, apart, two, first, last, above, stack, total):
    """As `_gather`, where a cell drains to several. stack: room for all cells."""
    cols = to.shape[1]
    shares = np.empty(8)
    for row in range(first, last):
        for col in range(cols):
            if above[row, col] != 0 or to[row, col] < -1:
                continue
            stack[0] = row * cols + col
            size = 1
            while size > 0:
                size -= 1
                r = stack[size] // cols
                c = stack[size] % cols
                above[r, c] = -1
                if two:
                    _shares_of_two(to, facet, part, r, c, shares)
                else:
                    _shares_of_many(heights, to, r, c, apart, shares)
                for n in range(8):
                    if shares[n] > 0.0:
                        i = r + ROWS[n]
                        j = c + COLS[n]
                        total[i, j] += shares[n] * total[r, c]
                        above[i, j] -= 1
                        if above[i, j] == 0:
                            stack[size] = i * cols + j
                            size += 1


@kernel
def _without_empty(to, first, last, total):
    for r in range(first, last):
        for c in range(to.shape[1]):
            if to[r, c] < -1:
                total[r, c] = np.nan


def accumulation(
    to: Directions,
    weight: npt.NDArray[np.floating] | None = None,
    flow: Flow = "one",
    heights: Heights | None = None,
    grid: Grid | None = None,
    progress: Progress = ignore_progress,
    zeros: Callable[..., npt.NDArray[Any]] = np.zeros,
) -> FloatArray:
    """What drains through each cell, itself included.

    Parameters
    ----------
    to : ndarray of int8, shape (rows, cols)
        Where water goes, as `directions` gives it.
    weight : ndarray, shape (rows, cols), optional
        What each cell gives; 1 where not given. NaN gives nothing.
    flow : {"one", "two", "many"}
        Whether water goes to one neighbour, is shared by two (D-infinity), or by all that are lower.
    heights, grid
        Conditioned heights in metres and their grid, where it is shared.
    progress : callable
    zeros : callable
        Makes arrays of zeros from a shape and a type; mapped files, where there is no memory for them.

    Returns
    -------
    ndarray of float64, shape (rows, cols)
        NaN where there is no height. Counts of cells are exact up to 2^53.
    """
    total = zeros(to.shape, np.float64)
    total[:] = 1.0 if weight is None else np.where(np.isnan(weight), 0.0, weight)
    if flow == "one":
        above = zeros(to.shape, np.int8)
        in_turn(_above, to.shape, (to,), (above,), part_of(progress, 0.0, 0.3))
        in_turn(_gather, to.shape, (to,), (above, total), part_of(progress, 0.3, 1.0))
    else:
        if heights is None or grid is None:
            raise InputError("Water that is shared among neighbours needs heights.")
        two = flow == "two"
        shape = to.shape if two else (0, 0)
        facet, part = zeros(shape, np.int8), zeros(shape, np.float32)
        if two:
            over_rows(_facets, to.shape[0], (heights,), (apart_on(grid), facet, part))
        above = zeros(to.shape, np.int8)
        given = (heights, to, facet, part)
        in_turn(_above_shares, to.shape, (*given, two), (above,), part_of(progress, 0.1, 0.3))
        stack = np.empty(to.size, np.int64)  # what is not used takes no memory
        in_turn(
            _gather_shares,
            to.shape,
            (*given, apart_on(grid), two),
            (above, stack, total),
            part_of(progress, 0.3, 1.0),
        )
    over_rows(_without_empty, to.shape[0], (to,), (total,))
    return total
