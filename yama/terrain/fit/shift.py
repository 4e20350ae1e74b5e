"""A surface on another grid in step with its own: cut to a part, or with room around it."""

from __future__ import annotations

from typing import Any

import numpy.typing as npt

from yama.terrain.fit.reproject import FittedSurface
from yama.terrain.grid import Grid, Window
from yama.terrain.surface import Heights, OnlyWhere, Over, Surface


class Shifted(Over):
    """A surface on a larger or smaller grid in step with its own. Every cell keeps its height; at levels whose cells lie
    elsewhere than its own levels' the cell that holds the middle counts, or, where `smooth`, what lies between is read."""

    def __init__(self, surface: Surface, grid: Grid, smooth: bool = False) -> None:
        super().__init__(surface, grid)
        self._smooth = smooth
        self._row, self._col = grid.offset_of(surface.grid)
        self._between = FittedSurface(surface, grid) if smooth else None

    def settings(self) -> tuple[Any, ...]:
        return (self._smooth,)

    def companion(self, name: str, below: Surface) -> Surface | None:
        moved = Shifted(below, self.grid, self._smooth and name != "source")
        return OnlyWhere(moved, self) if self._smooth else moved

    def read(self, window: Window, level: int = 0) -> Heights:
        step = 2**level
        if self._between is not None and (self._row % step or self._col % step):
            return self._between.read(window, level)
        row, col = ((step // 2 - start) // step for start in (self._row, self._col))
        moved = Window(window.row + row, window.col + col, window.rows, window.cols)
        return self._within(self.surface.read(moved, level), window, level)

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        moved = Window(window.row - self._row, window.col - self._col, window.rows, window.cols)
        return self._within(self.surface.read_exact(moved), window, 0)

    def _within(self, found: npt.NDArray[Any], window: Window, level: int) -> npt.NDArray[Any]:
        """Values of a window, empty outside this grid."""
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        if inside != window:  # the surface may go on where this grid does not
            found = found.copy()
            top, left = inside.row - window.row, inside.col - window.col
            found[:top], found[top + inside.rows :] = float("nan"), float("nan")
            found[:, :left], found[:, left + inside.cols :] = float("nan"), float("nan")
        return found
