"""Catchments as an operation."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.drain.catchments import polygons, simplified
from yama.terrain.drain.drainage import (
    Drainage,
    water_over,
)
from yama.terrain.drain.large import LargeDrainage
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.grid import turn_between
from yama.terrain.operations.drain.water import (
    BURNED,
    HECTARE,
    KEPT,
    SURFACE,
    ConditioningParams,
    OnWater,
    about_surface,
    known_in,
)
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import OnlyWith, Titles, Unit
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of


class CatchmentsParams(ConditioningParams):
    """Where outlets lie."""

    snap: Annotated[float, Unit("m")] = Field(
        20.0,
        ge=0,
        le=10_000,
        title="Move outlets up to",
        description="Each is moved to where most ground drains within it.",
    )
    column: str = Field("name", max_length=64, title="Named by", description="The column of the outlets' names.")
    corners: Annotated[float, Unit("m")] = Field(
        0.0,
        ge=0,
        le=1_000,
        title="Simplify by",
        description="Outlines follow the edges of cells where it is 0; neighbours share theirs whatever it is.",
    )
    without: Annotated[
        Literal["basins", "links"],
        Titles(
            {"basins": "all basins", "links": "ground of each stream"},
            {
                "basins": "Of all places where water leaves the surface or stays on it.",
                "links": "From each junction of streams up to the next.",
            },
        ),
    ] = Field("basins", title="Without outlets")
    least_area: Annotated[float, Unit("ha"), OnlyWith("without", ("basins",))] = Field(
        1.0, ge=0, le=1e8, title="Least area", description="Of basins, where no outlets are given."
    )
    begins_at: Annotated[float, Unit("ha"), OnlyWith("without", ("links",))] = Field(
        5.0, gt=0, le=1e8, title="Streams begin at", description="How much ground must drain through a cell."
    )


@register
class CatchmentsOf(OnWater, Operation[CatchmentsParams]):
    """Catchments of outlets."""

    name = "catchments"
    title = "Catchments"
    stage = "Drain"
    summary = "The ground that drains through outlets, or all basins of a surface, with areas on the ellipsoid."
    inputs = {
        "surface": SURFACE,
        "outlets": Role("features", "Outlets", optional=True),
        "kept": KEPT,
        "burned": BURNED,
    }
    outputs = {"catchments": Output("features", "Catchments")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: CatchmentsParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: CatchmentsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        crs = surface.grid.crs
        known = known_in(inputs, params, frame)
        found = water_over(surface, params.conditioning(known), known, progress=part_of(progress, 0.0, 0.8))
        given = inputs.features("outlets")
        if not given and params.without == "links":
            made = ground_of_links(found, params.begins_at * HECTARE)
        elif not given:
            made = all_basins(found, params.least_area * HECTARE)
        else:
            places = [
                (point, name)
                for one in given
                for shape, name in zip(one.geometries, _names(one, params.column), strict=True)
                for point in shapely.get_parts(shape)
                if point.geom_type == "Point"
            ]
            if not places:
                raise InputError("What is chosen as outlets holds no points. Choose other features.")
            turn = turn_between(given[0].crs, crs)
            outlets = []
            for point, name in places:
                x, y = turn.transform(point.x, point.y)
                outlets.append(found.outlet(float(x), float(y), params.snap, name))
            made = found.catchments(outlets).features()
        if params.corners > 0:
            side = params.corners / float(np.sqrt(np.prod(surface.grid.metres_per_unit())))
            made = Features(crs, simplified(made.geometries, side), made.attributes, made.units)
        return Results(catchments=made)


def _names(given: Features, column: str) -> list[str]:
    held = given.attributes.get(column)
    return [str(one or "") for one in held] if held is not None else [""] * len(given)


def all_basins(found: Drainage | LargeDrainage, least_area: float) -> Features:
    """All basins of at least so many square metres, the largest first."""
    labels, sizes = found.basins(least_area)
    shapes = polygons(labels, found.grid)
    if not shapes:
        raise InputError(f"No basin has {least_area / HECTARE:g} ha. Ask for smaller ones.")
    numbers = sorted(shapes)
    columns: dict[str, list[Value]] = {
        "basin": list(numbers),
        "area": [round(float(sizes[number]) / 1e6, 6) for number in numbers],
    }
    return Features(found.grid.crs, np.array([shapes[number] for number in numbers], object), columns, {"area": "km²"})


def ground_of_links(found: Drainage | LargeDrainage, begins_at: float) -> Features:
    """The ground between junctions of the streams that begin at so many square metres, with the numbers that these
    have."""
    streams = found.channels(begins_at).streams(begins_at)
    if not len(streams):
        raise InputError(f"No stream begins at {begins_at / HECTARE:g} ha. Let streams begin at less.")
    labels, sizes = found.between(streams)
    shapes = polygons(labels, found.grid)
    numbers = sorted(shapes)
    columns: dict[str, list[Value]] = {
        "link": list(numbers),
        "below": [int(streams.below[one - 1]) + 1 or None for one in numbers],
        "order": [int(streams.order[one - 1]) for one in numbers],
        "area": [round(float(sizes[one]) / 1e6, 6) for one in numbers],
    }
    return Features(found.grid.crs, np.array([shapes[one] for one in numbers], object), columns, {"area": "km²"})
