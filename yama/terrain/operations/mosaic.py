"""Mosaic: many surfaces become one; and the overlaps of those surfaces as figures."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Any, Literal, TypeVar

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.cog import BLOCK
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, Mend
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window, parse_crs
from yama.terrain.mosaic.levelling import Kind, Levelling, Plane, level
from yama.terrain.mosaic.mosaic import Mosaic, Placed, SourceSurface, bounds_in, place, sheet
from yama.terrain.mosaic.overlap import Overlap, looked_at, overlaps
from yama.terrain.mosaic.rules import RuleName, Sources
from yama.terrain.mosaic.seams import MOST_SURFACES, Seams
from yama.terrain.operations.base import (
    AREA,
    Inputs,
    Operation,
    Params,
    Quantity,
    Role,
    about_area,
    find,
    register,
    within_area,
)
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.shelf import shared
from yama.terrain.surface import Heights, Surface

_QUICK_CELLS = 400_000
"""Cells of the frame that overlaps are looked at on where that must be quick: for levelling and while choosing."""
_WORTH_SAYING = 0.05
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


class MosaicParams(Params):
    """How surfaces are joined. They are given in order, the best first, and counted from 0."""

    rule: RuleName = Field("priority", description="What a cell is where several surfaces have a height.")
    feather: float = Field(
        40.0, ge=0, le=10_000, description="Feather and priority: over this width a surface fades out to its edge.",
        json_schema_extra={"unit": "m"},
    )  # fmt: skip
    band: float = Field(
        200.0, gt=0, le=100_000, description="Seam: how far into the better surface it may run.",
        json_schema_extra={"unit": "m"},
    )  # fmt: skip
    given: list[Given] = Field(
        [], max_length=200, description="Seam: areas drawn by hand, each with the surface that is taken there.",
    )  # fmt: skip
    levelling: Kind = Field("none", description="What is added to each surface so that they agree where they overlap.")
    held: int = Field(0, ge=0, description="Levelling: the surface that stays as it is.")
    groups: list[int] = Field(
        [],
        description="For each surface the number of the source it is a tile of, counted from 0; each its own where empty.",
    )
    result: Literal["height", "source", "difference"] = Field(
        "height",
        description="Heights, which surface each came from, or the difference of a pair where both have heights.",
    )
    pair: list[int] = Field(
        [], max_length=2, description="Difference: the first surface and the second, counted from 0."
    )


def grouped(inputs: Inputs, params: MosaicParams) -> list[list[Surface]]:
    """The tiles of each source, in the order of the sources. Raises InputError where `groups` does not fit them."""
    given = inputs["surfaces"]
    surfaces = [one for one in (given if isinstance(given, list) else [given]) if isinstance(one, Surface)]
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


Made = TypeVar("Made")


def _once(of: tuple[Any, ...], surfaces: Sequence[Surface], make: Callable[[], Made]) -> Made:
    """What is made of surfaces, shared by all processes where they can be told apart."""
    prints = [one.fingerprint for one in surfaces]
    return make() if None in prints else shared((*of, prints), make)


def _overlaps_of(
    surfaces: Sequence[Surface], grid: Grid, at: int, progress: Progress = ignore_progress
) -> list[Overlap]:
    return _once(("overlaps", grid, at), surfaces, lambda: overlaps(place(surfaces, grid), grid, at, progress))


def _seams_of(surfaces: Sequence[Surface], placed: Sequence[Placed], grid: Grid, params: MosaicParams) -> Seams:
    planes = [vars(one.plane) for one in placed]
    given = [(one.surface, one.area()) for one in params.given]
    said = [vars(one) for one in params.given]
    made_of = ("seams", grid, planes, params.band, said)
    return _once(made_of, surfaces, lambda: Seams(placed, grid, params.band, given))


class Joined(Surface):
    """A mosaic that is levelled, and its seams found, when it is first looked at. Thread-safe."""

    def __init__(self, surfaces: Sequence[Surface], params: MosaicParams, frame: Frame) -> None:
        super().__init__(frame.grid, frame.unit, frame.vertical_datum)
        self._surfaces = list(surfaces)
        self._params = params
        self._lock = threading.Lock()
        self._made: tuple[Mosaic, Levelling | None] | None = None

    def made(self) -> tuple[Mosaic, Levelling | None]:
        """The mosaic, and how its surfaces were levelled."""
        with self._lock:
            if self._made is None:
                self._made = self._make()
            return self._made

    def _make(self) -> tuple[Mosaic, Levelling | None]:
        params, grid = self._params, self.grid
        levelled, planes = None, None
        if params.levelling != "none":
            found = _overlaps_of(self._surfaces, grid, looked_at(grid, _QUICK_CELLS))
            levelled = level(found, len(self._surfaces), params.levelling, params.held)
            planes = levelled.planes
        placed = place(self._surfaces, grid, planes)
        seams = _seams_of(self._surfaces, placed, grid, params) if params.rule == "seam" else None
        return Mosaic(placed, grid, params.rule, params.feather, seams, self.unit, self.vertical_datum), levelled

    def read(self, window: Window, level: int = 0) -> Heights:
        return self.made()[0].read(window, level)

    def sources(self, window: Window, level: int = 0) -> Sources:
        """The number of the surface each cell came from, -1 where empty."""
        return self.made()[0].sources(window, level)


class PairDifference(Surface):
    """One surface of a mosaic less another, levelled as they are joined; empty where one of them is."""

    def __init__(self, joined: Joined, first: int, second: int) -> None:
        super().__init__(joined.grid, joined.unit)
        self.surface, self._pair = joined, (first, second)

    def read(self, window: Window, level: int = 0) -> Heights:
        placed = {one.number: one for one in self.surface.made()[0].placed}
        if not all(number in placed for number in self._pair):
            return np.full((window.rows, window.cols), np.nan, np.float32)
        first, second = (placed[number].read(window, level) for number in self._pair)
        return first - second


def _named(numbers: Sequence[int], verb: str, verbs: str) -> str:
    """Surfaces by their place in the list, counted from 1, with the verb in its number."""
    shown = [str(number + 1) for number in numbers[:6]]
    names = shown[0] if len(shown) == 1 else ", ".join(shown[:-1]) + f" and {shown[-1]}"
    more = f" and {len(numbers) - 6} more" if len(numbers) > 6 else ""
    return f"Surface {names} {verb}" if len(numbers) == 1 else f"Surfaces {names}{more} {verbs}"


def about_groups(groups: Sequence[Sequence[Surface]]) -> list[Finding]:
    """Which sources' tiles do not make one sheet."""
    apart = [i for i, tiles in enumerate(groups) if not all(tiles[0].grid.is_in_step_with(one.grid) for one in tiles)]
    mixed = [i for i, tiles in enumerate(groups) if len({one.unit for one in tiles}) > 1]
    findings = []
    if apart:
        findings.append(Finding("lattice", "stop", f"{_named(apart, 'has', 'have')} tiles that do not lie on one lattice of "
                                "cells.", "Take those that do not fit for sources of their own."))  # fmt: skip
    if mixed:
        findings.append(Finding("unit", "stop", f"{_named(mixed, 'has', 'have')} tiles in different units.",
                                "Convert some of them first, or leave them out."))  # fmt: skip
    return findings


def about_surfaces(surfaces: Sequence[Surface], frame: Frame) -> list[Finding]:
    """What is wrong with surfaces that are to be joined on a frame, as far as their grids and declarations tell."""
    findings = []
    numbers = range(len(surfaces))
    other = [i for i in numbers if surfaces[i].unit and surfaces[i].unit != frame.unit]
    if other:
        findings.append(Finding("unit", "stop", f"{_named(other, 'is', 'are')} in {surfaces[other[0]].unit}, "
                                f"the frame's heights in {frame.unit}.", "Convert them first, or leave them out."))  # fmt: skip
    outside = [i for i in numbers if bounds_in(surfaces[i], frame.grid) is None]
    if len(outside) == len(surfaces):
        return [*findings, Finding("outside", "stop", "None of the surfaces lies within the frame.",
                                   "Choose others, or another frame.")]  # fmt: skip
    if outside:
        findings.append(Finding("outside", "caution", f"{_named(outside, 'lies', 'lie')} outside the frame.",
                                "Nothing of it can be in the mosaic."))  # fmt: skip
    data = {surfaces[i].vertical_datum for i in numbers} - {""}
    if len(data) > 1:
        findings.append(Finding("datum", "caution", f"Zero means different things: {', '.join(sorted(data))}.",
                                "Levelling takes out what differs evenly; else a step of that height stays.",
                                Mend("Level by an offset", {"levelling": "offset"})))  # fmt: skip
    shifted = [i for i in numbers if i not in outside and _off_phase(surfaces[i].grid, frame.grid)]
    if shifted:
        findings.append(Finding("phase", "note", f"{_named(shifted, 'is', 'are')} not on the frame's cells.",
                                "Each is fitted bilinearly to them as it is joined."))  # fmt: skip
    return findings


def _off_phase(grid: Grid, frame: Grid) -> bool:
    if parse_crs(grid.crs) != parse_crs(frame.crs) or grid.cell_width != frame.cell_width:
        return True
    return max(map(abs, frame.phase(grid))) > _HALF_CELL or grid.cell_height != frame.cell_height


@register
class MosaicOf(Operation):
    """Surfaces joined on the frame's grid by a rule, levelled to each other before where that is asked."""

    name = "mosaic"
    title = "Mosaic"
    stage = "Join"
    summary = "Many surfaces become one, by a rule where they overlap, levelled to each other."
    inputs = {"surfaces": Role("surface", "Surfaces", many=True), "area": AREA}
    heights_in = "frame"
    Params = MosaicParams

    def quantity_of(self, params: Any) -> Quantity:
        if params.result != "height":
            return "source" if params.result == "source" else "difference"
        named: dict[str, Quantity] = {"count": "count", "spread": "spread"}
        return named.get(params.rule, "height")

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        stops = about_groups(grouped(inputs, params))
        if stops:
            return stops
        surfaces = sources_in(inputs, params)
        findings = [*about_surfaces(surfaces, frame), *about_area(inputs, frame)]
        if len(surfaces) == 1:
            findings.append(Finding("single", "note", "Only one surface is chosen.", "There is nothing to join it to."))
        if params.levelling != "none" and params.held >= len(surfaces):
            findings.append(Finding("held", "stop", f"There is no surface {params.held + 1} to hold.", "Choose another.",
                                    Mend("Hold the first", {"held": 0})))  # fmt: skip
        if params.result == "difference" and (
            len(set(params.pair)) != 2 or not all(0 <= one < len(surfaces) for one in params.pair)
        ):
            findings.append(Finding("pair", "stop", "A difference needs two of the surfaces.", "Choose a pair."))
        if params.rule == "seam" and any(one.surface >= len(surfaces) for one in params.given):
            findings.append(Finding("given", "stop", "An area is given to a surface that is not in the list.",
                                    "Choose another for it, or take the area away."))  # fmt: skip
        if params.rule == "seam" and len(surfaces) > MOST_SURFACES:
            findings.append(Finding("many", "stop", f"Seams are found between at most {MOST_SURFACES} surfaces.",
                                    "Join some of them first, or feather them.", Mend("Feather", {"rule": "feather"})))  # fmt: skip
        if params.rule in ("first", "last", "lowest", "highest", "nearest") and params.levelling == "none":
            findings.append(Finding("steps", "note", "Where one surface gives way to another a step may stand.",
                                    "The overlaps tell how high. A feather leaves none.",
                                    Mend("Feather", {"rule": "priority"})))  # fmt: skip
        return findings

    def found(self, result: Any) -> list[Finding]:
        while not isinstance(result, Joined):
            result = getattr(result, "surface", None)
            if result is None:
                return []
        _, levelled = result.made()
        return about_levelling(levelled)

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        for finding in self.check(inputs, params, frame):
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        joined = Joined(sources_in(inputs, params), params, frame)
        made: Surface = joined
        if params.result == "source":
            made = SourceSurface(joined)
        elif params.result == "difference":
            made = PairDifference(joined, *params.pair)
        return within_area(made, inputs)


def about_levelling(levelled: Levelling | None) -> list[Finding]:
    """What levelling did, and whom it could not reach."""
    if levelled is None:
        return []
    findings = []
    moved = [(i, plane) for i, plane in enumerate(levelled.planes) if abs(plane.offset) >= _WORTH_SAYING]
    if moved:
        said = ", ".join(f"{i + 1} by {plane.offset:+.2f} m".replace("-", "\u2212") for i, plane in moved[:6])
        findings.append(
            Finding("levelled", "note", f"Moved up or down: surface {said}.", "That is what they differed by.")
        )
    if levelled.alone:
        findings.append(Finding("alone", "caution", f"{_named(levelled.alone, 'overlaps', 'overlap')} none that is tied to "
                                "the held one.", "It could not be levelled to it."))  # fmt: skip
    return findings


@register
class Overlaps(Operation):
    """Every pair of surfaces that are to be joined, where both have heights; before and after levelling."""

    name = "overlaps"
    title = "Overlaps"
    stage = "Join"
    summary = "How surfaces differ where two of them have heights, before they are joined."
    inputs = {"surfaces": Role("surface", "Surfaces", many=True)}
    heights_in = "frame"
    Params = MosaicParams
    produces = "figures"
    quick = True

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        # what a mosaic would stop at is told there; overlaps are measured where they can be
        found = find("mosaic").check(inputs, params, frame)
        return [one for one in found if one.weight == "stop" and one.code in ("outside", "lattice")]

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> dict[str, Any]:
        return self._figures(inputs, params, frame, looked_at(frame.grid, _QUICK_CELLS), ignore_progress)

    def figures(
        self, inputs: Inputs, params: Any, frame: Frame, progress: Progress = ignore_progress
    ) -> dict[str, Any]:
        return self._figures(inputs, params, frame, 0, progress)

    def _figures(self, inputs: Inputs, params: Any, frame: Frame, at: int, progress: Progress) -> dict[str, Any]:
        for finding in self.check(inputs, params, frame):
            raise InputError(f"{finding.sentence} {finding.why}")
        surfaces, grid = sources_in(inputs, params), frame.grid
        found = _overlaps_of(surfaces, grid, at, lambda share: progress(0.8 * share))
        solved = level(found, len(surfaces), params.levelling, min(params.held, len(surfaces) - 1))
        joined = place(surfaces, grid, solved.planes)
        seamed = params.rule == "seam" and len(joined) <= MOST_SURFACES
        seams = _seams_of(surfaces, joined, grid, params) if seamed else None
        mosaic = Mosaic(joined, grid, params.rule, params.feather, seams, frame.unit)
        return {
            "cell": grid.at_level(at).cell_width,
            "finest": grid.cell_width,
            "pairs": [
                {**one.to_dict(), "after": after, "phase": _phase(surfaces, one)}
                for one, after in zip(found, solved.after, strict=True)
            ],
            "planes": [_plane(plane, grid) for plane in solved.planes],
            "alone": solved.alone,
            "shares": _once(
                ("shares", grid, params.model_dump(exclude={"result", "pair"})),
                surfaces,
                lambda: _shares(mosaic, len(surfaces), looked_at(grid, _QUICK_CELLS)),
            ),
            "seams": [line.round(2).tolist() for line in seams.lines()] if seams else [],
            "unit": frame.unit,
        }


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
