"""Heights conditioned in files: without the sea, with lines burned in, hollows filled, breached, or whichever changes
less."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import shapely

from yama.terrain.drain.blocks.filling import fill
from yama.terrain.drain.blocks.parts import Parts
from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster
from yama.terrain.drain.blocks.ways import lowest_places
from yama.terrain.drain.burning import BurnedLine, Burning, beds_of, press, reach_of
from yama.terrain.drain.conditioning import Conditioned
from yama.terrain.drain.hollows import Flags
from yama.terrain.drain.working_off import FILLED, LEFT, Limits, Method, work_off
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Grid, Window
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each


def burn(
    cells: Raster,
    grid: Grid,
    lines: Sequence[shapely.LineString],
    how: Burning,
    side: int,
    progress: Progress = ignore_progress,
) -> list[BurnedLine]:
    """Press lines into heights, in place, block by block; see `burning.burned`."""
    beds = beds_of(cells.mapped(), grid, lines, how)
    blocks = Blocks(cells.shape, side)
    up, aside = reach_of(grid, how)
    row, col = np.rint(grid.row_of(beds.places[:, 1])), np.rint(grid.col_of(beds.places[:, 0]))

    def work(number: int) -> None:
        window = blocks.window(number)
        wide = blocks.around(window, max(up, aside) + 1)
        near = (row >= wide.row) & (row < wide.row + wide.rows) & (col >= wide.col) & (col < wide.col + wide.cols)
        if not near.any():
            return
        # a cell is changed by what it was itself: whatever has become of those around the block does not matter
        heights: Heights = cells.read(wide)
        press(heights, grid, wide, beds.places[near], beds.beds[near], how)
        top, left = window.row - wide.row, window.col - wide.col
        cells.write(window, heights[top : top + window.rows, left : left + window.cols])

    each(list(blocks), work, progress, spread=True)
    return beds.told


def lying_in(cells: Nodes, areas: Sequence[shapely.Polygon], grid: Grid, blocks: Blocks) -> Flags:
    """Which cells, counted along rows, have their centres in areas."""
    kept = np.zeros(len(cells), np.bool_)
    rows, cols = np.divmod(cells, grid.cols)
    block = blocks.of(cells)
    for number in np.unique(block).tolist():
        window = blocks.window(number)
        there = block == number
        within = inside(list(areas), grid, window) > 0
        kept[there] = within[rows[there] - window.row, cols[there] - window.col]
    return kept


def standing(given: Raster, brim: Raster, side: int, progress: Progress = ignore_progress) -> Parts:
    """Hollows that are within no other, each in one part: where filling raises the ground."""

    def deep(window: Window) -> Flags:
        found: Flags = brim.read(window) > given.read(window)
        return found

    return Parts.of(Blocks(given.shape, side), deep, progress)


def holding(
    given: Raster, grid: Grid, cells: Nodes, places: Sequence[tuple[float, float]], brim: Raster, side: int
) -> tuple[Flags, int]:
    """Which lowest places lie in the hollows in which places lie, and how many places lie in none; see
    `drainage.holding`. brim: room for heights with every hollow filled."""
    fill(given.read, grid, brim, side)
    hollows = standing(given, brim, side)
    rows = np.array([int(np.rint(grid.row_of(y))) for _, y in places])
    cols = np.array([int(np.rint(grid.col_of(x))) for x, _ in places])
    there = (rows >= 0) & (rows < grid.rows) & (cols >= 0) & (cols < grid.cols)
    meant = hollows.at(rows[there] * grid.cols + cols[there])
    missed = int((~there).sum() + (meant < 0).sum())
    kept: Flags = np.isin(hollows.at(cells), meant[meant >= 0])
    return kept, missed


def condition(
    given: Raster,
    grid: Grid,
    filled: Raster,
    method: Method,
    limits: Limits,
    kept: Callable[[Nodes], Flags] | None,
    side: int,
    progress: Progress = ignore_progress,
) -> Conditioned:
    """Make water find its way out of hollows; see `conditioning.condition`.

    Parameters
    ----------
    given : Raster
        Heights.
    grid : Grid
    filled : Raster
        Of float32, into which conditioned heights are written.
    method, limits
        See `conditioning.condition`.
    kept : callable, optional
        Of lowest places, counted along rows, which keep their water.
    side : int
    progress : callable

    Returns
    -------
    Conditioned
        Without its heights. Where all hollows are filled as a whole, or all are left, only the first of `done` says so.
    """
    nothing = np.empty((0, 0), np.float32)
    if method == "fill" and kept is None and limits.depth is None and limits.area is None:
        fill(given.read, grid, filled, side, progress)
        none = np.zeros(1)
        return Conditioned(nothing, np.full(1, FILLED, np.int8), none, none, none)
    blocks = Blocks(given.shape, side)

    def copy(number: int) -> None:
        filled.write(blocks.window(number), given.read(blocks.window(number)))

    each(list(blocks), copy, part_of(progress, 0.0, 0.1), spread=True)
    if method == "leave":
        none = np.zeros(1)
        return Conditioned(nothing, np.full(1, LEFT, np.int8), none, none, none)
    cells = lowest_places(given, grid, side, part_of(progress, 0.1, 0.3))
    left = 0
    if kept is not None:
        keeping = kept(cells)
        left, cells = int(keeping.sum()), cells[~keeping]
    # as `conditioning.condition` orders them
    heights = filled.mapped(to_write=True)
    cells = cells[np.argsort(-heights.reshape(-1)[cells], kind="stable")]
    done, raised, cut, lengths = work_off(heights, grid, cells, method, limits, False, part_of(progress, 0.3, 1.0))
    area = float(np.prod(grid.metres_per_cell()))
    # those that keep their water come last
    around = (1, left)
    metres = (np.pad(one, around) for one in (raised * area, cut * area, lengths))
    return Conditioned(nothing, np.pad(done, around, constant_values=LEFT), *metres)
