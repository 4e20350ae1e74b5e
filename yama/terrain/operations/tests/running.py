"""How tests run an operation: by its name, on things held, on a frame."""

from __future__ import annotations

from typing import Any

from yama.terrain.frame import Frame
from yama.terrain.operations import Result, Task, find, parse_params


def task_for(name: str, given: dict[str, Any], frame: Frame, settings: dict[str, Any] | None = None) -> Task:
    """A task of an operation."""
    return Task(find(name), given, settings or {}, frame)


def first_of(task: Task) -> Result:
    """What a task gives first."""
    return task.run()[task.operation.first]


def codes(task: Task) -> dict[str, Any]:
    """The findings of a task by code."""
    return {one.code: one for one in task.findings}


def quantity_of(name: str, settings: dict[str, Any], output: str = "surface") -> str | None:
    """What the cells of an output say."""
    operation = find(name)
    return operation.outputs_for(parse_params(operation, settings))[output].quantity
