"""Things that are made when first asked for and kept a while, and surfaces made of parts of that kind."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from yama.terrain.grid import Window

Key = TypeVar("Key", bound=Hashable)
Thing = TypeVar("Thing")


class Kept(Generic[Key, Thing]):
    """The last `most` things that were asked for, each made once whatever threads ask. Copied or sent to another process it
    is empty there."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._things: OrderedDict[Key, Thing] = OrderedDict()
        self._making: dict[Key, threading.Lock] = {}
        self._lock = threading.Lock()

    def __getstate__(self) -> dict[str, Any]:
        return {"most": self._most}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["most"])  # type: ignore[misc]

    def get(self, key: Key, make: Callable[[], Thing]) -> Thing:
        """The thing of a key, made by `make` where it is not there. What `make` raises is raised here, and kept nowhere."""
        with self._lock:
            if key in self._things:
                self._things.move_to_end(key)
                return self._things[key]
            making = self._making.setdefault(key, threading.Lock())
        with making:
            with self._lock:
                if key in self._things:
                    return self._things[key]
            try:
                made = make()
            except BaseException:
                with self._lock:
                    self._making.pop(key, None)
                raise
            with self._lock:  # at once: who comes between would make it again
                self._things[key] = made
                self._making.pop(key, None)
                while len(self._things) > self._most:
                    self._things.popitem(last=False)
            return made


@dataclass(frozen=True)
class Part:
    """A square of a grid that a window meets: its row and column among the squares, where its cells that the window wants
    lie in it, and where they go."""

    row: int
    col: int
    taken: tuple[slice, slice]
    put: tuple[slice, slice]


def parts_of(window: Window, rows: int, cols: int, side: int) -> Iterator[Part]:
    """The squares of `side` cells, of a grid of so many rows and columns, that a window meets."""
    inside = window.clipped(rows, cols)
    for row in range(inside.row // side, -(-(inside.row + inside.rows) // side)):
        for col in range(inside.col // side, -(-(inside.col + inside.cols) // side)):
            top, left = max(inside.row, row * side), max(inside.col, col * side)
            bottom = min(inside.row + inside.rows, (row + 1) * side)
            right = min(inside.col + inside.cols, (col + 1) * side)
            if bottom > top and right > left:
                yield Part(
                    row, col,
                    (slice(top - row * side, bottom - row * side), slice(left - col * side, right - col * side)),
                    (slice(top - window.row, bottom - window.row), slice(left - window.col, right - window.col)),
                )  # fmt: skip
