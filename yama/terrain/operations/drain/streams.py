"""Streams of surfaces and known rivers, link by link, as operations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from yama.terrain.drain.catchments import Outlet
from yama.terrain.drain.drainage import (
    Drainage,
    places_in,
    water_over,
)
from yama.terrain.drain.large import LargeDrainage
from yama.terrain.drain.links import Links
from yama.terrain.drain.networks import plain_lines
from yama.terrain.drain.rivers import rivers
from yama.terrain.drain.stored import least_channel
from yama.terrain.drain.streams import Heads, Streams
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
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
from yama.terrain.operations.parameters import GroundMetres, Titles, Unit
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of
from yama.terrain.table import Cell, Column, Table


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

    def of(self, found: Drainage | LargeDrainage, above: Sequence[Outlet] | None = None) -> Streams:
        """The streams that are asked for; above outlets alone where these are given. Raises InputError where there are
        none."""
        area = self.begins_at * HECTARE
        # on steep ground streams begin at less than on a usual slope
        least = area if self.heads == "area" else min(area, least_channel(found.cell_area))
        cells = None if above is None else [one.cell for one in above]
        streams = found.channels(least).streams(area, self.minimum_length, self.over_level, self.heads, cells)
        if above and not len(streams):
            raise InputError(f"No stream that begins at {self.begins_at:g} ha flows through the outlets. Move them.")
        if not len(streams):
            raise InputError(f"No stream begins at {self.begins_at:g} ha. Let streams begin at less.")
        return streams


class StreamLinesParams(StreamsParams):
    """How streams are drawn."""

    smooth: bool = Field(False, title="Smooth lines", description="Every corner stays in the cell it is in.")
    above: list[tuple[float, float]] = Field(
        [],
        max_length=50,
        title="Only above",
        description="Places in the frame's CRS: only streams that flow through one of these are made, down to there.",
    )
    snap: Annotated[float, Unit("m")] = Field(
        20.0,
        ge=0,
        le=10_000,
        title="Move places up to",
        description="Each is moved to where most ground drains within it.",
    )


_ORDERS = (
    Column("order", "Order", type="whole"),
    Column("count", "Streams", type="whole"),
    Column("length", "Length", "km", decimals=2),
)


def orders_of(found: Links) -> Table:
    """Streams by order, as a table."""
    rows: list[tuple[Cell, ...]] = [(order, count, length / 1000) for order, count, length in found.by_order()]
    return Table(_ORDERS, rows, {})


@register
class StreamsOf(OnWater, Operation[StreamLinesParams]):
    """Streams of a surface."""

    name = "streams"
    title = "Streams"
    stage = "Drain"
    summary = "Lines along which enough ground drains, with their orders, lengths and falls."
    inputs = {"surface": SURFACE, "kept": KEPT, "burned": BURNED}
    outputs = {
        "streams": Output("features", "Streams"),
        "orders": Output("table", "Streams by order", when="asked", told=True),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: StreamLinesParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: StreamLinesParams, frame: Frame, progress: Progress) -> Results:
        known = known_in(inputs, params, frame)
        surface, how = inputs.surface("surface"), params.conditioning(known)
        found = water_over(surface, how, known, progress=progress)
        places = places_in(params.above, frame.grid.crs, surface.grid.crs)
        above = [found.outlet(x, y, params.snap, str(n + 1)) for n, (x, y) in enumerate(places)]
        streams = params.of(found, above or None)
        return Results(streams=streams.features(params.smooth), orders=orders_of(streams))


class RiversParams(ConditioningParams):
    """How far known rivers may lie from where water runs over the surface."""

    within: Annotated[float, Unit("m")] = Field(
        20.0,
        ge=0,
        le=1_000,
        title="Valley within",
        description="The most ground that drains through a place so near a river is what drains into it.",
    )


@register
class RiversOf(OnWater, Operation[RiversParams]):
    """Known rivers, told as streams are."""

    name = "order_rivers"
    title = "Orders of known rivers"
    stage = "Drain"
    summary = "Known rivers link by link, drawn downstream: orders, lengths, falls, and the ground that drains there."
    inputs = {
        "surface": SURFACE,
        "rivers": Role("features", "Rivers", many=True, of=("lines",)),
        "kept": KEPT,
        "burned": BURNED,
    }
    outputs = {
        "rivers": Output("features", "Rivers by link"),
        "orders": Output("table", "Rivers by order", when="asked", told=True),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: RiversParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: RiversParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        lines = plain_lines(inputs.features("rivers"), surface.grid.crs)
        if not lines:
            raise InputError("What is chosen as rivers holds no lines. Choose other features.")
        known = known_in(inputs, params, frame)
        found = water_over(surface, params.conditioning(known), known, progress=part_of(progress, 0.0, 0.9))
        made = rivers(lines, surface.grid, found.heights, found.counts, params.within)
        return Results(rivers=made.features(), orders=orders_of(made))
