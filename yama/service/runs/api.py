"""The catalogue of operations; running one, storing what is live, making again what was made from something."""

from __future__ import annotations

from typing import Any, Literal

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema

from yama.service.accounts.people import person
from yama.service.holdings.deleted import find_again
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.jobs.api import AcceptedOut, JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.runs.asked import RunIn, prepare
from yama.service.schemas import Failure
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.recipe import below, part_key, parted

router = Router(tags=["runs"])


class RoleOut(Schema):
    """One thing an operation takes."""

    kind: Literal["points", "surface", "cloud", "features", "image", "table"]
    title: str
    many: bool
    optional: bool
    of: list[Literal["lines", "polygons"]]
    quantity: str | None
    column: str | None


class OutputOut(Schema):
    """One thing an operation gives. when: always, or only where it is asked for."""

    kind: Literal["surface", "features", "cloud", "table"]
    title: str
    quantity: str | None
    when: Literal["always", "asked"]


class OperationOut(Schema):
    """An operation; `params` is the JSON Schema of its parameters, with units. previews: what can be seen before it is run. Of
    `outputs` the first is what the desk shows."""

    name: str
    title: str
    stage: str
    summary: str
    version: int
    previews: Literal["exact", "rough", "none"]
    inputs: dict[str, RoleOut]
    outputs: dict[str, OutputOut]
    params: dict[str, Any]


class MakeIn(RunIn):
    """Run an operation; `live` keeps the recipe only. instead_of: the holding that the result is a newer take of."""

    name: str = Field("", max_length=120)
    live: bool = False
    instead_of: int | None = None


@router.get("/operations", response=list[OperationOut])
def list_operations(request: HttpRequest) -> list[dict[str, Any]]:
    """All operations with their parameters."""
    return [operations.describe(operation) for operation in operations.catalogue().values()]


@router.post("/{int:project_id}/runs", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure})
def run(request: HttpRequest, project_id: int, body: MakeIn) -> tuple[int, dict[str, Any]]:
    """Run an operation as a job. Where the same recipe was run before, that holding is returned."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    if any(
        isinstance(one, str)
        for given in body.inputs.values()
        for one in (given if isinstance(given, list) else [given])
    ):
        raise InputError("That is made of something which is only looked at so far. Keep it first, live or stored.")
    task, step = prepare(project, body)
    operation = task.operation
    _ = task.grid  # an impossible one is refused now, not in the job
    task.refuse()
    outputs = task.chosen(body.outputs)
    there = [find_again(project_id, part_key(step.key, name, operation.first)) for name in outputs]
    if all(one is not None and (body.live or not one.live) for one in there):
        return 200, {"holding_id": there[0].pk if there[0] else None}
    name = body.name.strip() or operation.title
    title = name if name.startswith(operation.title) else f"{operation.title}: {name}"
    request_data: dict[str, Any] = {"step": vars(step), "name": name, "live": body.live, "outputs": outputs}
    if body.instead_of is not None:
        older = get_object_or_404(Holding, pk=body.instead_of, project=project)
        request_data["instead_of"] = older.key if older.key != step.key else ""
    return 202, {"job": submit(project, "run", title, request_data, person(request).pk, step.key)}


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/store", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure}
)
def store_live(request: HttpRequest, project_id: int, holding_id: int) -> tuple[int, dict[str, Any]]:
    """Turn a live surface into a file with its own cells."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    if not holding.live:
        return 200, {"holding_id": holding.pk}
    output = parted(holding.key)[1]
    request_data = {
        "step": holding.recipe,
        "name": holding.name,
        "live": False,
        "outputs": [output] if output else None,
    }
    return 202, {
        "job": submit(holding.project, "run", f"Store {holding.name}", request_data, person(request).pk, holding.key)
    }


class RemakeIn(Schema):
    """The holding to take instead."""

    instead: int


@router.post("/{int:project_id}/holdings/{int:holding_id}/remake", response={202: JobOut, 422: Failure})
def remake(request: HttpRequest, project_id: int, holding_id: int, body: RemakeIn) -> tuple[int, Job]:
    """Make everything that was made from a holding again from another, beside what is there, as a job."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    other = get_object_or_404(Holding, pk=body.instead, project_id=project_id)
    if other.pk == holding.pk:
        raise InputError("It is made from that already. Choose another to take instead.")
    if other.kind != holding.kind:
        raise InputError(
            f"{other.name} is of another kind than {holding.name}, so nothing can be made from it instead."
        )
    steps = {one.key: one.step for one in holding.project.holdings.all() if one.step is not None}
    listed = below(holding.key, steps)
    if not listed:
        raise InputError(f"Nothing here was made from {holding.name}.")
    if other.key in listed:
        raise InputError(f"{other.name} was made from {holding.name} itself.")
    title = f"Remake {len(listed)} from {other.name}"
    asked = {"key": holding.key, "instead": other.key}
    return 202, submit(holding.project, "remake", title, asked, person(request).pk)
