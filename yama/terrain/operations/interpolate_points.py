"""Interpolate points: from survey points to a surface on the frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import Flattened, Rounded, polygons_of, rim_levels
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray, Grid, parse_crs
from yama.terrain.interpolate.breaklines import Lines, along, lines_of, mesh_with
from yama.terrain.interpolate.idw import distance_to_nearest, inverse_distance, nearest
from yama.terrain.interpolate.kriging import Variogram, empirical, fit, kriged
from yama.terrain.interpolate.natural import natural_neighbour
from yama.terrain.interpolate.rough import RoughSpline, Sparse
from yama.terrain.interpolate.spline import LEAST_TENSION, tension_spline
from yama.terrain.interpolate.thin_plate import MOST_POINTS, thin_plate_spline
from yama.terrain.interpolate.triangulation import triangulated
from yama.terrain.later import later
from yama.terrain.operations.area import AREA, about_area, within_area
from yama.terrain.operations.chosen_points import chosen_points, strays
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.interpolation import (
    Interpolation,
    InverseDistance,
    Kriging,
    NaturalNeighbour,
    Spline,
    Triangulated,
)
from yama.terrain.operations.operation import Operation, View
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.points import Points, duplicate_places, merge_duplicates
from yama.terrain.progress import Progress
from yama.terrain.surface import Accompanied, EvaluatedSurface, Surface

spatial = later("scipy.spatial")

_MANY = 50_000
"""From so many points on natural neighbours take longer for all cells of a screen than somebody would wait."""


def _breaklines(
    inputs: Inputs, params: Interpolation, x: FloatArray, y: FloatArray, z: FloatArray, frame: Frame,
    rims: Sequence[Features] = (),
) -> Lines | None:  # fmt: skip
    """The breaklines given and the rims of lakes, cut where they cross; None where there are none or the method knows none."""
    hard = params.breaklines_are == "hard"
    given = [*(inputs.features("breaklines") if hard else []), *rims]
    if not isinstance(params, Triangulated) or not given:
        return None
    return lines_of(given, frame.grid.crs, x, y, z)


def _soft_breaklines(
    inputs: Inputs, params: Interpolation, x: FloatArray, y: FloatArray, z: FloatArray, frame: Frame
) -> Lines | None:
    """The breaklines given where they are soft."""
    given = inputs.features("breaklines")
    return lines_of(given, frame.grid.crs, x, y, z) if given and params.breaklines_are == "soft" else None


def _about_breaklines(inputs: Inputs, params: Interpolation, chosen: Points, frame: Frame) -> list[Finding]:
    if not inputs.has("breaklines"):
        return []
    soft = params.breaklines_are == "soft"
    if not isinstance(params, Triangulated) and not soft:
        return [Finding("no_breaklines", "note", "Hard breaklines count in a triangulation only.", "This method passes them over.",
                        Fix("Take them as soft", {"breaklines_are": "soft"}))]  # fmt: skip
    x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates or "mean")
    try:
        read = _soft_breaklines if soft else _breaklines
        lines = read(inputs, params, x, y, z, frame)
    except InputError:
        return []  # of the points themselves, which another finding names
    if lines is None or not len(lines.pieces):
        return [Finding("empty_breaklines", "caution", "No breakline lies among the points.",
                        "They change nothing here. Check their CRS.")]  # fmt: skip
    found = []
    if lines.clashes:
        worst = max(difference for *_, difference in lines.clashes)
        found.append(
            Finding("clashes", "caution", f"At {len(lines.clashes)} places breaklines cross at different heights, by up to "
                    f"{worst:.2f} m.", "The mean of both is taken there.",
                    places=[(a, b) for a, b, _ in lines.clashes[:200]])
        )  # fmt: skip
    if lines.draped:
        found.append(
            Finding("draped", "note", f"{lines.draped} vertices of breaklines have no height and take that of the facets.",
                    "They bring no ground of their own." if soft
                    else "They turn edges along the line, but bring no ground of their own.")
        )  # fmt: skip
    return found


def _variogram(x: FloatArray, y: FloatArray, z: FloatArray, params: Kriging) -> Variogram:
    """The variogram asked for; what is not given is fitted."""
    given = (params.nugget, params.sill, params.range)
    if params.sill is None or params.range is None:
        found = fit(empirical(x, y, z), params.variogram)
        fitted = (found.nugget, found.sill, found.range)
    else:
        fitted = (0.0, 1.0, 1.0)
    nugget, sill, far = (own if mine is None else mine for mine, own in zip(given, fitted, strict=True))
    return Variogram(params.variogram, nugget, sill, far, params.direction, params.ratio)


def _on_one_line(points: Points) -> bool:
    """Whether the points' spread across their main direction is nothing but rounding."""
    spread = np.linalg.svd(np.column_stack([points.x - points.x.mean(), points.y - points.y.mean()]), compute_uv=False)
    return bool(spread[1] <= 1e-8 * max(spread[0], 1e-12 * np.abs(points.x).max()))


def _about_lakes(inputs: Inputs, frame: Frame) -> list[Finding]:
    given = inputs.features("lakes")
    if given and not polygons_of(given, frame.grid.crs):
        return [Finding("no_lakes", "caution", "What is chosen as lakes holds no polygon.", "It changes nothing here.")]
    return []


def _about_whole(chosen: Points, params: Interpolation, frame: Frame) -> list[Finding]:
    """Whether rounding loses relief: where neighbouring cells differ by less than the step it makes."""
    if not params.whole or len(chosen) < 3:
        return []
    some = chosen.kept(np.arange(len(chosen)) % max(len(chosen) // 5_000, 1) == 0)
    across, up = frame.grid.metres_per_unit()
    places = np.column_stack([some.x * across, some.y * up])
    away, beside = spatial.cKDTree(places).query(places, 2)
    apart = away[:, 1] > 0
    if not apart.any():
        return []
    slope = float(np.median(np.abs(some.z - some.z[beside[:, 1]])[apart] / away[apart, 1]))
    step = slope * (params.cell_size or frame.grid.metres_per_cell()[0])
    if step >= 1:
        return []
    return [Finding("whole", "caution", f"Neighbouring cells differ by about {step:.2f} {frame.unit}; whole numbers make steps of "
                    f"1 {frame.unit} of that.", "Slope and drainage would follow the steps.",
                    Fix("Keep decimals", {"whole": False}))]  # fmt: skip


def _triangulated(
    x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, inputs: Inputs, params: Triangulated, frame: Frame,
    lakes: list[shapely.Polygon],
) -> Surface:  # fmt: skip
    """Facets between points, breaklines and the rims of lakes, which are level."""
    reach, edge = params.reach_limit or np.inf, params.edge_limit or np.inf
    levels: list[float] = []
    rims: list[Features] = []
    if lakes:
        bare = triangulated(x, y, z, grid, unit=frame.unit)
        levels = rim_levels(bare, lakes)
        known = [(lake, level) for lake, level in zip(lakes, levels, strict=True) if np.isfinite(level)]
        shapes = [shapely.force_3d(shapely.LineString(lake.exterior.coords), level) for lake, level in known]
        rims = [Features(grid.crs, np.array(shapes, dtype=object), {})] if shapes else []
        dry = np.ones(x.size, np.bool_)
        for lake, _ in known:
            dry &= ~shapely.contains_xy(lake, x, y)
        x, y, z = x[dry], y[dry], z[dry]
    lines = _breaklines(inputs, params, x, y, z, frame, rims)
    mesh = None
    if lines is not None:
        x, y, z, mesh = mesh_with(x, y, z, lines)
    surface = triangulated(x, y, z, grid, reach, edge, frame.unit, triangulation=mesh)
    return Flattened(surface, lakes, lambda: levels) if lakes else surface


@register
class InterpolatePoints(Operation[Interpolation]):
    """Triangulation, natural neighbours, inverse distance, nearest, spline or kriging, on the frame's grid."""

    name = "interpolate_points"
    title = "Interpolate points"
    stage = "Build"
    summary = "Survey points become a surface on the frame."
    inputs = {
        "points": Role("points", "Points"),
        "breaklines": Role("features", "Breaklines", many=True, optional=True, of=("lines", "polygons")),
        "lakes": Role("features", "Lakes", many=True, optional=True, of=("polygons",)),
        "area": AREA,
    }
    outputs = {
        "surface": Output("surface", "Surface", "height"),
        "uncertainty": Output("surface", "Standard error", "spread", when="asked"),
        "distance": Output("surface", "Distance to a point", "distance", when="asked"),
    }
    heights_in = "metres"
    previews = "rough"
    area_role = "area"

    def outputs_for(self, params: Interpolation) -> Mapping[str, Output]:
        if isinstance(params, Kriging):
            return self.outputs
        return {name: one for name, one in self.outputs.items() if name != "uncertainty"}

    def cell_size_of(self, params: Interpolation) -> float | None:
        return params.cell_size

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        result = params.get("result")
        if result == "deviation":
            result = "uncertainty" if params.get("method") == "kriging" else None
        names = {"variogram_reach": "range"}
        kept = {names.get(name, name): value for name, value in params.items() if name != "result"}
        return Interpolation.without_others(kept), result if result in self.outputs else self.first

    def check(self, inputs: Inputs, params: Interpolation, frame: Frame) -> list[Finding]:
        points = inputs.points("points")
        findings = []
        if points.height_field not in points.fields:
            return [Finding("no_height", "stop", "These points have no height field.", "Nothing can be interpolated.")]
        if points.unit != frame.unit:
            findings.append(
                Finding(
                    "unit",
                    "stop",
                    f"The points are in {points.unit}, the frame's heights in {frame.unit}.",
                    "Convert the points first.",
                )
            )
        chosen = chosen_points(points, params, frame)
        if len(chosen) < 3:
            return [
                *findings,
                Finding("too_few", "stop", f"{len(chosen)} points are left.", "Choose more codes; three are needed."),
            ]
        if _on_one_line(chosen):
            findings.append(
                Finding("line", "stop", "All points lie on one line.", "A surface needs points on either side of it.")
            )
        if parse_crs(points.crs).is_geographic:
            findings.append(
                Finding(
                    "degrees",
                    "note",
                    "These points are in degrees.",
                    f"They are put into the frame's CRS ({frame.grid.crs}); distances stay true.",
                )
            )
        if frame.grid.bounds.intersection(chosen.bounds) is None:
            findings.append(
                Finding(
                    "outside",
                    "stop",
                    "No point lies within the frame.",
                    "Check the CRS of the points, or whether x and y are swapped.",
                )
            )
        far_off = np.flatnonzero(strays(chosen, frame))
        if far_off.size:
            x, y = chosen.x[far_off[0]], chosen.y[far_off[0]]
            swapped = frame.grid.bounds.holds(y, x)
            subject = "1 point lies" if far_off.size == 1 else f"{far_off.size} points lie"
            findings.append(
                Finding(
                    "strays",
                    "caution",
                    f"{subject} far outside the frame, the first at E {x:.0f} N {y:.0f}.",
                    "East and north look swapped there; facets would stretch to it."
                    if swapped
                    else "Facets would stretch to there.",
                    Fix("Leave out", {"stray_points": "leave_out"}),
                )
            )
        duplicates = duplicate_places(chosen)
        if duplicates["differing"] and params.duplicates is None:
            findings.append(
                Finding(
                    "duplicates",
                    "caution",
                    f"At {duplicates['differing']} places several points differ by up to {duplicates['largest']:.2f} "
                    f"{points.unit}.",
                    "Their mean is used unless you choose; a wrong one among them would spoil it.",
                    Fix("Use the lowest", {"duplicates": "lowest"}),
                    [(float(x), float(y)) for x, y in duplicates["where"][:200]],
                )
            )
        if isinstance(params, Spline) and not params.tension and len(chosen) > MOST_POINTS:
            findings.append(
                Finding("plate", "stop", f"A thin plate is solved from all points at once, {MOST_POINTS} at most; there are "
                        f"{len(chosen)}.", "With some tension the spline is solved in parts, however many points there are.",
                        Fix(f"Use a tension of {LEAST_TENSION:g}", {"tension": LEAST_TENSION}))
            )  # fmt: skip
        findings += [*about_area(inputs, frame), *_about_lakes(inputs, frame), *_about_whole(chosen, params, frame)]
        findings += _about_breaklines(inputs, params, chosen, frame)
        if params.reach_limit:
            findings.append(Finding("reach", "note", f"Cells beyond {params.reach_limit:g} m of a point stay empty."))
        elif not isinstance(params, (Triangulated, NaturalNeighbour)):
            findings.append(
                Finding(
                    "no_reach",
                    "caution",
                    "Without a reach limit the whole frame is filled, far from any point.",
                    "Heights there are guesses.",
                    Fix("Limit to 60 m", {"reach_limit": 60}),
                )
            )
        return findings

    def run(self, inputs: Inputs, params: Interpolation, frame: Frame, progress: Progress) -> Results:
        return self._results(inputs, params, frame, _smooth)

    def preview(self, inputs: Inputs, params: Interpolation, frame: Frame, view: View) -> Results | None:
        points = inputs.points("points")
        slow = isinstance(params, (Spline, Kriging)) or (isinstance(params, NaturalNeighbour) and len(points) > _MANY)
        return self._results(inputs, params, frame, _rough) if slow else None

    def _results(self, inputs: Inputs, params: Interpolation, frame: Frame, smooth: Callable[..., Surface]) -> Results:
        points = inputs.points("points")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates or "mean")
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        soft = _soft_breaklines(inputs, params, x, y, z, frame)
        if soft is not None:
            lain = along(soft, 2 * grid.cell_width)
            x, y, z = (np.concatenate([own, more]) for own, more in zip((x, y, z), lain, strict=True))
            x, y, z = merge_duplicates(x, y, z, "mean")
        reach = params.reach_limit or np.inf

        def distance() -> Surface:
            across, _ = grid.metres_per_unit()
            return within_area(distance_to_nearest(x, y, grid, reach, across), inputs)

        if not isinstance(params, Kriging):
            return Results(
                surface=lambda: self._surface(inputs, params, frame, x, y, z, grid, smooth), distance=distance
            )
        kriging = _Kriged(x, y, z, grid, params, points.unit)

        def surface() -> Surface:
            return self._surface(inputs, params, frame, x, y, z, grid, smooth, kriging)

        def uncertainty() -> Surface:
            return within_area(kriging.surface(smooth is _rough, deviation=True), inputs)

        return Results(surface=surface, uncertainty=uncertainty, distance=distance)

    @staticmethod
    def _surface(
        inputs: Inputs, params: Interpolation, frame: Frame, x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid,
        smooth: Callable[..., Surface], kriging: _Kriged | None = None,
    ) -> Surface:  # fmt: skip
        lakes = polygons_of(inputs.features("lakes"), grid.crs)
        surface: Surface
        if isinstance(params, Triangulated):
            surface = _triangulated(x, y, z, grid, inputs, params, frame, lakes)
        else:
            if kriging is not None:
                doubt = kriging.surface(smooth is _rough, deviation=True)
                surface = Accompanied(kriging.surface(smooth is _rough), uncertainty=doubt)
            else:
                surface = smooth(x, y, z, grid, params, frame.unit)
            if lakes:
                bare = surface
                surface = Flattened(bare, lakes, lambda: rim_levels(bare, lakes))
        surface.vertical_datum = frame.vertical_datum
        if params.whole:
            surface = Rounded(surface)
        return within_area(surface, inputs)


class _Kriged:
    """Kriging as the parameters ask for it; its variogram is fitted once."""

    def __init__(self, x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, params: Kriging, unit: str) -> None:
        self._points, self._grid, self._params, self._unit = (x, y, z), grid, params, unit

    @cached_property
    def _variogram(self) -> Variogram:
        return _variogram(*self._points, self._params)

    def surface(self, roughly: bool, deviation: bool = False) -> Surface:
        """The surface, or its standard error."""
        params, mean = self._params, None
        if params.kriging == "simple":
            mean = float(np.mean(self._points[2])) if params.kriging_mean is None else params.kriging_mean
        found = kriged(
            *self._points, self._grid, self._variogram, params.kriging_neighbours, params.reach_limit or np.inf, mean, deviation,
            params.error_of == "measurement", self._unit,
        )  # fmt: skip
        return Sparse(found, max(round(params.kriging_neighbours / 6), 2)) if roughly else found


def _rough(x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, params: Interpolation, unit: str) -> Surface:
    """A stand-in for the slow methods."""
    if isinstance(params, Spline) and params.tension:
        return RoughSpline(x, y, z, grid, params.tension, params.smoothing, params.reach_limit or np.inf, unit)
    return Sparse(_smooth(x, y, z, grid, params, unit), 2)


def _smooth(
    x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, params: Interpolation, unit: str
) -> EvaluatedSurface:
    """The surface of any method but triangulation and kriging."""
    reach = params.reach_limit or np.inf
    if isinstance(params, NaturalNeighbour):
        return natural_neighbour(x, y, z, grid, reach, params.edge_limit or np.inf, unit)
    if isinstance(params, Spline) and not params.tension:
        return thin_plate_spline(x, y, z, grid, params.smoothing, reach, unit)
    if isinstance(params, Spline):
        return tension_spline(x, y, z, grid, params.tension, params.smoothing, reach, unit)
    if isinstance(params, InverseDistance):
        radius = params.search_radius or np.inf
        return inverse_distance(x, y, z, grid, params.neighbours, params.power, radius, reach, unit, params.sectors)
    return nearest(x, y, z, grid, reach, unit)
