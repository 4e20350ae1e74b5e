"""Where water goes from each cell.

Steepest of eight neighbours: J. O'Callaghan and D. Mark, "The extraction of drainage networks from digital elevation
data", Computer Vision, Graphics and Image Processing 28 (1984). Level ground drains towards where it is lower and away
from where it is higher: J. Garbrecht and L. Martz, Journal of Hydrology 193 (1997), as R. Barnes, C. Lehman and D.
Mulla do it, Computers & Geosciences 62 (2014).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.strips import in_turn, over_rows
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights

Directions = npt.NDArray[np.int8]

ROWS = np.array((0, 1, 1, 1, 0, -1, -1, -1), np.int64)
COLS = np.array((1, 1, 0, -1, -1, -1, 0, 1), np.int64)
"""Neighbours by number: to the east, then on towards the south."""
OUT, NONE, EMPTY = 8, -1, -2
"""A cell whose water leaves the surface; one where it stays; one without height."""


@kernel
def is_edge(heights, r, c):
    """Whether water can leave the surface from a cell: at the rim, or beside an empty cell."""
    rows, cols = heights.shape
    if r == 0 or c == 0 or r == rows - 1 or c == cols - 1:
        return True
    # a sum with NaN is NaN: one comparison instead of eight
    above = heights[r - 1, c - 1] + heights[r - 1, c] + heights[r - 1, c + 1]
    beside = heights[r, c - 1] + heights[r, c + 1]
    below = heights[r + 1, c - 1] + heights[r + 1, c] + heights[r + 1, c + 1]
    return np.isnan(above + beside + below)


def edges(heights: Heights) -> npt.NDArray[np.bool_]:
    """The cells from which water can leave the surface: at the rim, and beside empty ones."""
    edge = np.ones(heights.shape, np.bool_)
    empty = np.isnan(heights)
    rows, cols = heights.shape
    if rows > 2 and cols > 2:
        edge[1:-1, 1:-1] = False
        for i, j in zip(ROWS.tolist(), COLS.tolist(), strict=True):
            edge[1:-1, 1:-1] |= empty[1 + i : rows - 1 + i, 1 + j : cols - 1 + j]
    return edge


@kernel
def _way(heights, r, c, nearness):
    """Of a cell at an edge."""
    rows, cols = heights.shape
    z = heights[r, c]
    best = np.float32(0.0)
    way = OUT if is_edge(heights, r, c) else NONE
    for n in range(8):
        i = r + ROWS[n]
        j = c + COLS[n]
        if 0 <= i < rows and 0 <= j < cols:
            fall = (z - heights[i, j]) * nearness[n]
            if fall > best:
                best = fall
                way = n
    return way


@kernel
def steepest(heights, first, last, nearness, to):
    """Towards the neighbour to which rows fall most steeply; NONE where no neighbour is lower, OUT where that is so at
    an edge. nearness: one over the distances to the neighbours."""
    rows, cols = heights.shape
    for r in range(first, last):
        if r == 0 or r == rows - 1 or cols < 3:
            for c in range(cols):
                to[r, c] = EMPTY if np.isnan(heights[r, c]) else _way(heights, r, c, nearness)
            continue
        above, own, below = heights[r - 1], heights[r], heights[r + 1]
        for c in range(1, cols - 1):
            z = own[c]
            best = np.float32(0.0)
            way = NONE
            # empty neighbours fall nowhere
            fall = (z - own[c + 1]) * nearness[0]
            if fall > best:
                best, way = fall, 0
            fall = (z - below[c + 1]) * nearness[1]
            if fall > best:
                best, way = fall, 1
            fall = (z - below[c]) * nearness[2]
            if fall > best:
                best, way = fall, 2
            fall = (z - below[c - 1]) * nearness[3]
            if fall > best:
                best, way = fall, 3
            fall = (z - own[c - 1]) * nearness[4]
            if fall > best:
                best, way = fall, 4
            fall = (z - above[c - 1]) * nearness[5]
            if fall > best:
                best, way = fall, 5
            fall = (z - above[c]) * nearness[6]
            if fall > best:
                best, way = fall, 6
            fall = (z - above[c + 1]) * nearness[7]
            if fall > best:
                best, way = fall, 7
            if way == NONE:
                way = EMPTY if np.isnan(z) else (OUT if is_edge(heights, r, c) else NONE)
            to[r, c] = way
        for c in (0, cols - 1):
            to[r, c] = EMPTY if np.isnan(heights[r, c]) else _way(heights, r, c, nearness)


@kernel
def _steps(queue, size, steps):
    """Count steps over a patch of level ground from the cells in a queue, which have 1; the others of it have -1.
    Returns the largest count."""
    rows, cols = steps.shape
    at = 0
    most = np.int32(0)
    while at < size:
        r = queue[at] // cols
        c = queue[at] - r * cols
        at += 1
        most = max(most, steps[r, c])
        on = steps[r, c] + 1
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            if 0 <= i < rows and 0 <= j < cols and steps[i, j] == -1:
                steps[i, j] = on
                queue[size] = i * cols + j
                size += 1
    return most


@kernel
def level_patch(heights, to, nearness, row, col, seen, away, towards, patch, queue):
    """Give the level cells without a way down that hang together with one their direction. seen: noted of cells, False
    at first; away, towards: 0 of all cells, before and afterwards; patch, queue: room for all cells of the patch, which
    are counted along rows."""
    rows, cols = heights.shape
    z = heights[row, col]
    seen[row, col] = True
    patch[0] = np.int64(row) * cols + col
    size = 1
    at = 0
    lower = 0
    while at < size:
        r = patch[at] // cols
        c = patch[at] - r * cols
        at += 1
        up = False
        on = False
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            if i < 0 or j < 0 or i >= rows or j >= cols:
                continue
            if heights[i, j] > z:
                up = True
            elif heights[i, j] == z:
                if to[i, j] >= 0:
                    on = True
                elif not seen[i, j]:
                    seen[i, j] = True
                    patch[size] = i * cols + j
                    size += 1
        away[r, c] = 1 if up else -1
        towards[r, c] = 1 if on else -1
        lower += on
    if lower == 0:  # a hollow that keeps its water
        for k in range(size):
            away[patch[k] // cols, patch[k] % cols] = 0
            towards[patch[k] // cols, patch[k] % cols] = 0
        return
    begun = 0
    for k in range(size):
        if away[patch[k] // cols, patch[k] % cols] == 1:
            queue[begun] = patch[k]
            begun += 1
    most = _steps(queue, begun, away)
    begun = 0
    for k in range(size):
        if towards[patch[k] // cols, patch[k] % cols] == 1:
            queue[begun] = patch[k]
            begun += 1
    _steps(queue, begun, towards)
    # the fall towards the way out counts twice, so that it always leads down; it is above 0 in this patch alone
    for k in range(size):
        r = patch[k] // cols
        c = patch[k] - r * cols
        from_higher = most - away[r, c] if away[r, c] > 0 else 0
        away[r, c] = from_higher + 2 * towards[r, c]
    for k in range(size):
        r = patch[k] // cols
        c = patch[k] - r * cols
        goes_on = towards[r, c] == 1
        best = np.float32(0.0)
        way = NONE
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            if i < 0 or j < 0 or i >= rows or j >= cols:
                continue
            if away[i, j] > 0:
                fall = (away[r, c] - away[i, j]) * nearness[n]
            elif goes_on and heights[i, j] == z and to[i, j] >= 0:
                fall = (away[r, c] + 1) * nearness[n]
            else:
                continue
            if fall > best:
                best = fall
                way = n
        queue[k] = way
    for k in range(size):
        r = patch[k] // cols
        c = patch[k] - r * cols
        to[r, c] = queue[k]
        away[r, c] = 0
        towards[r, c] = 0


@kernel
def _over_level(heights, to, nearness, first, last, seen, away, towards, patch, queue):
    """Give level cells that have no way down their direction, patch by patch, where a patch begins in some rows; see
    `level_patch`."""
    cols = heights.shape[1]
    for row in range(first, last):
        for col in range(cols):
            if to[row, col] == NONE and not seen[row, col]:
                level_patch(heights, to, nearness, row, col, seen, away, towards, patch, queue)


def apart_on(grid: Grid) -> FloatArray:
    """Metres from a cell to each of its neighbours."""
    across, along = grid.metres_per_cell()
    found: FloatArray = np.hypot(ROWS * along, COLS * across)
    return found


def nearness_on(grid: Grid) -> npt.NDArray[np.float32]:
    return (1.0 / apart_on(grid)).astype(np.float32)


def steepest_ways(heights: Heights, grid: Grid, progress: Progress = ignore_progress) -> Directions:
    """The neighbour to which each cell falls most steeply.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        NaN where empty.
    grid : Grid
        Whose cells these are.

    Returns
    -------
    ndarray of int8, shape (rows, cols)
        The number of a neighbour, NONE where no neighbour is lower, OUT where that is so at the rim or beside an empty
        cell, EMPTY where there is no height.
    """
    to = np.empty(heights.shape, np.int8)
    over_rows(steepest, heights.shape[0], (heights,), (nearness_on(grid), to), progress)
    return to


def directions(heights: Heights, grid: Grid, progress: Progress = ignore_progress) -> Directions:
    """Where water goes from each cell, level ground included.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        NaN where empty; conditioned, so that every hollow has a way out but those that keep their water.
    grid : Grid
        Whose cells these are.

    Returns
    -------
    ndarray of int8, shape (rows, cols)
        As `steepest_ways` gives it. NONE is left where a hollow has no way out.
    """
    to = steepest_ways(heights, grid, part_of(progress, 0.0, 0.3))
    over_level_ground(heights, to, grid, part_of(progress, 0.3, 1.0))
    return to


def over_level_ground(heights: Heights, to: Directions, grid: Grid, progress: Progress = ignore_progress) -> None:
    """Give level cells without a lower neighbour the way over their patch to where it goes on, in place."""
    room = int(np.count_nonzero(to == NONE))
    noted = np.zeros(to.shape, np.bool_), np.zeros(to.shape, np.int32), np.zeros(to.shape, np.int32)
    held = np.empty(room, np.int64), np.empty(room, np.int64)
    in_turn(_over_level, to.shape, (heights, to, nearness_on(grid)), (*noted, *held), progress)


@kernel
def over_level(given, heights, to, flags):
    """Whether water goes on from a cell to one that is as high, where the ground was not cut: what leads it there is
    not the ground. given, heights: before and after conditioning."""
    rows, cols = to.shape
    for r in range(rows):
        for c in range(cols):
            n = to[r, c]
            z = heights[r, c]
            flags[r, c] = 0 <= n < 8 and heights[r + ROWS[n], c + COLS[n]] == z and given[r, c] <= z
