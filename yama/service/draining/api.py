"""Streams, catchments and ways of water, told at once where water over a surface was worked out."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely
from django.http import HttpRequest
from ninja import Field, Router, Schema

from yama.service.accounts.people import person
from yama.service.draining.drained import (
    HECTARE,
    Asked,
    DrainedIn,
    NetworkIn,
    OutletIn,
    catchment_of,
    lines_or_areas,
    network_of,
    outlet_of,
    place_of,
    told_of,
)
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.drain.catchments import Outlet
from yama.terrain.drain.networks import apart_from, likeness, plain_lines
from yama.terrain.drain.stored import StoredDrainage
from yama.terrain.errors import InputError
from yama.terrain.features import turned
from yama.terrain.judge.places import nearest_named
from yama.terrain.surface import digest

router = Router(tags=["draining"])

_MOST_PARTINGS = 50
_NEAR = 1_000.0  # metres from the end of a way that a name may lie to be told
_MOST_PLACES = 60_000
"""Of the lines of an answer."""

Line = list[tuple[float, float]]


class DrainingOut(Schema):
    """The job that works it out; null where it is known."""

    job: JobOut | None


class StreamsIn(NetworkIn):
    """What of them is looked at. bounds, pixel: the view in frame coordinates, and how many of their units a pixel is;
    all of them, with every corner, where null. apart_from: only stretches farther than so many metres (within) from
    these other streams are drawn, where water was worked out for them. above: outlets, each moved by up to so many
    metres (snap) to where most ground drains; only streams that flow through one of them are told, all where there
    are none."""

    bounds: tuple[float, float, float, float] | None = None
    pixel: float | None = Field(None, gt=0)
    apart_from: NetworkIn | None = None
    within: float = Field(20.0, gt=0, le=10_000)
    above: list[OutletIn] = Field([], max_length=50)
    snap: float = Field(20.0, ge=0, le=10_000)


class StreamOut(Schema):
    """A link of the network: Strahler's order, and its line in frame coordinates."""

    order: int
    line: Line


class StreamOrderOut(Schema):
    """Streams of an order: how many, and how long together, in metres."""

    order: int
    count: int
    length: float


class BurnedOut(Schema):
    """What became of a line that was burned in. number: from 1 on. turned: whether it was drawn uphill. outside:
    whether no height lies along it, so that nothing was done. cut: metres that ground along it was lowered at most.
    astray: where it stands on a slope instead of in a valley, in frame coordinates."""

    number: int
    turned: bool
    outside: bool
    cut: float
    astray: tuple[float, float] | None


class StreamsOut(Schema):
    """Streams of a surface. known: whether water over it was worked out; all else is empty where it was not.
    begins_at: hectares at which they do. count, length: of all of them, in metres. orders: by Strahler's order.
    cut_short: whether there are too many to be told, so that those of low order are left out. least, most: hectares
    between which streams can begin. moved: cubic metres of ground that conditioning moved; left, filled, breached: what
    it did about how many lowest places. missed: how many places that were to keep their water lie in no hollow. burned:
    what became of lines that were burned in. unsure, unsure_length: stretches over level ground, where the computation
    decides where streams run, and their length in metres. curve: hectares at which streams begin, how many begin
    then, and their length in metres."""

    known: bool
    begins_at: float = 0.0
    count: int = 0
    length: float = 0.0
    orders: list[StreamOrderOut] = []
    streams: list[StreamOut] = []
    cut_short: bool = False
    least: float = 0.0
    most: float = 0.0
    moved: float = 0.0
    left: int = 0
    filled: int = 0
    breached: int = 0
    missed: int = 0
    burned: list[BurnedOut] = []
    unsure: list[Line] = []
    unsure_length: float = 0.0
    curve: list[tuple[float, int, float]] = []


class CatchmentsIn(DrainedIn):
    """Outlets, and how many metres each may be moved to where most ground drains. pixel: as of streams.
    beside: water over another surface, with whose catchments of the same outlets these are compared. named: a holding
    of features with names, by which outlets are told."""

    outlets: list[OutletIn] = Field(min_length=1, max_length=50)
    snap: float = Field(20.0, ge=0, le=10_000)
    pixel: float | None = Field(None, gt=0)
    beside: DrainedIn | None = None
    named: int | None = None


class CatchmentOut(Schema):
    """The catchment of an outlet, of all that lies above it. x, y: where it was moved to, in frame coordinates; moved:
    how far, in metres; area: in square kilometres on the ellipsoid; rings: outlines. common: what it shares with
    the one of the other surface, as a share of what both cover together; null where nothing is compared. near: what
    has a name and is near; empty where nothing is. reason: why there is none."""

    name: str
    x: float
    y: float
    moved: float
    area: float | None
    rings: list[Line]
    common: float | None = None
    near: str = ""
    reason: str = ""


class CatchmentsOut(Schema):
    """Catchments in the order of their outlets; known as of streams."""

    known: bool
    catchments: list[CatchmentOut] = []


class LikenessIn(NetworkIn):
    """Streams against known ones. reference: a holding with lines. within: metres."""

    reference: int
    within: float = Field(20.0, gt=0, le=10_000)


class PartingOut(Schema):
    """A stretch along which both part: its farthest place in frame coordinates, how far that is from the other network,
    and how long the stretch is, in metres. of_reference: whether it is the reference that is not found there."""

    x: float
    y: float
    away: float
    length: float
    of_reference: bool


class LikenessOut(Schema):
    """How alike streams are to known ones; known as of streams. found: share of the reference that lies within the
    distance; own_near: share of the streams that does. mean, median: metres from streams to the reference. parted: how
    many stretches they part along; partings: the longest of these, fifty at most."""

    known: bool
    found: float | None = None
    own_near: float | None = None
    mean: float | None = None
    median: float | None = None
    parted: int = 0
    partings: list[PartingOut] = []


class WayIn(DrainedIn):
    """From where water is followed, in frame coordinates. drawn: whether its line is told. named: a holding of features
    with names, by which its end is told."""

    x: float
    y: float
    drawn: bool = True
    named: int | None = None


class WayOut(Schema):
    """The way of water from a place down: its line in frame coordinates, its length in metres, whether it leaves the
    surface or ends in a hollow, and the hectares that drain through the place. ends: what is near its end; empty where
    nothing that has a name is."""

    known: bool
    ends: str = ""
    line: Line = []
    length: float = 0.0
    leaves: bool = False
    drained: float = 0.0


def _pairs(shape: shapely.Geometry) -> Line:
    return [(x, y) for x, y in shapely.get_coordinates(shape).round(3).tolist()]


@router.post("/{int:project_id}/drainage", response={200: DrainingOut, 202: DrainingOut, 422: Failure})
def work_out_drainage(request: HttpRequest, project_id: int, body: DrainedIn) -> tuple[int, dict[str, Job | None]]:
    """Work out water over a surface, as a job, where that was not done yet."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    asked = Asked.of(project, body)
    if asked.found() is not None:
        return 200, {"job": None}
    key = digest("drain", asked.folder.name)[:32]
    title = f"Water over {asked.holding.name}"
    return 202, {"job": submit(project, "drain", title, body.model_dump(), person(request).pk, key)}


@router.post("/{int:project_id}/drainage/streams", response={200: StreamsOut, 422: Failure})
def read_streams(request: HttpRequest, project_id: int, body: StreamsIn) -> dict[str, Any]:
    """Streams of a surface from a threshold on."""
    project = open_project(request, project_id)
    found = Asked.of(project, body).found()
    if found is None:
        return {"known": False}
    told = told_of(found)
    crs = project.frame.grid.crs
    above = _above(found, body, crs)
    streams, area = network_of(found, body, above)
    other = None
    if body.apart_from is not None:
        beside = Asked.of(project, body.apart_from).found()
        # what is beside is held against whole: an outlet may lie elsewhere on it
        other = network_of(beside, body.apart_from)[0] if beside is not None else None
    lines, of = streams.lines(), np.arange(len(streams))
    if other is not None:
        others = turned(other.lines(), other.grid.crs, found.grid.crs)
        lines, of = apart_from(lines, others, body.within, found.grid.metres_per_unit())
    shown, cut_short = _shown(lines, streams.order[of], found, crs, body.bounds, body.pixel)
    unsure = _in_view(streams.unsure_lines(), found.grid.crs, crs, body.bounds, body.pixel)[0]
    return {
        "known": True,
        "begins_at": area / HECTARE,
        "count": int((streams.magnitude == 1).sum()),
        "length": float(streams.length.sum()),
        "orders": [{"order": order, "count": count, "length": length} for order, count, length in streams.by_order()],
        "streams": shown,
        "cut_short": cut_short,
        "unsure": [_pairs(line) for line in unsure],
        "unsure_length": float(streams.level.sum()),
        "burned": [_burned(one, found.grid.crs, crs) for one in found.facts["burned"]],
        **told,
        "least": told["least"] / HECTARE,
        "most": told["most"] / HECTARE,
        "curve": [(begins / HECTARE, count, length) for begins, count, length in told["curve"]],
    }


def _above(found: StoredDrainage, body: StreamsIn, crs: str) -> list[Outlet] | None:
    """The outlets above which streams are told; None where all are."""
    if not body.above:
        return None
    moved = []
    for one in body.above:
        # the catchments of outlets tell which cannot be
        with suppress(InputError):
            moved.append(outlet_of(found, one, body.snap, crs))
    return moved


def _burned(line: dict[str, Any], source: str, target: str) -> dict[str, Any]:
    astray = line["astray"]
    at = turned(shapely.Point(astray), source, target) if astray else None
    return {
        "number": line["number"] + 1,
        "turned": line["turned"],
        "outside": line["outside"],
        "cut": line["highest_cut"],
        "astray": (at.x, at.y) if at is not None else None,
    }


def _in_view(
    lines: npt.NDArray[np.object_],
    source: str,
    target: str,
    bounds: tuple[float, float, float, float] | None,
    pixel: float | None,
) -> tuple[npt.NDArray[np.object_], npt.NDArray[np.int64]]:
    """Lines in a view, in its CRS and not finer than it shows; and which they are."""
    wanted = np.arange(len(lines))
    if not len(lines):
        return lines, wanted
    lines = turned(lines, source, target)
    if bounds is not None:
        wanted = wanted[shapely.intersects(lines, shapely.box(*bounds))]
    lines = shapely.simplify(lines[wanted], pixel / 2) if pixel is not None else lines[wanted]
    return lines, wanted


def _shown(
    lines: npt.NDArray[np.object_],
    orders: npt.NDArray[np.int64],
    found: StoredDrainage,
    crs: str,
    bounds: tuple[float, float, float, float] | None,
    pixel: float | None,
) -> tuple[list[dict[str, Any]], bool]:
    """Lines in a view, those of high order first; and whether some of low order are left out."""
    lengths = shapely.length(lines)
    lines, wanted = _in_view(lines, found.grid.crs, crs, bounds, pixel)
    order = np.lexsort((-lengths[wanted], -orders[wanted]))
    sizes = np.cumsum(shapely.get_num_coordinates(lines[order]))
    few = order[sizes <= _MOST_PLACES]
    told = [{"order": int(orders[wanted[at]]), "line": _pairs(lines[at])} for at in few]
    return told, len(few) < len(order)


@router.post("/{int:project_id}/drainage/catchments", response={200: CatchmentsOut, 422: Failure})
def read_catchments(request: HttpRequest, project_id: int, body: CatchmentsIn) -> dict[str, Any]:
    """The catchments of outlets."""
    project = open_project(request, project_id)
    found = Asked.of(project, body).found()
    if found is None:
        return {"known": False}
    other = Asked.of(project, body.beside).found() if body.beside is not None else None
    crs = project.frame.grid.crs
    told: list[dict[str, Any]] = []
    for one in body.outlets:
        # each by itself: an outlet that cannot be is told beside those that can
        try:
            made = _catchment(found, one, body.snap, crs, body.pixel, other)
            told.append({**made, "near": _name_at(project, body.named, shapely.Point(made["x"], made["y"]))})
        except InputError as error:
            nothing: dict[str, Any] = {"moved": 0.0, "area": None, "rings": [], "reason": str(error)}
            told.append({"name": one.name, "x": one.x, "y": one.y, **nothing})
    return {"known": True, "catchments": told}


def _catchment(
    found: StoredDrainage, asked: OutletIn, snap: float, crs: str, pixel: float | None, other: StoredDrainage | None
) -> dict[str, Any]:
    made = catchment_of(found, asked, snap, crs)
    (outlet,) = made.outlets
    row, col = divmod(outlet.cell, found.grid.cols)
    at = turned(shapely.Point(float(found.grid.x_of(col)), float(found.grid.y_of(row))), found.grid.crs, crs)
    shape = turned(made.shapes[0], found.grid.crs, crs)
    common = None
    if other is not None:
        try:
            beside = turned(catchment_of(other, asked, snap, crs).shapes[0], other.grid.crs, crs)
            common = float(shapely.area(shape & beside) / shapely.area(shape | beside))
        except InputError:  # it has none there, which its own answer says
            common = None
    if pixel is not None:
        shape = shapely.simplify(shape, pixel)
    rings = [ring for part in shapely.get_parts(shape) for ring in (part.exterior, *part.interiors)]
    return {
        "name": asked.name,
        "x": float(at.x),
        "y": float(at.y),
        "moved": outlet.moved,
        "area": float(made.areas[0]) / 1e6,
        "rings": [_pairs(ring) for ring in rings],
        "common": common,
    }


@router.post("/{int:project_id}/drainage/way", response={200: WayOut, 422: Failure})
def read_way(request: HttpRequest, project_id: int, body: WayIn) -> dict[str, Any]:
    """The way of water from a place down."""
    project = open_project(request, project_id)
    found = Asked.of(project, body).found()
    if found is None:
        return {"known": False}
    crs = project.frame.grid.crs
    x, y = place_of(found, body.x, body.y, crs)
    places, leaves = found.way(x, y)
    row, col = int(np.rint(found.grid.row_of(y))), int(np.rint(found.grid.col_of(x)))
    across, along = found.grid.metres_per_unit()
    length = float(np.hypot(np.diff(places[:, 0]) * across, np.diff(places[:, 1]) * along).sum())
    line = shapely.LineString()
    if body.drawn and len(places) > 1:
        line = turned(shapely.linestrings(places), found.grid.crs, crs)
    return {
        "known": True,
        "ends": _name_at(project, body.named, turned(shapely.Point(places[-1]), found.grid.crs, crs)),
        "line": _pairs(line),
        "length": length,
        "leaves": leaves,
        "drained": float(found.counts[row, col]) * found.cell_area / HECTARE,
    }


def _name_at(project: Project, named: int | None, place: shapely.Point) -> str:
    """The name of what is nearest to a place in frame coordinates, where something is near."""
    if named is None:
        return ""
    found = nearest_named(place.x, place.y, project.frame.grid.crs, [lines_or_areas(project, named)])
    return found.name if found is not None and found.away <= _NEAR else ""


@router.post("/{int:project_id}/drainage/likeness", response={200: LikenessOut, 422: Failure})
def read_likeness(request: HttpRequest, project_id: int, body: LikenessIn) -> dict[str, Any]:
    """How alike streams are to known ones, within the ground that the surface covers."""
    project = open_project(request, project_id)
    found = Asked.of(project, body).found()
    if found is None:
        return {"known": False}
    crs, own = project.frame.grid.crs, found.grid.crs
    reference = plain_lines([lines_or_areas(project, body.reference)], own)
    if not reference:
        raise InputError("The reference has no lines. Choose rivers.")
    streams, _ = network_of(found, body)
    # where the surface is empty nothing could be found
    alike = likeness(list(streams.lines()), found.covered(reference), body.within, found.grid.metres_per_unit())
    places = [turned(shapely.Point(one.x, one.y), own, crs) for one in alike.partings[:_MOST_PARTINGS]]
    return {
        "known": True,
        "found": alike.found,
        "own_near": alike.own_near,
        "mean": alike.mean,
        "median": alike.median,
        "parted": len(alike.partings),
        "partings": [{**vars(one), "x": at.x, "y": at.y} for one, at in zip(alike.partings, places, strict=False)],
    }
