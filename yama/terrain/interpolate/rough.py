"""Quick stand-ins for surfaces that take long, to look at while their settings are chosen.

Both answer at any level about as fast as a screen needs, however many points there are, and neither is ever stored.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.interpolate.point_index import index_within, near_points
from yama.terrain.interpolate.spline import TensionSpline
from yama.terrain.kept import Kept
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights, Surface

_APART = 9
"""A rough spline goes through points about so many cells of a level apart."""
_STEP = 5
_AROUND = 1.0


@kernel
def _between(nodes, top, left, step, result):
    """Bilinear between every `step`-th cell; where a node is empty a cell is as its nearest node."""
    for r in range(result.shape[0]):
        down = (r + top) // step
        v = ((r + top) - down * step) / step
        for c in range(result.shape[1]):
            right = (c + left) // step
            u = ((c + left) - right * step) / step
            a = nodes[down, right]
            b = nodes[down, right + 1]
            d = nodes[down + 1, right]
            e = nodes[down + 1, right + 1]
            value = (1 - v) * ((1 - u) * a + u * b) + v * ((1 - u) * d + u * e)
            if np.isnan(value):
                value = (a if u < 0.5 else b) if v < 0.5 else (d if u < 0.5 else e)
            result[r, c] = value


class Sparse(Surface):
    """A surface evaluated at every `step`-th cell of a level along each side, and bilinear between. Every window of a level sees
    the same cells. It stands in for that surface."""

    def __init__(self, surface: EvaluatedSurface, step: int) -> None:
        super().__init__(surface.grid, surface.unit, surface.vertical_datum)
        self._exact = surface
        self._step = step

    def made_of(self) -> tuple[Any, ...]:
        return (self._step, self._exact.fingerprint)

    @property
    def exact(self) -> Surface:
        return self._exact

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._read(self._exact, window, level)

    def _read(self, surface: EvaluatedSurface, window: Window, level: int) -> Heights:
        grid, step = self.grid.at_level(level), self._step
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        inside = window.clipped(grid.rows, grid.cols)
        if not (inside.rows and inside.cols):
            return result
        first_row, first_col = inside.row // step, inside.col // step
        rows = (inside.row + inside.rows - 1) // step - first_row + 2
        cols = (inside.col + inside.cols - 1) // step - first_col + 2
        wide, high = step * grid.cell_width, step * grid.cell_height
        # nodes lie at the middles of cells
        west = float(grid.x_of(first_col * step)) - wide / 2
        north = float(grid.y_of(first_row * step)) + high / 2
        nodes = surface.evaluate(Grid(grid.crs, west, north, wide, high, rows, cols))
        part = np.empty((inside.rows, inside.cols), np.float32)
        _between(nodes, inside.row - first_row * step, inside.col - first_col * step, step, part)
        top, left = inside.row - window.row, inside.col - window.col
        result[top : top + inside.rows, left : left + inside.cols] = part
        return result


def thinned(x: FloatArray, y: FloatArray, size: float) -> npt.NDArray[np.int64]:
    """Numbers of points, at most one in each square of this side: that nearest to its middle."""
    col, row = np.floor(x / size), np.floor(y / size)
    far = (x / size - col - 0.5) ** 2 + (y / size - row - 0.5) ** 2
    order = np.lexsort((far, col, row))
    first = np.ones(order.size, bool)
    first[1:] = (np.diff(col[order]) != 0) | (np.diff(row[order]) != 0)
    return np.sort(order[first])


class RoughSpline(Sparse):
    """A spline with tension through so many of its points as a level can show, from smaller neighbourhoods. At a
    level that shows every point it is near the true one; see `tension_spline` for what is given."""

    def __init__(
        self, x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, tension: float, smoothing: float,
        reach: float = np.inf, unit: str = "m",
    ) -> None:  # fmt: skip
        whole = TensionSpline(x, y, z, tension, smoothing)  # refuses what cannot be
        self._index = index_within(x, y, reach)
        super().__init__(
            near_points(self._index, grid, reach, unit, whole.add_to, ("rough spline", x, y, z, tension, smoothing)),
            _STEP,
        )
        self._points, self._spacing = (x, y, z), whole.spacing
        self._settings = (tension, smoothing)
        self._reach = reach
        self._levels: Kept[int, EvaluatedSurface] = Kept(32)

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._read(self._levels.get(level, lambda: self._at(level)), window, level)

    def _at(self, level: int) -> EvaluatedSurface:
        x, y, z = self._points
        apart = _APART * self.grid.at_level(level).cell_width
        if apart > self._spacing:
            few = thinned(x, y, apart)
            x, y, z = x[few], y[few], z[few]
        spline = TensionSpline(x, y, z, *self._settings, around=_AROUND)
        return near_points(
            self._index, self.grid, self._reach, self.unit, spline.add_to, ("rough spline", x, y, z, *self._settings)
        )
