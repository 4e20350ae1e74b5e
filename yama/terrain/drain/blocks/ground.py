"""Which ground drains to which places, block by block."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, rim_of
from yama.terrain.drain.catchments import label_down
from yama.terrain.drain.directions import COLS, NONE, OUT, ROWS, Directions
from yama.terrain.drain.hollows import Whole
from yama.terrain.grid import Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import each


@kernel
def _first_marked(to, labels, starts, found, into):
    """For each of some cells of a block the label of the first marked cell that its water reaches in the block; 0 where
    it reaches none. into: the row and column of the cell of another block into which it leaves before; below -1 where it
    does not leave."""
    rows, cols = to.shape
    for k in range(starts.size):
        r = starts[k] // cols
        c = starts[k] % cols
        into[k, 0] = -2
        while True:
            found[k] = labels[r, c]
            if found[k] != 0:
                break
            n = to[r, c]
            if n < 0 or n > 7:
                break
            r += ROWS[n]
            c += COLS[n]
            if r < 0 or c < 0 or r >= rows or c >= cols:
                into[k, 0] = r
                into[k, 1] = c
                break


@kernel
def _resolved(found, into):
    """Follow cells from block to block until a label is found, and give it to all on the way. into: the number of the
    next one; -1 where there is none."""
    for k in range(found.size):
        at = k
        while found[at] == 0 and into[at] >= 0:
            at = into[at]
        label = found[at]
        at = k
        while found[at] == 0 and into[at] >= 0:
            on = into[at]
            found[at] = label
            into[at] = -1
            at = on


@dataclass(frozen=True)
class Ground:
    """What drains where.

    Parameters
    ----------
    labels : ndarray of int32, shape (rows, cols)
        The number of the marked cell that the water of each one reaches first; 0 where it reaches none. In a file.
    window : Window
        Rows and columns outside of which there are only zeros.
    cells : ndarray of int64, shape (numbers + 1,)
        How many cells have each number.
    """

    labels: Whole = field(repr=False)
    window: Window
    cells: Nodes = field(repr=False)


def reached(
    to: Raster,
    grid: Grid,
    marked: Nodes,
    numbers: npt.NDArray[np.int32],
    labels: Raster,
    side: int,
    progress: Progress = ignore_progress,
) -> Ground:
    """Which of some cells the water of each one reaches first.

    Parameters
    ----------
    to : Raster
        Where water goes.
    grid : Grid
        Of the whole raster.
    marked : ndarray of int64, shape (marked,)
        Cells counted along rows, each once.
    numbers : ndarray of int32, shape (marked,)
        What they are called, above 0; several may be called alike.
    labels : Raster
        Of int32, into which the numbers are written.
    side : int
    progress : callable
    """
    blocks = Blocks((grid.rows, grid.cols), side)
    order = np.argsort(blocks.of(marked), kind="stable")
    marked, numbers = marked[order], numbers[order]
    bounds = np.searchsorted(blocks.of(marked), np.arange(blocks.down * blocks.across + 1))

    def begun(number: int, window: Window) -> tuple[Directions, Whole]:
        own = slice(bounds[number], bounds[number + 1])
        rows, cols = np.divmod(marked[own], grid.cols)
        given = np.zeros((window.rows, window.cols), np.int32)
        given[rows - window.row, cols - window.col] = numbers[own]
        return to.read(window), given

    def look(number: int) -> tuple[Nodes, Whole, Nodes]:
        window = blocks.window(number)
        ways, given = begun(number, window)
        rim = rim_of(window)
        found, into = np.empty(len(rim), np.int32), np.empty((len(rim), 2), np.int64)
        _first_marked(ways, given, rim, found, into)
        on = (into[:, 0] + window.row) * grid.cols + into[:, 1] + window.col
        rows, cols = np.divmod(rim, window.cols)
        return (window.row + rows) * grid.cols + window.col + cols, found, np.where(into[:, 0] >= -1, on, -1)

    told = each(list(blocks), look, part_of(progress, 0.0, 0.4), spread=True)
    cells, found, into = (np.concatenate(one) for one in zip(*told, strict=True))
    by_cell = np.argsort(cells)
    there = np.flatnonzero(into >= 0)
    into[there] = by_cell[np.searchsorted(cells, into[there], sorter=by_cell)]
    _resolved(found, into)
    base = np.append(0, np.cumsum([len(one[0]) for one in told]))
    most = int(numbers.max(initial=0))

    def work(number: int) -> tuple[Nodes, Nodes, Nodes]:
        window = blocks.window(number)
        ways, given = begun(number, window)
        flat = given.reshape(-1)
        ends = np.flatnonzero((ways.reshape(-1) == OUT) | (ways.reshape(-1) == NONE))
        flat[ends[flat[ends] == 0]] = -1
        rim = rim_of(window)
        rows, cols = np.divmod(rim, window.cols)
        way = ways.reshape(-1)[rim]
        goes = (way >= 0) & (way < 8)
        step = np.where(goes, way, 0)
        i, j = rows + ROWS[step], cols + COLS[step]
        leaves = goes & ((i < 0) | (j < 0) | (i >= window.rows) | (j >= window.cols)) & (flat[rim] == 0)
        come = found[base[number] : base[number + 1]][leaves]
        flat[rim[leaves]] = np.where(come > 0, come, -1)
        label_down(ways, given)
        given = np.maximum(given, 0)
        labels.write(window, given)
        own, count = np.unique(given, return_counts=True)
        rows, cols = np.flatnonzero(given.any(axis=1)), np.flatnonzero(given.any(axis=0))
        box = np.array([rows[0], rows[-1], cols[0], cols[-1]]) if len(rows) else np.empty(0, np.int64)
        return own[own > 0].astype(np.int64), count[own > 0], box + np.repeat([window.row, window.col], 2)[: len(box)]

    done = each(list(blocks), work, part_of(progress, 0.4, 1.0), spread=True)
    sizes = np.zeros(most + 1, np.int64)
    for own, count, _ in done:
        sizes[own] += count
    boxes = np.array([box for _, _, box in done if len(box)]).reshape(-1, 4)
    if not len(boxes):
        return Ground(labels.mapped(), Window(0, 0, 0, 0), sizes)
    top, left = boxes[:, [0, 2]].min(axis=0).tolist()
    bottom, right = boxes[:, [1, 3]].max(axis=0).tolist()
    return Ground(labels.mapped(), Window(top, left, bottom - top + 1, right - left + 1), sizes)


def ends(to: Raster, counts: Raster, side: int, progress: Progress = ignore_progress) -> tuple[Nodes, Nodes]:
    """The cells where water leaves the surface or stays on it, counted along rows, and how many drain through each."""
    blocks = Blocks(to.shape, side)

    def look(number: int) -> tuple[Nodes, Nodes]:
        window = blocks.window(number)
        ways = to.read(window)
        rows, cols = np.nonzero((ways == OUT) | (ways == NONE))
        there = (window.row + rows) * to.shape[1] + window.col + cols
        return there, counts.read(window)[rows, cols].astype(np.int64)

    found = each(list(blocks), look, progress, spread=True)
    cells, drained = (np.concatenate(one) for one in zip(*found, strict=True))
    return cells, drained
