"""Contours to a surface: a thin plate bent to contours, spot heights, streams and lakes, that water can leave.

What a contour map says goes into `plate.solve_plate`. Streams get heights that fall through every contour they cross
(`stream_lines`), lakes the level of their rim. Hollows that no contour asks for are opened by a falling line from their
lowest cell to lower ground, and the plate is solved again (after M. F. Hutchinson, "A new procedure for gridding elevation
and stream line data with automatic removal of spurious pits", Journal of Hydrology 106, 1989).

The whole grid is solved on cells coarse enough to fit in memory; finer cells are solved in parts whose rim lies on that.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.cog import halve
from yama.terrain.drain.sinks import flood, sinks
from yama.terrain.ending import got_to, heard_by
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.clip import inside
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.interpolate.contour_sheet import Sheet
from yama.terrain.interpolate.plate import Cells, Known, solve_plate
from yama.terrain.interpolate.stream_lines import falling
from yama.terrain.kept import Kept, parts_of
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.segments import near, segments_of, traced
from yama.terrain.shelf import shared
from yama.terrain.surface import Heights, Surface, cut_out

ndimage = later("scipy.ndimage")

_WHOLE_CELLS = 400_000
"""Cells at which a grid is solved as a whole."""
_PART, _HALO, _HELD = 512, 64, 48
_WEIGHT = 8.0
_EXACT, _ROUGH = 1e-3, 1e-2
"""The last step of a solution moves no cell by more than this share of the contour interval, at last and on the way; it
then misses a tenth of that in 99 of 100 cells."""
_ROUNDS = 4
_SHALLOW = 0.05
"""Height units below which a hollow is no sink but the solution's own grain."""
TENSION = 0.5


@dataclass(frozen=True)
class Hollow:
    """A sink that was left: its lowest place and depth."""

    x: float
    y: float
    depth: float


@dataclass(frozen=True)
class _Whole:
    """The solution on coarse cells, and what finer ones need of it."""

    grid: Grid
    heights: Cells
    curved: Cells  # coefficients of the cubic spline through them
    far: Cells  # distance of each cell from anything known
    segments: FloatArray
    levels: list[float]  # of the lakes
    opened: int
    left: list[Hollow]
    pace: float = 0.0  # seconds a cell to solve once

    def at(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """Heights at places of any shape, smoothly."""
        return self._read(self.curved, x, y, 3)

    def far_at(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """Distances from anything known at places of any shape."""
        return self._read(self.far, x, y, 1)

    def _read(self, cells: Cells, x: FloatArray, y: FloatArray, order: int) -> FloatArray:
        found: FloatArray = ndimage.map_coordinates(
            cells, [self.grid.row_of(y), self.grid.col_of(x)], order=order, mode="nearest", prefilter=False
        )
        return found


class ContourSpline(Surface):
    """The plate through a contour map. Thread-safe; parts are made once and kept a while.

    tension: how much it is drawn like a membrane between contours; about one over the distance, in contour spacings, beyond
    which it stops to overshoot. smoothing: width in CRS units below which bends of contours are smoothed out. reach: cells
    farther than this from anything known are empty. drained: open hollows that no contour asks for.
    Raises InputError where there are no contours within the grid.
    """

    by_parts = True

    def __init__(
        self, sheet: Sheet, grid: Grid, tension: float = TENSION, smoothing: float = 0.0, reach: float = np.inf,
        drained: bool = True, unit: str = "m",
    ) -> None:  # fmt: skip
        super().__init__(grid, unit)
        self._sheet, self._reach, self.drained, self._smoothing = sheet, reach, drained, smoothing
        self._stretch = tension / sheet.spacing
        self._level = 0
        while grid.at_level(self._level).cell_count > _WHOLE_CELLS:
            self._level += 1
        self._sea = bool(sheet.coast) and float(sheet.heights.min()) >= 0
        self._interval = sheet.interval or 1.0
        self._solving = threading.Lock()
        self._solved: _Whole | None = None
        self._parts: Kept[tuple[int, int, int], Heights] = Kept(_HELD)

    def made_of(self) -> tuple[Any, ...]:
        return self._made_of

    def prepare(self, progress: Progress = ignore_progress) -> None:
        """Solve the whole on coarse cells."""
        with heard_by(progress):
            _ = self._whole

    @property
    def findings(self) -> list[Finding]:
        """Which hollows were opened, and which are left."""
        if not self.drained:
            return []
        found = []
        if self.opened:
            found.append(Finding("opened", "note", f"{self.opened} hollows that no contour asks for were opened, on cells of "
                                 f"{self.solved_cell:g} m."))  # fmt: skip
        if self.left:
            found.append(Finding("hollows", "note", f"{len(self.left)} hollows remain because contours or spots ask for them, the "
                                 f"deepest {self.left[0].depth:.1f} {self.unit}.", "Look at the deepest: a wrong label makes one too.",
                                 None, [(hollow.x, hollow.y) for hollow in self.left[:200]]))  # fmt: skip
        return found

    @property
    def cost(self) -> float:
        """At the pace of the whole, for parts with what lies around them; see `Surface.cost`."""
        return self._whole.pace * self.grid.cell_count * (1 + 2 * _HALO / _PART) ** 2 if self._level else 0.0

    # -- what came of it ---------------------------------------------------------------------------------

    @property
    def solved_cell(self) -> float:
        """Cell size at which the whole was solved and hollows were looked for."""
        return self.grid.at_level(self._level).cell_width

    @property
    def opened(self) -> int:
        """How many hollows were opened."""
        return self._whole.opened

    @property
    def left(self) -> list[Hollow]:
        """Hollows that remain, the deepest first."""
        return self._whole.left

    # -- reading -----------------------------------------------------------------------------------------

    def read(self, window: Window, level: int = 0) -> Heights:
        """See `Surface.read`. Levels coarser than the one solved whole are means of its cells."""
        if level >= self._level:
            whole = self._whole
            heights = self._shown(whole.heights, whole.far).astype(np.float32)
            for _ in range(level - self._level):
                heights = halve(heights)
            return cut_out(heights, window)
        grid = self.grid.at_level(level)
        result = np.full((window.rows, window.cols), np.nan, np.float32)
        for part in parts_of(window, grid.rows, grid.cols, _PART):
            key = (level, part.row, part.col)
            result[part.put] = self._parts.get(key, partial(self._make, *key))[part.taken]
        return result

    # -- solving -----------------------------------------------------------------------------------------

    def _strengths(self, grid: Grid) -> tuple[float, float]:
        """Tension and weight in cells of a grid."""
        weight = min((grid.cell_width / self._smoothing) ** 3, _WEIGHT) if self._smoothing else _WEIGHT
        return (self._stretch * grid.cell_width) ** 2, weight

    def _shown(self, heights: Cells, far: Cells) -> Cells:
        """Heights within reach, the sea level."""
        return np.where(far <= self._reach, np.maximum(heights, 0.0) if self._sea else heights, np.nan)

    def _solve(self, grid: Grid, segments: FloatArray, cells: Cells, start: Cells | None = None, held: bool = False,
               exact: float = _EXACT) -> Cells:  # fmt: skip
        place = (grid.west, grid.north, grid.cell_width, grid.cell_height)
        return solve_plate(
            (grid.rows, grid.cols), place, Known(near(segments, grid.bounds), cells), *self._strengths(grid), start, held,
            exact * self._interval,
        )  # fmt: skip

    def _lake_cells(self, grid: Grid, levels: list[float], cells: Cells) -> npt.NDArray[np.int32]:
        """Give the cells of lakes their level, and return which lake each cell belongs to, from 1."""
        mask = inside(self._sheet.lakes, grid)
        if mask.any():
            level = np.array([np.nan, *levels])[mask]
            mask[np.isnan(level)] = 0
            cells[mask > 0] = level[mask > 0]
        return mask

    def _spot_cells(self, grid: Grid, cells: Cells, whole: _Whole | None) -> None:
        """Give the cells of spot heights those, moved to the cells' centres along a first surface."""
        spots = self._sheet.spots
        if not len(spots):
            return
        rows, cols = (np.rint(each).astype(int) for each in (grid.row_of(spots[:, 1]), grid.col_of(spots[:, 0])))
        inside = (rows >= 0) & (cols >= 0) & (rows < grid.rows) & (cols < grid.cols)
        spots, rows, cols = spots[inside], rows[inside], cols[inside]
        heights = spots[:, 2].copy()
        if whole is not None:
            heights += whole.at(grid.x_of(cols), grid.y_of(rows)) - whole.at(spots[:, 0], spots[:, 1])
        cells[rows, cols] = heights

    @property
    def _whole(self) -> _Whole:
        if self._solved is None:
            with self._solving:
                if self._solved is None:
                    self._solved = shared(self._made_of, self._solve_whole)
        return self._solved

    @property
    def _made_of(self) -> tuple[Any, ...]:
        """All that the whole depends on."""
        sheet = self._sheet
        lines = (
            sheet.contours,
            sheet.heights,
            sheet.spots,
            sheet.streams,
            [lake.wkb for lake in sheet.lakes],
            sheet.coast,
        )
        return "contours", lines, self.grid, self._stretch, self._smoothing, self._reach, self.drained, self._level

    def _solve_whole(self) -> _Whole:
        sheet, grid = self._sheet, self.grid.at_level(self._level)
        segments = np.concatenate([segments_of(sheet.contours, sheet.heights),
                                   segments_of(sheet.coast, np.zeros(len(sheet.coast)))])  # fmt: skip
        if not len(near(segments, grid.bounds)):
            raise InputError("No contour lies within the frame. Check their CRS, or the frame's area.")
        cells = np.full((grid.rows, grid.cols), np.nan)
        self._spot_cells(grid, cells, None)
        begun = time.perf_counter()
        heights = self._solve(grid, segments, cells, exact=_ROUGH)
        pace = (time.perf_counter() - begun) / grid.cell_count
        got_to(0.2)
        far = _far(grid, segments, cells)
        first = _Whole(grid, heights, _curved(heights), far, segments, [], 0, [])
        if len(sheet.spots) or sheet.streams or sheet.lakes:
            levels = [_rim_level(lake, first) for lake in sheet.lakes]
            self._spot_cells(grid, cells, first)
            lakes = self._lake_cells(grid, levels, cells)
            streams = falling(sheet.streams, sheet.contours, sheet.heights, first.at, grid.cell_width)
            segments = np.concatenate([segments, segments_of(streams)])
            far = _far(grid, segments, cells)
            heights = self._solve(grid, segments, cells, heights, exact=_ROUGH)
        else:
            levels, lakes = [], np.zeros((grid.rows, grid.cols), np.int32)
        got_to(0.4)
        opened, left = 0, list[Hollow]()
        if self.drained:
            heights, segments, opened, left = self._drain(grid, heights, segments, cells, lakes, far)
        heights = self._solve(grid, segments, cells, heights)
        for i, level in enumerate(levels):
            heights[lakes == i + 1] = level
        return _Whole(grid, heights, _curved(heights), far, segments, levels, opened, left, pace)

    def _drain(
        self, grid: Grid, heights: Cells, segments: FloatArray, cells: Cells, lakes: npt.NDArray[np.int32], far: Cells
    ) -> tuple[Cells, FloatArray, int, list[Hollow]]:
        """Open hollows by falling lines, some rounds; what contours or spots ask for stays."""
        top = _highest_known(grid, segments_of(self._sheet.contours, self._sheet.heights), cells)
        opened: set[tuple[int, int]] = set()
        left: list[Hollow] = []
        for number in range(_ROUNDS):
            shown = self._shown(heights, far)
            if self._sea:
                shown = np.where(shown > 0, shown, np.nan)
            filled, towards = flood(shown)
            ways: list[FloatArray] = []
            left = []
            for sink in sinks(shown, filled, _SHALLOW):
                way = _way_out(shown, towards, sink.row, sink.col)
                kept = lakes[way[:, 0], way[:, 1]].any() or np.nanmax(top[way[:, 0], way[:, 1]], initial=-np.inf) > (
                    shown[sink.row, sink.col] + 0.1 * self._interval
                )
                if kept or number == _ROUNDS - 1:
                    if not lakes[sink.row, sink.col]:
                        left.append(Hollow(float(grid.x_of(sink.col)), float(grid.y_of(sink.row)), sink.depth))
                    continue
                opened.add((sink.row, sink.col))
                along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(way, axis=0).T))])
                low = shown[sink.row, sink.col]
                end = min(low, shown[tuple(way[-1])])  # at the edge the way out may still be higher
                ways.append(
                    np.column_stack([grid.x_of(way[:, 1]), grid.y_of(way[:, 0]), low + (end - low) * along / along[-1]])
                )
            if not ways:
                break
            segments = np.concatenate([segments, segments_of(ways)])
            heights = self._solve(grid, segments, cells, heights, exact=_ROUGH)
            got_to(0.4 + 0.5 * (number + 1) / _ROUNDS)
        return heights, segments, len(opened), left

    def _make(self, level: int, row: int, col: int) -> Heights:
        """Solve one part of a level inside the whole."""
        whole, grid = self._whole, self.grid.at_level(level)
        core = Window(row * _PART, col * _PART, _PART, _PART).clipped(grid.rows, grid.cols)
        around = core.grown(_HALO).clipped(grid.rows, grid.cols)
        part = grid.part(around)
        x, y = np.meshgrid(*part.centres(part.whole))
        if (whole.far_at(x, y) > self._reach).all():
            return np.full((core.rows, core.cols), np.nan, np.float32)
        cells = np.full((part.rows, part.cols), np.nan)
        self._spot_cells(part, cells, whole)
        lakes = self._lake_cells(part, whole.levels, cells)
        heights = self._solve(part, whole.segments, cells, whole.at(x, y), held=True)
        for i, height in enumerate(whole.levels):
            heights[lakes == i + 1] = height
        heights = self._shown(heights, whole.far_at(x, y))
        skip_row, skip_col = core.row - around.row, core.col - around.col
        return heights[skip_row : skip_row + core.rows, skip_col : skip_col + core.cols].astype(np.float32)


def _highest_known(grid: Grid, segments: FloatArray, cells: Cells) -> Cells:
    """The highest line or known height in each cell; NaN where there is none."""
    highest: Cells = np.fmax(cells, traced(segments, grid)[0])
    return highest


def _far(grid: Grid, segments: FloatArray, cells: Cells) -> Cells:
    """Distance of each cell from the nearest that a known line crosses or whose height is known."""
    found: Cells = ndimage.distance_transform_edt(
        np.isnan(_highest_known(grid, segments, cells)), sampling=(grid.cell_height, grid.cell_width)
    )
    return found


def _curved(heights: Cells) -> Cells:
    found: Cells = ndimage.spline_filter(heights, 3, mode="nearest")
    return found


def _rim_level(lake: shapely.Polygon, first: _Whole) -> float:
    """A lake's level: the tenth part of its rim on the first surface is lower; NaN where it lies outside the grid."""
    rim = shapely.get_coordinates(shapely.segmentize(lake.exterior, first.grid.cell_width))
    box = first.grid.bounds
    rim = rim[(rim[:, 0] > box.west) & (rim[:, 0] < box.east) & (rim[:, 1] > box.south) & (rim[:, 1] < box.north)]
    return float(np.percentile(first.at(rim[:, 0], rim[:, 1]), 10)) if len(rim) else np.nan


def _way_out(heights: Cells, towards: npt.NDArray[np.int64], row: int, col: int) -> npt.NDArray[np.int64]:
    """Cells `(any, 2)` from a hollow's lowest cell over its brim to the first lower one, or to the edge."""
    low = heights[row, col]
    way = [(row, col)]
    while towards[row, col] >= 0:
        row, col = divmod(int(towards[row, col]), heights.shape[1])
        way.append((row, col))
        if heights[row, col] < low:
            break
    return np.array(way)
