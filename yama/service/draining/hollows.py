"""Hollows of a surface, listed with what they probably are and what somebody said they are."""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import numpy as np
import shapely
from django.http import HttpRequest
from ninja import Field, Router, Schema

from yama.service.accounts.people import person
from yama.service.draining.api import DrainingOut, Line
from yama.service.draining.drained import Asked, DrainedIn, drop_old, folder_of, lines_or_areas
from yama.service.draining.models import SaidOfHollow
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.drain.drainage import Conditioning, Known, hollows_of, told
from yama.terrain.drain.kinds import TITLES, Hollow, Kind
from yama.terrain.drain.stored import keep_hollows, open_hollows
from yama.terrain.errors import InputError
from yama.terrain.features import turned
from yama.terrain.fit.clip import named_polygons
from yama.terrain.grid import turn_between
from yama.terrain.kept import Kept
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import digest

router = Router(tags=["draining"])

_FILE = "hollows.json"
_LEAST_DEPTH = 0.5
_MOST = 1_000
_MOST_SAID = 2_000
_open: Kept[Path, list[Hollow]] = Kept(8)


class HollowsIn(DrainedIn):
    """Which hollows are told: those before conditioning. kind: one of the core's, all where empty. first, count: which
    of them. pixel: units of the frame that outlines are simplified by."""

    kind: Kind | Literal[""] = ""
    first: int = Field(0, ge=0)
    count: int = Field(8, ge=1, le=200)
    pixel: float | None = Field(None, gt=0)


class HollowOut(Schema):
    """A hollow. number: its rank by what it holds. kind, title, why: what it is, in a word, and the evidence. said:
    whether somebody said so. x, y: its lowest place in frame coordinates. depth, level: in metres. area, volume: in
    square and cubic metres. inner: lowest places in it. way: metres of the way on which least must be cut to let it
    out; null where there is none. rings: outlines in frame coordinates."""

    number: int
    kind: Kind
    title: str
    why: str
    said: bool
    x: float
    y: float
    depth: float
    level: float
    cells: int
    area: float
    volume: float
    inner: int
    way: float | None
    rings: list[Line]


class HollowsOut(Schema):
    """Hollows that hold most, known as of streams. total: how many there are of the kind that is asked for; counts: of
    each kind. least_depth: metres below which none are told. cut_short: whether there are more than are told."""

    known: bool
    total: int = 0
    counts: dict[str, int] = {}
    least_depth: float = _LEAST_DEPTH
    cut_short: bool = False
    hollows: list[HollowOut] = []


class SaidIn(Schema):
    """What a hollow is: x, y is its lowest place in frame coordinates. kind: null takes back what was said."""

    x: float
    y: float
    kind: Kind | None


class SaidOut(Schema):
    """What somebody said a hollow is."""

    x: float
    y: float
    kind: Kind


@dataclass(frozen=True)
class HollowsAsked:
    """The hollows of a surface as water over it is asked for, before they are conditioned."""

    asked: Asked
    kept: int | None

    @cached_property
    def folder(self) -> Path:
        """Where they are kept."""
        asked = self.asked
        how = Conditioning(sea=asked.conditioning.sea, burning=asked.conditioning.burning)
        mark = told(asked.surface, how, Known(asked.known.lakes, asked.known.streams))
        return folder_of(asked.project) / f"hollows-{mark[:32]}"

    def found(self) -> list[Hollow] | None:
        """What is known; None where it was not worked out yet."""
        path = self.folder / _FILE
        try:
            os.utime(path)  # looked at just now
            return _open.get(path, lambda: open_hollows(path))
        except FileNotFoundError:  # nobody asked for it yet, or it was dropped
            return None

    def work_out(self, progress: Progress) -> None:
        """Work it out and keep it."""
        asked = self.asked
        asked.surface.prepare(part_of(progress, 0.0, 0.1))
        crs = asked.surface.grid.crs
        lakes = named_polygons([lines_or_areas(asked.project, self.kept)], "name", crs) if self.kept else []
        how, known = asked.conditioning, asked.known
        found = hollows_of(asked.surface, how, known, _LEAST_DEPTH, _MOST, lakes, part_of(progress, 0.1, 1.0))
        keep_hollows(found, self.folder / _FILE)


def find_hollows(job: Job, progress: Progress) -> Outcome:
    """Work out the hollows of a surface."""
    project = Project.objects.get(pk=job.project_id)
    body = DrainedIn(**job.request)
    HollowsAsked(Asked.of(project, body), body.kept).work_out(progress)
    drop_old(folder_of(project), _FILE)
    return Outcome()


@router.post("/{int:project_id}/drainage/hollows", response={200: DrainingOut, 202: DrainingOut, 422: Failure})
def work_out_hollows(request: HttpRequest, project_id: int, body: DrainedIn) -> tuple[int, dict[str, Job | None]]:
    """Find the hollows of a surface, as a job, where that was not done yet."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    asked = HollowsAsked(Asked.of(project, body), body.kept)
    if asked.found() is not None:
        return 200, {"job": None}
    key = digest("hollows", asked.folder.name)[:32]
    title = f"Hollows of {asked.asked.holding.name}"
    return 202, {"job": submit(project, "find_hollows", title, body.model_dump(), person(request).pk, key)}


def said_in(project: Project) -> list[dict[str, Any]]:
    """What was said of hollows, in the frame's CRS, the latest last."""
    crs = project.frame.grid.crs
    said = []
    for one in SaidOfHollow.objects.filter(project=project):
        x, y = (one.x, one.y) if one.crs == crs else turn_between(one.crs, crs).transform(one.x, one.y)
        said.append({"x": float(x), "y": float(y), "kind": one.kind})
    return said


@router.post("/{int:project_id}/drainage/hollows/list", response={200: HollowsOut, 422: Failure})
def list_hollows(request: HttpRequest, project_id: int, body: HollowsIn) -> dict[str, Any]:
    """The hollows of a surface, what holds most first."""
    project = open_project(request, project_id)
    asked = HollowsAsked(Asked.of(project, body), body.kept)
    found = asked.found()
    if found is None:
        return {"known": False}
    own, crs = asked.asked.surface.grid.crs, project.frame.grid.crs
    shapes = np.array([one.shape for one in found], object)
    kinds: list[Kind | None] = [None] * len(found)
    said = said_in(project)
    if said and len(found):
        places = turned(np.array([shapely.Point(one["x"], one["y"]) for one in said], object), crs, own)
        for which, hollow in shapely.STRtree(shapes).query(places, predicate="intersects").T.tolist():
            kinds[hollow] = said[which]["kind"]  # what was said last stays
    counts: dict[str, int] = dict.fromkeys(TITLES, 0)
    rows = []
    for number, (one, said_kind) in enumerate(zip(found, kinds, strict=True)):
        kind = said_kind or one.kind
        counts[kind] += 1
        if body.kind in ("", kind):
            rows.append((number, one, kind, said_kind is not None))
    return {
        "known": True,
        "total": len(rows),
        "counts": counts,
        "cut_short": len(found) >= _MOST,
        "hollows": [_told(*row, own, crs, body.pixel) for row in rows[body.first : body.first + body.count]],
    }


def _told(number: int, one: Hollow, kind: Kind, said: bool, own: str, crs: str, pixel: float | None) -> dict[str, Any]:
    at = turned(shapely.Point(one.x, one.y), own, crs)
    shape = turned(one.shape, own, crs)
    if pixel is not None:
        shape = shapely.simplify(shape, pixel / 2)
    return {
        "number": number + 1,
        "kind": kind,
        "title": TITLES[kind],
        "why": "Somebody of the project said so." if said else one.why,
        "said": said,
        "x": float(at.x),
        "y": float(at.y),
        "depth": one.depth,
        "level": one.level,
        "cells": one.cells,
        "area": one.area,
        "volume": one.volume,
        "inner": one.inner,
        "way": None if np.isnan(one.way) else one.way,
        "rings": [
            [(x, y) for x, y in shapely.get_coordinates(part.exterior).round(3).tolist()]
            for part in shapely.get_parts(shape)
        ],
    }


@router.get("/{int:project_id}/drainage/hollows/said", response=list[SaidOut])
def list_said(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """What was said of hollows."""
    return said_in(open_project(request, project_id))


@router.put("/{int:project_id}/drainage/hollows/said", response={200: list[SaidOut], 422: Failure})
def say_of_hollow(request: HttpRequest, project_id: int, body: SaidIn) -> list[dict[str, Any]]:
    """Say what a hollow is, or take back what was said of it."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    grid = project.frame.grid
    held = SaidOfHollow.objects.filter(project=project)
    # what was said of the same place before is no longer said
    near = max(grid.cell_width, grid.cell_height)
    here = [
        pk
        for pk, one in zip(held.values_list("pk", flat=True), said_in(project), strict=True)
        if max(abs(one["x"] - body.x), abs(one["y"] - body.y)) <= near
    ]
    held.filter(pk__in=here).delete()
    if body.kind is not None:
        if held.count() >= _MOST_SAID:
            raise InputError(f"Of {_MOST_SAID} hollows it was said what they are. Take some of it back first.")
        SaidOfHollow.objects.create(project=project, x=body.x, y=body.y, crs=grid.crs, kind=body.kind)
    return said_in(project)
