"""Interpolate points: from survey points to a surface on the frame."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.spatial import cKDTree

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding, Mend
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray, metres_per_unit, parse_crs
from yama.terrain.interpolate.breaklines import Lines, lines_of, mesh_with
from yama.terrain.interpolate.idw import inverse_distance, nearest
from yama.terrain.interpolate.kriging import Variogram, empirical, fit, ordinary_kriging
from yama.terrain.interpolate.natural import natural_neighbour
from yama.terrain.interpolate.spline import LEAST_TENSION, SMOOTHING, TENSION, tension_spline
from yama.terrain.interpolate.triangulation import triangulated
from yama.terrain.operations.base import Inputs, Operation, Params, Quantity, Role, register
from yama.terrain.points import Points, duplicate_places, merge_duplicates
from yama.terrain.surface import Surface

_AT_PLACE = 0.02
"""Metres within which a point lies at a place that is named: the desk rounds places to centimetres."""


class InterpolateParams(Params):
    """Settings of all methods; those a method does not use are ignored by it."""

    method: Literal["triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"] = (
        "triangulation"
    )
    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    duplicates: Literal["mean", "first", "lowest", "highest"] | None = Field(
        None, description="Height where several points lie at one place; the mean where not given."
    )
    stray_points: Literal["use", "leave_out"] = Field(
        "use", description="Points farther outside the frame than the frame is wide: use them or not."
    )
    left_out: list[tuple[float, float]] = Field(
        [], max_length=10_000, description="Places in the frame's CRS; points within 2 cm of one are not used."
    )
    cell_size: float | None = Field(
        None, gt=0, description="The frame's where not given.", json_schema_extra={"unit": "m"}
    )
    reach_limit: float | None = Field(
        None, gt=0, description="Cells farther than this from every point stay empty.", json_schema_extra={"unit": "m"}
    )
    edge_limit: float | None = Field(
        None, gt=0, description="Triangles with a longer side are left out.", json_schema_extra={"unit": "m"}
    )
    power: float = Field(2.0, gt=0, le=20, description="Inverse distance: the power of distance.")
    neighbours: int = Field(12, ge=1, le=64, description="Inverse distance: points used for a cell.")
    search_radius: float | None = Field(
        None, gt=0, description="Inverse distance: points farther away are not used.", json_schema_extra={"unit": "m"}
    )

    tension: float = Field(
        TENSION,
        ge=LEAST_TENSION,
        le=20,
        description="Spline: how tight it is drawn between points; low overshoots, high peaks.",
    )
    smoothing: float = Field(
        SMOOTHING, ge=0, le=100, description="Spline: how far it may miss the points; 0 meets them."
    )
    variogram: Literal["spherical", "exponential", "gaussian", "matern"] = Field(
        "spherical", description="Kriging: how heights differ with distance."
    )
    nugget: float | None = Field(
        None, ge=0, description="Kriging: noise of the points, squared; fitted where sill and reach are not given.",
        json_schema_extra={"unit": "m²"},
    )  # fmt: skip
    sill: float | None = Field(
        None, gt=0, description="Kriging: what is added to the nugget far away; fitted where not given.",
        json_schema_extra={"unit": "m²"},
    )  # fmt: skip
    variogram_reach: float | None = Field(
        None, gt=0, description="Kriging: distance at which heights know nothing of each other; fitted where not given.",
        json_schema_extra={"unit": "m"},
    )  # fmt: skip
    direction: float = Field(
        0.0, ge=0, lt=180, description="Kriging: along which heights stay alike the longest, clockwise from north.",
        json_schema_extra={"unit": "°"},
    )  # fmt: skip
    ratio: float = Field(1.0, gt=0, le=1, description="Kriging: the reach across that direction as a share of it.")
    kriging_neighbours: int = Field(16, ge=2, le=64, description="Kriging: points used for a cell.")
    result: Literal["height", "deviation"] = Field(
        "height", description="Kriging: heights, or the standard deviation of their errors."
    )


def chosen_points(points: Points, params: Any, frame: Frame) -> Points:
    """The points with known places and heights, in the frame's CRS, that `codes`, `stray_points` and `left_out` leave."""
    points = points.in_crs(frame.grid.crs)
    keep = np.isfinite(points.x) & np.isfinite(points.y) & np.isfinite(points.z)
    if params.codes is not None and points.codes.size:
        keep &= np.isin(points.codes, params.codes)
    if params.stray_points == "leave_out":
        keep &= ~_strays(points, frame)
    if params.left_out:
        across, up = metres_per_unit(frame.grid.crs, frame.grid.bounds.south)
        known = np.flatnonzero(keep)  # the others may have no place
        places = np.column_stack([points.x[known] * across, points.y[known] * up])
        out = cKDTree(np.array(params.left_out) * [across, up])
        keep[known] &= ~np.isfinite(out.query(places, distance_upper_bound=_AT_PLACE)[0])
    return points.kept(keep)


def _breaklines(
    inputs: Inputs, params: InterpolateParams, x: FloatArray, y: FloatArray, z: FloatArray, frame: Frame
) -> Lines | None:
    """The breaklines given, cut where they cross; None where there are none or the method knows none."""
    given = inputs.get("breaklines")
    if params.method != "triangulation" or not isinstance(given, list):
        return None
    return lines_of([one for one in given if isinstance(one, Features)], frame.grid.crs, x, y, z)


def _about_breaklines(inputs: Inputs, params: InterpolateParams, chosen: Points, frame: Frame) -> list[Finding]:
    if not inputs.get("breaklines"):
        return []
    if params.method != "triangulation":
        return [Finding("no_breaklines", "note", "Breaklines count in a triangulation only.", "This method passes them over.",
                        Mend("Triangulate", {"method": "triangulation"}))]  # fmt: skip
    x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates or "mean")
    try:
        lines = _breaklines(inputs, params, x, y, z, frame)
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
                    "They turn edges along the line, but bring no ground of their own.")
        )  # fmt: skip
    return found


def _variogram(x: FloatArray, y: FloatArray, z: FloatArray, params: InterpolateParams) -> Variogram:
    """The variogram asked for; what is not given is fitted."""
    given = (params.nugget, params.sill, params.variogram_reach)
    if params.sill is None or params.variogram_reach is None:
        found = fit(empirical(x, y, z), params.variogram)
        fitted = (found.nugget, found.sill, found.reach)
    else:
        fitted = (0.0, 1.0, 1.0)
    nugget, sill, reach = (own if mine is None else mine for mine, own in zip(given, fitted, strict=True))
    return Variogram(params.variogram, nugget, sill, reach, params.direction, params.ratio)


def _on_one_line(points: Points) -> bool:
    """Whether the points' spread across their main direction is nothing but rounding."""
    spread = np.linalg.svd(np.column_stack([points.x - points.x.mean(), points.y - points.y.mean()]), compute_uv=False)
    return bool(spread[1] <= 1e-8 * max(spread[0], 1e-12 * np.abs(points.x).max()))


def _strays(points: Points, frame: Frame) -> npt.NDArray[np.bool_]:
    """Which points `(points,)`, in the frame's CRS, lie farther outside the frame than its longer side."""
    bounds = frame.grid.bounds
    reach = max(bounds.east - bounds.west, bounds.north - bounds.south)
    outside_x = np.maximum(bounds.west - points.x, points.x - bounds.east)
    outside_y = np.maximum(bounds.south - points.y, points.y - bounds.north)
    far: npt.NDArray[np.bool_] = np.maximum(outside_x, outside_y) > reach
    return far


@register
class InterpolatePoints(Operation):
    """Triangulation, natural neighbours, inverse distance, nearest, spline or kriging, on the frame's grid."""

    name = "interpolate_points"
    title = "Interpolate points"
    stage = "Build"
    summary = "Survey points become a surface on the frame."
    inputs = {
        "points": Role("points", "Points"),
        "breaklines": Role("features", "Breaklines", many=True, optional=True),
    }
    Params = InterpolateParams

    def quantity_of(self, params: Any) -> Quantity:
        return "spread" if params.method == "kriging" and params.result == "deviation" else "height"

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        points = inputs["points"]
        assert isinstance(points, Points)
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
        strays = np.flatnonzero(_strays(chosen, frame))
        if strays.size:
            x, y = chosen.x[strays[0]], chosen.y[strays[0]]
            swapped = frame.grid.bounds.holds(y, x)
            subject = "1 point lies" if strays.size == 1 else f"{strays.size} points lie"
            findings.append(
                Finding(
                    "strays",
                    "caution",
                    f"{subject} far outside the frame, the first at E {x:.0f} N {y:.0f}.",
                    "East and north look swapped there; facets would stretch to it."
                    if swapped
                    else "Facets would stretch to there.",
                    Mend("Leave out", {"stray_points": "leave_out"}),
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
                    Mend("Use the lowest", {"duplicates": "lowest"}),
                    [(float(x), float(y)) for x, y in duplicates["where"][:200]],
                )
            )
        findings += _about_breaklines(inputs, params, chosen, frame)
        if params.reach_limit:
            findings.append(Finding("reach", "note", f"Cells beyond {params.reach_limit:g} m of a point stay empty."))
        elif params.method in ("inverse_distance", "nearest", "spline", "kriging"):
            findings.append(
                Finding(
                    "no_reach",
                    "caution",
                    "Without a reach limit the whole frame is filled, far from any point.",
                    "Heights there are guesses.",
                    Mend("Limit to 60 m", {"reach_limit": 60}),
                )
            )
        return findings

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        points = inputs["points"]
        assert isinstance(points, Points)
        for finding in self.check(inputs, params, frame):
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates or "mean")
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        reach = params.reach_limit or np.inf
        lines = _breaklines(inputs, params, x, y, z, frame)
        if lines is not None:
            xs, ys, zs, mesh = mesh_with(x, y, z, lines)
            surface = triangulated(
                xs, ys, zs, grid, reach, params.edge_limit or np.inf, points.unit, triangulation=mesh
            )
        elif params.method == "triangulation":
            surface = triangulated(x, y, z, grid, reach, params.edge_limit or np.inf, points.unit)
        elif params.method == "natural_neighbour":
            surface = natural_neighbour(x, y, z, grid, reach, params.edge_limit or np.inf, points.unit)
        elif params.method == "spline":
            surface = tension_spline(x, y, z, grid, params.tension, params.smoothing, reach, points.unit)
        elif params.method == "kriging":
            surface = ordinary_kriging(
                x, y, z, grid, _variogram(x, y, z, params), params.kriging_neighbours, reach,
                params.result == "deviation", points.unit,
            )  # fmt: skip
        elif params.method == "inverse_distance":
            radius = params.search_radius or np.inf
            surface = inverse_distance(x, y, z, grid, params.neighbours, params.power, radius, reach, points.unit)
        else:
            surface = nearest(x, y, z, grid, reach, points.unit)
        surface.vertical_datum = frame.vertical_datum
        return surface
