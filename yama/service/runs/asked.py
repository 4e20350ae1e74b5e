"""An operation as it is asked for."""

from __future__ import annotations

from typing import Any

from ninja import Field, Schema

from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.held import Held
from yama.terrain.operations import Task
from yama.terrain.recipe import Step


class RunIn(Schema):
    """An operation with its parameters; `inputs` are holdings by role, several where the role takes many, or keys of
    previews of surfaces, which can be looked at through other operations. outputs: those to make beside the ones that
    are always made."""

    operation: str = Field(max_length=60)
    params: dict[str, Any] = {}
    inputs: dict[str, int | str | list[int | str]]
    outputs: list[str] = Field([], max_length=20)


def prepare(project: Project, body: RunIn) -> tuple[Task, Step]:
    """Task and step of a request. Raises InputError."""
    operation = operations.find(body.operation)
    held: dict[str, list[Held]] = {}
    chosen: dict[str, str | list[str]] = {}
    for name, given in body.inputs.items():
        asked = list(dict.fromkeys(given if isinstance(given, list) else [given]))
        numbers = [one for one in asked if isinstance(one, int)]
        found = Holding.objects.filter(project=project).in_bulk(numbers)
        if len(found) != len(numbers):
            raise InputError(f"{operation.title}: a holding chosen as {name} is not in this project.")
        both = [keys.look_up(project.pk, one if isinstance(one, str) else found[one]) for one in asked]
        held[name], chosen[name] = [thing for thing, _ in both], [key for _, key in both]
    params, _ = operation.upgraded(body.params)  # a desk may remember those of before
    task = Task(operation, held, params, project.frame)
    return task, operations.make_step(operation, task.params, chosen, project.frame)
