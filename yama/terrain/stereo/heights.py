"""From parallaxes to heights on a grid: where rays meet, and the middle of what they say for each cell."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.stereo.dense import Kept
from yama.terrain.stereo.epipolar import STEP, Plane, between
from yama.terrain.stereo.rays import Sensor, meet

Floats = npt.NDArray[np.float32]

_BAND = 64
_REACH = 1.6  # cells from the middle of a cell within which points say how the ground lies
_INNER = 0.8  # within which there must be one for the cell to have a height
_LEAST = 5
_BLUNDER = 3.5  # robust standard deviations
_SPREAD = np.float32(0.42)  # share of the spread of a cell's places that its height has


@dataclass(frozen=True)
class Cloud:
    """Matched places, `(n,)` each: column and row in a grid, with whole numbers at the middle of cells; height and its
    standard deviation; likeness of the match."""

    col: Floats
    row: Floats
    z: Floats
    error: Floats
    likeness: Floats

    def __len__(self) -> int:
        return len(self.z)


@kernel
def _met(left, right, mine, theirs, parallax, error, likeness, top, bottom, height, plane, places, out):
    """Where the rays of some rows of matched cells meet. places: columns, rows and heights of the zero level of the
    grid at the lattice's nodes. out: `(5, n)`; returns how many."""
    count = 0
    lon0, lat0, per_lon, per_lat, cell, sin, cos = plane
    for r in range(top, bottom):
        for c in range(parallax.shape[1]):
            d = parallax[r, c]
            if d != d:
                continue
            x, y = c * cell, r * cell
            lon, lat = lon0 + (x * cos + y * sin) / per_lon, lat0 + (x * sin - y * cos) / per_lat
            lon, lat, h, _, variance = meet(
                left, right, between(mine, 0, r, c), between(mine, 1, r, c), between(theirs, 0, r, c + d),
                between(theirs, 1, r, c + d), lon, lat, height,
            )  # fmt: skip
            if h != h:
                continue
            east, north = (lon - lon0) * per_lon, (lat - lat0) * per_lat
            u, v = (east * cos + north * sin) / cell, (east * sin - north * cos) / cell
            u, v = u + STEP, v + STEP  # the lattice begins one step outside
            out[0, count] = between(places, 0, v, u)
            out[1, count] = between(places, 1, v, u)
            out[2, count] = h - between(places, 2, v, u)
            # columns and rows of both images share a parallax's uncertainty
            out[3, count] = np.sqrt(variance / 2) * error[r, c]
            out[4, count] = likeness[r, c]
            count += 1
    return count


def cloud_of(
    plane: Plane, left: Sensor, right: Sensor, matched: Kept,
    places: Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray, FloatArray]], progress: Progress = ignore_progress,
) -> Cloud:  # fmt: skip
    """Where the rays of matched cells meet.

    Parameters
    ----------
    plane : Plane
    left, right : Sensor
    matched : Matched
        On the plane.
    places : callable
        Columns and rows in the grid of longitudes and latitudes, and the height of the grid's zero level above the
        ellipsoid there.
    progress : callable
    """
    row, col = np.meshgrid(
        np.arange(-STEP, plane.rows + 2 * STEP, STEP), np.arange(-STEP, plane.cols + 2 * STEP, STEP), indexing="ij"
    )
    # heights move places along the plane, so that the lattice reaches past its edges; what is farther is extrapolated
    lattice = np.stack(places(*plane.ground(col, row)))
    sin, cos = float(np.sin(plane.turn)), float(np.cos(plane.turn))
    told = (plane.lon, plane.lat, *plane.metres, plane.cell, sin, cos)
    mine, theirs = plane.positions(left), plane.positions(right)
    one, other = left.packed(), right.packed()
    parallax, error, likeness = matched.parallax, matched.error, matched.likeness

    def band(top: int) -> Floats:
        bottom = min(top + _BAND, plane.rows)
        out = np.empty((5, int(np.isfinite(parallax[top:bottom]).sum())), np.float32)
        count = _met(one, other, mine, theirs, parallax, error, likeness, top, bottom, plane.height, told, lattice, out)
        return out[:, :count]

    found: list[Floats] = []
    tops = list(range(0, plane.rows, _BAND))
    with ThreadPoolExecutor(cores()) as pool:
        for number in range(0, len(tops), 4 * cores()):
            found += pool.map(band, tops[number : number + 4 * cores()])
            progress(min((number + 4 * cores()) / len(tops), 1.0))
    return Cloud(*np.concatenate(found, axis=1)) if found else Cloud(*np.empty((5, 0), np.float32))


@kernel
def _sorted(col, row, rows, cols, start, order):
    """Points in the order of the cells that they lie in."""
    start[:] = 0
    for i in range(col.size):
        c, r = int(np.rint(col[i])), int(np.rint(row[i]))
        if 0 <= c < cols and 0 <= r < rows:
            start[r * cols + c + 1] += 1
    for k in range(rows * cols):
        start[k + 1] += start[k]
    place = start[:-1].copy()
    for i in range(col.size):
        c, r = int(np.rint(col[i])), int(np.rint(row[i]))
        if 0 <= c < cols and 0 <= r < rows:
            order[place[r * cols + c]] = i
            place[r * cols + c] += 1


@kernel
def _middle(values, weights, count):
    """The weighted median of the first `count` values; sorts both."""
    for i in range(1, count):
        v, w, j = values[i], weights[i], i - 1
        while j >= 0 and values[j] > v:
            values[j + 1], weights[j + 1] = values[j], weights[j]
            j -= 1
        values[j + 1], weights[j + 1] = v, w
    total = 0.0
    for i in range(count):
        total += weights[i]
    half, so_far = total / 2, 0.0
    for i in range(count):
        so_far += weights[i]
        if so_far >= half:
            if so_far == half and i + 1 < count:
                return (values[i] + values[i + 1]) / 2
            return values[i]
    return values[count - 1]


@kernel
def _grid(col, row, z, error, likeness, start, order, rows, cols, top, bottom, out):
    """Heights of the cells of some rows. out: `(4, rows, cols)` of height, robust spread about a plane, mean
    likeness, and mean standard deviation of the places it comes from."""
    most = 400
    x, y, h, w = np.empty(most), np.empty(most), np.empty(most), np.empty(most)
    rest, copy, weight = np.empty(most), np.empty(most), np.empty(most)
    for r in range(top, bottom):
        for c in range(cols):
            for k in range(4):
                out[k, r, c] = np.nan
            count, near, alike, unsure = 0, 0, 0.0, 0.0
            for i in range(max(r - 2, 0), min(r + 3, rows)):
                for j in range(max(c - 2, 0), min(c + 3, cols)):
                    for k in range(start[i * cols + j], start[i * cols + j + 1]):
                        at = order[k]
                        dx, dy = col[at] - c, row[at] - r
                        away = dx * dx + dy * dy
                        if away > _REACH * _REACH or count == most:
                            continue
                        x[count], y[count], h[count] = dx, dy, z[at]
                        w[count] = likeness[at] * likeness[at] / (0.15 + away)
                        alike += likeness[at]
                        unsure += error[at]
                        near += abs(dx) <= _INNER and abs(dy) <= _INNER
                        count += 1
            if count < _LEAST or near == 0:
                continue
            for k in range(count):
                copy[k], weight[k] = h[k], w[k]
            centre = _middle(copy, weight, count)
            gx = gy = 0.0
            spread = 0.0
            for turn in range(4):
                for k in range(count):
                    rest[k] = h[k] - centre - gx * x[k] - gy * y[k]
                    copy[k], weight[k] = abs(rest[k]), w[k]
                spread = max(1.4826 * _middle(copy, weight, count), 1e-4)
                if turn == 3:
                    break
                # a plane through those that are near it
                s0 = sx = sy = sxx = sxy = syy = sh = sxh = syh = 0.0
                for k in range(count):
                    if abs(rest[k]) > 2.5 * spread:
                        continue
                    f = w[k]
                    s0 += f
                    sx += f * x[k]
                    sy += f * y[k]
                    sxx += f * x[k] * x[k]
                    sxy += f * x[k] * y[k]
                    syy += f * y[k] * y[k]
                    sh += f * h[k]
                    sxh += f * x[k] * h[k]
                    syh += f * y[k] * h[k]
                mx, my, mh = sx / s0, sy / s0, sh / s0
                a, b, d = sxx / s0 - mx * mx, sxy / s0 - mx * my, syy / s0 - my * my
                p, q = sxh / s0 - mx * mh, syh / s0 - my * mh
                flat = a * d - b * b
                if flat > 1e-3:
                    gx, gy = (d * p - b * q) / flat, (a * q - b * p) / flat
                else:
                    gx = gy = 0.0
                for k in range(count):
                    copy[k], weight[k] = h[k] - gx * x[k] - gy * y[k], w[k]
                centre = _middle(copy, weight, count)
            good = inner = 0
            for k in range(count):
                fits = abs(rest[k]) <= _BLUNDER * spread + 1e-3
                good += fits
                inner += fits and abs(x[k]) <= _INNER and abs(y[k]) <= _INNER
            if good < _LEAST or 2 * good < count or inner == 0:
                continue
            out[0, r, c], out[1, r, c] = centre, spread
            out[2, r, c], out[3, r, c] = alike / count, unsure / count


@dataclass(frozen=True)
class Gridded:
    """Heights on a grid, `(rows, cols)` each, NaN where there are none: height, its standard deviation, and likeness
    of the matches it comes from."""

    height: Floats
    uncertainty: Floats
    likeness: Floats


def gridded(cloud: Cloud, grid: Grid, progress: Progress = ignore_progress) -> Gridded:
    """Heights of a grid's cells from matched places.

    For each cell a plane is laid through the places around it that agree; the height is the weighted median of all of
    them about that plane. Cells without a place of their own stay empty, as do those whose places do not agree.
    """
    rows, cols = grid.rows, grid.cols
    start, order = np.zeros(rows * cols + 1, np.int64), np.empty(len(cloud), np.int64)
    _sorted(cloud.col, cloud.row, rows, cols, start, order)
    out = np.empty((4, rows, cols), np.float32)
    edges = np.linspace(0, rows, max(rows // 128, 1) + 1).astype(int).tolist()
    bands = list(itertools.pairwise(edges))
    points = (cloud.col, cloud.row, cloud.z, cloud.error, cloud.likeness)

    def band(between: tuple[int, int]) -> None:
        _grid(*points, start, order, rows, cols, between[0], between[1], out)

    with ThreadPoolExecutor(cores()) as pool:
        for number in range(0, len(bands), 2 * cores()):
            list(pool.map(band, bands[number : number + 2 * cores()]))
            progress(min((number + 2 * cores()) / len(bands), 1.0))
    height, spread, likeness, error = out
    # places a few cells apart err alike, so that many of them make a height hardly surer
    return Gridded(height, np.hypot(error, _SPREAD * spread), likeness)
