"""Looking at what an operation would give before it is run."""

from __future__ import annotations

from base64 import b64encode
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Field, Router, Schema

from yama.service.holdings.kinds.surface import is_coarse
from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.runs.asked import RunIn, prepare
from yama.service.runs.estimates import look_at
from yama.service.schemas import Failure, FindingOut, TableOut
from yama.service.surfaces import keys
from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, Grid
from yama.terrain.operations import Task
from yama.terrain.recipe import part_key
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import span_of, view_picture
from yama.terrain.table import Table

router = Router(tags=["previews"])


class PreviewIn(RunIn):
    """An operation to look at. output: which of what it gives; the first where empty."""

    output: str = Field("", max_length=60)


class PreviewOut(Schema):
    """A preview of one output. `key` is null where there is none of a surface to see.

    outline: rings of x, y around the filled cells. coarse: its tiles carry gradients. cells: how many a run makes. seconds: how long
    it may take here, from the time the outline took. table: of an output that is one, where it takes no time. filled: share of cells
    that are not empty. rough: whether the map shows what only nearly stands for the result. outputs: names of what there is with
    these settings.
    """

    key: str | None
    quantity: str
    findings: list[FindingOut]
    outputs: list[str]
    outline: list[list[tuple[float, float]]]
    cells: int
    cell_size: float
    coarse: bool
    seconds: float
    filled: float
    rough: bool
    holding_id: int | None
    table: TableOut | None


@router.post("/{int:project_id}/previews", response={200: PreviewOut, 422: Failure})
def preview(request: HttpRequest, project_id: int, body: PreviewIn) -> dict[str, Any]:
    """Check an operation and make one of its outputs viewable without keeping it."""
    project = open_project(request, project_id)
    task, step = prepare(project, body)
    output = body.output or task.operation.first
    if body.output:
        task.chosen([body.output])
    told = task.outputs[output]
    key = part_key(step.key, output, task.operation.first)
    existing = Holding.objects.filter(project=project, key=key).first()
    grid = task.grid
    result: dict[str, Any] = {
        "key": None, "quantity": told.quantity or "height", "findings": [finding.to_dict() for finding in task.findings],
        "outputs": list(task.outputs), "outline": [], "cells": grid.cell_count, "cell_size": grid.cell_width, "coarse": False,
        "seconds": 0.0, "filled": 0.0, "rough": False, "holding_id": existing.pk if existing else None, "table": None,
    }  # fmt: skip
    if not task.is_stopped and task.operation.previews == "none":
        result["seconds"] = (task.cost() or 0.0) / cores()
    if task.is_stopped or task.operation.previews == "none":
        return result
    if told.kind == "table":
        result["table"] = _table_of(project, task, output)
    if told.kind != "surface":
        return result
    keys.keep_preview(project_id, step)
    surface, rough = (
        (keys.surface_of_holding(existing), False) if existing else keys.seen_of(project, step, output, task)
    )
    seen = look_at(surface, project.frame.grid, task.cost())
    result.update(
        key=key,
        outline=seen.outline,
        filled=seen.filled,
        rough=rough,
        coarse=is_coarse(project.frame.grid, surface.grid),
        cells=surface.grid.cell_count,
        cell_size=surface.grid.cell_width,
        seconds=seen.seconds,
    )
    return result


def _table_of(project: Project, task: Task, output: str) -> dict[str, Any]:
    found = task.preview(keys.whole_view(project))
    made = found[output] if found is not None else task.run()[output]
    assert isinstance(made, Table)
    return made.to_dict()


class PicturesIn(Schema):
    """Runs to look at side by side in one small area, in frame coordinates, each `width` x `height` pixels."""

    runs: list[RunIn] = Field(max_length=16)
    bounds: tuple[float, float, float, float]
    width: int = Field(ge=16, le=400)
    height: int = Field(ge=16, le=400)


class PictureOut(Schema):
    """A PNG in base64; null where a finding of weight stop, which is told, stands in the way."""

    png: str | None
    said: str = ""


@router.post("/{int:project_id}/pictures", response={200: list[PictureOut], 422: Failure})
def pictures(request: HttpRequest, project_id: int, body: PicturesIn) -> list[dict[str, Any]]:
    """What runs would make of one small area. All heights are coloured over the range of the first."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    frame, bounds = project.frame.grid, Bounds(*body.bounds)
    cell = (bounds.east - bounds.west) / body.width
    if not (all(np.isfinite(bounds)) and cell > 0):
        raise InputError("The area must be four numbers: west, south, east, north.")
    top = (bounds.north + bounds.south + cell * body.height) / 2
    grid = Grid(frame.crs, bounds.west, top, cell, cell, body.height, body.width)
    drawn: list[dict[str, Any]] = []
    span: tuple[float, float] | None = None
    for run in body.runs:
        task, _ = prepare(project, run)
        stop = next((one.sentence for one in task.findings if one.weight == "stop"), "")
        quantity = task.outputs[task.operation.first].quantity
        if task.operation.previews == "none":
            quantity = None  # it takes a job
        if stop or quantity is None:
            drawn.append(
                {"png": None, "said": stop or f"{task.operation.title} makes nothing that can be looked at beforehand."}
            )
            continue
        surface = task.run().surface(task.operation.first)
        span = span or (span_of(surface, grid) if quantity == "height" else None)
        png = view_picture(surface, grid, Dress.usual(quantity, span if quantity == "height" else None))
        drawn.append({"png": b64encode(png).decode()})
    return drawn
