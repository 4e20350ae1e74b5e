"""A surface held in memory."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.cog import halve
from yama.terrain.errors import GridError
from yama.terrain.grid import Grid, Window
from yama.terrain.surface.base import Heights, Surface, cut_out


class ArraySurface(Surface):
    """Values held in memory.

    Parameters
    ----------
    heights : array_like
        `(grid.rows, grid.cols)`, NaN where empty. float64 is kept as such for `read_exact`; anything else becomes float32.
    grid, unit, vertical_datum
        See `Surface`.

    Raises
    ------
    GridError
        Where the shape is not that of the grid.
    """

    levels = "means"

    def __init__(self, heights: npt.ArrayLike, grid: Grid, unit: str = "m", vertical_datum: str = "") -> None:
        super().__init__(grid, unit, vertical_datum)
        given = np.asarray(heights)
        self._exact = given if given.dtype == np.float64 else None
        self._levels = [np.asarray(given, np.float32)]
        if self._levels[0].shape != (grid.rows, grid.cols):
            raise GridError(f"Heights of shape {self._levels[0].shape} do not fit {grid.rows} x {grid.cols} cells.")

    def made_of(self) -> tuple[Any, ...]:
        return (self._levels[0] if self._exact is None else self._exact,)

    def read(self, window: Window, level: int = 0) -> Heights:
        levels = self._levels
        if len(levels) <= level:
            # a list of one's own, since several threads may need the same levels at once
            while len(levels) <= level:
                levels = [*levels, halve(levels[-1])]
            self._levels = levels
        return cut_out(levels[level], window)

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        return self.read(window) if self._exact is None else cut_out(self._exact, window)  # type: ignore[arg-type]
