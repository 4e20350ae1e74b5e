"""Water over a surface, as operations: hollows, conditioned heights, what drains where, streams, catchments."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.drain.burning import BurnedLine, Burning
from yama.terrain.drain.catchments import polygons, simplified
from yama.terrain.drain.conditioning import Limits, Method
from yama.terrain.drain.crossings import Crossing, bed_profile, crossings
from yama.terrain.drain.drainage import (
    Conditioning,
    Drainage,
    DrainedSurface,
    Known,
    hollows_of,
    places_in,
    water_over,
)
from yama.terrain.drain.kinds import TITLES, Hollow
from yama.terrain.drain.large import LargeDrainage
from yama.terrain.drain.networks import Likeness, likeness, plain_lines
from yama.terrain.drain.sea import sea_of
from yama.terrain.drain.stored import least_channel
from yama.terrain.drain.streams import Heads, Streams
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import named_polygons, polygons_of
from yama.terrain.frame import Frame
from yama.terrain.grid import turn_between
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, OnlyWith, Params, Titles, Unit, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import Heights
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS

_SIDE = 1024  # cells along a side of what a check looks at
_SECONDS = 4e-7
"""Of a core for a cell, from hollows to what drains through it."""
_SURFACE = Role("surface", "Surface", quantity="height")
_KEPT = Role("features", "Keep their water", many=True, optional=True, of=("polygons",))
_BURNED = Role("features", "Burned in", many=True, optional=True, of=("lines",))
_CHANGING = ("fill", "breach", "lesser")
_HECTARE = 10_000.0


class ConditioningParams(Params):
    """What becomes of hollows."""

    method: Annotated[
        Method,
        Titles(
            {"leave": "leave", "fill": "fill", "breach": "breach", "lesser": "lesser change"},
            {
                "leave": "Water stays in them.",
                "fill": "Raised to where they run over.",
                "breach": "A way out is cut.",
                "lesser": "Each filled or breached, whichever moves less ground.",
            },
        ),
    ] = Field("lesser", title="Hollows")
    most_depth: Annotated[float, Unit("m"), Unset("any depth"), OnlyWith("method", _CHANGING)] | None = Field(
        None, gt=0, le=10_000, title="Depth up to", description="Deeper ones are left, and no way out is cut deeper."
    )
    most_area: Annotated[float, Unit("m²"), Unset("any size"), OnlyWith("method", ("fill", "lesser"))] | None = Field(
        None, gt=0, le=1e12, title="Area up to", description="Larger ones are not filled."
    )
    most_length: Annotated[float, Unit("m"), Unset("any length"), OnlyWith("method", ("breach", "lesser"))] | None = (
        Field(None, gt=0, le=1e6, title="Ways up to", description="No longer way out is cut.")
    )

    sea: Annotated[float, Unit("m"), Unset("none")] | None = Field(
        None,
        ge=-20_000,
        le=20_000,
        title="Sea up to",
        description="What is not higher and reaches the rim is sea: water ends there.",
    )

    waters_at: list[tuple[float, float]] = Field(
        [],
        max_length=200,
        title="Hollows with water",
        description="Places in the frame's CRS whose hollows keep their water.",
    )

    bed_width: Annotated[float, Unit("m")] = Field(
        4.0, gt=0, le=1_000, title="Bed width", description="Of what is burned in."
    )
    bed_depth: Annotated[float, Unit("m")] = Field(
        1.0, ge=0, le=100, title="Bed depth", description="How far its bed lies below the ground along it."
    )
    bed_bank: Annotated[float, Unit("m")] = Field(
        4.0, ge=0, le=1_000, title="Bank width", description="To each side of the bed, brought down to it smoothly."
    )

    def conditioning(self, known: Known) -> Conditioning:
        """As the core takes it."""
        burning = Burning(self.bed_width, self.bed_depth, self.bed_bank) if known.streams else None
        return Conditioning(self.method, Limits(self.most_depth, self.most_area, self.most_length), self.sea, burning)


def _known(inputs: Inputs, params: ConditioningParams, frame: Frame) -> Known:
    crs = inputs.surface("surface").grid.crs
    lakes, rivers = inputs.features("kept"), inputs.features("burned")
    return Known(
        tuple(polygons_of(lakes, crs)) if lakes else (),
        tuple(plain_lines(rivers, crs)),
        places_in(params.waters_at, frame.grid.crs, crs),
    )


def _about_surface(inputs: Inputs, params: ConditioningParams) -> list[Finding]:
    surface = inputs.surface("surface")
    findings = []
    if surface.grid.is_geographic:
        findings.append(
            Finding(
                "degrees",
                "caution",
                "Its cells are in degrees, and not as wide as they are high.",
                "Fall is told by metres all the same. Fit it to the frame for streams whose lengths compare.",
            )
        )
    level = 0
    while max(surface.grid.at_level(level).rows, surface.grid.at_level(level).cols) > _SIDE:
        level += 1
    cells = surface.read(surface.grid.at_level(level).whole, level) * np.float32(UNITS.get(surface.unit or "m", 1.0))
    sea = sea_of(cells)
    if sea is not None and (params.sea is None or params.sea < sea):
        findings.append(
            Finding(
                "sea",
                "caution",
                f"Much of its rim lies at {sea:g} m, as a sea does: streams will cross it.",
                "",
                Fix(f"Sea up to {sea:g} m", {"sea": sea}),
            )
        )
    return findings


class _Drain:
    """What operations on water have in common."""

    def cost(self, inputs: Inputs, params: Params, frame: Frame) -> float:
        """Seconds that it takes on one core."""
        return _SECONDS * inputs.surface("surface").grid.cell_count


class HollowsParams(Params):
    """Which hollows are told."""

    least_depth: Annotated[float, Unit("m")] = Field(
        0.5, ge=0, le=10_000, title="Least depth", description="Less deep ones are not told."
    )
    count: int = Field(200, ge=1, le=5_000, title="At most", description="What holds most stands first.")


def features_of(found: list[Hollow], crs: str) -> Features:
    """Hollows as polygons with columns of what is known of them."""
    columns: dict[str, list[Value]] = {
        "rank": list(range(1, len(found) + 1)),
        "kind": [TITLES[one.kind] for one in found],
        "why": [one.why for one in found],
        "depth": [round(one.depth, 3) for one in found],
        "cells": [one.cells for one in found],
        "area": [round(one.area, 1) for one in found],
        "volume": [round(one.volume, 2) for one in found],
        "runs_over_at": [round(one.level, 3) for one in found],
        "inner": [one.inner for one in found],
        "way_out": [None if np.isnan(one.way) else round(one.way, 1) for one in found],
        "x": [round(one.x, 3) for one in found],
        "y": [round(one.y, 3) for one in found],
    }
    units = {"depth": "m", "area": "m²", "volume": "m³", "runs_over_at": "m", "way_out": "m"}
    return Features(crs, np.array([one.shape for one in found], object), columns, units)


@register
class HollowsOf(_Drain, Operation[HollowsParams]):
    """Hollows of a surface."""

    name = "hollows"
    title = "Hollows"
    stage = "Drain"
    summary = "Ground that water does not leave: how deep, how much it holds, and what it probably is."
    inputs = {"surface": _SURFACE, "waters": Role("features", "Lakes", many=True, optional=True, of=("polygons",))}
    outputs = {"hollows": Output("features", "Hollows")}
    heights_in = "metres"
    previews = "none"

    def run(self, inputs: Inputs, params: HollowsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        waters = named_polygons(inputs.features("waters"), "name", surface.grid.crs) if inputs.has("waters") else []
        told = hollows_of(surface, Conditioning(), Known(), params.least_depth, params.count, waters, progress)
        if not told:
            raise InputError(f"No hollow is {params.least_depth:g} m deep or deeper. Ask for less deep ones.")
        return Results(hollows=features_of(told, surface.grid.crs))


_BURNED_COLUMNS = (
    Column("line", "Line", type="whole"),
    Column("turned", "Drawn uphill, turned", type="yes_no"),
    Column("outside", "Without heights", type="yes_no"),
    Column("cut", "Most that was cut", "m", decimals=2),
    Column("astray_x", "Leaves its valley at x", decimals=1),
    Column("astray_y", "y", decimals=1),
)


def burned_table(lines: Sequence[BurnedLine]) -> Table:
    """What became of lines that were burned in, as a table, numbered from 1."""
    rows: list[tuple[Cell, ...]] = [
        (one.number + 1, one.turned, one.outside, one.highest_cut, *(one.astray or (None, None))) for one in lines
    ]
    return Table(_BURNED_COLUMNS, rows, {})


class ConditionParams(ConditioningParams):
    """What is made of them."""

    least_fall: Annotated[float, Unit("m/km"), Unset("none")] | None = Field(
        None, gt=0, le=1_000, title="Least fall", description="So much do heights fall along the way of the water."
    )


@register
class Condition(_Drain, Operation[ConditionParams]):
    """Heights over which water finds its way out."""

    name = "condition"
    title = "Conditioned heights"
    stage = "Drain"
    summary = "A surface whose hollows are filled, breached, or whichever changes less; the given one stays as it is."
    inputs = {"surface": _SURFACE, "kept": _KEPT, "burned": _BURNED}
    outputs = {
        "surface": Output("surface", "Conditioned heights", "height"),
        "change": Output("surface", "What was changed", "difference", when="asked"),
        "lines": Output("table", "What was burned in", when="asked", told=True),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: ConditionParams, frame: Frame) -> list[Finding]:
        return _about_surface(inputs, params)

    def run(self, inputs: Inputs, params: ConditionParams, frame: Frame, progress: Progress) -> Results:
        surface, known = inputs.surface("surface"), _known(inputs, params, frame)
        how, fall = params.conditioning(known), (params.least_fall or 0.0) / 1000
        return Results(
            surface=DrainedSurface(surface, how, known, fall=fall),
            change=DrainedSurface(surface, how, known, "change", fall),
            lines=lambda: burned_table(water_over(surface, how, known, counted=False).burned),
        )


class UpslopeParams(ConditioningParams):
    """How water is shared."""

    flow: Annotated[
        Literal["one", "two", "many"],
        Titles(
            {"one": "eight neighbours", "two": "two neighbours", "many": "spread"},
            {
                "one": "All to the steepest of eight neighbours.",
                "two": "Shared by the two beside the steepest fall (D-infinity).",
                "many": "Shared by all lower neighbours.",
            },
        ),
    ] = Field("one", title="Flow")


@register
class UpslopeArea(_Drain, Operation[UpslopeParams]):
    """How much ground drains through each cell."""

    name = "upslope_area"
    title = "Upslope area"
    stage = "Drain"
    summary = "How much ground drains through each cell, in square metres."
    inputs = {"surface": _SURFACE, "kept": _KEPT, "burned": _BURNED}
    outputs = {"surface": Output("surface", "Upslope area", "area")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: UpslopeParams, frame: Frame) -> list[Finding]:
        return _about_surface(inputs, params)

    def run(self, inputs: Inputs, params: UpslopeParams, frame: Frame, progress: Progress) -> Results:
        known = _known(inputs, params, frame)
        made = DrainedSurface(inputs.surface("surface"), params.conditioning(known), known, params.flow)
        return Results(surface=made)


class StreamsParams(ConditioningParams):
    """Where streams begin."""

    begins_at: Annotated[float, Unit("ha")] = Field(
        5.0, gt=0, le=1e8, title="Begins at", description="How much ground must drain through a cell."
    )
    minimum_length: GroundMetres = Field(
        0.0, ge=0, le=1e6, title="Least length", description="Shorter ones between a head and a junction are left out."
    )
    heads: Annotated[
        Heads,
        Titles(
            {"area": "at this area", "slope": "by slope too"},
            {
                "area": "Wherever so much ground drains through a cell.",
                "slope": "So much is needed on a slope of 10 %, less where it is steeper, more where it is gentler.",
            },
        ),
    ] = Field("area", title="Heads")
    over_level: bool = Field(
        True,
        title="Over level ground too",
        description="Where ground is level, as where a hollow was filled, the computation decides where streams run.",
    )

    def of(self, found: Drainage | LargeDrainage) -> Streams:
        """The streams that are asked for. Raises InputError where there are none."""
        area = self.begins_at * _HECTARE
        # on steep ground streams begin at less than on a usual slope
        least = area if self.heads == "area" else min(area, least_channel(found.cell_area))
        streams = found.channels(least).streams(area, self.minimum_length, self.over_level, self.heads)
        if not len(streams):
            raise InputError(f"No stream begins at {self.begins_at:g} ha. Let streams begin at less.")
        return streams


class StreamLinesParams(StreamsParams):
    """How streams are drawn."""

    smooth: bool = Field(False, title="Smooth lines", description="Every corner stays in the cell it is in.")


_ORDERS = (
    Column("order", "Order", type="whole"),
    Column("count", "Streams", type="whole"),
    Column("length", "Length", "km", decimals=2),
)


def orders_of(found: Streams) -> Table:
    """Streams by order, as a table."""
    rows: list[tuple[Cell, ...]] = [(order, count, length / 1000) for order, count, length in found.by_order()]
    return Table(_ORDERS, rows, {})


@register
class StreamsOf(_Drain, Operation[StreamLinesParams]):
    """Streams of a surface."""

    name = "streams"
    title = "Streams"
    stage = "Drain"
    summary = "Lines along which enough ground drains, with their orders, lengths and falls."
    inputs = {"surface": _SURFACE, "kept": _KEPT, "burned": _BURNED}
    outputs = {
        "streams": Output("features", "Streams"),
        "orders": Output("table", "Streams by order", when="asked", told=True),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: StreamLinesParams, frame: Frame) -> list[Finding]:
        return _about_surface(inputs, params)

    def run(self, inputs: Inputs, params: StreamLinesParams, frame: Frame, progress: Progress) -> Results:
        known = _known(inputs, params, frame)
        surface, how = inputs.surface("surface"), params.conditioning(known)
        streams = params.of(water_over(surface, how, known, progress=progress))
        return Results(streams=streams.features(params.smooth), orders=orders_of(streams))


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
class CatchmentsOf(_Drain, Operation[CatchmentsParams]):
    """Catchments of outlets."""

    name = "catchments"
    title = "Catchments"
    stage = "Drain"
    summary = "The ground that drains through outlets, or all basins of a surface, with areas on the ellipsoid."
    inputs = {
        "surface": _SURFACE,
        "outlets": Role("features", "Outlets", optional=True),
        "kept": _KEPT,
        "burned": _BURNED,
    }
    outputs = {"catchments": Output("features", "Catchments")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: CatchmentsParams, frame: Frame) -> list[Finding]:
        return _about_surface(inputs, params)

    def run(self, inputs: Inputs, params: CatchmentsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        crs = surface.grid.crs
        known = _known(inputs, params, frame)
        found = water_over(surface, params.conditioning(known), known, progress=part_of(progress, 0.0, 0.8))
        given = inputs.features("outlets")
        if not given and params.without == "links":
            made = ground_of_links(found, params.begins_at * _HECTARE)
        elif not given:
            made = all_basins(found, params.least_area * _HECTARE)
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
        raise InputError(f"No basin has {least_area / _HECTARE:g} ha. Ask for smaller ones.")
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
        raise InputError(f"No stream begins at {begins_at / _HECTARE:g} ha. Let streams begin at less.")
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


class LikenessParams(Params):
    """When lines count as found."""

    within: Annotated[float, Unit("m")] = Field(
        20.0, gt=0, le=10_000, title="Found within", description="As far may a line lie from one of the other network."
    )


_LIKENESS = (
    Column("measure", "Measure", type="text"),
    Column("value", "Value", decimals=2),
    Column("unit", "Unit", type="text"),
)


def likeness_table(found: Likeness, within: float) -> Table:
    """How alike two networks are, as a table."""
    rows: list[tuple[Cell, ...]] = [
        (f"reference found within {within:g} m", 100 * found.found, "%"),
        (f"its own within {within:g} m of the reference", 100 * found.own_near, "%"),
        ("mean distance to the reference", found.mean, "m"),
        ("median distance to the reference", found.median, "m"),
        ("length", found.length / 1000, "km"),
        ("length of the reference", found.reference_length / 1000, "km"),
    ]
    return Table(_LIKENESS, rows, {})


def partings_of(found: Likeness, crs: str) -> Features:
    """Where two networks part, as points, the longest stretch first."""
    columns: dict[str, list[Value]] = {
        "rank": list(range(1, len(found.partings) + 1)),
        "what": ["not found" if one.of_reference else "not in the reference" for one in found.partings],
        "away": [round(one.away, 1) for one in found.partings],
        "length": [round(one.length, 1) for one in found.partings],
    }
    places = np.array([shapely.Point(one.x, one.y) for one in found.partings], object)
    return Features(crs, places, columns, {"away": "m", "length": "m"})


@register
class CompareNetworks(Operation[LikenessParams]):
    """How alike a network of lines is to a reference."""

    name = "compare_networks"
    title = "Compare networks"
    stage = "Drain"
    summary = "Streams against rivers that are known: how much of each lies near the other, and where they part."
    inputs = {
        "streams": Role("features", "Streams", of=("lines",)),
        "reference": Role("features", "Reference", of=("lines",)),
    }
    outputs = {
        "figures": Output("table", "Figures", told=True),
        "partings": Output("features", "Where they part", when="asked"),
    }
    previews = "none"

    def check(self, inputs: Inputs, params: LikenessParams, frame: Frame) -> list[Finding]:
        (streams,), (reference,) = inputs.features("streams"), inputs.features("reference")
        if streams.fingerprint == reference.fingerprint:
            said = "Both are the same lines, which are all found in themselves."
            return [Finding("same", "stop", said, "Choose known rivers as the reference.")]
        return []

    def run(self, inputs: Inputs, params: LikenessParams, frame: Frame, progress: Progress) -> Results:
        crs = frame.grid.crs
        (streams,), (reference,) = inputs.features("streams"), inputs.features("reference")
        found = likeness(
            plain_lines([streams], crs), plain_lines([reference], crs), params.within, frame.grid.metres_per_unit()
        )
        return Results(figures=likeness_table(found, params.within), partings=lambda: partings_of(found, crs))


class CrossingsParams(StreamsParams):
    """Which streams are crossed."""


@register
class Crossings(_Drain, Operation[CrossingsParams]):
    """Where lines cross streams."""

    name = "crossings"
    title = "Crossings"
    stage = "Drain"
    summary = "Where a road, a railway or a wall crosses streams: how far along it, and how much ground drains there."
    inputs = {
        "surface": _SURFACE,
        "lines": Role("features", "Lines that cross", of=("lines",)),
        "kept": _KEPT,
        "burned": _BURNED,
    }
    outputs = {
        "crossings": Output("features", "Crossings"),
        "profiles": Output("table", "Profiles", when="asked"),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: CrossingsParams, frame: Frame) -> list[Finding]:
        return _about_surface(inputs, params)

    def run(self, inputs: Inputs, params: CrossingsParams, frame: Frame, progress: Progress) -> Results:
        known, surface = _known(inputs, params, frame), inputs.surface("surface")
        found = water_over(surface, params.conditioning(known), known, progress=progress)
        streams = params.of(found)
        (given,) = inputs.features("lines")
        told = crossings(plain_lines([given], surface.grid.crs), streams, found.heights, found.counts)
        if not told:
            raise InputError(f"These lines cross no stream that begins at {params.begins_at:g} ha.")
        return Results(
            crossings=crossings_of(told, surface.grid.crs),
            profiles=lambda: profiles_of(told, streams, found.heights),
        )


_PROFILES = (
    Column("crossing", "Crossing", type="whole"),
    Column("along", "Along the stream", "m", decimals=1),
    Column("bed", "Bed", "m", decimals=2),
)


def profiles_of(told: Sequence[Crossing], streams: Streams, heights: Heights) -> Table:
    """The bed of each crossed stream from above its crossing to below it, as a table."""
    rows: list[tuple[Cell, ...]] = [
        (number + 1, along, bed)
        for number, one in enumerate(told)
        for along, bed in bed_profile(one, streams, heights).tolist()
    ]
    return Table(_PROFILES, rows, {})


def crossings_of(found: Sequence[Crossing], crs: str) -> Features:
    """Crossings as points, along each line in turn."""
    columns: dict[str, list[Value]] = {
        "number": list(range(1, len(found) + 1)),
        "line": [one.line + 1 for one in found],
        "along": [round(one.along, 1) for one in found],
        "area": [round(one.area / _HECTARE, 3) for one in found],
        "order": [one.order for one in found],
        "bed": [round(one.bed, 2) for one in found],
        "slope": [round(one.slope, 2) for one in found],
        "angle": [round(one.angle, 0) for one in found],
    }
    units = {"along": "m", "area": "ha", "bed": "m", "slope": "%", "angle": "°"}
    return Features(crs, np.array([shapely.Point(one.x, one.y) for one in found], object), columns, units)
