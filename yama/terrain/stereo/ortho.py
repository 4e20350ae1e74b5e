"""Orthoimages: an image laid on a surface, live, cell by cell; and by how far two of them jump."""

from __future__ import annotations

import itertools
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window, turn_between
from yama.terrain.images import Image
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.stereo.epipolar import STEP, between, taken
from yama.terrain.stereo.rays import Sensor, position, reached
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import Heights, Surface, put_in
from yama.terrain.surface.over import Over
from yama.terrain.units import UNITS

ndimage = later("scipy.ndimage")

_MEASURED = 512  # cells along the longer side from which tones are told
_ENOUGH = 50
_QUARTERS = (10, 50, 90)
_BLOCK = 256
_PAST = 30.0  # metres by which single heights may stand above the coarse cells' means


@kernel
def _look(
    model,
    heights,
    up,
    lattice,
    slopes,
    cells,
    first_col,
    first_row,
    scale,
    halo,
    highest,
    tolerance,
    off,
    top,
    bottom,
    out,
):
    """Grey values of some rows. heights: with a halo, in units of `up` metres; lattice: longitude, latitude and zero
    level at nodes; slopes: columns and rows by which a ray moves with each metre of height, at nodes; off: rows and
    columns of the window from the first node. What is computed for a cell is the same to the last bit in any
    window."""
    rows, cols = heights.shape
    for r in range(top, bottom):
        for c in range(out.shape[1]):
            out[r, c] = np.nan
            z = heights[r + halo, c + halo]
            if z != z:
                continue
            h = z * up
            p, q = r + off[0], c + off[1]
            col, row = position(
                model, between(lattice, 0, p, q), between(lattice, 1, p, q), h + between(lattice, 2, p, q)
            )
            value = taken(cells, (col + 0.5) / scale - 0.5, (row + 0.5) / scale - 0.5, first_col, first_row)
            if value != value:
                continue
            # hidden where the ground stands higher than the ray on its way up
            sx, sy = between(slopes, 0, p, q), between(slopes, 1, p, q)
            run = max(abs(sx), abs(sy))
            hidden = False
            if run > 1e-6:
                rise = 1.0 / run  # metres from one cell to the next
                x = y = 0.0
                level = h
                while level < highest:
                    x += sx * rise
                    y += sy * rise
                    level += rise
                    right, down = int(np.floor(x)), int(np.floor(y))
                    j, i = c + halo + right, r + halo + down
                    if not (0 <= j < cols - 1 and 0 <= i < rows - 1):
                        break
                    s, t = x - right, y - down
                    ground = ((heights[i, j] * (1 - s) + heights[i, j + 1] * s) * (1 - t)
                              + (heights[i + 1, j] * (1 - s) + heights[i + 1, j + 1] * s) * t) * up  # fmt: skip
                    if ground > level + tolerance:
                        hidden = True
                        break
            if not hidden:
                out[r, c] = value


@kernel
def _leaning(model, lon, lat, height, out):
    """Longitude and latitude at which the rays of places are 100 m higher up."""
    for i in range(lon.size):
        col, row = position(model, lon[i], lat[i], height[i])
        out[0, i], out[1, i] = reached(model, col, row, height[i] + 100.0)


class OrthoSurface(Over):
    """Grey values of an image on the cells of a surface of heights.

    Empty where the surface is, where the image does not reach, and where something higher hides the ground from the
    image.

    Parameters
    ----------
    surface : Surface
        Heights, live or stored. A surface that does not reach as far as the image is seen to hide nothing beyond its
        edge.
    image : Image
    sensor : Sensor
        The image's model, adjusted or as delivered.
    zero : ZeroLevel
        What height 0 of the surface is.
    """

    def __init__(self, surface: Surface, image: Image, sensor: Sensor, zero: ZeroLevel) -> None:
        super().__init__(surface, unit="")
        self.vertical_datum = ""
        self.image, self.sensor, self.zero = image, sensor, zero
        self._relief: tuple[float, float] | None = None
        self._image_levels: dict[int, int] = {}

    def settings(self) -> tuple[Any, ...]:
        return (str(self.image.path), self.image.told, self.sensor.shift, self.zero.made_of())

    def _span(self) -> tuple[float, float]:
        """Lowest and highest of the surface, in metres: from coarse cells, with room for what stands above their
        means."""
        if self._relief is None:
            level = max(0, int(np.ceil(np.log2(max(self.grid.rows, self.grid.cols) / 256))))
            coarse = self.surface.read(self.grid.at_level(level).whole, level)
            known = coarse[np.isfinite(coarse)] * UNITS.get(self.surface.unit, 1.0)
            past = _PAST if level else 0.0
            self._relief = (float(known.min()) - past, float(known.max()) + past) if known.size else (0.0, 0.0)
        return self._relief

    def read(self, window: Window, level: int = 0) -> Heights:
        out = np.full((window.rows, window.cols), np.nan, np.float32)
        grid = self.grid.at_level(level)
        inside = window.clipped(grid.rows, grid.cols)
        if not inside.rows or not inside.cols:
            return out
        up = UNITS.get(self.surface.unit, 1.0)
        low, high = self._span()
        lattice, slopes, off = self._lattices(grid, inside, (low + high) / 2)
        fastest = float(np.nanmax(np.abs(slopes))) if np.isfinite(slopes).any() else 0.0
        halo = min(int(np.ceil(fastest * (high - low))) + 2, 2048)
        around = Window(inside.row - halo, inside.col - halo, inside.rows + 2 * halo, inside.cols + 2 * halo)
        heights = self.surface.read(around, level)
        here = heights[halo : halo + inside.rows, halo : halo + inside.cols]
        if not np.isfinite(here).any():
            return out
        taken_part = self._cells(here * np.float32(up), lattice, level)
        if taken_part is None:
            return out
        cells, first_row, first_col, scale = taken_part
        found = np.empty((inside.rows, inside.cols), np.float32)
        size = min(grid.metres_per_cell())
        tolerance = 0.3 * size + 0.2
        highest = float(np.nanmax(heights)) * up
        packed = self.sensor.packed()

        def band(rows: tuple[int, int]) -> None:
            _look(
                packed, heights, up, lattice, slopes, cells, first_col, first_row, scale, halo, highest, tolerance,
                off, rows[0], rows[1], found,
            )  # fmt: skip

        edges = np.linspace(0, inside.rows, 4 * cores() + 1).astype(int).tolist()
        with ThreadPoolExecutor(cores()) as pool:
            list(pool.map(band, itertools.pairwise(edges)))
        out[inside.row - window.row :, inside.col - window.col :][: inside.rows, : inside.cols] = found
        return out

    def _lattices(self, grid: Grid, window: Window, height: float) -> tuple[FloatArray, FloatArray, tuple[int, int]]:
        """Longitude, latitude and zero level around a window at every `STEP`-th row and column of the grid; how far
        rays move with each metre of height there; and rows and columns from the first node to the window."""
        first_row, first_col = window.row // STEP * STEP, window.col // STEP * STEP
        row, col = np.meshgrid(
            np.arange(first_row, window.row + window.rows + STEP, STEP),
            np.arange(first_col, window.col + window.cols + STEP, STEP),
            indexing="ij",
        )
        lon, lat = turn_between(grid.crs, "EPSG:4326").transform(grid.x_of(col), grid.y_of(row))
        zero = self.zero.at(lon, lat)
        out = np.empty((2, lon.size))
        _leaning(self.sensor.packed(), lon.ravel(), lat.ravel(), (height + zero).ravel(), out)
        to_x, to_y = turn_between("EPSG:4326", grid.crs).transform(out[0].reshape(lon.shape), out[1].reshape(lon.shape))
        slopes = np.stack([(grid.col_of(to_x) - col) / 100.0, (grid.row_of(to_y) - row) / 100.0])
        return np.stack([lon, lat, zero]), slopes, (window.row - first_row, window.col - first_col)

    def lean(self, level: int) -> FloatArray:
        """Columns and rows of a level by which the image's rays move with each metre of height, in the middle of the
        grid."""
        grid = self.grid.at_level(level)
        slopes: FloatArray = self._lattices(grid, Window(grid.rows // 2, grid.cols // 2, 1, 1), sum(self._span()) / 2)[
            1
        ][:, 0, 0]
        return slopes

    def _image_level(self, level: int) -> int:
        """Which level of the image is looked at for a level of the grid: cells of the ground that are larger than the
        image's get means of as many."""
        if level not in self._image_levels:
            grid = self.grid.at_level(level)
            x, y = grid.x_of(grid.cols / 2), grid.y_of(grid.rows / 2)
            width, height = grid.cell_width, grid.cell_height
            lon, lat = turn_between(grid.crs, "EPSG:4326").transform([x, x + width, x], [y, y, y + height])
            col, row = self.sensor.image_of(lon, lat, sum(self._span()) / 2)
            ratio = float(np.sqrt(abs((col[1] - col[0]) * (row[2] - row[0]) - (col[2] - col[0]) * (row[1] - row[0]))))
            ratio = ratio if np.isfinite(ratio) else 1.0
            self._image_levels[level] = max(int(np.floor(np.log2(max(ratio, 1.0)) + 0.25)), 0)
        return self._image_levels[level]

    def _cells(self, heights: Heights, lattice: FloatArray, level: int) -> tuple[Heights, int, int, int] | None:
        """The piece of the image that a part needs, its first row and column, and how many cells of the image make
        one of it."""
        known = heights[np.isfinite(heights)]
        seen_at = [
            self.sensor.image_of(lattice[0], lattice[1], lattice[2] + height) for height in (known.min(), known.max())
        ]
        col, row = (np.concatenate([one[k].ravel() for one in seen_at]) for k in (0, 1))
        if not (np.isfinite(col).all() and np.isfinite(row).all()):
            return None
        above = self._image_level(level)
        scale = 2**above
        first_col, last_col = (
            max(int(col.min()) // scale - 3, 0),
            min(int(col.max()) // scale + 4, -(-self.image.cols // scale)),
        )
        first_row, last_row = (
            max(int(row.min()) // scale - 3, 0),
            min(int(row.max()) // scale + 4, -(-self.image.rows // scale)),
        )
        if first_col >= last_col or first_row >= last_row:
            return None
        cells = self.image.read(first_row, first_col, last_row - first_row, last_col - first_col, above)
        return cells, first_row, first_col, scale


class JoinedOrtho(Over):
    """The orthoimages of two images as one: the second, as bright as the first, where the first sees no ground.

    Parameters
    ----------
    first, second : OrthoSurface
        On the same surface.
    """

    def __init__(self, first: OrthoSurface, second: OrthoSurface) -> None:
        super().__init__(first.surface)
        self.first, self.second = first, second
        self._measuring = threading.Lock()
        self._tone: tuple[float, float] | None = None

    def settings(self) -> tuple[Any, ...]:
        return (self.first.settings(), self.second.settings())

    def prepare(self, progress: Progress = ignore_progress) -> None:
        super().prepare(progress)
        self.tone()

    def tone(self) -> tuple[float, float]:
        """The factor and the offset that give the second image's grey values the first one's middle and spread where
        both show the ground. Found on large cells, of which there are few."""
        with self._measuring:
            if self._tone is None:
                level = max(int(np.ceil(np.log2(max(self.grid.rows, self.grid.cols) / _MEASURED))), 0)
                grid = self.grid.at_level(level)
                one, other = (ortho.read(grid.whole, level) for ortho in (self.first, self.second))
                both = np.isfinite(one) & np.isfinite(other)
                self._tone = (1.0, 0.0)
                if both.sum() >= _ENOUGH:
                    low, middle, high = np.percentile(one[both], _QUARTERS)
                    low2, middle2, high2 = np.percentile(other[both], _QUARTERS)
                    gain = float((high - low) / max(high2 - low2, 1e-6))
                    self._tone = (gain, float(middle - gain * middle2))
            return self._tone

    def read(self, window: Window, level: int = 0) -> Heights:
        cells = self.first.read(window, level)
        hidden = np.isnan(cells)
        if hidden.any():
            gain, offset = self.tone()
            cells[hidden] = self.second.read(window, level)[hidden] * np.float32(gain) + np.float32(offset)
        return cells


def _shifted(cells: Heights, x: float, y: float) -> Heights:
    """Values at places that lie x columns and y rows farther, bilinear; NaN past the edge."""
    i, j = int(np.floor(y)), int(np.floor(x))
    s, t = np.float32(x - j), np.float32(y - i)
    rows, cols = cells.shape
    reach = max(abs(i), abs(j)) + 2
    wide = np.pad(cells, reach, constant_values=np.nan)

    def at(down: int, right: int) -> Heights:
        found: Heights = wide[reach + i + down :, reach + j + right :][:rows, :cols]
        return found

    upper, lower = at(0, 0) * (1 - s) + at(0, 1) * s, at(1, 0) * (1 - s) + at(1, 1) * s
    return np.asarray(upper * (1 - t) + lower * t, np.float32)


def _likeness(one: Heights, other: Heights, half: int) -> Heights:
    """Correlation of what lies around each cell in two images; -1 where too little is in both."""
    known = np.isfinite(one) & np.isfinite(other)
    a, b = np.where(known, one, 0).astype(np.float64), np.where(known, other, 0).astype(np.float64)

    def around(values: FloatArray) -> FloatArray:
        found: FloatArray = ndimage.uniform_filter(values, 2 * half + 1, mode="constant")
        return found

    share = np.maximum(around(known.astype(np.float64)), 1e-9)
    mean_a, mean_b = around(a) / share, around(b) / share
    spread = (around(a * a) / share - mean_a**2) * (around(b * b) / share - mean_b**2)
    found = (around(a * b) / share - mean_a * mean_b) / np.sqrt(np.maximum(spread, 1e-12))
    return np.where((share > 0.5) & (spread > 1e-9), found, -1.0).astype(np.float32)


def _jumps(left: Heights, right: Heights, ex: float, ey: float, most: int, half: int) -> tuple[Heights, Heights]:
    """By how many steps along a direction the right image must be moved to look like the left one around each cell,
    and how alike both then are. NaN where the best step is the last one tried."""
    middle = np.nanmean(left) if np.isfinite(left).any() else 0.0
    one, other = left - middle, right - middle
    moves = range(-most, most + 1)
    with ThreadPoolExecutor(cores()) as pool:
        alike = np.stack(
            list(pool.map(lambda move: _likeness(one, _shifted(other, ex * move, ey * move), half), moves))
        )
    where = alike.argmax(0)
    inner = np.clip(where, 1, len(alike) - 2)[None]
    before, best, after = (np.take_along_axis(alike, inner + k, 0)[0] for k in (-1, 0, 1))
    bend = before - 2 * best + after
    part = np.where(bend < -1e-6, 0.5 * (before - after) / np.minimum(bend, -1e-6), 0.0)
    good = (where == inner[0]) & np.isfinite(left) & (best > 0)
    return np.where(good, where - most + part, np.nan).astype(np.float32), alike.max(0)


class JumpSurface(Over):
    """How far the ground jumps between the orthoimages of both images: where it does, the surface is wrong.

    A height that is too large by dz moves the same ground apart in both orthoimages, by dz times the base-to-height
    ratio. What is found is told as that height, positive where the surface lies too high.

    Parameters
    ----------
    left, right : OrthoSurface
        On the same surface.
    most : int
        Cells up to which a jump is looked for.
    likeness : float
        Least correlation; cells where the two images look less alike are empty.
    """

    def __init__(
        self, left: OrthoSurface, right: OrthoSurface, most: int = 5, likeness: float = 0.5, half: int = 4
    ) -> None:
        super().__init__(left.surface)
        if left.surface.grid != right.surface.grid:
            raise InputError("Both orthoimages must lie on the same surface.")
        self.left, self.right, self.most, self.likeness, self.half = left, right, most, likeness, half

    def settings(self) -> tuple[Any, ...]:
        return (self.left.settings(), self.right.settings(), self.most, self.likeness, self.half)

    def _apart(self, level: int) -> FloatArray:
        """Columns and rows of a level by which a metre too much draws the two apart."""
        apart = self.right.lean(level) - self.left.lean(level)
        if not np.hypot(*apart) > 0:
            raise InputError("Both images see the ground along the same rays; nothing can jump.")
        return apart

    @property
    def cells_per_metre(self) -> float:
        """Cells of the surface by which a metre too much draws the two orthoimages apart."""
        return float(np.hypot(*self._apart(0)))

    def read(self, window: Window, level: int = 0) -> Heights:
        grid = self.grid.at_level(level)
        out = np.full((window.rows, window.cols), np.nan, np.float32)
        inside = window.clipped(grid.rows, grid.cols)
        # always the same blocks, so that a cell is the same in any window
        for row in range(inside.row // _BLOCK * _BLOCK, inside.row + inside.rows, _BLOCK):
            for col in range(inside.col // _BLOCK * _BLOCK, inside.col + inside.cols, _BLOCK):
                block = Window(row, col, _BLOCK, _BLOCK)
                found = self._block(block, level)
                top, left = max(row, inside.row), max(col, inside.col)
                bottom, right = min(row + _BLOCK, inside.row + inside.rows), min(col + _BLOCK, inside.col + inside.cols)
                put_in(
                    out, found[top - row : bottom - row, left - col : right - col], top - window.row, left - window.col
                )
        return out

    def _block(self, block: Window, level: int) -> Heights:
        around = block.grown(self.most + self.half + 2)
        halo = block.row - around.row
        one, other = self.left.read(around, level), self.right.read(around, level)
        apart = self._apart(level)
        run = float(np.hypot(*apart))
        ex, ey = (apart / run).tolist()
        jump, likeness = (cells[halo:-halo, halo:-halo] for cells in _jumps(one, other, ex, ey, self.most, self.half))
        found = jump / run / UNITS.get(self.surface.unit, 1.0)
        return np.where(likeness >= self.likeness, found, np.float32(np.nan)).astype(np.float32)
