"""Mosaic: many surfaces become one; and the overlaps of those surfaces as figures."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.cog import BLOCK
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, Fix
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.mosaic.joined import QUICK_CELLS, Joined, Joining, PairDifference, named, overlaps_of, seams_of
from yama.terrain.mosaic.levelling import Kind, Plane, level
from yama.terrain.mosaic.mosaic import Mosaic, bounds_in, place, sheet
from yama.terrain.mosaic.overlap import Overlap, looked_at
from yama.terrain.mosaic.rules import RuleName
from yama.terrain.mosaic.seams import MOST_SURFACES
from yama.terrain.operations.area import AREA, about_area, within_area
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation, View
from yama.terrain.operations.parameters import UNTOLD, CellSize, GroundMetres, OnlyWith, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.quantities import Quantity
from yama.terrain.shelf import shared
from yama.terrain.surface import Surface
from yama.terrain.table import Column, Table

_HALF_CELL = 0.01


class Given(Params):
    """An area and the surface that holds it, counted from 0. ring: corners x, y in the frame's CRS."""

    surface: int = Field(ge=0, le=MOST_SURFACES)
    ring: list[tuple[float, float]] = Field(min_length=3, max_length=2_000)

    def area(self) -> shapely.Polygon:
        """The area, of the largest part where it crosses itself."""
        parts = shapely.get_parts(shapely.make_valid(shapely.Polygon(self.ring)))
        flat = [one for one in parts if one.geom_type == "Polygon"]
        return max(flat, key=lambda one: one.area, default=shapely.Polygon())


RULES_TOLD = Titles(
    {
        "priority": "best first", "feather": "feather", "seam": "seam", "first": "first", "last": "last", "nearest": "middle",
        "mean": "mean", "lowest": "lowest", "highest": "highest", "sum": "sum", "count": "count", "spread": "spread",
    },
    {
        "priority": "The best lie on top and fade out towards their own edge.",
        "feather": "A mean in which each surface weighs less towards its own edge.",
        "seam": "One surface on each side of a line along which both agree best.",
        "first": "The first of the list that has a height there.",
        "last": "The last of the list that has a height there.",
        "nearest": "The surface whose own middle is nearest.",
        "mean": "The mean of all heights there.",
        "lowest": "The lowest of the heights there.",
        "highest": "The highest of the heights there.",
        "sum": "The sum of all heights there.",
        "count": "How many surfaces have a height there.",
        "spread": "How far the highest stands above the lowest, where two or more have a height.",
    },
)  # fmt: skip


class MosaicParams(Params):
    """How surfaces are joined. They are given in order, the best first, and counted from 0."""

    rule: Annotated[RuleName, RULES_TOLD] = Field(
        "priority", description="What a cell is where several surfaces have a height."
    )
    feather: Annotated[GroundMetres, OnlyWith("rule", ("priority", "feather"))] = Field(
        40.0,
        title="Fades over",
        ge=0,
        le=10_000,
        description="Feather and priority: over this width a surface fades out to its edge.",
    )
    band: Annotated[GroundMetres, OnlyWith("rule", ("seam",))] = Field(
        200.0, title="Within", gt=0, le=100_000, description="Seam: how far into the better surface it may run."
    )
    given: Annotated[list[Given], OnlyWith("rule", ("seam",))] = Field(
        [], max_length=200, title="areas drawn by hand", description="Seam: areas drawn by hand, each with the surface that is taken there.",
    )  # fmt: skip
    levelling: Annotated[
        Kind, Titles({"none": "as they are", "offset": "by an offset each", "tilt": "by offset and tilt"})
    ] = Field(
        "none", title="Surfaces are", description="What is added to each surface so that they agree where they overlap."
    )
    held: Annotated[int, UNTOLD, OnlyWith("levelling", ("offset", "tilt"))] = Field(
        0, ge=0, title="Held fixed", description="Levelling: the surface that stays as it is."
    )
    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")
    groups: Annotated[list[int], UNTOLD] = Field(
        [],
        description="For each surface the number of the source it is a tile of, counted from 0; each its own where empty.",
    )
    pair: Annotated[list[int], UNTOLD] = Field(
        [], max_length=2, description="Difference: the first surface and the second, counted from 0."
    )


def grouped(inputs: Inputs, params: MosaicParams) -> list[list[Surface]]:
    """The tiles of each source, in the order of the sources. Raises InputError where `groups` does not fit them."""
    surfaces = inputs.surfaces("surfaces")
    if not params.groups:
        return [[one] for one in surfaces]
    count = len(set(params.groups))
    if len(params.groups) != len(surfaces) or set(params.groups) != set(range(count)):
        raise InputError("groups must name a source for each surface, counted from 0 without a gap.")
    return [
        [one for one, group in zip(surfaces, params.groups, strict=True) if group == number] for number in range(count)
    ]


def sources_in(inputs: Inputs, params: MosaicParams) -> list[Surface]:
    """The sources: surfaces, or sheets of the tiles they come in. Raises InputError where tiles do not fit together."""
    return [sheet(tiles) for tiles in grouped(inputs, params)]


def about_groups(groups: Sequence[Sequence[Surface]]) -> list[Finding]:
    """Which sources' tiles do not make one sheet."""
    apart = [i for i, tiles in enumerate(groups) if not all(tiles[0].grid.is_in_step_with(one.grid) for one in tiles)]
    mixed = [i for i, tiles in enumerate(groups) if len({one.unit for one in tiles}) > 1]
    findings = []
    if apart:
        findings.append(Finding("lattice", "stop", f"{named(apart, 'has', 'have')} tiles that do not lie on one lattice of "
                                "cells.", "Take those that do not fit for sources of their own."))  # fmt: skip
    if mixed:
        findings.append(Finding("unit", "stop", f"{named(mixed, 'has', 'have')} tiles in different units.",
                                "Convert some of them first, or leave them out."))  # fmt: skip
    return findings


def about_surfaces(surfaces: Sequence[Surface], frame: Frame) -> list[Finding]:
    """What is wrong with surfaces that are to be joined on a frame, as far as their grids and declarations tell."""
    findings = []
    numbers = range(len(surfaces))
    other = [i for i in numbers if surfaces[i].unit and surfaces[i].unit != frame.unit]
    if other:
        findings.append(Finding("unit", "stop", f"{named(other, 'is', 'are')} in {surfaces[other[0]].unit}, "
                                f"the frame's heights in {frame.unit}.", "Convert them first, or leave them out."))  # fmt: skip
    outside = [i for i in numbers if bounds_in(surfaces[i], frame.grid) is None]
    if len(outside) == len(surfaces):
        return [*findings, Finding("outside", "stop", "None of the surfaces lies within the frame.",
                                   "Choose others, or another frame.")]  # fmt: skip
    if outside:
        findings.append(Finding("outside", "caution", f"{named(outside, 'lies', 'lie')} outside the frame.",
                                "Nothing of it can be in the mosaic."))  # fmt: skip
    data = {surfaces[i].vertical_datum for i in numbers} - {""}
    if len(data) > 1:
        findings.append(Finding("datum", "caution", f"Zero means different things: {', '.join(sorted(data))}.",
                                "Levelling takes out what differs evenly; else a step of that height stays.",
                                Fix("Level by an offset", {"levelling": "offset"})))  # fmt: skip
    shifted = [i for i in numbers if i not in outside and _off_phase(surfaces[i].grid, frame.grid)]
    if shifted:
        findings.append(Finding("phase", "note", f"{named(shifted, 'is', 'are')} not on the frame's cells.",
                                "Each is fitted bilinearly to them as it is joined."))  # fmt: skip
    return findings


def _off_phase(grid: Grid, frame: Grid) -> bool:
    if parse_crs(grid.crs) != parse_crs(frame.crs) or grid.cell_width != frame.cell_width:
        return True
    return max(map(abs, frame.phase(grid))) > _HALF_CELL or grid.cell_height != frame.cell_height


def _about_joining(inputs: Inputs, params: MosaicParams, frame: Frame) -> list[Finding]:
    """What is wrong with surfaces, or how they are to be joined."""
    stops = about_groups(grouped(inputs, params))
    if stops:
        return stops
    surfaces = sources_in(inputs, params)
    findings = about_surfaces(surfaces, frame)
    if len(surfaces) == 1:
        one = (
            "Only one surface is chosen."
            if len(inputs.surfaces("surfaces")) == 1
            else "Only one source is chosen, in several tiles."
        )
        findings.append(Finding("single", "note", one, "There is nothing to join it to."))
    if params.levelling != "none" and params.held >= len(surfaces):
        findings.append(Finding("held", "stop", f"There is no surface {params.held + 1} to hold.", "Choose another.",
                                Fix("Hold the first", {"held": 0})))  # fmt: skip
    if params.pair and (len(set(params.pair)) != 2 or not all(0 <= one < len(surfaces) for one in params.pair)):
        findings.append(Finding("pair", "stop", "A difference needs two of the surfaces.", "Choose a pair."))
    if params.rule == "seam" and any(one.surface >= len(surfaces) for one in params.given):
        findings.append(Finding("given", "stop", "An area is given to a surface that is not in the list.",
                                "Choose another for it, or take the area away."))  # fmt: skip
    if params.rule == "seam" and len(surfaces) > MOST_SURFACES:
        findings.append(Finding("many", "stop", f"Seams are found between at most {MOST_SURFACES} surfaces.",
                                "Join some of them first, or feather them.", Fix("Feather", {"rule": "feather"})))  # fmt: skip
    if params.rule in ("first", "last", "lowest", "highest", "nearest") and params.levelling == "none":
        findings.append(Finding("steps", "note", "Where one surface gives way to another a step may stand.",
                                "The overlaps tell how high. A feather leaves none.",
                                Fix("Feather", {"rule": "priority"})))  # fmt: skip
    return findings


def _joining(params: MosaicParams) -> Joining:
    areas = tuple((one.surface, one.area()) for one in params.given)
    return Joining(params.rule, params.feather, params.band, areas, params.levelling, params.held)


@register
class MosaicOf(Operation[MosaicParams]):
    """Surfaces joined on the frame's grid by a rule, levelled to each other before where that is asked."""

    name = "mosaic"
    title = "Mosaic"
    stage = "Join"
    summary = "Many surfaces become one, by a rule where they overlap, levelled to each other."
    inputs = {"surfaces": Role("surface", "Surfaces", many=True, quantity="height"), "area": AREA}
    outputs = {
        "surface": Output("surface", "Mosaic", "height"),
        "source": Output("surface", "Source of each cell", "source", when="asked"),
        "difference": Output("surface", "Difference of a pair", "difference", when="asked"),
    }
    heights_in = "frame"
    area_role = "area"

    def cell_size_of(self, params: MosaicParams) -> float | None:
        return params.cell_size

    def outputs_for(self, params: MosaicParams) -> Mapping[str, Output]:
        by_rule: dict[str, Quantity] = {"count": "count", "spread": "spread"}
        first = replace(self.outputs["surface"], quantity=by_rule.get(params.rule, "height"))
        found = {**self.outputs, "surface": first}
        return found if params.pair else {name: one for name, one in found.items() if name != "difference"}

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        result = params.get("result", "height")
        dropped = {"result"} if result == "difference" else {"result", "pair"}
        kept = {name: value for name, value in params.items() if name not in dropped}
        return (kept, self.first if result == "height" else str(result)) if "result" in params else (params, self.first)

    def check(self, inputs: Inputs, params: MosaicParams, frame: Frame) -> list[Finding]:
        return [*_about_joining(inputs, params, frame), *about_area(inputs, frame)]

    def run(self, inputs: Inputs, params: MosaicParams, frame: Frame, progress: Progress) -> Results:
        places = params.groups or range(len(inputs.surfaces("surfaces")))
        tiles = [[at for at, one in enumerate(places) if one == number] for number in sorted(set(places))]
        surfaces = sources_in(inputs, params)
        grid = frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid
        joined = Joined(surfaces, grid, frame.unit, frame.vertical_datum, _joining(params), tiles)
        made: dict[str, Callable[[], Surface]] = {
            "surface": lambda: within_area(joined, inputs),
            "source": lambda: within_area(joined.companions["source"], inputs),
        }
        if params.pair:
            made["difference"] = lambda: within_area(PairDifference(joined, *params.pair), inputs)
        return Results(**made)


_SHOWN = (
    ("mean", "Mean"), ("deviation", "Standard deviation"), ("median", "Median"), ("nmad", "NMAD"), ("lowest", "Lowest"),
    ("highest", "Highest"),
)  # fmt: skip


@register
class Overlaps(Operation[MosaicParams]):
    """Every pair of surfaces that are to be joined, where both have heights; before and after levelling."""

    name = "overlaps"
    title = "Overlaps"
    stage = "Join"
    summary = "How surfaces differ where two of them have heights, before they are joined."
    inputs = {"surfaces": Role("surface", "Surfaces", many=True)}
    outputs = {"overlaps": Output("table", "Overlaps")}
    heights_in = "frame"
    previews = "rough"

    def check(self, inputs: Inputs, params: MosaicParams, frame: Frame) -> list[Finding]:
        # what a mosaic would stop at is told there; overlaps are measured where they can be
        found = _about_joining(inputs, params, frame)
        return [one for one in found if one.weight == "stop" and one.code in ("outside", "lattice")]

    def run(self, inputs: Inputs, params: MosaicParams, frame: Frame, progress: Progress) -> Results:
        return Results(overlaps=self._table(inputs, params, frame, 0, progress))

    def preview(self, inputs: Inputs, params: MosaicParams, frame: Frame, view: View) -> Results:
        at = looked_at(frame.grid, QUICK_CELLS)
        return Results(overlaps=self._table(inputs, params, frame, at, ignore_progress))

    def _table(self, inputs: Inputs, params: MosaicParams, frame: Frame, at: int, progress: Progress) -> Table:
        surfaces, grid, how = sources_in(inputs, params), frame.grid, _joining(params)
        found = overlaps_of(surfaces, grid, at, lambda share: progress(0.8 * share))
        solved = level(found, len(surfaces), params.levelling, min(params.held, len(surfaces) - 1))
        joined = place(surfaces, grid, solved.planes)
        seamed = params.rule == "seam" and len(joined) <= MOST_SURFACES
        seams = seams_of(surfaces, joined, grid, how) if seamed else None
        mosaic = Mosaic(joined, grid, params.rule, params.feather, seams, frame.unit)
        shares = shared(
            ("shares", grid, how.told, [one.fingerprint for one in surfaces]),
            lambda: _shares(mosaic, len(surfaces), looked_at(grid, QUICK_CELLS)),
        )
        facts = {
            "cell": grid.at_level(at).cell_width,
            "finest": grid.cell_width,
            "pairs": [
                {**one.to_dict(), "after": after, "phase": _phase(surfaces, one)}
                for one, after in zip(found, solved.after, strict=True)
            ],
            "planes": [_plane(plane, grid) for plane in solved.planes],
            "alone": solved.alone,
            "shares": shares,
            "seams": [line.round(2).tolist() for line in seams.lines()] if seams else [],
            "unit": frame.unit,
        }
        columns = (
            Column("first", "First", type="whole"), Column("second", "Second", type="whole"), Column("cells", "Cells", type="whole"),
            *(Column(name, title, frame.unit, decimals=3) for name, title in _SHOWN),
            Column("after", "Mean after levelling", frame.unit, decimals=3),
        )  # fmt: skip
        rows = [
            (one.first + 1, one.second + 1, one.cells, *(float(getattr(one, name)) for name, _ in _SHOWN), after)
            for one, after in zip(found, solved.after, strict=True)
        ]
        return Table(columns, rows, facts)


def _plane(plane: Plane, grid: Grid) -> dict[str, float]:
    middle = ((grid.bounds.west + grid.bounds.east) / 2, (grid.bounds.south + grid.bounds.north) / 2)
    at = float(plane.at(np.array([middle[0]]), np.array([middle[1]]))[0, 0])
    return {"offset": at, "tilt": float(np.hypot(plane.east, plane.north)) * 1_000}


def _phase(surfaces: Sequence[Surface], one: Overlap) -> dict[str, Any]:
    """How the cells of a pair lie to each other: on the same places, off by a share of a cell, of other size or CRS."""
    first, second = surfaces[one.first].grid, surfaces[one.second].grid
    if parse_crs(first.crs) != parse_crs(second.crs):
        return {"kind": "crs", "off": 0.0}
    if not np.isclose(first.cell_width, second.cell_width, rtol=1e-6):
        return {"kind": "size", "off": 0.0}
    off = max(map(abs, first.phase(second)))
    return {"kind": "off" if off > _HALF_CELL else "aligned", "off": off}


def _shares(mosaic: Mosaic, count: int, at: int) -> list[float]:
    """The share of the mosaic's cells that came from each surface."""
    counts = np.zeros(count + 1)
    for window in mosaic.grid.at_level(at).blocks(BLOCK):
        counts += np.bincount(mosaic.sources(window, at).ravel() + 1, minlength=count + 1)
    total = max(float(counts[1:].sum()), 1.0)
    return [float(one) / total for one in counts[1:]]
