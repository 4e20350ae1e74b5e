"""Ground points of a cloud that has no classes, and points that are noise.

T. J. Pingel, K. C. Clarke and W. A. McBride, "An improved simple morphological filter for the terrain classification of
airborne LIDAR data", ISPRS Journal of Photogrammetry and Remote Sensing 77 (2013). The lowest last returns by cell are
opened with wider and wider windows; what stands out by more than the slope allows for the window is an object and not
ground. A surface through the cells that are left says which points are ground: those near it, the nearer the flatter it is.

Noise is what lies alone: a point with hardly another in the cubes around it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.terrain.cloud import Cloud
from yama.terrain.errors import InputError
from yama.terrain.formats import las
from yama.terrain.grid import Bounds, FloatArray, Grid, parse_crs
from yama.terrain.interpolate.binning import Filter, GriddedCloud
from yama.terrain.interpolate.plate import Known, solve_plate
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, put_in
from yama.terrain.units import UNITS

GROUND, UNCLASSIFIED, LOW_NOISE, HIGH_NOISE = 2, 1, 7, 18
_OPEN = (0, UNCLASSIFIED, GROUND)
"""Classes that may change; the others were given by somebody who knew."""
_BLOCK = 1024
_MOST_CELLS = 120_000_000
_PIT = 5.0
"""Slope, as a fraction, of a cell's sides beyond which it is a low outlier."""
_TENSION, _FIRM, _EXACT = 0.1, 64.0, 0.02
_BITS = 21


@dataclass(frozen=True)
class Settings:
    """cell: width of the cells the lowest returns are taken from. slope: as a fraction, the steepest ground. window: width of
    the widest thing to take off. near: distance from the ground surface within which points are ground, on the flat.
    leeway: how much of the rise across a cell is added to it. cube, few: a point with at most that many others in 27 cubes
    of that width is noise; no noise is looked for where few is 0. Lengths in metres.
    """

    cell: float = 1.0
    slope: float = 0.3
    window: float = 20.0
    near: float = 0.4
    leeway: float = 1.25
    cube: float = 4.0
    few: int = 2


@kernel
def _extremes(line, radius, sign, result, left, right):
    """Highest (sign 1) or lowest (-1) within `radius` of each place (M. van Herk, Pattern Recognition Letters 13, 1992)."""
    size = line.size
    width = 2 * radius + 1
    for i in range(size):
        value = sign * line[i]
        left[i] = value if i % width == 0 else max(left[i - 1], value)
    for i in range(size - 1, -1, -1):
        value = sign * line[i]
        right[i] = value if i == size - 1 or (i + 1) % width == 0 else max(right[i + 1], value)
    for i in range(size):
        first = i - radius
        last = i + radius
        if first >= 0 and last < size:
            result[i] = sign * max(right[first], left[last])
            continue
        best = sign * line[i]
        for j in range(max(first, 0), min(last + 1, size)):
            best = max(best, sign * line[j])
        result[i] = sign * best


@kernel
def _square(heights, radius, sign, result):
    """Extremes over squares of `2 radius + 1` cells."""
    rows, cols = heights.shape
    size = max(rows, cols)
    left = np.empty(size)
    right = np.empty(size)
    line = np.empty(rows)
    along = np.empty(rows)
    for r in range(rows):
        _extremes(heights[r], radius, sign, result[r], left, right)
    for c in range(cols):
        for r in range(rows):
            line[r] = result[r, c]
        _extremes(line, radius, sign, along, left, right)
        for r in range(rows):
            result[r, c] = along[r]


def opening(heights: FloatArray, radius: int) -> FloatArray:
    """The lowest, then the highest of that, over squares of `2 radius + 1` cells: `(rows, cols)` without what is narrower."""
    low, result = np.empty(heights.shape), np.empty(heights.shape)
    _square(heights, radius, -1.0, low)
    _square(low, radius, 1.0, result)
    return result


def bridged(cells: FloatArray) -> FloatArray:
    """Cells with their gaps (NaN) filled by a tight plate."""
    if not np.isfinite(cells).any():
        return cells
    place = (0.0, float(cells.shape[0]), 1.0, 1.0)
    found = solve_plate(cells.shape, place, Known(np.empty((0, 6)), cells), _TENSION, _FIRM, exact=_EXACT)  # type: ignore[arg-type]
    return np.where(np.isfinite(cells), cells, found)


def ground_surface(lowest: npt.NDArray[np.floating], cell: float, settings: Settings) -> tuple[FloatArray, FloatArray]:
    """The ground under cells of lowest returns `(rows, cols)`, NaN where there are none, and how far a point may lie from
    it to be ground. cell: width of the cells in metres. All NaN where every cell is."""
    cells = lowest.astype(np.float64)
    surface = bridged(cells)
    if np.isnan(surface).any():
        return surface, np.full(surface.shape, np.nan)
    pits = -opening(-surface, 1) - surface > _PIT * cell
    if pits.any():
        surface = bridged(np.where(pits, np.nan, surface))
    objects = pits
    opened = surface
    for radius in range(1, max(int(np.ceil(settings.window / 2 / cell)), 1) + 1):
        narrower = opened
        opened = opening(narrower, radius)
        objects = objects | (narrower - opened > settings.slope * radius * cell)
    ground = bridged(np.where(objects | np.isnan(lowest), np.nan, surface))
    down, along = np.gradient(ground, cell)
    return ground, settings.near + settings.leeway * np.hypot(down, along) * cell


class GroundFinder:
    """Says the class of each point of a cloud.

    beside: other clouds, so that the edges are judged with what lies beyond them. crs: projected, in which lengths count.
    Raises InputError where the cloud covers too many cells.
    """

    def __init__(self, cloud: Cloud, beside: Sequence[Cloud], crs: str, settings: Settings) -> None:
        self._cloud, self._settings, self._crs = cloud, settings, crs
        turn = Transformer.from_crs(parse_crs(cloud.crs), parse_crs(crs), always_xy=True)
        self._turn = None if parse_crs(cloud.crs) == parse_crs(crs) else turn.transform
        box = Bounds(*turn.transform_bounds(*cloud.bounds))
        # a cell more on each side: points on the rim belong to a cell as well
        rim = Bounds(
            box.west - settings.cell, box.south - settings.cell, box.east + settings.cell, box.north + settings.cell
        )
        self._grid = Grid.covering(crs, rim, settings.cell)
        if self._grid.cell_count > _MOST_CELLS:
            raise InputError(f"{cloud.name} covers {self._grid.cell_count / 1e6:.0f} million cells of {settings.cell:g} m. "
                             "Choose larger cells.")  # fmt: skip
        self._halo = int(np.ceil(settings.window / settings.cell)) + 8
        self._clouds = [cloud, *beside]
        self._ground: Heights | None = None
        self._allowed: Heights | None = None
        self._alone: npt.NDArray[np.int64] = np.empty(0, np.int64)

    def prepare(self, progress: Progress = ignore_progress) -> None:
        """Find the ground surface and the cubes that are nearly empty. Takes as long as two readings of the cloud and more."""
        grid = self._grid
        self._ground = np.full((grid.rows, grid.cols), np.nan, np.float32)
        self._allowed = np.full((grid.rows, grid.cols), np.nan, np.float32)
        classes = tuple(code for code in range(256) if code not in (LOW_NOISE, HIGH_NOISE))
        blocks = list(grid.blocks(_BLOCK))
        for number, window in enumerate(blocks):
            progress(0.7 * number / len(blocks))
            around = window.grown(self._halo)
            part = grid.part(around)
            lowest = GriddedCloud(self._clouds, part, "lowest", Filter(classes, "last")).read_all()
            ground, allowed = ground_surface(lowest, self._settings.cell, self._settings)
            inner = slice(self._halo, self._halo + window.rows), slice(self._halo, self._halo + window.cols)
            put_in(self._ground, ground[inner].astype(np.float32), window.row, window.col)
            put_in(self._allowed, allowed[inner].astype(np.float32), window.row, window.col)
        if np.isnan(self._ground).all():
            raise InputError(f"{self._cloud.name} has no last returns but noise; no ground can be told from it.")
        if self._settings.few:
            self._alone = self._lonely(lambda share: progress(0.7 + 0.3 * share))

    def _places(self, chunk: Any) -> tuple[FloatArray, FloatArray, FloatArray]:
        x, y = np.asarray(chunk.x, np.float64), np.asarray(chunk.y, np.float64)
        if self._turn is not None:
            x, y = self._turn(x, y)
        return x, y, np.asarray(chunk.z, np.float64) * UNITS[self._cloud.unit]

    def _cubes(self, x: FloatArray, y: FloatArray, z: FloatArray) -> npt.NDArray[np.int64]:
        """A number for the cube of each point; neighbours east, north and up are set steps apart."""
        size = self._settings.cube
        box = self._grid.bounds
        ix, iy = (np.floor((v - low) / size).astype(np.int64) + 2 for v, low in ((x, box.west), (y, box.south)))
        iz = np.floor(z / size).astype(np.int64) + (1 << (_BITS - 1))
        return (ix << (2 * _BITS)) | (iy << _BITS) | iz

    def _lonely(self, progress: Progress) -> npt.NDArray[np.int64]:
        """Cubes with hardly a point in them and the 26 around, sorted. Points of the clouds beside do not count: a tile's
        edge is judged a little harsher than its middle."""
        held: list[tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]] = []
        seen = 0
        for chunk in las.chunks_of(self._cloud):
            held.append(np.unique(self._cubes(*self._places(chunk)), return_counts=True))
            seen += len(chunk)
            progress(seen / max(self._cloud.count, 1))
        keys, place = np.unique(np.concatenate([one for one, _ in held]), return_inverse=True)
        counts = np.bincount(place, np.concatenate([each for _, each in held]))
        total = np.zeros(len(keys))
        for east in (-1, 0, 1):
            for north in (-1, 0, 1):
                for up in (-1, 0, 1):
                    other = keys + ((east << (2 * _BITS)) + (north << _BITS) + up)
                    at = np.minimum(np.searchsorted(keys, other), len(keys) - 1)
                    total += np.where(keys[at] == other, counts[at], 0)
        return keys[total <= self._settings.few + 1]

    def classes(self, chunk: Any) -> npt.NDArray[np.uint8]:
        """The class of each point. Only points that were never classified, unclassified or ground change."""
        assert self._ground is not None and self._allowed is not None, "prepare was not called"
        x, y, z = self._places(chunk)
        given = np.asarray(chunk.classification, np.uint8)
        ground, allowed = self._at(self._ground, x, y), self._at(self._allowed, x, y)
        last = np.asarray(chunk.return_number) >= np.asarray(chunk.number_of_returns)
        found = np.where(last & (np.abs(z - ground) <= allowed), GROUND, UNCLASSIFIED)
        if self._alone.size:
            cubes = self._cubes(x, y, z)
            at = np.minimum(np.searchsorted(self._alone, cubes), self._alone.size - 1)
            found = np.where(self._alone[at] == cubes, np.where(z < ground, LOW_NOISE, HIGH_NOISE), found)
        if self._settings.few:  # below the ground by more than any ditch that the cells did not show
            found = np.where((found == UNCLASSIFIED) & (z < ground - np.maximum(3 * allowed, 2.0)), LOW_NOISE, found)
        return np.where(np.isin(given, _OPEN), found, given).astype(np.uint8)

    def _at(self, cells: Heights, x: FloatArray, y: FloatArray) -> FloatArray:
        """Bilinear between cell centres; the outermost half cell as its centre."""
        rows = np.clip(self._grid.row_of(y), 0, self._grid.rows - 1)
        cols = np.clip(self._grid.col_of(x), 0, self._grid.cols - 1)
        r, c = (
            np.minimum(rows.astype(np.int64), self._grid.rows - 2),
            np.minimum(cols.astype(np.int64), self._grid.cols - 2),
        )
        r, c = np.maximum(r, 0), np.maximum(c, 0)
        below, right = np.minimum(r + 1, self._grid.rows - 1), np.minimum(c + 1, self._grid.cols - 1)
        v, u = rows - r, cols - c
        top = cells[r, c] * (1 - u) + cells[r, right] * u
        bottom = cells[below, c] * (1 - u) + cells[below, right] * u
        found: FloatArray = top * (1 - v) + bottom * v
        return found
