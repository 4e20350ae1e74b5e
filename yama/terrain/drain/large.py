"""Surfaces of water over rasters that are larger than memory: what `blocks` works out, in files of a folder."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.cog import halve
from yama.terrain.drain import blocks
from yama.terrain.drain.accumulation import Flow, accumulation
from yama.terrain.drain.blocks import Blocks, Raster
from yama.terrain.drain.burning import BurnedLine, Burning
from yama.terrain.drain.catchments import Catchments, Outlet, links_of, outlined, snapped, start_cells
from yama.terrain.drain.conditioning import Conditioned, with_fall
from yama.terrain.drain.directions import Directions
from yama.terrain.drain.hollows import Flags, Whole
from yama.terrain.drain.kinds import Hollow
from yama.terrain.drain.streams import Channels, Streams, sparse_channels
from yama.terrain.drain.working_off import Limits, Method
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.scratch import Scratch
from yama.terrain.surface import Heights, Surface, cut_out, each, read_block
from yama.terrain.units import UNITS

_COARSE = 1024  # cells along a side from which on a level is the coarsest that is kept


@dataclass(frozen=True)
class Given:
    """Heights that water is looked for on, in files.

    Parameters
    ----------
    grid : Grid
    scratch : Scratch
        Where all files lie.
    given : callable
        The surface's heights in a window, in metres.
    bare : Raster
        Heights without the sea, and with streams burned in.
    burned : list of BurnedLine
        What became of each of these.
    """

    grid: Grid
    scratch: Scratch
    given: Callable[[Window], Heights]
    bare: Raster
    burned: list[BurnedLine]

    @classmethod
    def read(
        cls,
        surface: Surface,
        sea: float | None = None,
        burning: Burning | None = None,
        streams: Sequence[shapely.LineString] = (),
        side: int = 0,
        progress: Progress = ignore_progress,
    ) -> Given:
        """Read a surface of heights. side: cells along a side of a block; the usual ones where it is 0."""
        grid, side, scratch = surface.grid, side or blocks.SIDE, Scratch("yama-water-")
        metres = np.float32(UNITS[surface.unit])

        def given(window: Window) -> Heights:
            return np.asarray(read_block(surface, window) * metres, np.float32)

        try:
            bare = Raster.made(scratch.new("bare.npy"), (grid.rows, grid.cols), np.float32)
            parts = Blocks(bare.shape, side)

            def copy(number: int) -> bool:
                cells = given(parts.window(number))
                bare.write(parts.window(number), cells)
                return not np.isnan(cells).all()

            if not any(each(list(parts), copy, part_of(progress, 0.0, 0.5), spread=True)):
                raise InputError(f"Every cell of {surface.name or 'the surface'} is empty. Choose another.")
            if sea is not None and not blocks.drown(bare, sea, side, part_of(progress, 0.5, 0.8)):
                raise InputError(f"All of it lies below a sea of {sea:g} m. Choose a lower one.")
            told = blocks.burn(bare, grid, streams, burning, side, part_of(progress, 0.8, 1.0)) if burning else []
        except BaseException:
            scratch.remove()
            raise
        return cls(grid, scratch, given, bare, told)

    def hollows(
        self,
        least_depth: float,
        count: int,
        waters: Sequence[tuple[shapely.Polygon, str]] = (),
        progress: Progress = ignore_progress,
    ) -> list[Hollow]:
        """Its hollows that are within no other; see `kinds.listed`."""
        brim = Raster.made(self.scratch.new("brim.npy"), self.bare.shape, np.float32)
        return blocks.list_hollows(self.bare, self.grid, brim, blocks.SIDE, least_depth, count, waters, progress)


@dataclass(frozen=True)
class LargeDrainage:
    """Water over a surface of more cells than are held at once, in files; see `Drainage`.

    Parameters
    ----------
    on : Given
    conditioned, to, counted : Raster
        Conditioned heights in metres, where water goes, and how many cells drain through each.
    done : Conditioned
        What conditioning did, without its heights; where all hollows were filled as a whole, not about each.
    missed : int
        How many of the places whose hollows were to keep their water lie in none.
    side : int
        Cells along a side of a block.
    """

    on: Given
    conditioned: Raster
    to_file: Raster
    counted: Raster
    done: Conditioned = field(repr=False)
    missed: int
    side: int

    @classmethod
    def worked_out(
        cls,
        on: Given,
        method: Method,
        limits: Limits | None = None,
        lakes: Sequence[shapely.Polygon] = (),
        waters: Sequence[tuple[float, float]] = (),
        counted: bool = True,
        side: int = 0,
        progress: Progress = ignore_progress,
    ) -> LargeDrainage:
        """Condition heights, and count what drains where, where that is wanted (`counted`). lakes, waters: which hollows
        keep their water, as `Known` has them."""
        grid, side, scratch = on.grid, side or blocks.SIDE, on.scratch
        shape, none = (grid.rows, grid.cols), (0, 0)
        missed = 0

        def kept(cells: npt.NDArray[np.int64]) -> Flags:
            nonlocal missed
            held = np.zeros(len(cells), np.bool_)
            if waters:
                brim = Raster.made(scratch.new("brim.npy"), shape, np.float32)
                held, missed = blocks.holding(on.bare, grid, cells, waters, brim, side)
            if lakes:
                held |= blocks.lying_in(cells, lakes, grid, Blocks(shape, side))
            return held

        conditioned = Raster.made(scratch.new("conditioned.npy"), shape, np.float32)
        to = Raster.made(scratch.new("to.npy"), shape if counted else none, np.int8)
        kind = np.uint32 if grid.cell_count < 2**32 else np.int64
        counts = Raster.made(scratch.new("counts.npy"), shape if counted else none, kind)
        done = blocks.condition(
            on.bare,
            grid,
            conditioned,
            method,
            limits or Limits(),
            kept if waters or lakes else None,
            side,
            part_of(progress, 0.0, 0.5 if counted else 1.0),
        )
        if counted:
            blocks.directions(conditioned, grid, to, side, part_of(progress, 0.5, 0.8))
            blocks.accumulate(to, grid, counts, side, part_of(progress, 0.8, 1.0))
        return cls(on, conditioned, to, counts, done, missed, side)

    @property
    def grid(self) -> Grid:
        """Of the surface."""
        return self.on.grid

    @property
    def burned(self) -> tuple[BurnedLine, ...]:
        """What became of each known stream, where they are burned in."""
        return tuple(self.on.burned)

    @property
    def cell_area(self) -> float:
        """Square metres of a cell."""
        return float(np.prod(self.grid.metres_per_cell()))

    @cached_property
    def heights(self) -> Heights:
        """Conditioned ones, in metres, mapped from a file."""
        return self.conditioned.mapped()

    @cached_property
    def to(self) -> Directions:
        """Where water goes, mapped from a file."""
        return self.to_file.mapped()

    @cached_property
    def counts(self) -> npt.NDArray[Any]:
        """How many cells drain through each, mapped from a file."""
        return self.counted.mapped()

    def _summed(self, work: Callable[[Window], float]) -> float:
        parts = Blocks((self.grid.rows, self.grid.cols), self.side)
        return float(sum(each(list(parts), lambda number: work(parts.window(number)))))

    def outcome(self) -> Conditioned:
        """What conditioning did: where all hollows were filled as a whole, or left, all that was added as that of the
        first one."""
        if len(self.done.done) > 1:
            return self.done
        count = len(blocks.lowest_places(self.on.bare, self.grid, self.side))
        done, none = np.full(count + 1, self.done.done[0], np.int8), np.zeros(count + 1)
        raised = none.copy()
        if count:
            raised[1] = self.cell_area * self._summed(
                lambda window: float(
                    np.nansum(self.conditioned.read(window) - self.on.bare.read(window), dtype=np.float64)
                )
            )
        return Conditioned(self.done.heights, done, raised, none, none)

    def ground(self) -> float:
        """Square metres that have heights."""
        return self.cell_area * self._summed(lambda window: float(np.count_nonzero(self.counted.read(window))))

    def channels(self, least: float) -> Channels:
        """Cells through which at least so many square metres drain; see `streams.channels`."""
        parts = Blocks((self.grid.rows, self.grid.cols), self.side)
        count = least / self.cell_area

        def look(number: int) -> tuple[npt.NDArray[Any], ...]:
            window = parts.window(number)
            counts = self.counted.read(window).astype(np.float64)
            rows, cols = np.nonzero(counts >= count)
            cells = (window.row + rows) * self.grid.cols + window.col + cols
            of = self.to_file, self.conditioned, self.on.bare
            return cells, counts[rows, cols], *(one.read(window)[rows, cols] for one in of)

        found = zip(*each(list(parts), look), strict=True)
        cells, counts, to, heights, bare = (np.concatenate(one) for one in found)
        high = heights.astype(np.float64), bare.astype(np.float64)
        return sparse_channels(cells, counts, to, *high, self.grid, least)

    def outlet(self, x: float, y: float, radius: float, name: str = "") -> Outlet:
        """A place, moved to where most ground drains nearby; see `snapped`."""
        return snapped(self.counts, self.grid, x, y, radius, name)

    def _ground(self, cells: npt.NDArray[np.int64], numbers: npt.NDArray[np.int32]) -> blocks.Ground:
        labels = Raster.made(self.on.scratch.new("labels.npy"), (self.grid.rows, self.grid.cols), np.int32)
        return blocks.reached(self.to_file, self.grid, cells, numbers, labels, self.side)

    def catchments(self, outlets: Sequence[Outlet]) -> Catchments:
        """The catchments of outlets; see `catchments`."""
        cells = np.array(start_cells(outlets), np.int64)
        found = self._ground(cells, np.arange(1, len(cells) + 1, dtype=np.int32))
        return outlined(found.labels, found.window, self.to, self.grid, outlets)

    def basins(self, least_area: float) -> tuple[Whole, FloatArray]:
        """All catchments of at least so many square metres; see `Drainage.basins`."""
        cells, drained = blocks.ends(self.to_file, self.counted, self.side)
        order = np.lexsort((cells, -drained))
        order = order[drained[order] * self.cell_area >= least_area]
        found = self._ground(cells[order], np.arange(1, len(order) + 1, dtype=np.int32))
        return found.labels, self.cell_area * found.cells.astype(np.float64)

    def between(self, streams: Streams) -> tuple[Whole, FloatArray]:
        """The ground that drains into each link of a network; see `Drainage.between`."""
        found = self._ground(*links_of(streams))
        return found.labels, self.cell_area * found.cells.astype(np.float64)

    def _falling(self, fall: float) -> Raster:
        """Conditioned heights; see `Drainage.falling`."""
        if fall <= 0:
            return self.conditioned
        made: list[Raster] = []
        with_fall(self.heights, self.to, fall, self.grid, zeros=self._zeros(made))
        return made[0]

    def _zeros(self, made: list[Raster]) -> Callable[..., npt.NDArray[Any]]:
        """Makes arrays in files, which are noted."""

        def zeros(shape: tuple[int, int], kind: type[np.generic]) -> npt.NDArray[Any]:
            made.append(Raster.made(self.on.scratch.new("cells.npy"), shape, kind))
            return made[-1].mapped(to_write=True)

        return zeros

    def change(self, fall: float = 0.0) -> Callable[[Window], Heights]:
        """What conditioning added to the cells of a window, in metres. fall: as of `heights_in`."""
        held = self._falling(fall)
        return lambda window: held.read(window) - self.on.given(window)

    def heights_in(self, fall: float = 0.0) -> Callable[[Window], Heights]:
        """Conditioned heights of a window in metres; those of the surface in the sea. fall: metres a metre that they fall
        along the way of the water at least."""
        held = self._falling(fall)

        def heights(window: Window) -> Heights:
            found = held.read(window)
            return np.where(np.isnan(found), self.on.given(window), found)

        return heights

    def drained(self, flow: Flow, progress: Progress = ignore_progress) -> Callable[[Window], FloatArray]:
        """Square metres that drain through each cell of a window, with the water of one shared as `flow` says; NaN where
        there is no height."""
        counts, area = self.counted, self.cell_area
        if flow == "one":

            def whole(window: Window) -> FloatArray:
                found = counts.read(window).astype(np.float64)
                return np.where(found > 0, found * area, np.nan)

            return whole
        made: list[Raster] = []
        accumulation(self.to, None, flow, self.heights, self.grid, progress, self._zeros(made))
        total = made[0]
        return lambda window: total.read(window) * area


class LargeSurface(Surface):
    """Cells that are worked out window by window, with coarser levels in files.

    Parameters
    ----------
    of : LargeDrainage
        Which holds the files.
    cells : callable
        The cells of a window inside the grid.
    grid, unit, vertical_datum
        See `Surface`.
    name : str
        Of its files.
    told : tuple
        What it is made of.
    """

    levels = "means"

    def __init__(
        self,
        of: LargeDrainage,
        cells: Callable[[Window], npt.NDArray[np.floating]],
        name: str,
        unit: str,
        vertical_datum: str,
        told: tuple[Any, ...],
        progress: Progress = ignore_progress,
    ) -> None:
        super().__init__(of.grid, unit, vertical_datum)
        self._of, self._cells, self._told = of, cells, told
        self._coarser: list[Raster] = []
        sizes: list[Grid] = []
        while max(self.grid.at_level(len(sizes)).rows, self.grid.at_level(len(sizes)).cols) > _COARSE:
            sizes.append(self.grid.at_level(len(sizes) + 1))
        for number, grid in enumerate(sizes):
            level = Raster.made(of.on.scratch.new(f"{name}-{number + 1}.npy"), (grid.rows, grid.cols), np.float32)
            self._halve_into(level, number, part_of(progress, number / len(sizes), (number + 1) / len(sizes)))
            self._coarser.append(level)
        progress(1.0)

    def _halve_into(self, level: Raster, below: int, progress: Progress) -> None:
        fine = self.grid.at_level(below)

        def work(number: int) -> None:
            window = parts.window(number)
            rows = min(2 * window.rows, fine.rows - 2 * window.row)
            cols = min(2 * window.cols, fine.cols - 2 * window.col)
            level.write(window, halve(self._level(Window(2 * window.row, 2 * window.col, rows, cols), below)))

        parts = Blocks(level.shape, blocks.SIDE // 2)
        each(list(parts), work, progress)

    def _level(self, window: Window, level: int) -> Heights:
        if level == 0:
            return np.asarray(self._cells(window), np.float32)
        return np.asarray(self._coarser[level - 1].read(window), np.float32)

    def made_of(self) -> tuple[Any, ...]:
        return self._told

    def read(self, window: Window, level: int = 0) -> Heights:
        kept = min(level, len(self._coarser))
        if level > kept:  # small enough to be halved at once
            cells = self._level(self.grid.at_level(kept).whole, kept)
            for _ in range(level - kept):
                cells = halve(cells)
            return cut_out(cells, window)
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        if inside.rows and inside.cols:
            row, col = inside.row - window.row, inside.col - window.col
            result[row : row + inside.rows, col : col + inside.cols] = self._level(inside, level)
        return result

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        inside = window.clipped(self.grid.rows, self.grid.cols)
        if inside != window:
            return self.read(window)
        return self._cells(window)
