"""What the strip's tabs ask for: profiles along a line, and how heights are distributed over an area."""

from __future__ import annotations

from typing import Any

import orjson
from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES
from yama.service.projects.access import open_project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import polygons_of
from yama.terrain.judge.distribution import Over, distributions
from yama.terrain.operations.heights import Ring, area_of
from yama.terrain.relief.profile import courses, finest, track

router = Router(tags=["figures"])

_QUICK_CELLS = 1_000_000
"""Cells that are looked at while somebody waits."""


class ProfileIn(Schema):
    """A line in frame coordinates, and the surfaces to read along it. cells: as steps from cell to cell, not bilinearly."""

    keys: list[str] = Field(min_length=1, max_length=8)
    line: list[tuple[float, float]]
    cells: bool = False


class CourseOut(Schema):
    """A surface along the line: null where it is empty. climb, fall: in the frame's unit, as heights; steepest: in per cent."""

    heights: list[float | None]
    lowest: float | None
    highest: float | None
    mean: float | None
    climb: float | None
    fall: float | None
    steepest: float | None


class ProfileOut(Schema):
    """Places along the line, every `step` metres: distance from its start in metres, x and y; and surfaces by key."""

    distance: list[float]
    x: list[float]
    y: list[float]
    step: float
    courses: dict[str, CourseOut]


@router.post("/{int:project_id}/profiles", response={200: ProfileOut, 422: Failure})
def profile(request: HttpRequest, project_id: int, body: ProfileIn) -> HttpResponse:
    """Heights of surfaces along a line, at the cells of the finest of them."""
    project = open_project(request, project_id)
    wanted = list(dict.fromkeys(body.keys))
    held = [keys.shown(project, key) for key in wanted]
    crs = project.frame.grid.crs
    along = track(body.line, crs, finest([one.grid for one in held]))
    found = courses(held, along, crs, body.cells)
    told = {
        "distance": along.distance.round(3).tolist(), "x": along.x.round(3).tolist(), "y": along.y.round(3).tolist(),
        "step": along.step, "courses": {key: course.to_dict() for key, course in zip(wanted, found, strict=True)},
    }  # fmt: skip
    # checking and writing so many numbers as other answers are would take longer than reading them
    return HttpResponse(orjson.dumps(told), content_type="application/json")


class HeightsIn(Schema):
    """Surfaces in A and B by key, an area, and levels. The area is a rectangle, a drawn ring, polygons held in the project, or what
    lies in all that are given; all of the frame where none is. levels: lower and upper, in the frame's unit; about: of A - B."""

    a: str | None = None
    b: str | None = None
    bounds: tuple[float, float, float, float] | None = None
    ring: Ring | None = Field(None, max_length=10_000)
    area: int | None = None
    levels: tuple[float, float] | None = None
    about: tuple[float, float] = (0.0, 0.0)


class ZoneOut(Schema):
    """Cells below, between or above levels: how many, their area in m², and m³ between the ground and the nearer level."""

    cells: int
    area: float
    volume: float


class DistributionOut(Schema):
    """Figures of the filled cells of an area; null where there are none. cell: their width in metres. quantiles: at 1, 5, 25, 50,
    75, 95 and 99 %. counts: of 64 equal steps from `first` to `last`."""

    cell: float
    cells: int
    empty: int
    lowest: float | None
    highest: float | None
    mean: float | None
    deviation: float | None
    skew: float | None
    nmad: float | None
    quantiles: list[float]
    first: float
    last: float
    counts: list[int]
    below: ZoneOut | None
    between: ZoneOut | None
    above: ZoneOut | None


class HeightsOut(Schema):
    """Distributions of A, of B and of A - B."""

    a: DistributionOut | None
    b: DistributionOut | None
    minus: DistributionOut | None


@router.post("/{int:project_id}/heights", response={200: HeightsOut, 422: Failure})
def heights(request: HttpRequest, project_id: int, body: HeightsIn) -> dict[str, Any]:
    """Heights over an area, from at most a million cells of it. The operation `heights` reads every cell, as a job."""
    project = open_project(request, project_id)
    polygons = []
    if body.area is not None:
        held = project.holdings.filter(pk=body.area, kind=FEATURES.name).first()
        polygons = polygons_of([features_of(held)], project.frame.grid.crs) if held else []
        if not polygons:
            raise InputError("What is chosen as area holds no polygon. Choose another.")
    bounds, within = area_of(body.bounds, body.ring, polygons)
    first, second = (keys.shown(project, key) if key else None for key in (body.a, body.b))
    return distributions(first, second, project.frame, Over(bounds, within, _QUICK_CELLS), body.levels, body.about)
