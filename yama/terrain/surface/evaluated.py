"""A surface from a function of position."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from yama.terrain.grid import Grid, Window
from yama.terrain.surface.base import Heights, Surface, put_in, unlike_any


class EvaluatedSurface(Surface):
    """Values from a function of position, such as an interpolator.

    Parameters
    ----------
    grid : Grid
        The cells.
    evaluate : callable
        ``evaluate(grid)`` returns `(grid.rows, grid.cols)` values at the cell centres of any grid in this CRS. A level is evaluated
        at its own cell centres.
    unit, vertical_datum
        See `Surface`.
    of : tuple
        What the function depends on: its name, its settings, its points; for the fingerprint.
    """

    def __init__(
        self,
        grid: Grid,
        evaluate: Callable[[Grid], Heights],
        unit: str = "m",
        vertical_datum: str = "",
        of: tuple[Any, ...] = (),
    ) -> None:
        super().__init__(grid, unit, vertical_datum)
        self.evaluate = evaluate
        self._of = of or unlike_any()

    def made_of(self) -> tuple[Any, ...]:
        return self._of

    def read(self, window: Window, level: int = 0) -> Heights:
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        if inside.rows and inside.cols:
            heights = self.evaluate(grid.part(inside))
            put_in(result, heights, inside.row - window.row, inside.col - window.col)
        return result
