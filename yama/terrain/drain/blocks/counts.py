"""How many cells drain through each, block by block: what comes to a rim is handed on from block to block."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, rim_of
from yama.terrain.drain.directions import COLS, OUT, ROWS, Directions
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import each


@kernel
def _leave(to, starts, ends):
    """For each of some cells of a block the cell of it from which its water leaves the block; -1 where it ends within.
    Cells are counted along rows."""
    rows, cols = to.shape
    for k in range(starts.size):
        at = starts[k]
        ends[k] = -1
        while True:
            r = at // cols
            c = at % cols
            n = to[r, c]
            if n < 0 or n > 7:
                break
            i = r + ROWS[n]
            j = c + COLS[n]
            if i < 0 or j < 0 or i >= rows or j >= cols:
                ends[k] = at
                break
            at = i * cols + j


@dataclass(frozen=True)
class _Flow:
    """What comes to the rim of a block. cells: those on its rim, counted along the rows of the whole raster, in order.
    own: how many of its own cells drain through each. ends: the place among `cells` of that from which the water of
    each leaves; -1 where it does not. into: the cell of another block into which it leaves there; -1 elsewhere."""

    cells: Nodes
    own: FloatArray = field(repr=False)
    ends: Nodes = field(repr=False)
    into: Nodes = field(repr=False)


def _within(to: Directions) -> Directions:
    """Directions of which none leads out of the block."""
    kept = to.copy()
    for line, steps, way in ((kept[0], ROWS, -1), (kept[-1], ROWS, 1), (kept[:, 0], COLS, -1), (kept[:, -1], COLS, 1)):
        line[np.isin(line, np.flatnonzero(steps == way))] = OUT
    return kept


@kernel
def _inflow(starts, ends, into, own, come):
    """What comes into each rim cell from other blocks, and what leaves at each, worked off from those into which nothing
    comes. starts: the rim cells, all in order; ends: the place of that from which the water of each leaves its block,
    -1 where it does not; into: the place of the rim cell into which it leaves there, -1 where it is none. own: what
    drains through each of its own block. come: what comes from others into each, at first 0."""
    count = starts.size
    waits = np.zeros(count, np.int64)
    # an exit waits for all entries whose water it takes; an entry for all exits that lead into it
    for k in range(count):
        if ends[k] >= 0 and ends[k] != k:
            waits[ends[k]] += 1
        if into[k] >= 0:
            waits[into[k]] += 1
    through = np.zeros(count)  # what passes each on its way out, from other blocks
    stack = np.empty(count, np.int64)
    size = 0
    for k in range(count):
        if waits[k] == 0:
            stack[size] = k
            size += 1
    while size > 0:
        size -= 1
        k = stack[size]
        # what came into it goes to where its water leaves
        passes = come[k] + through[k]
        if ends[k] >= 0 and ends[k] != k:
            through[ends[k]] += come[k]
            waits[ends[k]] -= 1
            if waits[ends[k]] == 0:
                stack[size] = ends[k]
                size += 1
        if into[k] >= 0:
            come[into[k]] += own[k] + passes
            waits[into[k]] -= 1
            if waits[into[k]] == 0:
                stack[size] = into[k]
                size += 1


def accumulate(to: Raster, grid: Grid, counts: Raster, side: int, progress: Progress = ignore_progress) -> None:
    """How many cells drain through each, block by block; see `accumulation`.

    Parameters
    ----------
    to : Raster
        Where water goes.
    grid : Grid
        Of the whole raster.
    counts : Raster
        Of whole numbers, into which they are written; 0 where there is no height.
    side : int
    progress : callable
    """
    blocks = Blocks((grid.rows, grid.cols), side)
    total_cols = grid.cols

    def look(number: int) -> _Flow:
        window = blocks.window(number)
        ways = np.asarray(to.read(window), np.int8)
        cells = rim_of(window)
        total = accumulation(_within(ways))
        ends = np.empty(len(cells), np.int64)
        _leave(ways, cells, ends)
        rows, cols = np.divmod(cells, window.cols)
        leaves = np.flatnonzero(ends == cells)
        into = np.full(len(cells), -1, np.int64)
        step = ways.ravel()[cells[leaves]].astype(np.int64)
        into[leaves] = (window.row + rows[leaves] + ROWS[step]) * total_cols + window.col + cols[leaves] + COLS[step]
        place = np.where(ends >= 0, np.searchsorted(cells, ends), -1)
        own = np.nan_to_num(total.ravel()[cells])
        return _Flow((window.row + rows) * total_cols + window.col + cols, own, place, into)

    told = each(list(blocks), look, part_of(progress, 0.0, 0.45), spread=True)
    base = np.append(0, np.cumsum([len(one.cells) for one in told]))
    cells = np.concatenate([one.cells for one in told])
    ends = np.concatenate([np.where(one.ends >= 0, base[k] + one.ends, -1) for k, one in enumerate(told)])
    into = np.concatenate([one.into for one in told])
    own = np.concatenate([one.own for one in told])
    order = np.argsort(cells)
    there = np.flatnonzero(into >= 0)
    into[there] = order[np.searchsorted(cells, into[there], sorter=order)]
    come = np.zeros(len(cells))
    _inflow(cells, ends, into, own, come)
    progress(0.5)

    def work(number: int) -> None:
        window = blocks.window(number)
        ways = np.asarray(to.read(window), np.int8)
        weight = np.ones(ways.shape)
        held = told[number]
        rows, cols = np.divmod(held.cells, total_cols)
        weight[rows - window.row, cols - window.col] += come[base[number] : base[number + 1]]
        total = accumulation(_within(ways), weight)
        counts.write(window, np.nan_to_num(total).astype(counts.kind))

    each(list(blocks), work, part_of(progress, 0.5, 1.0), spread=True)
