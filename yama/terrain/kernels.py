"""How hot loops are compiled: to machine code, without the interpreter's lock, kept on disk.

The compiler itself is loaded when the first of them runs, so that commands which run none need not wait for it.
"""

from __future__ import annotations

import copyreg
import functools
import importlib
import sys
import threading
from collections.abc import Callable
from types import ModuleType
from typing import Any, TypeVar, cast

_Function = TypeVar("_Function", bound=Callable[..., Any])
_lock = threading.RLock()


def _from_module(module: str, name: str) -> Any:
    return getattr(importlib.import_module(module), name)


def _by_name(compiled: Any) -> Any:
    """How what the compiler made is sent to another process: by its name, where it is one of ours, so that it is found
    there compiled; else all of it would be compiled again there for each that is sent."""
    function = compiled.py_func
    if getattr(sys.modules.get(function.__module__), function.__name__, None) is compiled:
        return _from_module, (function.__module__, function.__name__)
    return compiled.__reduce__()


class Waiting:
    """A kernel that nobody has called yet. When it is called it gives way, in its module and in those that took it from there, to
    what the compiler makes of it, and so do the kernels that it calls."""

    def __init__(self, function: Callable[..., Any], options: dict[str, Any]) -> None:
        functools.update_wrapper(self, function)
        self.py_func = function
        self._options = options
        self._made: Any = None

    def compiled(self) -> Any:
        """What the compiler makes of it."""
        with _lock:
            if self._made is None:
                import numba

                copyreg.pickle(numba.core.registry.CPUDispatcher, _by_name)
                self._made = numba.njit(nogil=True, cache=True, error_model="numpy", **self._options)(self.py_func)
                self._bring_called()
                self._give_way()
            return self._made

    def _bring_called(self) -> None:
        """The compiler must find compiled what this calls."""
        there = self.py_func.__globals__
        for name in self.py_func.__code__.co_names:
            if isinstance(there.get(name), Waiting):
                there[name] = there[name].compiled()

    def _give_way(self) -> None:
        for module in [one for name, one in list(sys.modules.items()) if name.startswith("yama.")]:
            held = vars(module) if isinstance(module, ModuleType) else {}
            if held.get(self.py_func.__name__) is self:
                held[self.py_func.__name__] = self._made

    def __reduce__(self) -> tuple[Callable[[str, str], Any], tuple[str, str]]:
        # another process takes it from its own module, where it is compiled from a file
        return _from_module, (self.py_func.__module__, self.py_func.__name__)

    def __call__(self, *args: Any) -> Any:
        # kernels that are handed on to others must be compiled too
        return self.compiled()(*(one.compiled() if isinstance(one, Waiting) else one for one in args))


def kernel(function: _Function) -> _Function:
    """Compile with exact IEEE arithmetic, for anything that compares, counts or must be reproducible."""
    return cast(_Function, Waiting(function, {}))


def fast_kernel(function: _Function) -> _Function:
    """Compile letting the compiler round a product and a sum once and not twice. Nothing is reordered: a cell has the same value
    whatever loop it is computed in."""
    return cast(_Function, Waiting(function, {"fastmath": {"contract"}}))
