"""How hot loops are compiled: to machine code, without the interpreter's lock, kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numba

_Function = TypeVar("_Function", bound=Callable[..., Any])


def kernel(function: _Function) -> _Function:
    """Compile with exact IEEE arithmetic, for anything that compares, counts or must be reproducible."""
    return cast(_Function, numba.njit(nogil=True, cache=True, error_model="numpy")(function))


def fast_kernel(function: _Function) -> _Function:
    """Compile letting the compiler reorder sums so that loops vectorise. NaN keeps its meaning."""
    loose = {"reassoc", "contract", "arcp", "nsz"}
    return cast(_Function, numba.njit(nogil=True, cache=True, error_model="numpy", fastmath=loose)(function))
