"""What a mosaic's cell is where several surfaces have one: each rule a small class, fed a window of each surface in turn.

A rule is fed `heights` `(rows, cols)`, NaN where that surface is empty, and the surface's number; after the last one
`heights` and `sources` hold the result and, for each cell, the number of the surface it came from (for means: the one
that weighed most), -1 where none has a height.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar, Literal, get_args

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.surface import Heights

Sources = npt.NDArray[np.int16]
RuleName = Literal[
    "priority", "first", "last", "lowest", "highest", "mean", "feather", "nearest", "seam", "sum", "count", "spread"
]


@kernel
def _take_first(heights, number, total, sources):
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if sources[r, c] < 0 and not np.isnan(heights[r, c]):
                total[r, c] = heights[r, c]
                sources[r, c] = number


@kernel
def _take_last(heights, number, total, sources):
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if not np.isnan(heights[r, c]):
                total[r, c] = heights[r, c]
                sources[r, c] = number


@kernel
def _take_extreme(heights, number, sign, total, sources):
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if not np.isnan(heights[r, c]) and (sources[r, c] < 0 or sign * heights[r, c] > sign * total[r, c]):
                total[r, c] = heights[r, c]
                sources[r, c] = number


@kernel
def _take_weighted(heights, weights, number, sums, weighed, heaviest, sources):
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if np.isnan(heights[r, c]):
                continue
            sums[r, c] += weights[r, c] * heights[r, c]
            weighed[r, c] += weights[r, c]
            if sources[r, c] < 0 or weights[r, c] > heaviest[r, c]:
                heaviest[r, c] = weights[r, c]
                sources[r, c] = number


@kernel
def _take_least(heights, measure, number, total, least, sources):
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if np.isnan(heights[r, c]):
                continue
            tied = measure[r, c] == least[r, c] and heights[r, c] < total[r, c]
            if sources[r, c] < 0 or measure[r, c] < least[r, c] or tied:
                total[r, c] = heights[r, c]
                least[r, c] = measure[r, c]
                sources[r, c] = number


@kernel
def _take_under(heights, weights, number, total, left, most, sources):
    """Lay a surface under those fed before it: it fills what they leave, `left`, by its own weight."""
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            if np.isnan(heights[r, c]):
                continue
            share = left[r, c] * weights[r, c]
            total[r, c] += share * heights[r, c]
            if sources[r, c] < 0 or share > most[r, c]:
                most[r, c] = share
                sources[r, c] = number
            left[r, c] -= share


class Rule(ABC):
    """How heights of several surfaces become one. in_order: whether it matters which surface is fed first. weighs: whether
    it asks for weights that fall towards a surface's own edge."""

    name: ClassVar[RuleName]
    in_order: ClassVar[bool] = False
    weighs: ClassVar[bool] = False

    def __init__(self, rows: int, cols: int) -> None:
        self.sources: Sources = np.full((rows, cols), -1, np.int16)
        self._total = np.zeros((rows, cols), np.float32)

    @abstractmethod
    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        """Take in a window of surface `number`. measure `(rows, cols)`: its weight there, or for `nearest` the distance from
        its middle; other rules do not look at it."""

    @property
    def heights(self) -> Heights:
        """The result, NaN where no surface had a height."""
        return np.where(self.sources < 0, np.float32(np.nan), self._total).astype(np.float32)


class First(Rule):
    """The first surface that has a height there."""

    name: ClassVar[RuleName] = "first"
    in_order = True

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_first(heights, number, self._total, self.sources)


class Last(Rule):
    """The last surface that has a height there."""

    name: ClassVar[RuleName] = "last"
    in_order = True

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_last(heights, number, self._total, self.sources)


class Lowest(Rule):
    """The lowest of the heights."""

    name: ClassVar[RuleName] = "lowest"
    _sign = -1.0

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_extreme(heights, number, self._sign, self._total, self.sources)


class Highest(Lowest):
    """The highest of the heights."""

    name: ClassVar[RuleName] = "highest"
    _sign = 1.0


class Nearest(Rule):
    """The surface whose own middle is nearest; of two as near the lower one."""

    name: ClassVar[RuleName] = "nearest"

    def __init__(self, rows: int, cols: int) -> None:
        super().__init__(rows, cols)
        self._least = np.zeros((rows, cols))

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_least(heights, measure, number, self._total, self._least, self.sources)


class Mean(Rule):
    """The mean of the heights."""

    name: ClassVar[RuleName] = "mean"

    def __init__(self, rows: int, cols: int) -> None:
        super().__init__(rows, cols)
        self._sums, self._weights, self._heaviest = (np.zeros((rows, cols)) for _ in range(3))
        self._one = np.ones((rows, cols))

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_weighted(heights, self._one, number, self._sums, self._weights, self._heaviest, self.sources)

    @property
    def heights(self) -> Heights:
        with np.errstate(invalid="ignore", divide="ignore"):
            return (self._sums / self._weights).astype(np.float32)


class Sum(Mean):
    """The sum of the heights."""

    name: ClassVar[RuleName] = "sum"

    @property
    def heights(self) -> Heights:
        return np.where(self.sources < 0, np.nan, self._sums).astype(np.float32)


class Count(Mean):
    """How many surfaces have a height there."""

    name: ClassVar[RuleName] = "count"

    @property
    def heights(self) -> Heights:
        return np.where(self.sources < 0, np.nan, self._weights).astype(np.float32)


class Spread(Rule):
    """How far the highest height there is above the lowest; empty where fewer than two surfaces have one."""

    name: ClassVar[RuleName] = "spread"

    def __init__(self, rows: int, cols: int) -> None:
        super().__init__(rows, cols)
        self._lowest, self._highest = Lowest(rows, cols), Highest(rows, cols)
        self._count = Count(rows, cols)

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        for one in (self._lowest, self._highest, self._count):
            one.feed(number, heights, measure)
        self.sources = self._highest.sources

    @property
    def heights(self) -> Heights:
        with np.errstate(invalid="ignore"):
            apart = self._highest.heights - self._lowest.heights
            return np.where(self._count.heights > 1, apart, np.nan).astype(np.float32)


class Feather(Mean):
    """The mean weighted by the distance to each surface's own edge: weight = s² (3 - 2 s), s = min(distance / width, 1).

    Distance counts from a cell's centre to that of the nearest cell without a height of this surface.
    """

    name: ClassVar[RuleName] = "feather"
    weighs = True

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_weighted(heights, measure, number, self._sums, self._weights, self._heaviest, self.sources)


class Priority(Rule):
    """Better surfaces lie on worse ones and fade out towards their own edge: with `Feather`'s weights w, a surface's share is
    its w times (1 - w) of every better one, divided by the sum of all shares, so that no edge shows."""

    name: ClassVar[RuleName] = "priority"
    in_order = True
    weighs = True

    def __init__(self, rows: int, cols: int) -> None:
        super().__init__(rows, cols)
        self._sums, self._most = np.zeros((rows, cols)), np.zeros((rows, cols))
        self._left = np.ones((rows, cols))

    def feed(self, number: int, heights: Heights, measure: FloatArray) -> None:
        _take_under(heights, measure, number, self._sums, self._left, self._most, self.sources)

    @property
    def heights(self) -> Heights:
        with np.errstate(invalid="ignore", divide="ignore"):
            found = self._sums / (1.0 - self._left)
        return np.where(self.sources < 0, np.nan, found).astype(np.float32)


class Seam(First):
    """One surface on each side of a seam found where they agree best; the first one where that has no height."""

    name: ClassVar[RuleName] = "seam"


RULES: dict[RuleName, type[Rule]] = {
    one.name: one for one in (First, Last, Lowest, Highest, Mean, Sum, Count, Spread, Feather, Priority, Nearest, Seam)
}
assert set(RULES) == set(get_args(RuleName))


# -- weights ----------------------------------------------------------------------------------------------


@kernel
def _down(heights, most, result):
    """Along each column, how many cells to the nearest empty one, at most `most`."""
    rows, cols = heights.shape
    for c in range(cols):
        result[0, c] = 0 if np.isnan(heights[0, c]) else most
    for r in range(1, rows):
        for c in range(cols):
            result[r, c] = 0 if np.isnan(heights[r, c]) else min(result[r - 1, c] + 1, most)
    for r in range(rows - 2, -1, -1):
        for c in range(cols):
            result[r, c] = min(result[r, c], result[r + 1, c] + 1)


@kernel
def _across(along, most, halo, result):
    """Squared distances from those along columns: for each row the lower envelope of parabolas."""
    rows, cols = along.shape
    where = np.empty(cols, np.int64)
    starts = np.empty(cols + 1, np.float64)
    for r in range(halo, rows - halo):
        nearest = most
        for c in range(cols):
            nearest = min(nearest, along[r, c])
        if nearest >= most:  # no empty cell is near enough to any of this row
            for c in range(halo, cols - halo):
                result[r - halo, c - halo] = most * most
            continue
        top = 0
        where[0] = 0
        starts[0], starts[1] = -np.inf, np.inf
        for c in range(1, cols):
            at = float(along[r, c]) ** 2 + c * c
            while True:
                other = where[top]
                meet = (at - (float(along[r, other]) ** 2 + other * other)) / (2.0 * (c - other))
                if meet > starts[top]:
                    break
                top -= 1
            top += 1
            where[top] = c
            starts[top], starts[top + 1] = meet, np.inf
        k = 0
        for c in range(halo, cols - halo):
            while starts[k + 1] < c:
                k += 1
            found = (c - where[k]) ** 2 + float(along[r, where[k]]) ** 2
            result[r - halo, c - halo] = min(found, most * most)


@kernel
def _eased(squares, width, result):
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            share = min(np.sqrt(squares[r, c]) / width, 1.0)
            result[r, c] = share * share * (3.0 - 2.0 * share)


def edge_weights(heights: Heights, halo: int, width: float) -> FloatArray:
    """How much each cell of a window weighs by its distance to the nearest empty one; see `Feather`.

    heights: the window with `halo` cells more on each side; `halo` must be `width` (in cells) or more, rounded up. Returns
    `(rows, cols)` of the window, 0 at empty cells and 1 from `width` on. Exact Euclidean distances between centres
    (P. Felzenszwalb and D. Huttenlocher, "Distance transforms of sampled functions", Theory of Computing 8, 2012).
    """
    if halo < width:
        raise InputError(f"A feather of {width:g} cells needs as many around the window, not {halo}.")
    rows, cols = heights.shape[0] - 2 * halo, heights.shape[1] - 2 * halo
    if not np.isnan(heights).any():
        return np.ones((rows, cols))
    most = halo + 1
    along = np.empty(heights.shape, np.int32)
    _down(heights, most, along)
    squares = np.empty((rows, cols))
    _across(along, most, halo, squares)
    result = np.empty((rows, cols))
    _eased(squares, width, result)
    return result


def continued(heights: Heights, window: Window, grid: Grid) -> Heights:
    """Heights of a window that reaches past a grid, with those at the grid's edge repeated beyond it: a surface goes on there,
    it is only not looked at, and has no edge of its own."""
    inside = window.clipped(grid.rows, grid.cols)
    if inside == window or not (inside.rows and inside.cols):
        return heights
    top, left = inside.row - window.row, inside.col - window.col
    part = heights[top : top + inside.rows, left : left + inside.cols]
    below, right = window.rows - top - inside.rows, window.cols - left - inside.cols
    return np.pad(part, ((top, below), (left, right)), mode="edge")
