"""Hollows that are within no other, listed block by block."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import shapely

from yama.terrain.drain.blocks.conditioning import standing
from yama.terrain.drain.blocks.filling import fill
from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.kinds import Hollow, told_of
from yama.terrain.drain.working_off import ways_out
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import each

_MOST_CELLS = 250_000_000  # of a box around a hollow that is looked at


@dataclass(frozen=True)
class _Standing:
    """What is known of parts of hollows. part: the whole to which each belongs. level: where water stands; low, low_at:
    the lowest place; cells, sums: how many there are and the sum of their heights; boxes: their first and last rows and
    columns, `(parts, 4)`. Cells are counted along the rows of the whole raster."""

    part: Nodes
    level: FloatArray = field(repr=False)
    low: FloatArray = field(repr=False)
    low_at: Nodes = field(repr=False)
    cells: Nodes = field(repr=False)
    sums: FloatArray = field(repr=False)
    boxes: Nodes = field(repr=False)

    def only(self, which: Nodes) -> _Standing:
        return _Standing(*(one[which] for one in vars(self).values()))

    @classmethod
    def joined(cls, told: Sequence[_Standing]) -> _Standing:
        """Of parts that belong together one."""
        every = [np.concatenate([getattr(one, name) for one in told]) for name in cls.__dataclass_fields__]
        part, level, low, low_at, cells, sums, boxes = every
        # the lowest cell of each first, of two alike the one that stands first
        order = np.lexsort((low_at, low, part))
        own, first, number = np.unique(part[order], return_index=True, return_inverse=True)
        box = boxes[order[first]]
        for column, gather in ((0, np.minimum), (1, np.maximum), (2, np.minimum), (3, np.maximum)):
            gather.at(box[:, column], number, boxes[order, column])
        chosen = order[first]
        count = np.bincount(number, cells[order], len(own)).astype(np.int64)
        total = np.bincount(number, sums[order], len(own)).astype(np.float64)
        return cls(own, level[chosen], low[chosen], low_at[chosen], count, total, box)

    def largest(self, least_depth: float, count: int) -> Nodes:
        """Those that are deep enough, what holds most first."""
        deep = np.flatnonzero(self.level - self.low >= least_depth)
        volume = self.level * self.cells - self.sums
        return deep[np.lexsort((self.low_at[deep], -volume[deep]))][:count]


def list_hollows(
    given: Raster,
    grid: Grid,
    brim: Raster,
    side: int,
    least_depth: float = 0.0,
    count: int = 500,
    waters: Sequence[tuple[shapely.Polygon, str]] = (),
    progress: Progress = ignore_progress,
) -> list[Hollow]:
    """The hollows that are within no other, what holds most first; see `kinds.listed`.

    Parameters
    ----------
    given : Raster
        Heights in metres.
    grid : Grid
    brim : Raster
        Of float32: room for heights with every hollow filled.
    side : int
        Cells along a side of a block.
    least_depth, count, waters
        See `kinds.listed`.
    progress : callable

    Raises
    ------
    InputError
        Where one covers more than can be looked at.
    """
    fill(given.read, grid, brim, side, part_of(progress, 0.0, 0.5))
    parts = standing(given, brim, side, part_of(progress, 0.5, 0.65))
    blocks = Blocks(given.shape, side)

    def look(number: int) -> _Standing:
        window = blocks.window(number)
        numbers, heights, level = parts.numbers(number), given.read(window), brim.read(window)
        rows, cols = np.nonzero(numbers >= 0)
        z = heights[rows, cols].astype(np.float64)
        at = (window.row + rows) * grid.cols + window.col + cols
        box = np.column_stack([window.row + rows, window.row + rows, window.col + cols, window.col + cols])
        single = (numbers[rows, cols], level[rows, cols].astype(np.float64), z, at, np.ones(len(z), np.int64), z, box)
        found = _Standing.joined([_Standing(*single)])
        # what does not come to another block is known, and only the largest of it can be asked for
        north, west, south, east = blocks.sides(window)
        top, bottom, left, right = found.boxes.T
        on = (top == window.row) & (not north) | (left == window.col) & (not west)
        on |= (bottom == window.row + window.rows - 1) & (not south)
        on |= (right == window.col + window.cols - 1) & (not east)
        within = np.flatnonzero(~on)
        return found.only(np.concatenate([np.flatnonzero(on), within[found.only(within).largest(least_depth, count)]]))

    found = _Standing.joined(each(list(blocks), look, part_of(progress, 0.65, 0.8), spread=True))
    found = found.only(found.largest(least_depth, count))
    ways, cuts = ways_out(given.mapped(), grid, found.low_at, False, part_of(progress, 0.8, 0.9))
    told: list[Hollow] = []
    for number, (top, bottom, left, right) in enumerate(found.boxes.tolist()):
        window = blocks.around(Window(top, left, bottom - top + 1, right - left + 1))
        if window.rows * window.cols > _MOST_CELLS:
            raise InputError(
                f"A hollow of {window.cols} by {window.rows} cells is too large to be looked at. Make the surface coarser."
            )
        # all around it the ground is as high as its water, so that a box holds all that matters
        inside = hollows(given.read(window), grid.part(window))
        row, col = divmod(int(found.low_at[number]), grid.cols)
        node = inside.top[inside.basin[row - window.row, col - window.col]]
        told += told_of(inside, np.array([node]), waters, ways[number : number + 1], cuts[number : number + 1])
        progress(0.9 + 0.1 * (number + 1) / len(found.part))
    return told
