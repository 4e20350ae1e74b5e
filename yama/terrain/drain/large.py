"""Surfaces of water over rasters that are larger than memory: what `blocks` works out, in files of a folder."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.cog import halve
from yama.terrain.drain import blocks
from yama.terrain.drain.blocks import Blocks, Raster
from yama.terrain.drain.streams import Channels, sparse_channels
from yama.terrain.grid import Grid, Window
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.scratch import Scratch
from yama.terrain.surface import Heights, Surface, cut_out, each, read_block
from yama.terrain.units import UNITS

_COARSE = 1024  # cells along a side from which on a level is the coarsest that is kept


@dataclass(frozen=True)
class LargeDrainage:
    """Water over a surface whose hollows are filled, in files.

    Parameters
    ----------
    grid : Grid
    scratch : Scratch
        Where these lie.
    filled, to, counts : Raster
        Conditioned heights in metres, where water goes, and how many cells drain through each.
    """

    grid: Grid
    scratch: Scratch
    filled: Raster
    to: Raster
    counts: Raster
    given: Callable[[Window], Heights]

    @classmethod
    def worked_out(
        cls, surface: Surface, counted: bool, side: int = 0, progress: Progress = ignore_progress
    ) -> LargeDrainage:
        """Fill the hollows of a surface of heights, and count what drains where, where that is wanted. side: cells along
        a side of a block; the usual ones where it is 0."""
        grid, side = surface.grid, side or blocks.SIDE
        metres = np.float32(UNITS[surface.unit])
        scratch = Scratch("yama-water-")
        folder = scratch.path
        shape = (grid.rows, grid.cols)

        def given(window: Window) -> Heights:
            return np.asarray(read_block(surface, window) * metres, np.float32)

        try:
            filled = Raster.made(folder / "filled.npy", shape, np.float32)
            to = Raster.made(folder / "to.npy", shape if counted else (0, 0), np.int8)
            kind = np.uint32 if grid.cell_count < 2**32 else np.int64
            counts = Raster.made(folder / "counts.npy", shape if counted else (0, 0), kind)
            blocks.fill(given, grid, filled, side, part_of(progress, 0.0, 0.5 if counted else 1.0))
            if counted:
                blocks.directions(filled, grid, to, side, part_of(progress, 0.5, 0.8))
                blocks.accumulate(to, grid, counts, side, part_of(progress, 0.8, 1.0))
        except BaseException:
            scratch.remove()
            raise
        return cls(grid, scratch, filled, to, counts, given)

    def channels(self, least: float) -> Channels:
        """Cells through which at least so many square metres drain; see `streams.channels`."""
        parts = Blocks((self.grid.rows, self.grid.cols), blocks.SIDE)
        count = least / float(np.prod(self.grid.metres_per_cell()))

        def look(number: int) -> tuple[npt.NDArray[Any], ...]:
            window = parts.window(number)
            counts = self.counts.read(window).astype(np.float64)
            rows, cols = np.nonzero(counts >= count)
            cells = (window.row + rows) * self.grid.cols + window.col + cols
            return cells, counts[rows, cols], self.to.read(window)[rows, cols], self.heights(window)[rows, cols]

        found = zip(*each(list(parts), look), strict=True)
        cells, counts, to, heights = (np.concatenate(one) for one in found)
        return sparse_channels(cells, counts, to, heights.astype(np.float64), self.grid, least)

    def heights(self, window: Window) -> npt.NDArray[np.floating]:
        """Filled ones in metres."""
        return np.asarray(self.filled.read(window), np.float32)

    def change(self, window: Window) -> npt.NDArray[np.floating]:
        """What filling added, in metres."""
        return self.heights(window) - self.given(window)

    def drained(self, window: Window) -> npt.NDArray[np.floating]:
        """Square metres that drain through each cell; NaN where there is no height."""
        found = self.counts.read(window).astype(np.float64)
        area: npt.NDArray[np.floating] = np.where(
            found > 0, found * float(np.prod(self.grid.metres_per_cell())), np.nan
        )
        return area


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
            level = Raster.made(of.scratch.path / f"{name}-{number + 1}.npy", (grid.rows, grid.cols), np.float32)
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
