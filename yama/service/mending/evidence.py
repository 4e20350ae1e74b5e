"""What speaks for and against a repair: what is suspect in a surface, and how far images jump through it."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import shapely
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, SURFACE
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.mending.log import changes_of
from yama.service.mending.models import Stack
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside, polygons_of
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Bounds, Grid, metres_per_unit, turn_between
from yama.terrain.held import Held
from yama.terrain.mend.patches import KeepOut, Patch, Places, outlines
from yama.terrain.mend.stack import Entry, entries_of
from yama.terrain.mend.suspects import TITLES, Suspect, cross, proposal, suspects
from yama.terrain.operations import Task
from yama.terrain.operations.suspects import suspects_of
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import span_of, view_picture
from yama.terrain.stereo.ortho import JumpSurface
from yama.terrain.surface import Surface
from yama.terrain.units import in_unit

router = Router(tags=["patches"])

_MOST_CELLS = 9_000_000
_FARTHEST = 10  # cells of the surface
_PICTURE = 88  # pixels along each side
_AROUND = 2.6  # times the length of a suspect that its picture shows


class SuspectsIn(Schema):
    """Where to look. key: the surface that is looked at, the mended one as a rule; the untouched one where empty.
    bounds: a view in frame coordinates, in which suspects are found at once. found: a holding of suspects that a run
    found on every cell, instead. waters: a holding with lakes. kind: one of them alone. first, count: which of them,
    worst first, are told with pictures."""

    key: str = Field("", max_length=80)
    bounds: tuple[float, float, float, float] | None = None
    found: int | None = None
    waters: int | None = None
    kind: str = Field("", max_length=12)
    first: int = Field(0, ge=0)
    count: int = Field(24, ge=1, le=60)


class SuspectOut(Schema):
    """Something that is probably wrong: where, how high above (or below) what is around it in metres, how long, and
    why it is told. across: degrees from north of the line that shows it; distance, before, after: heights along it in
    metres, as they are and as the proposed patch makes them. png: a picture in base64. patch: the proposal, as the
    stack takes it."""

    kind: Literal["spike", "pit", "step", "water", "trees", "hole"]
    title: str
    x: float
    y: float
    height: float
    cells: int
    length: float
    across: float
    why: str
    ring: list[tuple[float, float]]
    distance: list[float]
    before: list[float | None]
    after: list[float | None]
    png: str
    patch: dict[str, Any]


class SuspectsOut(Schema):
    """How many there are of each kind, and those that were asked for, worst first."""

    counts: dict[str, int]
    total: int
    suspects: list[SuspectOut]


def _entries(holding: Holding) -> list[Entry]:
    stack = Stack.objects.filter(surface=holding).first()
    return [] if stack is None else entries_of(changes_of(stack))


def _real(entries: Sequence[Entry], crs: str, grid: Grid) -> list[shapely.Polygon]:
    """Areas that people have said are real, in a grid's CRS."""
    said = [
        KeepOut.model_validate(one.content).turned(crs, grid)
        for one in entries
        if one.kind == "keep_out" and one.content.get("real")
    ]
    return outlines(said, grid)


def _done(entries: Sequence[Entry], crs: str, grid: Grid) -> list[shapely.Polygon]:
    """Outlines of patches that are on."""
    on = [
        Patch.model_validate(one.content).turned(crs, grid)
        for one in entries
        if one.kind == "patch" and one.content["on"]
    ]
    found: list[shapely.Polygon] = []
    for one in on:
        try:
            found.append(one.outline(grid))
        except InputError:  # told by the list of patches; it repairs nothing
            continue
    return found


@router.post("/{int:project_id}/holdings/{int:holding_id}/suspects", response={200: SuspectsOut, 422: Failure})
def find_suspects(request: HttpRequest, project_id: int, holding_id: int, body: SuspectsIn) -> dict[str, Any]:
    """What is probably wrong in a view of a surface, or on all of it where a run has found that."""
    holding = open_holding(request, project_id, holding_id)
    SURFACE.require(holding)
    project = holding.project
    surface = in_unit(keys.surface_of(project_id, body.key or holding.key)[0], "m")
    grid, crs = surface.grid, project.frame.grid.crs
    entries = _entries(holding)
    real = _real(entries, crs, grid)
    if body.found is not None:
        made = get_object_or_404(Holding, pk=body.found, project=project)
        FEATURES.require(made)
        listed = suspects_of(features_of(made).in_crs(grid.crs))
        gone = shapely.STRtree([*real, *_done(entries, crs, grid)])
        listed = [one for one in listed if not gone.query(shapely.Point(one.x, one.y), predicate="within").size]
    elif body.bounds is not None:
        listed = _in_view(project_id, surface, Bounds(*body.bounds), crs, body.waters, real)
    else:
        raise InputError("Say where to look: a view, or what a run has found.")
    counts = {kind: sum(one.kind == kind for one in listed) for kind in TITLES}
    chosen = [one for one in listed if body.kind in ("", one.kind)]
    return {
        "counts": {kind: count for kind, count in counts.items() if count},
        "total": len(listed),
        "suspects": [_told(surface, one, crs) for one in chosen[body.first : body.first + body.count]],
    }


def _in_view(
    project_id: int, surface: Surface, bounds: Bounds, crs: str, waters: int | None, real: list[shapely.Polygon]
) -> list[Suspect]:
    grid = surface.grid
    if not all(np.isfinite(bounds)):
        raise InputError("The view must be four numbers: west, south, east, north.")
    turned = bounds if crs == grid.crs else Bounds(*turn_between(crs, grid.crs).transform_bounds(*bounds))
    window = grid.window_over(turned).clipped(grid.rows, grid.cols)
    if window.rows <= 0 or window.cols <= 0:
        return []
    if window.rows * window.cols > _MOST_CELLS:
        raise InputError(
            f"This view holds {window.rows * window.cols / 1e6:.0f} million cells; suspects are found at once in up to "
            f"{_MOST_CELLS / 1e6:.0f} million. Come nearer, or find them on every cell."
        )
    lakes: list[shapely.Polygon] = []
    if waters is not None:
        held = get_object_or_404(Holding, pk=waters, project_id=project_id)
        FEATURES.require(held)
        lakes = polygons_of([features_of(held)], grid.crs)
    return suspects(surface, window, lakes, real)


def _told(surface: Surface, one: Suspect, crs: str) -> dict[str, Any]:
    patch = proposal(one, surface.grid)
    along = cross(surface, one, patch)
    back = turn_between(surface.grid.crs, crs)
    x, y = back.transform(one.x, one.y)
    across, up = metres_per_unit(crs, float(x), float(y))
    cell = max(surface.grid.metres_per_cell())
    half = max(one.length * _AROUND, 24 * cell) / 2
    view = Grid(
        crs,
        float(x) - half / across,
        float(y) + half / up,
        2 * half / across / _PICTURE,
        2 * half / up / _PICTURE,
        _PICTURE,
        _PICTURE,
    )
    png = view_picture(surface, view, Dress.usual("height", span_of(surface, view)))
    content = patch.model_dump(mode="json")
    for name in ("ring", "line"):
        if content[name]:
            content[name] = [list(back.transform(*place)) for place in content[name]]
    return {
        "kind": one.kind,
        "title": TITLES[one.kind],
        "x": float(x),
        "y": float(y),
        "height": one.height,
        "cells": one.cells,
        "length": one.length,
        "across": one.across,
        "why": one.why,
        "ring": [back.transform(*place) for place in one.ring],
        "distance": along.distance.round(2).tolist(),
        "before": _plain(along.before),
        "after": _plain(along.after),
        "png": b64encode(png).decode(),
        "patch": content,
    }


def _plain(values: Any) -> list[float | None]:
    return [round(float(value), 2) if np.isfinite(value) else None for value in values]


class JumpIn(Schema):
    """Images of a pair, the surfaces through which they are laid (keys of up to four), and an outline in frame
    coordinates. inputs: the pair's images and, where there are any, its adjusted models and its geoid, by role."""

    inputs: dict[str, int]
    keys: list[str] = Field(min_length=1, max_length=4)
    ring: Places = Field(min_length=3)


class JumpOut(Schema):
    """By surface: how many cells of it the ground jumps at most between what both images show, for nine tenths of the
    cells inside the outline where both look alike; the share of these; and how far in metres the surface seems too
    high. Null where nothing looks alike."""

    jumps: dict[str, float | None]
    alike: dict[str, float]
    heights: dict[str, float | None]


@router.post("/{int:project_id}/jumps", response={200: JumpOut, 422: Failure})
def jump(request: HttpRequest, project_id: int, body: JumpIn) -> dict[str, Any]:
    """How far the ground inside an outline jumps between the images of a pair."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    told: dict[str, Any] = {"jumps": {}, "alike": {}, "heights": {}}
    operation, in_metres = operations.find("image_jump"), replace(project.frame, unit="m")
    chosen = Holding.objects.filter(project=project).in_bulk(body.inputs.values())
    if len(chosen) != len(set(body.inputs.values())):
        raise InputError("An image of the pair, its models or its geoid is no longer in this project. Choose again.")
    held: dict[str, list[Held]] = {role: [keys.held_by(chosen[pk])] for role, pk in body.inputs.items()}
    for key in body.keys:
        # what jumps farther than is looked for is told as unlike
        task = Task(operation, {**held, "surface": [keys.look_up(project_id, key)[0]]}, {"most": _FARTHEST}, in_metres)
        task.refuse()
        surface = task.run().surface("surface")
        assert isinstance(surface, JumpSurface)
        grid = project.frame.grid
        area = KeepOut.model_validate({"name": "", "ring": body.ring}).outline(grid)
        window = grid.window_over(Bounds(*area.bounds)).clipped(grid.rows, grid.cols)
        if window.rows * window.cols > _MOST_CELLS:
            raise InputError("The outline is too large to compare the images in. Draw a smaller one.")
        if window.rows <= 0 or window.cols <= 0:
            raise InputError("The outline lies outside of the frame.")
        within = inside([area], grid, window) > 0
        found = fitted(surface, grid, "nearest").read(window)[within]
        known = found[np.isfinite(found)].astype(np.float64)
        told["alike"][key] = len(known) / max(len(found), 1)
        told["heights"][key] = float(np.median(known)) if len(known) else None
        told["jumps"][key] = float(np.percentile(np.abs(known), 90)) * surface.cells_per_metre if len(known) else None
    return told
