"""Inverse distance weighting and nearest neighbour.

D. Shepard, "A two-dimensional interpolation function for irregularly-spaced data", Proc. 23rd ACM National
Conference (1968): a height is the mean of the k nearest points' heights, each weighted by distance ** -power.
At a point the height is that point's own. Nearest is the case k = 1.
"""

from __future__ import annotations

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.point_index import (
    PointIndex,
    gather,
    in_bucket_order,
    in_their_order,
    nearest_k,
    nearest_of,
)
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights

AWAY = "m away"
_MOST_SEEN = 1024
MOST_NEIGHBOURS = 1_000
_FEW, _TOGETHER = 4, 8
"""Of so few neighbours each cell searches on its own; of more, so many cells of a row gather points together."""
_NONE = -1


@kernel
def _weigh(squares, found, count, nearest, z, power):
    if nearest == 0.0:
        place = 0
        while squares[place] > 0.0:
            place += 1
        return z[found[place]]
    weights = 0.0
    total = 0.0
    for i in range(count):
        ratio = nearest / squares[i]  # weights relative to the nearest neither over- nor underflow
        weight = ratio if power == 2.0 else ratio ** (0.5 * power)
        weights += weight
        total += weight * z[found[i]]
    return total / weights


@kernel
def _inverse_distance(xs, ys, x, y, z, starts, layout, k, power, radius, reach, result):
    """Cell after cell of a row. How far the k nearest points reach changes little from one to the next, so the points within
    somewhat more than that are gathered for a few cells together and each takes its own of them. Where that does not pay, and
    where fewer than k are found there, a cell searches on its own."""
    room = 8 * k + 128
    near_x, near_y, near, apart = np.empty(room), np.empty(room), np.empty(room, np.int64), np.empty(room)
    squares = np.empty(room + 1)
    found = np.empty(room + 1, np.int64)
    limit = radius * radius
    close = min(reach, radius) ** 2
    for r in range(ys.size):
        extent = 0.0  # how far the k nearest of the cell before reach; 0 where it has not as many
        gathered = 0
        until = 0
        width = 0.0
        for c in range(xs.size):
            count = _NONE
            step = xs[c] - xs[c - 1] if c else 0.0
            if k > _FEW and extent > step:
                guess = extent + step / np.sqrt(k)
                if c >= until or guess > width:
                    width = guess + step / np.sqrt(k)
                    until = min(c + _TOGETHER, xs.size)
                    beyond = width * (1.0 + 1e-9) + 1e-6 * layout[2]  # for what rounding does to buckets
                    gathered = gather(
                        xs[c] - beyond, ys[r] - beyond, xs[until - 1] + beyond, ys[r] + beyond, x, y, starts, layout,
                        near_x, near_y, near,
                    )  # fmt: skip
                for wide in (guess, width):
                    if gathered >= 0 and count == _NONE:
                        bound = min(wide * wide, limit)
                        count = nearest_of(
                            xs[c], ys[r], k, bound, near_x, near_y, near, gathered, apart, squares, found
                        )
                        if count > k or (count < k and bound < limit):
                            count = _NONE
            if count == _NONE:
                # no point near is told quickly, which matters far from all points
                if close < np.inf and nearest_k(xs[c], ys[r], 1, close, x, y, starts, layout, squares, found) == 0:
                    result[r, c] = np.nan
                    extent = 0.0
                    continue
                count = nearest_k(xs[c], ys[r], k, limit, x, y, starts, layout, squares, found)
                in_their_order(squares, found, count)
            result[r, c] = np.nan
            closest, farthest = np.inf, 0.0
            for i in range(count):
                closest = min(closest, squares[i])
                farthest = max(farthest, squares[i])
            extent = np.sqrt(farthest) if count == k else 0.0
            if count and closest <= reach * reach:
                result[r, c] = _weigh(squares, found, count, closest, z, power)


@kernel
def _by_sector(xs, ys, x, y, z, starts, layout, k, sectors, power, radius, reach, result):
    """As `_inverse_distance`, with the k nearest of each sector. So many nearest points are looked at, twice as many again
    and again, until every sector has its k or there are no more within the radius."""
    most = min(_MOST_SEEN, x.size)
    squares = np.empty(most)
    found = np.empty(most, np.int64)
    kept = np.empty(k * sectors)
    places = np.empty(k * sectors, np.int64)
    counts = np.empty(sectors, np.int64)
    for r in range(ys.size):
        for c in range(xs.size):
            result[r, c] = np.nan
            if nearest_k(xs[c], ys[r], 1, min(reach, radius) ** 2, x, y, starts, layout, squares, found) == 0:
                continue
            seen = min(2 * k * sectors, most)
            while True:
                count = nearest_k(xs[c], ys[r], seen, radius * radius, x, y, starts, layout, squares, found)
                counts[:] = 0
                used = 0
                for i in range(count):
                    turn = np.arctan2(x[found[i]] - xs[c], y[found[i]] - ys[r]) / (2.0 * np.pi)
                    sector = int((turn + 1.0) * sectors) % sectors
                    if counts[sector] < k:
                        counts[sector] += 1
                        kept[used] = squares[i]
                        places[used] = found[i]
                        used += 1
                if used == k * sectors or count < seen or seen == most:
                    break
                seen = min(2 * seen, most)
            result[r, c] = _weigh(kept, places, used, kept[:used].min(), z, power)


def inverse_distance(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    grid: Grid,
    neighbours: int = 12,
    power: float = 2.0,
    radius: float = np.inf,
    reach: float = np.inf,
    unit: str = "m",
    sectors: int = 1,
) -> EvaluatedSurface:
    """A surface by inverse distance.

    x, y, z: `(points,)` in the grid's CRS, one point a place. neighbours: points used for a cell, 1 to 1000.
    power: of distance, greater than 0. radius: points farther from a cell are not used. reach: cells with no
    point this near stay empty. sectors: the plane around a cell is parted into so many, the first from north clockwise,
    which share `neighbours` evenly, rounded up; taken from the 1024 nearest points at most. Distances are in CRS units. Raises InputError
    on parameters outside those.
    """
    if not 1 <= neighbours <= MOST_NEIGHBOURS:
        raise InputError(f"Inverse distance takes 1 to {MOST_NEIGHBOURS} neighbours, not {neighbours}.")
    if not power > 0:
        raise InputError(f"The power must be greater than 0, not {power:g}: nearer points must weigh more.")
    index = PointIndex.of(x, y)
    heights = in_bucket_order(z, index.ids)

    def evaluate(part: Grid) -> Heights:
        xs, ys = part.centres(part.whole)
        result = np.empty((part.rows, part.cols), np.float32)
        if sectors > 1:
            _by_sector(
                xs, ys, index.x, index.y, heights, index.starts, index.layout, -(-neighbours // sectors), sectors, float(power),
                float(radius), float(reach), result,
            )  # fmt: skip
            return result
        _inverse_distance(
            xs, ys, index.x, index.y, heights, index.starts, index.layout, min(neighbours, x.size), float(power),
            float(radius), float(reach), result,
        )  # fmt: skip
        return result

    of = ("inverse distance", x, y, z, neighbours, power, radius, reach, sectors)
    return EvaluatedSurface(grid, evaluate, unit, of=of)


def nearest(
    x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, reach: float = np.inf, unit: str = "m"
) -> EvaluatedSurface:
    """A surface on which each cell has the height of its nearest point; see `inverse_distance`."""
    return inverse_distance(x, y, z, grid, neighbours=1, reach=reach, unit=unit)


@kernel
def _distances(xs, ys, x, y, starts, layout, limit, result):
    squares = np.empty(1)
    found = np.empty(1, np.int64)
    for r in range(ys.size):
        for c in range(xs.size):
            if nearest_k(xs[c], ys[r], 1, limit, x, y, starts, layout, squares, found):
                result[r, c] = np.sqrt(squares[0])
            else:
                result[r, c] = np.nan


def distance_to_nearest(
    x: FloatArray, y: FloatArray, grid: Grid, reach: float = np.inf, metres: float = 1.0
) -> EvaluatedSurface:
    """A surface of the distance of each cell's centre from its nearest point, in metres; empty beyond `reach`.

    x, y: `(points,)` in the grid's CRS. metres: length of its unit. The surface's unit is AWAY,
    metres that are no heights and are never put into the frame's unit of those."""
    index = PointIndex.of(x, y)

    def evaluate(part: Grid) -> Heights:
        xs, ys = part.centres(part.whole)
        result = np.empty((part.rows, part.cols), np.float32)
        _distances(xs, ys, index.x, index.y, index.starts, index.layout, float(reach) ** 2, result)
        return result * np.float32(metres)

    return EvaluatedSurface(grid, evaluate, AWAY, of=("distance", x, y, reach, metres))


@kernel
def _at(qx, qy, x, y, z, starts, layout, k, power, radius, result, nearest_at):
    squares = np.empty(k)
    found = np.empty(k, np.int64)
    for i in range(qx.size):
        count = nearest_k(qx[i], qy[i], k, np.inf, x, y, starts, layout, squares, found)
        nearest_at[i] = np.sqrt(squares[0]) if count else np.inf
        while count and squares[count - 1] > radius * radius:
            count -= 1
        result[i] = _weigh(squares, found, count, squares[0], z, power) if count else np.nan


def inverse_distance_at(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    qx: FloatArray,
    qy: FloatArray,
    neighbours: int = 12,
    power: float = 2.0,
    radius: float = np.inf,
) -> tuple[FloatArray, FloatArray]:
    """Heights at places `(places,)` as `inverse_distance` has them, and the distance from each to its nearest point."""
    index = PointIndex.of(x, y)
    result, distance = np.empty(qx.size), np.empty(qx.size)
    heights = in_bucket_order(z, index.ids)
    _at(
        qx, qy, index.x, index.y, heights, index.starts, index.layout, min(neighbours, x.size), float(power),
        float(radius), result, distance,
    )  # fmt: skip
    return result, distance
