"""Hollows, conditioned heights, and what drains where, as operations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from yama.terrain.drain.burning import BurnedLine
from yama.terrain.drain.drainage import (
    Conditioning,
    DrainedSurface,
    Known,
    hollows_of,
    water_over,
)
from yama.terrain.drain.kinds import TITLES, Hollow
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding
from yama.terrain.fit.clip import named_polygons
from yama.terrain.frame import Frame
from yama.terrain.operations.drain.water import (
    BURNED,
    KEPT,
    SURFACE,
    ConditioningParams,
    OnWater,
    about_surface,
    known_in,
)
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params, Titles, Unit, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table


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
class HollowsOf(OnWater, Operation[HollowsParams]):
    """Hollows of a surface."""

    name = "hollows"
    title = "Hollows"
    stage = "Drain"
    summary = "Ground that water does not leave: how deep, how much it holds, and what it probably is."
    inputs = {"surface": SURFACE, "waters": Role("features", "Lakes", many=True, optional=True, of=("polygons",))}
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
class Condition(OnWater, Operation[ConditionParams]):
    """Heights over which water finds its way out."""

    name = "condition"
    title = "Conditioned heights"
    stage = "Drain"
    summary = "A surface whose hollows are filled, breached, or whichever changes less; the given one stays as it is."
    inputs = {"surface": SURFACE, "kept": KEPT, "burned": BURNED}
    outputs = {
        "surface": Output("surface", "Conditioned heights", "height"),
        "change": Output("surface", "What was changed", "difference", when="asked"),
        "lines": Output("table", "What was burned in", when="asked", told=True),
    }
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: ConditionParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: ConditionParams, frame: Frame, progress: Progress) -> Results:
        surface, known = inputs.surface("surface"), known_in(inputs, params, frame)
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
class UpslopeArea(OnWater, Operation[UpslopeParams]):
    """How much ground drains through each cell."""

    name = "upslope_area"
    title = "Upslope area"
    stage = "Drain"
    summary = "How much ground drains through each cell, in square metres."
    inputs = {"surface": SURFACE, "kept": KEPT, "burned": BURNED}
    outputs = {"surface": Output("surface", "Upslope area", "area")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: UpslopeParams, frame: Frame) -> list[Finding]:
        return about_surface(inputs, params)

    def run(self, inputs: Inputs, params: UpslopeParams, frame: Frame, progress: Progress) -> Results:
        known = known_in(inputs, params, frame)
        made = DrainedSurface(inputs.surface("surface"), params.conditioning(known), known, params.flow)
        return Results(surface=made)
