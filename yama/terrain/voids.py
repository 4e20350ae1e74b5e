"""Holes: groups of empty cells, found in one pass over the rows of a surface of any size.

Two-pass connected-component labelling (A. Rosenfeld and J. Pfaltz, "Sequential operations in digital picture
processing", JACM 13, 1966) with union-find, run strip by strip: after each strip only the labels of its last row stay
open, so memory is bounded by the width of the grid whatever its height.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.grid import Window
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.surface import Surface

ndimage = later("scipy.ndimage")
rasterio = later("rasterio")

_KEPT = 200
"""Holes that are remembered one by one; of the others only number and area."""

_AREA, _TOP, _LEFT, _BOTTOM, _RIGHT, _EDGE = range(6)


@dataclass(frozen=True)
class Hole:
    """Empty cells that touch along their sides. top, left, bottom, right: its rows and columns, inclusive."""

    cells: int
    top: int
    left: int
    bottom: int
    right: int

    def to_dict(self) -> dict[str, int]:
        """Plain JSON values."""
        return dict(vars(self))


@dataclass(frozen=True)
class Holes:
    """All holes of a surface that its data surround, largest first as far as kept, and the cells outside its data."""

    count: int
    cells: int
    outside: int
    largest: list[Hole]

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "largest": [hole.to_dict() for hole in self.largest]}


@kernel
def _root(parent, label):
    while parent[label] != label:
        parent[label] = parent[parent[label]]
        label = parent[label]
    return label


@kernel
def _label(empty, first_row, above, parent, facts, used, last):
    """Label one strip. above: labels of the row before it, -1 where full; becomes those of the strip's last row."""
    rows, cols = empty.shape
    for r in range(rows):
        left = -1
        for c in range(cols):
            if not empty[r, c]:
                above[c] = -1
                left = -1
                continue
            label = above[c]
            if label >= 0:
                label = _root(parent, label)
                if left >= 0 and left != label:
                    other = _root(parent, left)
                    if other != label:
                        if facts[other, 0] > facts[label, 0]:
                            label, other = other, label
                        parent[other] = label
                        facts[label, 0] += facts[other, 0]
                        facts[label, 1] = min(facts[label, 1], facts[other, 1])
                        facts[label, 2] = min(facts[label, 2], facts[other, 2])
                        facts[label, 3] = max(facts[label, 3], facts[other, 3])
                        facts[label, 4] = max(facts[label, 4], facts[other, 4])
                        facts[label, 5] = max(facts[label, 5], facts[other, 5])
            elif left >= 0:
                label = _root(parent, left)
            else:
                label = used
                used += 1
                parent[label] = label
                facts[label, 0] = 0
                facts[label, 1] = first_row + r
                facts[label, 2] = c
                facts[label, 3] = first_row + r
                facts[label, 4] = c
                facts[label, 5] = 0
            facts[label, 0] += 1
            facts[label, 2] = min(facts[label, 2], c)
            facts[label, 3] = first_row + r
            facts[label, 4] = max(facts[label, 4], c)
            if c == 0 or c == cols - 1 or first_row + r == 0 or (last and r == rows - 1):
                facts[label, 5] = 1
            above[c] = label
            left = label
    return used


class HoleFinder:
    """Feed it the rows of a surface, top to bottom, `add` by `add`; then ask for the `result`."""

    def __init__(self, rows: int, cols: int) -> None:
        self._rows, self._cols = rows, cols
        self._row = 0
        self._above = np.full(cols, -1, np.int64)
        self._open = np.empty((0, 6), np.int64)
        self._ended: list[npt.NDArray[np.int64]] = []
        self._count = self._cells = self._outside = 0

    def add(self, empty: npt.NDArray[np.bool_]) -> None:
        """The next rows: `(any number, cols)`, true where empty."""
        if not empty.any() and not len(self._open):  # most strips of most surfaces
            self._row += len(empty)
            return
        before = len(self._open)
        capacity = before + empty.size // 2 + empty.shape[0] + 1
        parent, facts = np.empty(capacity, np.int64), np.empty((capacity, 6), np.int64)
        parent[:before], facts[:before] = np.arange(before), self._open
        last = self._row + len(empty) >= self._rows
        used = _label(empty, self._row, self._above, parent, facts, before, last)
        self._row += len(empty)
        parent, facts = parent[:used], facts[:used]
        roots = np.array([_root(parent, label) for label in np.unique(self._above[self._above >= 0])], np.int64)
        open_roots = np.unique(roots)
        ended = np.flatnonzero(parent == np.arange(used))
        self._end(facts[np.setdiff1d(ended, open_roots)])
        self._open = facts[open_roots]
        lines = self._above >= 0
        where = np.array([_root(parent, label) for label in self._above[lines]], np.int64)
        self._above[lines] = np.searchsorted(open_roots, where)

    def _end(self, facts: npt.NDArray[np.int64]) -> None:
        edge = facts[:, _EDGE] == 1
        self._outside += int(facts[edge, _AREA].sum())
        inner = facts[~edge]
        self._count += len(inner)
        self._cells += int(inner[:, _AREA].sum())
        self._ended.append(inner[np.argsort(-inner[:, _AREA], kind="stable")[:_KEPT]])
        if len(self._ended) > 64:
            self._ended = [self._best()]

    def _best(self) -> npt.NDArray[np.int64]:
        every = np.vstack([*self._ended, np.empty((0, 6), np.int64)])
        return every[np.lexsort((every[:, _LEFT], every[:, _TOP], -every[:, _AREA]))[:_KEPT]]

    @property
    def result(self) -> Holes:
        """What was found, when all rows were given."""
        self._end(self._open)
        self._open = np.empty((0, 6), np.int64)
        kept = [Hole(*(int(value) for value in row[:5])) for row in self._best()]
        return Holes(self._count, self._cells, self._outside, kept)


def holes_of(surface: Surface) -> Holes:
    """All holes of a surface, read strip by strip."""
    grid = surface.grid
    finder = HoleFinder(grid.rows, grid.cols)
    strip = max(1, (1 << 22) // grid.cols)
    for row in range(0, grid.rows, strip):
        finder.add(np.isnan(surface.read(Window(row, 0, min(strip, grid.rows - row), grid.cols))))
    return finder.result


@dataclass(frozen=True)
class HoleShape:
    """A hole as a polygon along the edges of its cells, in the CRS of its surface.

    area: square metres. exact: false where the hole is so wide that it was traced on larger cells.
    """

    cells: int
    area: float
    polygon: Any
    exact: bool


_TRACED = 16_000_000
"""Cells of a window in which a hole is traced at once: 16 MB of flags."""


def outlines(surface: Surface, holes: Sequence[Hole]) -> list[HoleShape]:
    """The shapes of holes, in their order. Islands of data within a hole are holes of its polygon.

    Reads the rows and columns of each hole and one cell around, so memory is bounded by `_TRACED` flags and one strip.
    """
    found = []
    for hole in holes:
        middle = Window(hole.top, hole.left, hole.bottom - hole.top + 1, hole.right - hole.left + 1)
        width, height = surface.grid.part(middle).metres_per_cell()
        level = 0
        while ((hole.bottom - hole.top + 3) >> level) * ((hole.right - hole.left + 3) >> level) > _TRACED:
            level += 1
        grid = surface.grid.at_level(level)
        top, left = hole.top >> level, hole.left >> level
        window = Window(top, left, (hole.bottom >> level) - top + 1, (hole.right >> level) - left + 1).grown(1)
        empty = np.zeros((window.rows, window.cols), np.bool_)
        strip = max(1, (1 << 22) // window.cols)
        for row in range(0, window.rows, strip):
            part = Window(window.row + row, window.col, min(strip, window.rows - row), window.cols)
            empty[row : row + part.rows] = np.isnan(surface.read(part, level))
        labels, count = ndimage.label(empty)
        boxes = ndimage.find_objects(labels)
        sizes = np.bincount(labels.ravel(), minlength=count + 1)
        inner = [
            number for number in range(1, count + 1)
            if boxes[number - 1][0].start == 1 and boxes[number - 1][1].start == 1
            and boxes[number - 1][0].stop == window.rows - 1 and boxes[number - 1][1].stop == window.cols - 1
        ]  # fmt: skip
        if not inner:  # larger cells closed it
            continue
        chosen = min(inner, key=lambda number: abs(int(sizes[number]) * 4**level - hole.cells))
        mask = labels == chosen
        rings, _ = max(
            rasterio.features.shapes(mask.astype(np.uint8), mask=mask, connectivity=4),
            key=lambda one: len(one[0]["coordinates"][0]),
        )
        polygon = shapely.geometry.shape(rings)

        def placed(cells: npt.NDArray[np.float64], grid: Any = grid, window: Window = window) -> Any:
            return np.column_stack(
                [grid.x_of(cells[:, 0] + window.col - 0.5), grid.y_of(cells[:, 1] + window.row - 0.5)]
            )

        area = hole.cells * width * height
        found.append(HoleShape(hole.cells, area, shapely.transform(polygon, placed), level == 0))
    return found
