"""Reading a surface on another grid: the transform computed on a lattice fine enough to be exact for heights.

Cell centres of the target go through pyproj on a lattice; between lattice points the transform is
interpolated bilinearly. The lattice is halved until its midpoints are right to 0.001 of a source cell.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from pyproj import Transformer

from yama.terrain.grid import FloatArray, Grid, Window, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.surface import Facets, Heights, LiveSurface, OnlyWhere, Over, Surface

Resampling = Literal["nearest", "bilinear", "cubic", "cubic_spline", "mean", "lowest", "highest"]
"""nearest, bilinear: as they say. cubic: convolution with a = -1/2 (R. Keys, "Cubic convolution interpolation for digital image
processing", IEEE ASSP 29, 1981), bilinear where one of the sixteen is empty. cubic_spline: the cubic B-spline over the same sixteen as weights, which smooths
(H. Hou and H. Andrews, "Cubic splines for image interpolation and digital filtering", IEEE ASSP 26, 1978). mean, lowest, highest: of the filled source cells
whose centres lie in the target's cell; the nearest one where none does."""
_AREA = {"mean": 0, "lowest": 1, "highest": 2}
_MOST_READ = 6_000_000
"""Source cells read at once; for more the window is parted."""

_TOLERANCE = 0.001  # of a source cell
_BLOCK = 512  # cells of a square whose positions are found together


@lru_cache(maxsize=64)
def _transformer(source: str, target: str) -> Transformer:
    return Transformer.from_crs(parse_crs(source), parse_crs(target), always_xy=True)


@kernel
def _spread(lattice, step, first_row, first_col, result):
    """Bilinear values of a lattice of every `step`-th cell at each cell of a window of it, from (first_row, first_col) on."""
    for k in range(result.shape[0]):
        r = first_row + k
        i = min(r // step, lattice.shape[0] - 2)
        down = (r - i * step) / step
        for m in range(result.shape[1]):
            c = first_col + m
            j = min(c // step, lattice.shape[1] - 2)
            right = (c - j * step) / step
            top = lattice[i, j] + right * (lattice[i, j + 1] - lattice[i, j])
            bottom = lattice[i + 1, j] + right * (lattice[i + 1, j + 1] - lattice[i + 1, j])
            result[k, m] = top + down * (bottom - top)


@kernel
def _sample_nearest(heights, rows, cols, result):
    for i in range(result.shape[0]):
        for j in range(result.shape[1]):
            result[i, j] = np.nan
            if np.isfinite(rows[i, j]) and np.isfinite(cols[i, j]):
                r = int(np.floor(rows[i, j] + 0.5))
                c = int(np.floor(cols[i, j] + 0.5))
                if 0 <= r < heights.shape[0] and 0 <= c < heights.shape[1]:
                    result[i, j] = heights[r, c]


@kernel
def _sample_bilinear(heights, rows, cols, result):
    for i in range(result.shape[0]):
        for j in range(result.shape[1]):
            result[i, j] = np.nan
            if not (np.isfinite(rows[i, j]) and np.isfinite(cols[i, j])):
                continue
            r = int(np.floor(rows[i, j]))
            c = int(np.floor(cols[i, j]))
            down = rows[i, j] - r
            right = cols[i, j] - c
            if down > 1.0 - 1e-6:
                r += 1
                down = 0.0
            if right > 1.0 - 1e-6:
                c += 1
                right = 0.0
            total = 0.0
            for dr in range(2):
                for dc in range(2):
                    weight = (down if dr else 1.0 - down) * (right if dc else 1.0 - right)
                    if weight < 1e-6:
                        continue
                    if 0 <= r + dr < heights.shape[0] and 0 <= c + dc < heights.shape[1]:
                        total += weight * heights[r + dr, c + dc]
                    else:
                        total += np.nan
            result[i, j] = total


@kernel
def _keys(t):
    t = abs(t)
    if t <= 1.0:
        return (1.5 * t - 2.5) * t * t + 1.0
    return ((-0.5 * t + 2.5) * t - 4.0) * t + 2.0


@kernel
def _b_spline(t):
    t = abs(t)
    if t <= 1.0:
        return (3.0 * t - 6.0) * t * t / 6.0 + 4.0 / 6.0
    return (2.0 - t) ** 3 / 6.0


@kernel
def _sample_cubic(heights, rows, cols, spline, result):
    _sample_bilinear(heights, rows, cols, result)
    for i in range(result.shape[0]):
        for j in range(result.shape[1]):
            if np.isnan(result[i, j]):
                continue
            r = int(np.floor(rows[i, j]))
            c = int(np.floor(cols[i, j]))
            if r < 1 or c < 1 or r + 2 >= heights.shape[0] or c + 2 >= heights.shape[1]:
                continue
            total = 0.0
            for dr in range(-1, 3):
                t = rows[i, j] - r - dr
                down = _b_spline(t) if spline else _keys(t)
                for dc in range(-1, 3):
                    t = cols[i, j] - c - dc
                    total += down * (_b_spline(t) if spline else _keys(t)) * heights[r + dr, c + dc]
            if not np.isnan(total):
                result[i, j] = total


@kernel
def _sample_area(heights, rows, cols, high, wide, what, result):
    for i in range(result.shape[0]):
        for j in range(result.shape[1]):
            result[i, j] = np.nan
            if not (np.isfinite(rows[i, j]) and np.isfinite(cols[i, j])):
                continue
            # half-open, so that a centre on an edge belongs to one cell only
            top = max(int(np.ceil(rows[i, j] - high / 2 - 1e-9)), 0)
            bottom = min(int(np.ceil(rows[i, j] + high / 2 - 1e-9)), heights.shape[0])
            left = max(int(np.ceil(cols[i, j] - wide / 2 - 1e-9)), 0)
            right = min(int(np.ceil(cols[i, j] + wide / 2 - 1e-9)), heights.shape[1])
            if bottom <= top or right <= left:
                r = int(np.floor(rows[i, j] + 0.5))
                c = int(np.floor(cols[i, j] + 0.5))
                if 0 <= r < heights.shape[0] and 0 <= c < heights.shape[1]:
                    result[i, j] = heights[r, c]
                continue
            count = 0
            total = 0.0
            low = np.inf
            most = -np.inf
            for r in range(top, bottom):
                for c in range(left, right):
                    h = heights[r, c]
                    if np.isnan(h):
                        continue
                    count += 1
                    total += h
                    low = min(low, h)
                    most = max(most, h)
            if count:
                result[i, j] = total / count if what == 0 else low if what == 1 else most


@lru_cache(maxsize=8)
def source_positions(target: Grid, source: Grid, window: Window | None = None) -> tuple[FloatArray, FloatArray]:
    """Fractional source rows and columns `(rows, cols)` of the cell centres of a window of the target grid, or of all of it.

    A cell's position is the same whatever window it is asked for in, to the last bit: so a live surface has the same cells
    as its stored copy. Non-finite where the transform has no answer. The last few are kept, since heights and gradients of
    one window, or two surfaces of one grid, ask for the same; so the arrays are not to be written to.
    """
    window = window or target.whole
    rows, cols = np.empty((window.rows, window.cols)), np.empty((window.rows, window.cols))
    for top in range(window.row // _BLOCK * _BLOCK, window.row + window.rows, _BLOCK):
        for left in range(window.col // _BLOCK * _BLOCK, window.col + window.cols, _BLOCK):
            first_row, first_col = max(top, window.row), max(left, window.col)
            here = (
                slice(first_row - window.row, min(top + _BLOCK, window.row + window.rows) - window.row),
                slice(first_col - window.col, min(left + _BLOCK, window.col + window.cols) - window.col),
            )
            step, *lattices = _lattices(target, source, top, left)
            for lattice, result in zip(lattices, (rows, cols), strict=True):
                part = np.empty((here[0].stop - here[0].start, here[1].stop - here[1].start))
                _spread(lattice, step, first_row - top, first_col - left, part)
                result[here] = part
    rows.flags.writeable = cols.flags.writeable = False
    return rows, cols


@lru_cache(maxsize=64)
def _lattices(target: Grid, source: Grid, top: int, left: int) -> tuple[int, FloatArray, FloatArray]:
    """Source rows and columns of every step-th cell of a block of the target grid, whose corner is cell (top, left): at a step
    between whose cells positions are even enough to be interpolated."""
    transformer = _transformer(target.crs, source.crs)
    high, wide = min(_BLOCK, target.rows - top), min(_BLOCK, target.cols - left)

    def on_lattice(rows: FloatArray, cols: FloatArray) -> tuple[FloatArray, FloatArray]:
        x, y = np.meshgrid(target.x_of(left + cols), target.y_of(top + rows))
        x, y = transformer.transform(x, y)
        return source.row_of(y), source.col_of(x)

    step = 64
    while True:
        lattice_rows = np.arange(-(-max(high - 1, 1) // step) + 1, dtype=np.float64) * step
        lattice_cols = np.arange(-(-max(wide - 1, 1) // step) + 1, dtype=np.float64) * step
        rows, cols = on_lattice(lattice_rows, lattice_cols)
        if step == 1:
            break
        mid_rows, mid_cols = on_lattice(lattice_rows[:-1] + step / 2, lattice_cols[:-1] + step / 2)
        worst = 0.0
        for lattice, middle in ((rows, mid_rows), (cols, mid_cols)):
            guess = (lattice[:-1, :-1] + lattice[1:, :-1] + lattice[:-1, 1:] + lattice[1:, 1:]) / 4
            with np.errstate(invalid="ignore"):
                off = float(np.max(np.abs(guess - middle)))
            worst = off if math.isnan(off) else max(worst, off)  # a non-finite one fails the test below
        if worst <= _TOLERANCE:  # never for NaN
            break
        step //= 2
    return step, rows, cols


def goes_round(grid: Grid) -> bool:
    """Whether a grid's columns go once round the globe, so that its last lies beside its first."""
    if abs(grid.cols * grid.cell_width - 360.0) > 0.01 * grid.cell_width:
        return False
    return bool(parse_crs(grid.crs).is_geographic)


def _read_round(source: Surface, window: Window, level: int) -> Heights:
    """Heights of a window whose columns may lie before the first or past the last of a grid that goes round."""
    around = source.grid.at_level(level).cols
    parts, col = [], window.col
    while col < window.col + window.cols:
        start = col % around
        count = min(around - start, window.col + window.cols - col)
        parts.append(source.read(Window(window.row, start, window.rows, count), level))
        col += count
    return np.concatenate(parts, axis=1)


class FittedSurface(Over):
    """A surface read on another grid. Where the target's cells are coarser the source's levels are read, so
    that each cell stands for its whole area and not for one position in it."""

    def __init__(self, source: Surface, grid: Grid, resampling: Resampling = "bilinear") -> None:
        super().__init__(source, grid)
        self.by_parts = False
        self._source = source
        self._resampling: Resampling = "nearest" if source.categories else resampling
        width, height = source.grid.metres_per_cell()
        self._source_cell = min(width, height)

    def settings(self) -> tuple[Any, ...]:
        return (self._resampling,)

    @property
    def cost(self) -> float | None:
        """Looking at a few cells tells it: each costs what it reads below."""
        return None

    @property
    def facets(self) -> Facets | None:
        """None: between cells its heights are not those of the facets below."""
        return None

    def companion(self, name: str, below: Surface) -> Surface | None:
        """The source of the cell nearest by; the uncertainty read as heights are, which holds where errors of cells side by side are
        alike, and is too much where they are not."""
        return OnlyWhere(FittedSurface(below, self.grid, "nearest" if name == "source" else "bilinear"), self)

    def _source_level(self, grid: Grid, level: int) -> int:
        if self._resampling in _AREA:  # of its own cells, but in views wider than the target's
            return level
        width, height = grid.metres_per_cell()
        return max(int(math.floor(math.log2(max(min(width, height) / self._source_cell, 1.0)) + 0.01)), 0)

    def read(self, window: Window, level: int = 0) -> Heights:
        target = self.grid.at_level(level)
        inside = window.clipped(target.rows, target.cols)
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        if not (inside.rows and inside.cols):
            return result
        source_level = self._source_level(target, level)
        rows, cols = source_positions(target, self._source.grid.at_level(source_level), inside)
        usable = np.isfinite(rows) & np.isfinite(cols)
        if not usable.any():
            return result
        limits = self._source.grid.at_level(source_level)
        round_globe = goes_round(limits)
        if round_globe:  # on either side of the meridian where the columns begin again
            cols = cols - limits.cols * np.rint((cols - cols[usable][0]) / limits.cols)
        (high, wide), around = self._reach(target, limits)
        top, left = math.floor(float(rows[usable].min())) - around, math.floor(float(cols[usable].min())) - around
        bottom, right = (
            math.ceil(float(rows[usable].max())) + around + 1,
            math.ceil(float(cols[usable].max())) + around + 1,
        )
        needed = Window(top, left, bottom - top, right - left)
        inner = needed.clipped(limits.rows, limits.cols)
        needed = Window(inner.row, left, inner.rows, right - left) if round_globe else inner
        if not (needed.rows and needed.cols):
            return result
        if needed.rows * needed.cols > _MOST_READ and inside.rows * inside.cols > 1:
            return self._by_halves(window, level)
        heights = (
            _read_round(self._source, needed, source_level) if round_globe else self._source.read(needed, source_level)
        )
        part = np.empty((inside.rows, inside.cols), np.float32)
        at = (rows - needed.row, cols - needed.col)
        if self._resampling in _AREA:
            _sample_area(heights, *at, high, wide, _AREA[self._resampling], part)
        else:
            self._sample(heights, *at, part)
        row, col = inside.row - window.row, inside.col - window.col
        result[row : row + inside.rows, col : col + inside.cols] = part
        return result

    def _sample(self, heights: Heights, rows: FloatArray, cols: FloatArray, part: Heights) -> None:
        if self._resampling == "nearest":
            _sample_nearest(heights, rows, cols, part)
        elif self._resampling == "bilinear":
            _sample_bilinear(heights, rows, cols, part)
        else:
            _sample_cubic(heights, rows, cols, self._resampling == "cubic_spline", part)

    def _reach(self, target: Grid, source: Grid) -> tuple[tuple[float, float], int]:
        """Source cells a target's cell is high and wide, where that counts, and how many around its middle are looked at."""
        if self._resampling not in _AREA:
            return (1.0, 1.0), 2
        (wide, high), (own_wide, own_high) = target.metres_per_cell(), source.metres_per_cell()
        size = (high / own_high, wide / own_wide)
        return size, math.ceil(max(size) / 2) + 1

    def _by_halves(self, window: Window, level: int) -> Heights:
        """Read a window in two, so that no more of the source is held at once than need be."""
        if window.rows >= window.cols:
            half = window.rows // 2
            parts = [window._replace(rows=half), window._replace(row=window.row + half, rows=window.rows - half)]
            return np.concatenate([self.read(part, level) for part in parts], axis=0)
        half = window.cols // 2
        parts = [window._replace(cols=half), window._replace(col=window.col + half, cols=window.cols - half)]
        return np.concatenate([self.read(part, level) for part in parts], axis=1)


def fitted(surface: Surface, grid: Grid, resampling: Resampling = "bilinear") -> Surface:
    """The surface on `grid`: itself where that is its own, else resampled live. Heights keep unit and datum."""
    return surface if surface.grid == grid else FittedSurface(surface, grid, resampling)


def difference(first: Surface, second: Surface, grid: Grid | None = None) -> Surface:
    """First minus second, live.

    Parameters
    ----------
    first, second : Surface
        In one unit of height.
    grid : Grid, optional
        On which they are compared; the first's own where not given.

    Returns
    -------
    Surface
        Empty where either is. Where both have an uncertainty it has one: the root of the sum of their squares, which holds where
        the errors of both are independent of each other.
    """
    return Difference(fitted(first, grid or first.grid), fitted(second, grid or first.grid))


class Difference(LiveSurface):
    """One surface minus another on the same grid; see `difference`."""

    def __init__(self, first: Surface, second: Surface) -> None:
        super().__init__([first, second], lambda arrays, _: arrays[0] - arrays[1], 0, first.unit, of=("difference",))

    @property
    def companions(self) -> Mapping[str, Surface]:
        found = [one.companions.get("uncertainty") for one in self._inputs]
        if found[0] is None or found[1] is None:
            return {}
        both = LiveSurface(
            [found[0], found[1]], lambda held, _: np.hypot(held[0], held[1]), 0, self.unit, of=("independent",)
        )
        return {"uncertainty": both}
