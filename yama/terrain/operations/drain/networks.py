"""Streams held against known rivers, and where lines cross them, as operations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.drain.crossings import Crossing, bed_profile, crossings
from yama.terrain.drain.drainage import (
    water_over,
)
from yama.terrain.drain.networks import Likeness, likeness, plain_lines
from yama.terrain.drain.streams import Streams
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.operations.drain.streams import StreamsParams
from yama.terrain.operations.drain.water import (
    BURNED,
    HECTARE,
    KEPT,
    SURFACE,
    OnWater,
    about_surface,
    known_in,
)
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params, Unit
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Heights
from yama.terrain.table import Cell, Column, Table


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
class Crossings(OnWater, Operation[CrossingsParams]):
    """Where lines cross streams."""

    name = "crossings"
    title = "Crossings"
    stage = "Drain"
    summary = "Where a road, a railway or a wall crosses streams: how far along it, and how much ground drains there."
    inputs = {
        "surface": SURFACE,
        "lines": Role("features", "Lines that cross", of=("lines",)),
        "kept": KEPT,
        "burned": BURNED,
    }
    outputs = {
        "crossings": Output("features", "Crossings"),
        "profiles": Output("table", "Profiles", when="asked"),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: CrossingsParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: CrossingsParams, frame: Frame, progress: Progress) -> Results:
        known, surface = known_in(inputs, params, frame), inputs.surface("surface")
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
        "area": [round(one.area / HECTARE, 3) for one in found],
        "order": [one.order for one in found],
        "bed": [round(one.bed, 2) for one in found],
        "slope": [round(one.slope, 2) for one in found],
        "angle": [round(one.angle, 0) for one in found],
    }
    units = {"along": "m", "area": "ha", "bed": "m", "slope": "%", "angle": "°"}
    return Features(crs, np.array([shapely.Point(one.x, one.y) for one in found], object), columns, units)
