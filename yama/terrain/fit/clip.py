"""Surfaces that end at polygons, and polygons whose cells have one height."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.cog import halve
from yama.terrain.features import Features
from yama.terrain.grid import Bounds, FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.segments import segments_of, traced
from yama.terrain.surface import Heights, LiveSurface, Over, Surface, sample


def polygons_of(features: Sequence[Features], crs: str) -> list[shapely.Polygon]:
    """All polygons of some features in a CRS. Invalid ones are made valid; points and lines are left out."""
    return [polygon for polygon, _ in named_polygons(features, "", crs)]


def named_polygons(
    features: Sequence[Features], column: str, crs: str, otherwise: str = ""
) -> list[tuple[shapely.Polygon, str]]:
    """As `polygons_of`, each with what stands in a column of its feature, or `otherwise` where there is none."""
    found = []
    for one in features:
        there = one.in_crs(crs)
        told = there.attributes.get(column)
        for number, shape in enumerate(there.geometries):
            valid = [part for each in shapely.get_parts(shape) for part in shapely.get_parts(shapely.make_valid(each))]
            value = told[number] if told is not None else None
            name = otherwise if value is None else str(value)[:40]
            found += [(part, name) for part in valid if part.geom_type == "Polygon" and part.area > 0]
    return found


@kernel
def _toggle(edges, west, north, width, height, row, col, toggles):
    """For each row of cells, where its line of centres crosses the edges `(any, 4)` of a polygon: from that column on the
    other side of it begins. Counted in the whole grid's cells, so that any window finds the same."""
    rows, cols = toggles.shape
    for i in range(edges.shape[0]):
        x0, y0, x1, y1 = edges[i, 0], edges[i, 1], edges[i, 2], edges[i, 3]
        if y0 == y1:
            continue
        high = max(y0, y1)
        low = min(y0, y1)
        first = max(int(np.floor((north - high) / height - 0.5)), row)
        last = min(int(np.ceil((north - low) / height - 0.5)), row + rows - 1)
        for r in range(first, last + 1):
            y = north - (r + 0.5) * height
            if not low <= y < high:
                continue
            x = x0 + (y - y0) * ((x1 - x0) / (y1 - y0))
            c = int(np.ceil((x - west) / width - 0.5)) - col
            if c < cols:
                toggles[r - row, max(c, 0)] ^= True


@kernel
def _fill(toggles, number, result):
    for r in range(toggles.shape[0]):
        within = False
        for c in range(toggles.shape[1]):
            within ^= toggles[r, c]
            if within:
                result[r, c] = number


def inside(polygons: Sequence[shapely.Polygon], grid: Grid, window: Window | None = None) -> npt.NDArray[np.int32]:
    """Which polygon each cell's centre lies in, counted from 1; 0 where in none, the later where in several.

    Of a window of the grid, which may reach past it, or of all of it: `(rows, cols)`. A centre on an edge belongs to one side
    of it only, the same whatever window is asked for.
    """
    window = window or grid.whole
    found = np.zeros((window.rows, window.cols), np.int32)
    box = grid.window_bounds(window)
    for number, polygon in enumerate(polygons, start=1):
        if polygon.is_empty or box.intersection(Bounds(*polygon.bounds)) is None:
            continue
        rings = [shapely.get_coordinates(ring) for ring in (polygon.exterior, *polygon.interiors)]
        edges = np.concatenate([np.column_stack([ring[:-1], ring[1:]]) for ring in rings])
        toggles = np.zeros(found.shape, np.bool_)
        _toggle(edges, grid.west, grid.north, grid.cell_width, grid.cell_height, window.row, window.col, toggles)
        _fill(toggles, number, found)
    return found


class Masked(Over):
    """A surface that is empty where its cells' centres lie in none of the polygons, which are in its CRS. Levels are masked at
    their own cells' centres. inverse: empty where they lie in one. touched: a cell that a polygon's edge runs through counts as
    lying in it."""

    def __init__(
        self, surface: Surface, polygons: Sequence[shapely.Polygon], inverse: bool = False, touched: bool = False
    ) -> None:
        super().__init__(surface)
        self._polygons = list(polygons)
        self._inverse, self._touched = inverse, touched
        rings = [
            np.asarray(shapely.get_coordinates(ring)) for one in polygons for ring in (one.exterior, *one.interiors)
        ]
        self._rims = segments_of(rings, np.zeros(len(rings))) if touched else None

    def settings(self) -> tuple[Any, ...]:
        return ([one.wkb for one in self._polygons], self._inverse, self._touched)

    def companion(self, name: str, below: Surface) -> Surface | None:
        return Masked(below, self._polygons, self._inverse, self._touched)

    def _within(self, window: Window, level: int) -> npt.NDArray[np.bool_]:
        grid = self.grid.at_level(level)
        within: npt.NDArray[np.bool_] = inside(self._polygons, grid, window) > 0
        if self._rims is not None:
            within |= np.isfinite(traced(self._rims, grid.part(window))[0])
        return ~within if self._inverse else within

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`."""
        within = self._within(window, level)
        if not within.any():  # nothing is made that would not be seen
            return np.full((window.rows, window.cols), np.nan, np.float32)
        return np.where(within, self.surface.read(window, level), np.float32(np.nan))

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        values = self.surface.read_exact(window)
        return np.where(self._within(window, 0), values, values.dtype.type(np.nan))


class Flattened(Over):
    """A surface with one height in each of some polygons, such as lakes.

    heights: of each polygon, asked for once, when the first cell is read; where one is not finite the polygon changes nothing.
    """

    def __init__(
        self, surface: Surface, polygons: Sequence[shapely.Polygon], heights: Callable[[], Sequence[float]]
    ) -> None:
        super().__init__(surface)
        self._polygons = list(polygons)
        self._ask = heights
        self._asking = threading.Lock()
        self._heights: Heights | None = None

    def settings(self) -> tuple[Any, ...]:
        return ([one.wkb for one in self._polygons], self.heights)

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self.surface.prepare(progress)
        _ = self.heights

    @property
    def heights(self) -> Heights:
        """NaN, then the height of each polygon."""
        with self._asking:
            if self._heights is None:
                self._heights = np.array([np.nan, *self._ask()], np.float32)
        return self._heights

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`."""
        cells = self.surface.read(window, level)
        which = inside(self._polygons, self.grid.at_level(level), window)
        if not which.any():
            return cells
        level_there = self.heights[which]
        return np.where(np.isfinite(level_there), level_there, cells)


def rim_levels(surface: Surface, polygons: Sequence[shapely.Polygon], share: float = 10.0) -> list[float]:
    """The height of each polygon's rim on a surface: that below which `share` per cent of it lie; NaN where the rim is empty."""
    levels = []
    for polygon in polygons:
        rim = shapely.get_coordinates(shapely.segmentize(polygon.exterior, surface.grid.cell_width))
        found = sample(surface, rim[:, 0], rim[:, 1])
        known = found[np.isfinite(found)]
        levels.append(float(np.percentile(known, share)) if known.size else np.nan)
    return levels


class Burned(Over):
    """A surface that has the heights of lines where they run through its cells. segments: `(any, 6)` x, y, z of both ends of
    the lines' pieces, in its CRS."""

    levels = "means"

    def __init__(self, surface: Surface, segments: FloatArray) -> None:
        super().__init__(surface)
        self._segments = segments

    def settings(self) -> tuple[Any, ...]:
        return (self._segments,)

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`."""
        if level:
            finer = Window(window.row * 2, window.col * 2, window.rows * 2, window.cols * 2)
            return halve(self.read(finer, level - 1))
        cells = self.surface.read(window)
        along = traced(self._segments, self.grid.part(window))[1]
        inside_grid = np.zeros(cells.shape, np.bool_)
        held = window.clipped(self.grid.rows, self.grid.cols)
        top, left = held.row - window.row, held.col - window.col
        inside_grid[top : top + held.rows, left : left + held.cols] = True
        return np.where(np.isfinite(along) & inside_grid, along, cells).astype(np.float32)


class Rounded(Over):
    """A surface rounded to whole units. Its uncertainty is that of the one below with that of rounding, 1/12 of a squared unit."""

    def settings(self) -> tuple[Any, ...]:
        return ()

    def companion(self, name: str, below: Surface) -> Surface | None:
        if name != "uncertainty":
            return below
        return LiveSurface(
            [below], lambda held, _: np.sqrt(held[0] ** 2 + np.float32(1 / 12)), 0, below.unit, of=("rounded",)
        )

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`."""
        return np.rint(self.surface.read(window, level))
