"""What a caller and a child say to each other."""

from __future__ import annotations

import io
import pickle
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Task:
    """What a child is to do, and within which limits; see `apart.call`."""

    module: str
    function: str
    args: tuple[Any, ...]
    about: str
    memory: int
    seconds: float
    reads: list[str]
    folder: str


@dataclass(frozen=True)
class Share:
    """How far a child is, 0 to 1."""

    share: float


@dataclass(frozen=True)
class Done:
    """What the function returned."""

    result: Any


@dataclass(frozen=True)
class Failed:
    """What the function raised."""

    error: Exception


_MODULES = ("yama.terrain.", "numpy.", "shapely.")
_NAMES = {
    ("builtins", "set"), ("builtins", "frozenset"), ("builtins", "complex"), ("builtins", "slice"),
    ("collections", "OrderedDict"), ("collections", "Counter"), ("numpy", "dtype"),
    ("numpy", "ndarray"), ("shapely", "from_wkb"), ("pathlib", "PosixPath"),
}  # fmt: skip


class _Careful(pickle.Unpickler):
    """Builds nothing but the core's own classes and arrays: a child that was taken over must not take over its caller."""

    def find_class(self, module: str, name: str) -> Any:
        if (module, name) in _NAMES or (module.startswith(_MODULES) and "." not in name):
            return super().find_class(module, name)
        raise pickle.UnpicklingError(f"{module}.{name} is nothing that a reader says.")


def loads(message: bytes) -> Any:
    """The message that a child sent."""
    return _Careful(io.BytesIO(message)).load()
