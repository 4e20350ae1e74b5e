"""The register of all operations."""

from __future__ import annotations

from typing import Any

from yama.terrain.errors import InputError
from yama.terrain.operations.operation import Operation

_REGISTER: dict[str, Operation[Any]] = {}


def register(operation: type[Operation[Any]]) -> type[Operation[Any]]:
    """Class decorator that puts an operation into the catalogue."""
    _REGISTER[operation.name] = operation()
    return operation


def catalogue() -> dict[str, Operation[Any]]:
    """All operations by name."""
    return dict(_REGISTER)


def find(name: str) -> Operation[Any]:
    """The operation of that name. Raises InputError with the names there are."""
    if name not in _REGISTER:
        raise InputError(f"There is no operation {name!r}. There are: {', '.join(sorted(_REGISTER))}.")
    return _REGISTER[name]


def describe(operation: Operation[Any]) -> dict[str, Any]:
    """An operation as JSON values, with the JSON Schema of its parameters."""
    return {
        "name": operation.name,
        "title": operation.title,
        "stage": operation.stage,
        "summary": operation.summary,
        "version": operation.version,
        "previews": operation.previews,
        "inputs": {name: vars(role) for name, role in operation.inputs.items()},
        "outputs": {name: vars(output) for name, output in operation.outputs.items()},
        "params": operation.Params.described(),
    }
