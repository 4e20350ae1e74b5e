"""Rasters that are no north-up grid of heights, made one: flipped, turned, placed by control points, coded in colours.

A raster whose rows run from south to north, or columns from east to west, is only flipped. One that is turned or sheared, or placed
by ground control points, is resampled bilinearly onto a north-up grid whose cells are as large as its own. What is read is decoded
first, so that an empty cell never counts as a height.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from affine import Affine

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, has_mask

rasterio = later("rasterio")

Coded = Literal["", "fraction", "tenth"]
CODES: dict[str, tuple[tuple[float, float, float], float, str]] = {
    "fraction": ((256.0, 1.0, 1 / 256), -32_768.0, "256 R + G + B / 256 \u2212 32768 m"),
    "tenth": ((6_553.6, 25.6, 0.1), -10_000.0, "(65536 R + 256 G + B) / 10 \u2212 10000 m"),
}
"""Heights as red, green and blue: metres to one of each, metres at 0, and how that is written."""
_STRIP = 4_000_000
_MERCATOR = 20_037_508.342789244
_QUADRATIC_FROM = 10
"""Control points from which a second-degree polynomial is fitted to them; fewer take a plane."""


@dataclass(frozen=True)
class Placing:
    """Where the cells of a raster lie. numbers: a to f of its transform from column and row of corners to x and y, or None where
    control points say it; those are `(points, 4)`: column, row, x, y."""

    numbers: tuple[float, ...] | None
    control: FloatArray | None = None

    @property
    def transform(self) -> Affine | None:
        """From column and row of corners to x and y; None where control points say it."""
        return None if self.numbers is None else Affine(*self.numbers)

    @property
    def is_straight(self) -> bool:
        """Whether rows run from north to south and columns from west to east."""
        t = self.transform
        return t is not None and t.b == t.d == 0 and t.a > 0 > t.e

    @property
    def is_flipped(self) -> bool:
        """Whether rows or columns run the other way, and nothing else."""
        t = self.transform
        return t is not None and t.b == t.d == 0 and not self.is_straight

    def fitted(self) -> tuple[Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray]], float]:
        """Fractional columns and rows of corners at places, and by how much of a cell control points are missed at most."""
        if self.transform is not None:
            inverse = ~self.transform
            return lambda x, y: (
                inverse.a * x + inverse.b * y + inverse.c,
                inverse.d * x + inverse.e * y + inverse.f,
            ), 0.0
        assert self.control is not None
        cols, rows, x, y = self.control.T
        middle, scale = np.array([x.mean(), y.mean()]), max(np.ptp(x), np.ptp(y), 1e-9)
        quadratic = len(x) >= _QUADRATIC_FROM

        def terms(x: FloatArray, y: FloatArray) -> FloatArray:
            u, v = (x - middle[0]) / scale, (y - middle[1]) / scale
            more = [u * u, u * v, v * v] if quadratic else []
            return np.stack([np.ones_like(u), u, v, *more], axis=-1)

        base = terms(x, y)
        if np.linalg.matrix_rank(base) < base.shape[1]:
            raise InputError("its control points lie on one line")
        factors = np.linalg.lstsq(base, np.column_stack([cols, rows]), rcond=None)[0]
        missed = float(np.hypot(*(base @ factors - np.column_stack([cols, rows])).T).max())

        def place(x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
            found = terms(x, y) @ factors
            return found[..., 0], found[..., 1]

        return place, missed

    def grid(self, crs: str, rows: int, cols: int) -> Grid:
        """The north-up grid it is read on. Raises GridError."""
        t = self.transform
        if self.is_straight and t is not None:
            return Grid(crs, t.c, t.f, t.a, -t.e, rows, cols)
        if self.is_flipped and t is not None:
            west, north = min(t.c, t.c + cols * t.a), max(t.f, t.f + rows * t.e)
            return Grid(crs, west, north, abs(t.a), abs(t.e), rows, cols)
        t = t or self._plane()
        corners = np.array([t @ place for place in ((0, 0), (cols, 0), (0, rows), (cols, rows))])
        size = math.sqrt(abs(t.determinant))
        (west, south), (east, north) = corners.min(0), corners.max(0)
        down, across = (max(math.ceil((high - low) / size - 1e-6), 1) for low, high in ((south, north), (west, east)))
        return Grid(crs, float(west), float(north), size, size, down, across)

    def _plane(self) -> Affine:
        """The affine transform nearest to the control points."""
        assert self.control is not None
        cols, rows, x, y = self.control.T
        base = np.column_stack([cols, rows, np.ones_like(cols)])
        if np.linalg.matrix_rank(base) < 3:
            raise InputError("its control points lie on one line")
        (a, d), (b, e), (c, f) = np.linalg.lstsq(base, np.column_stack([x, y]), rcond=None)[0]
        return Affine(a, b, c, d, e, f)


def tile_place(tile: str, cols: int) -> Affine:
    """The transform of a tile of the usual web map scheme, `zoom/column/row`, counted from the north-west, of so many columns.
    Raises InputError."""
    parts = tile.split("/")
    if len(parts) != 3 or not all(part.isascii() and part.isdecimal() and len(part) < 10 for part in parts):
        raise InputError(f"{tile!r} is no tile: it is written zoom/column/row, such as 9/344/321.")
    zoom, column, row = map(int, parts)
    if zoom > 24 or max(column, row) >= 1 << zoom:
        raise InputError(f"There is no tile {tile}: at zoom {zoom} columns and rows go to {(1 << min(zoom, 24)) - 1}.")
    side = 2 * _MERCATOR / (1 << zoom)
    return Affine(side / cols, 0, -_MERCATOR + column * side, 0, -side / cols, _MERCATOR - row * side)


class Cells:
    """The heights of a raster in its own rows and columns, NaN where they are empty."""

    def __init__(self, dataset: Any, band: int, coded: str, empty: list[float]) -> None:
        self._dataset, self._band, self._coded, self._empty = dataset, band, coded, empty
        self._masked = has_mask(dataset)
        self.rows, self.cols = dataset.height, dataset.width

    def read(self, row: int, rows: int, col: int = 0, cols: int | None = None) -> Heights:
        """Some rows and columns, inside."""
        window = ((row, row + rows), (col, self.cols if cols is None else col + cols))
        dataset, band = self._dataset, self._band
        if self._coded:
            factors, base, _ = CODES[self._coded]
            colours = dataset.read((1, 2, 3), window=window).astype(np.float64)
            heights = np.tensordot(np.array(factors), colours, 1) + base
            raw = heights
        else:
            raw = dataset.read(band, window=window)
            heights = raw.astype(np.float64) * dataset.scales[band - 1] + dataset.offsets[band - 1]
            nodata = dataset.nodatavals[band - 1]
            if nodata is not None and not math.isnan(nodata):
                heights[raw == raw.dtype.type(nodata)] = np.nan
        for value in self._empty:
            heights[raw == value] = np.nan
        if self._masked:
            heights[dataset.read_masks(band, window=window) == 0] = np.nan
        found = heights.astype(np.float32)
        found[~np.isfinite(found)] = np.nan
        return found


@kernel
def _bilinear_at(heights, rows, cols, result):
    """Heights at fractional rows and columns of cell centres `(cells,)`; NaN half a cell and more outside, and where any of the four
    around is empty and counts."""
    high, wide = heights.shape
    for i in range(rows.size):
        r, c = rows[i], cols[i]
        result[i] = np.nan
        if not (-0.5 <= r <= high - 0.5 and -0.5 <= c <= wide - 0.5):
            continue
        r, c = min(max(r, 0.0), high - 1.0), min(max(c, 0.0), wide - 1.0)
        top, left = min(int(r), max(high - 2, 0)), min(int(c), max(wide - 2, 0))
        v, u = r - top, c - left
        total = 0.0
        for down in range(2):
            for right in range(2):
                share = (v if down else 1.0 - v) * (u if right else 1.0 - u)
                if share > 1e-9:
                    total += share * heights[min(top + down, high - 1), min(left + right, wide - 1)]
        result[i] = total


def _turned(cells: Cells, placing: Placing, part: Grid) -> Heights:
    """Cells of a part of the north-up grid."""
    place, _ = placing.fitted()
    x, y = np.meshgrid(*part.centres(part.whole))
    cols, rows = (found.ravel() - 0.5 for found in place(x, y))
    result = np.full(rows.size, np.nan, np.float32)
    inside = (rows > -1) & (rows < cells.rows) & (cols > -1) & (cols < cells.cols)
    if inside.any():
        top, left = max(int(rows[inside].min()) - 1, 0), max(int(cols[inside].min()) - 1, 0)
        bottom, right = min(int(rows[inside].max()) + 3, cells.rows), min(int(cols[inside].max()) + 3, cells.cols)
        held = cells.read(top, bottom - top, left, right - left)
        # cells outside what was read are outside the raster: rows and columns are counted from its own corner
        edge_rows = np.where(rows < -0.5, -1.0, np.where(rows > cells.rows - 0.5, 1e18, rows - top))
        edge_cols = np.where(cols < -0.5, -1.0, np.where(cols > cells.cols - 0.5, 1e18, cols - left))
        _bilinear_at(held, edge_rows, edge_cols, result)
    return result.reshape(part.rows, part.cols)


def straighten(
    cells: Cells, placing: Placing, grid: Grid, target: Path, progress: Progress = ignore_progress
) -> None:  # fmt: skip
    """Write a raster as a GeoTIFF of heights on its north-up grid, strip by strip, whole or not at all."""
    step = max(1, min(_STRIP // grid.cols, 256))
    flip_rows = placing.is_flipped and placing.transform is not None and placing.transform.e > 0
    flip_cols = placing.is_flipped and placing.transform is not None and placing.transform.a < 0
    profile: dict[str, Any] = {
        "driver": "GTiff", "width": grid.cols, "height": grid.rows, "count": 1, "dtype": "float32", "crs": grid.crs,
        "nodata": math.nan, "transform": grid.transform, "tiled": True, "compress": "deflate", "zlevel": 1, "predictor": 3,
        "bigtiff": "if_safer",
    }  # fmt: skip
    with replacing(target) as made, rasterio.open(made, "w", **profile) as dataset:
        for row in range(0, grid.rows, step):
            rows = min(step, grid.rows - row)
            if placing.is_straight or placing.is_flipped:
                heights: npt.NDArray[Any] = cells.read(grid.rows - row - rows if flip_rows else row, rows)
                heights = heights[:: -1 if flip_rows else 1, :: -1 if flip_cols else 1]
            else:
                part = Grid(
                    grid.crs,
                    grid.west,
                    grid.north - row * grid.cell_height,
                    grid.cell_width,
                    grid.cell_height,
                    rows,
                    grid.cols,
                )
                heights = _turned(cells, placing, part)
            dataset.write(heights, 1, window=((row, row + rows), (0, grid.cols)))
            progress((row + rows) / grid.rows)
