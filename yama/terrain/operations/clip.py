"""Clip and mask: only the part of a surface that is wanted."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.condition import ConditionError, meeting
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import Masked, polygons_of
from yama.terrain.fit.shift import Shifted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, OnlyWith, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface


class ClipParams(Params):
    """What is kept, and how much around it."""

    keep: Annotated[
        Literal["inside", "outside", "rectangle"],
        Titles(
            {
                "inside": "inside, the rest is emptied",
                "outside": "outside, the inside is emptied",
                "rectangle": "the rectangle around it",
            }
        ),
    ] = Field(
        "inside", description="What lies in the polygons, what lies outside of them, or the rectangle around them."
    )
    where: str = Field(
        "", max_length=2_000, title="Only where", description="Only polygons that meet this condition on their columns."
    )
    bounds: tuple[float, float, float, float] | None = Field(
        None, description="West, south, east, north in the surface's CRS, instead of polygons."
    )
    margin: GroundMetres = Field(
        0.0, ge=-100_000, le=100_000, description="The polygons are widened by this; narrowed where it is negative."
    )
    touched: bool = Field(
        False,
        title="Cells that the edge runs through as well",
        description="Cells that an edge runs through count as inside, whatever their centre.",
    )
    trim: Annotated[bool, OnlyWith("keep", ("inside", "rectangle"))] = Field(
        True, title="The grid ends there", description="The grid ends where what is kept ends."
    )


def _polygons(inputs: Inputs, params: ClipParams, grid: Grid) -> list[shapely.Polygon]:
    """The polygons that count, in the surface's CRS, with their margin."""
    if params.bounds:
        found = [shapely.box(*params.bounds)]
    else:
        given = inputs.features("area")
        if params.where:
            given = [one.kept(meeting(params.where, one.attributes, len(one))) for one in given]
        found = polygons_of(given, grid.crs)
    if not params.margin:
        return found
    across, up = grid.metres_per_unit()
    wide = [shapely.buffer(one, params.margin / math.sqrt(across * up), join_style="mitre") for one in found]
    return [part for one in wide for part in shapely.get_parts(one) if part.area > 0]


def _quoted(text: str) -> str:
    return f'"{text}"' if '"' not in text else f"'{text}'"


def _with_value(column: str, value: str) -> str:
    """The condition that a column has a value, as an earlier version of Yama kept the two."""
    try:
        float(value)
    except ValueError:
        return f"{_quoted(column)} = {_quoted(value)}"
    return f"{_quoted(column)} = {value}"


@register
class Clip(Operation[ClipParams]):
    """A surface cut to a rectangle, or emptied outside (or inside) polygons."""

    name = "clip"
    title = "Clip and mask"
    stage = "Fit"
    summary = "Keep what lies in polygons, outside of them, or in a rectangle."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "area": Role("features", "Polygons", many=True, optional=True, of=("polygons",)),
    }
    outputs = {"surface": Output("surface", "Surface", "height")}
    area_role = "area"

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        kept = {name: value for name, value in params.items() if name not in ("column", "value")}
        if params.get("column"):
            kept["where"] = _with_value(params["column"], params.get("value", ""))
        return kept, self.first

    def check(self, inputs: Inputs, params: ClipParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        if params.bounds and not (params.bounds[0] < params.bounds[2] and params.bounds[1] < params.bounds[3]):
            return [
                Finding(
                    "bounds",
                    "stop",
                    "The rectangle has no area.",
                    "West must be less than east, south less than north.",
                )
            ]
        if not params.bounds and not inputs.has("area"):
            return [
                Finding(
                    "none",
                    "stop",
                    "Neither polygons nor a rectangle are given.",
                    "Choose polygons, or type a rectangle.",
                )
            ]
        try:
            found = _polygons(inputs, params, surface.grid)
        except ConditionError as error:
            return [Finding("where", "stop", str(error), "")]
        if not found:
            if params.margin < 0 and _polygons(inputs, params.model_copy(update={"margin": 0.0}), surface.grid):
                return [Finding("margin", "stop", f"Narrowed by {-params.margin:g} m nothing is left of the polygons.",
                                "Take a smaller margin.", Fix("No margin", {"margin": 0}))]  # fmt: skip
            return [Finding("no_area", "stop", "No polygon is chosen.", "Choose others, or another condition.")]
        touching = [one for one in found if surface.grid.bounds.intersection(Bounds(*one.bounds))]
        if not touching:
            return [
                Finding(
                    "outside", "stop", "The polygons lie outside the surface.", "Choose others, or check their CRS."
                )
            ]
        if params.keep == "rectangle" and len(found) > 1:
            return [Finding("together", "note", f"One rectangle around all {len(found)} polygons is kept.")]
        return []

    def run(self, inputs: Inputs, params: ClipParams, frame: Frame, progress: Progress) -> Results:
        return Results(surface=self._clipped(inputs, params))

    @staticmethod
    def _clipped(inputs: Inputs, params: ClipParams) -> Surface:
        surface = inputs.surface("surface")
        polygons = _polygons(inputs, params, surface.grid)
        if params.keep == "outside":
            return Masked(surface, polygons, inverse=True, touched=params.touched)
        boxes = np.array([one.bounds for one in polygons])
        box = Bounds(*boxes[:, :2].min(axis=0), *boxes[:, 2:].max(axis=0))
        if params.keep == "rectangle":
            window = surface.grid.window_over(box)
            whole_cells = shapely.box(*surface.grid.window_bounds(window))
            return _part(surface, box) if params.trim else Masked(surface, [whole_cells])
        masked = Masked(surface, polygons, touched=params.touched)
        return _part(masked, box) if params.trim else masked


def _part(surface: Surface, box: Bounds) -> Surface:
    """The part of a surface's own cells that a rectangle touches."""
    grid = surface.grid
    window = grid.window_over(box).clipped(grid.rows, grid.cols)
    return Shifted(surface, grid.part(window)) if window != grid.whole else surface
