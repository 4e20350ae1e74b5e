"""Points sorted into square buckets, and the two searches on them: k nearest, and distance to the nearest.

A raster asks for neighbours at a million regular positions, where flat buckets of about two points each beat
a tree: no pointers, and the points near one cell are next to each other in memory.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights

_POINTS_PER_BUCKET = 2.0
_MAX_BUCKETS = 1 << 26


@dataclass(frozen=True)
class PointIndex:
    """Points by bucket; what lies outside the bulk of the points is in the outermost buckets. x, y: sorted copies; ids: their places in the caller's arrays; starts: CSR offsets
    `(bucket_rows * bucket_cols + 1,)`; west, south: the corner of bucket (0, 0), which is in the south."""

    x: FloatArray
    y: FloatArray
    ids: npt.NDArray[np.int32]
    starts: npt.NDArray[np.int32]
    west: float
    south: float
    size: float
    bucket_rows: int
    bucket_cols: int

    @cached_property
    def layout(self) -> tuple[float, float, float, int, int, float, float, float, float]:
        """What kernels need beside the arrays: corner and size of buckets, their rows and columns, and the outermost
        coordinates of all points (west, south, east, north)."""
        extremes = (float(self.x.min()), float(self.y.min()), float(self.x.max()), float(self.y.max()))
        return (self.west, self.south, self.size, self.bucket_rows, self.bucket_cols, *extremes)

    @classmethod
    def of(cls, x: FloatArray, y: FloatArray) -> PointIndex:
        """Index points `(points,)`; raises InputError where there are none or some are not finite."""
        if not x.size:
            raise InputError("There are no points to interpolate from.")
        if not (np.isfinite(x).all() and np.isfinite(y).all()):
            raise InputError("Some points have coordinates that are not numbers; leave them out.")
        west, east = bulk(x)
        south, north = bulk(y)
        width, height = east - west, north - south
        longest = max(width, height)
        buckets = max(x.size / _POINTS_PER_BUCKET, 1.0)
        size = max((width * height / buckets) ** 0.5, longest / min(buckets, 1e6), 1e-12 * max(longest, 1.0))
        cols, rows = int(width / size) + 1, int(height / size) + 1
        while rows * cols > _MAX_BUCKETS:
            size *= 2
            cols, rows = int(width / size) + 1, int(height / size) + 1
        ids, starts = _sort_into_buckets(x, y, west, south, size, rows, cols)
        return cls(in_bucket_order(x, ids), in_bucket_order(y, ids), ids, starts, west, south, size, rows, cols)


@kernel
def in_bucket_order(values, ids):
    """Values `(points,)` of the caller's points in the order of the buckets."""
    result = np.empty(ids.size)
    for i in range(ids.size):
        result[i] = values[ids[i]]
    return result


def bulk(values: FloatArray) -> tuple[float, float]:
    """The range in which coordinates lie but for a few strays: a single swapped pair must not widen every bucket."""
    some = values[:: max(values.size // 20_000, 1)]  # enough to tell the bulk from strays
    low, high = np.quantile(some, (0.01, 0.99)) if values.size > 100 else (values.min(), values.max())
    margin = 0.05 * (high - low)
    return max(float(low - margin), float(values.min())), min(float(high + margin), float(values.max()))


@kernel
def _sort_into_buckets(x, y, west, south, size, rows, cols):
    counts = np.zeros(rows * cols + 1, np.int32)
    bucket = np.empty(x.size, np.int32)
    for i in range(x.size):
        c = int(min(max((x[i] - west) / size, 0.0), cols - 1.0))
        r = int(min(max((y[i] - south) / size, 0.0), rows - 1.0))
        bucket[i] = r * cols + c
        counts[bucket[i] + 1] += 1
    for b in range(rows * cols):
        counts[b + 1] += counts[b]
    cursor = counts.copy()
    ids = np.empty(x.size, np.int32)
    for i in range(x.size):
        ids[cursor[bucket[i]]] = i
        cursor[bucket[i]] += 1
    return ids, counts


@kernel
def nearest_k(qx, qy, k, limit, x, y, starts, layout, squares, found):
    """The k points nearest to (qx, qy) within `limit` (a squared distance).

    Fills `squares` (squared distances, rising) and `found` (places in the sorted arrays), both of room k;
    returns how many there are. Of points equally far those that come first in the sorted arrays count as nearer.
    Rings of buckets are searched outwards until no nearer point can follow.
    """
    west, south, size, rows, cols, x_least, y_least, x_most, y_most = layout
    # every point is at least this far away in each direction
    beside = max(x_least - qx, qx - x_most, 0.0)
    beyond = max(y_least - qy, qy - y_most, 0.0)
    count = 0
    worst = limit
    if beside * beside + beyond * beyond > limit:
        return 0
    col = int(min(max((qx - west) / size, 0.0), cols - 1.0))
    row = int(min(max((qy - south) / size, 0.0), rows - 1.0))
    # many neighbours never lie in one bucket, so the nine around the query are taken at once, row by row
    ring = 1 if k > 4 else 0
    whole = True
    while True:
        top = row + ring
        bottom = row - ring
        left = col - ring
        right = col + ring
        for r in range(max(bottom, 0), min(top, rows - 1) + 1):
            if whole or r == top or r == bottom:
                start = starts[r * cols + max(left, 0)]
                stop = starts[r * cols + min(right, cols - 1) + 1]
                count, worst = _take(qx, qy, k, start, stop, x, y, squares, found, count, worst)
                continue
            if left >= 0:
                start = starts[r * cols + left]
                stop = starts[r * cols + left + 1]
                count, worst = _take(qx, qy, k, start, stop, x, y, squares, found, count, worst)
            if right < cols:
                start = starts[r * cols + right]
                stop = starts[r * cols + right + 1]
                count, worst = _take(qx, qy, k, start, stop, x, y, squares, found, count, worst)
        whole = False
        # no point outside the rings searched so far is nearer than this (squared)
        reach = np.inf
        if left > 0:
            side = max(qx - (west + left * size), 0.0)
            reach = min(reach, side * side + beyond * beyond)
        if right < cols - 1:
            side = max(west + (right + 1) * size - qx, 0.0)
            reach = min(reach, side * side + beyond * beyond)
        if bottom > 0:
            side = max(qy - (south + bottom * size), 0.0)
            reach = min(reach, side * side + beside * beside)
        if top < rows - 1:
            side = max(south + (top + 1) * size - qy, 0.0)
            reach = min(reach, side * side + beside * beside)
        if reach > worst or reach == np.inf:
            return count
        ring += 1


@kernel
def _take(qx, qy, k, start, stop, x, y, squares, found, count, worst):
    for i in range(start, stop):
        dx = x[i] - qx
        dy = y[i] - qy
        square = dx * dx + dy * dy
        if square > worst or (count == k and square == worst and i > found[k - 1]):
            continue
        place = count if count < k else k - 1
        while place > 0 and (squares[place - 1] > square or (squares[place - 1] == square and found[place - 1] > i)):
            squares[place] = squares[place - 1]
            found[place] = found[place - 1]
            place -= 1
        squares[place] = square
        found[place] = i
        if count < k:
            count += 1
        if count == k:
            worst = squares[k - 1]
    return count, worst


@kernel
def in_their_order(squares, found, count):
    """Puts what `nearest_k` found into the order of the sorted arrays, in which sums are the same however it was found."""
    for i in range(1, count):
        square = squares[i]
        place = found[i]
        before = i
        while before > 0 and found[before - 1] > place:
            squares[before] = squares[before - 1]
            found[before] = found[before - 1]
            before -= 1
        squares[before] = square
        found[before] = place


@kernel
def gather(qwest, qsouth, qeast, qnorth, x, y, starts, layout, near_x, near_y, near):
    """The points of all buckets that reach into a rectangle, and so all points in it: fills their coordinates and places, in
    the order of the sorted arrays. Returns how many there are, -1 where there is not room for them."""
    west, south, size, rows, cols = layout[:5]
    left = int(min(max((qwest - west) / size, 0.0), cols - 1.0))
    right = int(min(max((qeast - west) / size, 0.0), cols - 1.0))
    low = int(min(max((qsouth - south) / size, 0.0), rows - 1.0))
    high = int(min(max((qnorth - south) / size, 0.0), rows - 1.0))
    count = 0
    for row in range(low, high + 1):
        start = starts[row * cols + left]
        stop = starts[row * cols + right + 1]
        if count + stop - start > near.size:
            return -1
        for i in range(start, stop):
            near_x[count] = x[i]
            near_y[count] = y[i]
            near[count] = i
            count += 1
    return count


@kernel
def nearest_of(qx, qy, k, bound, near_x, near_y, near, gathered, apart, squares, found):
    """Of gathered points the k nearest within `bound` (a squared distance), in the order of the sorted arrays; of points equally
    far those that come first there. Returns how many there are: all within the bound where they are fewer than k, and
    `2 * k + 1` where so many more lie within it that they are better searched for otherwise.

    apart: room as for near. squares, found: room `gathered + 1`."""
    for i in range(gathered):
        dx = near_x[i] - qx
        dy = near_y[i] - qy
        apart[i] = dx * dx + dy * dy
    count = 0
    for i in range(gathered):
        squares[count] = apart[i]
        found[count] = near[i]
        count += apart[i] <= bound  # no branch: the processor could not foretell it
    if count > 2 * k:
        return 2 * k + 1
    while count > k:
        worst = 0
        most = squares[0]
        for i in range(1, count):
            if squares[i] >= most:
                most = squares[i]
                worst = i
        count -= 1
        for i in range(worst, count):
            squares[i] = squares[i + 1]
            found[i] = found[i + 1]
    return count


@kernel
def _empty_beyond(heights, xs, ys, limit, x, y, starts, layout):
    squares = np.empty(1)
    found = np.empty(1, np.int64)
    for r in range(ys.size):
        for c in range(xs.size):
            if np.isnan(heights[r, c]):
                continue
            count = nearest_k(xs[c], ys[r], 1, limit, x, y, starts, layout, squares, found)
            if count == 0:
                heights[r, c] = np.nan


def empty_beyond(
    heights: npt.NDArray[np.float32], xs: FloatArray, ys: FloatArray, index: PointIndex, reach: float
) -> None:
    """Empty, in place, the cells `(ys, xs)` whose centre is farther than `reach` from every point."""
    _empty_beyond(heights, xs, ys, reach * reach, index.x, index.y, index.starts, index.layout)


def near_points(
    index: PointIndex | None, grid: Grid, reach: float, unit: str, add_to: Callable[[FloatArray, FloatArray, Heights], None],
    of: tuple[Any, ...],
) -> EvaluatedSurface:  # fmt: skip
    """A surface that is empty farther than `reach` from every point of an index; whole where there is none.

    add_to: given x of columns, y of rows and heights `(rows, cols)`, fills those that are not NaN. of: what that depends on.
    """

    def evaluate(part: Grid) -> Heights:
        xs, ys = part.centres(part.whole)
        result = np.zeros((part.rows, part.cols), np.float32)
        if index is not None:
            empty_beyond(result, xs, ys, index, reach)
        add_to(xs, ys, result)
        return result

    return EvaluatedSurface(grid, evaluate, unit, of=(*of, reach))


def index_within(x: FloatArray, y: FloatArray, reach: float) -> PointIndex | None:
    """An index of points where a reach limits how far they count; None where it does not."""
    return PointIndex.of(x, y) if np.isfinite(reach) else None
