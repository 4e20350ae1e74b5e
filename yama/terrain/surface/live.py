"""A surface computed from others on the same grid."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from yama.terrain.errors import GridError
from yama.terrain.grid import Grid, Window
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Heights, Surface, cut_out, put_in, unlike_any


class LiveSurface(Surface):
    """Values computed from other surfaces on the same grid, window by window.

    Parameters
    ----------
    inputs : sequence of Surface
        All on one grid.
    compute : callable
        ``compute(arrays, grid)`` gets each input's values with `halo` more cells on each side and the grid those arrays lie on; it
        returns values without the halo.
    halo : int
        Cells around a window that its values depend on.
    unit, vertical_datum
        See `Surface`.
    of : tuple
        Name and settings of the function, for the fingerprint.

    Raises
    ------
    GridError
        Where the inputs do not share one grid.
    """

    def __init__(
        self,
        inputs: Sequence[Surface],
        compute: Callable[[list[Heights], Grid], Heights],
        halo: int = 0,
        unit: str = "m",
        vertical_datum: str = "",
        of: tuple[Any, ...] = (),
    ) -> None:
        grid = inputs[0].grid
        for other in inputs[1:]:
            if other.grid != grid:
                raise GridError("The inputs of a live surface do not share one grid. Fit them to the frame first.")
        super().__init__(grid, unit, vertical_datum)
        self._inputs = list(inputs)
        self._compute = compute
        self._halo = halo
        self._of = of or unlike_any()

    def made_of(self) -> tuple[Any, ...]:
        return (*self._of, self._halo, [one.fingerprint for one in self._inputs])

    def prepare(self, progress: Progress = ignore_progress) -> None:
        for number, one in enumerate(self._inputs):
            one.prepare(lambda share, number=number: progress((number + share) / len(self._inputs)))  # type: ignore[misc]

    def read(self, window: Window, level: int = 0) -> Heights:
        wide = window.grown(self._halo)
        arrays = [surface.read(wide, level) for surface in self._inputs]
        result = self._compute(arrays, self.grid.at_level(level).part(wide))
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        if inside != window:  # a function of empty cells need not be empty
            result = cut_out(result, Window(inside.row - window.row, inside.col - window.col, inside.rows, inside.cols))
            padded = np.full((window.rows, window.cols), np.nan, np.float32)
            put_in(padded, result, inside.row - window.row, inside.col - window.col)
            return padded
        return result
