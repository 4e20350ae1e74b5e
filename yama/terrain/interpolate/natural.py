"""Natural neighbour interpolation with Sibson's area weights.

R. Sibson, "A brief description of natural neighbour interpolation", in: V. Barnett (ed.), Interpreting Multivariate
Data (1981). A point placed among others takes a piece of the Voronoi cell of each of its neighbours; the height there
is the mean of theirs, weighted by those areas. The surface passes through the points, stays within the range of its
neighbours, and is smooth everywhere but at the points.

The pieces are summed over the cavity of D. F. Watson, "Computing the n-dimensional Delaunay tessellation", Computer
Journal 24 (1981): the triangles whose circumcircle holds the new point. Each edge of a piece lies between two
circumcentres, so its area is a sum of cross products over the edges of the cavity; only triangles of the new point
with edges of the cavity's rim are made, which are never flat for a point inside the hull.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.delaunay import Triangulation, locate, triangulate
from yama.terrain.interpolate.point_index import PointIndex, empty_beyond
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights

_ROOM = 256
"""Triangles and rim edges a cavity may have; a point set that needs more has that many points on one circle."""


@kernel
def _circles(x, y, triangles):
    """Circumcentre and squared radius of each triangle: `(triangles, 3)`."""
    result = np.empty((triangles.shape[0], 3))
    for t in range(triangles.shape[0]):
        a = triangles[t, 0]
        bx = x[triangles[t, 1]] - x[a]
        by = y[triangles[t, 1]] - y[a]
        cx = x[triangles[t, 2]] - x[a]
        cy = y[triangles[t, 2]] - y[a]
        double = 2.0 * (bx * cy - by * cx)
        b = bx * bx + by * by
        c = cx * cx + cy * cy
        ux = (cy * b - by * c) / double
        uy = (bx * c - cx * b) / double
        result[t, 0] = x[a] + ux
        result[t, 1] = y[a] + uy
        result[t, 2] = ux * ux + uy * uy
    return result


@kernel
def _height(px, py, home, x, y, z, triangles, neighbours, circles, inside, cavity, rim, ring, pieces):
    """The height at a place in triangle `home`. inside: one flag a triangle, all false and left so. cavity, rim, ring
    and pieces are room to work in. NaN where the cavity has no room."""
    for k in range(3):
        corner = triangles[home, k]
        if x[corner] == px and y[corner] == py:
            return z[corner]
    count = 1
    cavity[0] = home
    inside[home] = True
    edges = 0
    at = 0
    full = False
    while at < count and not full:
        t = cavity[at]
        at += 1
        for k in range(3):
            n = neighbours[t, k]
            if n >= 0:
                if inside[n]:
                    continue
                dx = circles[n, 0] - px
                dy = circles[n, 1] - py
                if dx * dx + dy * dy < circles[n, 2]:
                    if count == _ROOM:
                        full = True
                        break
                    inside[n] = True
                    cavity[count] = n
                    count += 1
    for i in range(count):
        t = cavity[i]
        for k in range(3):
            n = neighbours[t, k]
            if n >= 0 and inside[n]:
                continue
            if edges == _ROOM:
                full = True
                break
            a = triangles[t, (k + 1) % 3]
            b = triangles[t, (k + 2) % 3]
            rim[edges, 0] = a
            rim[edges, 1] = b
            ax = x[a] - px
            ay = y[a] - py
            bx = x[b] - px
            by = y[b] - py
            double = 2.0 * (ax * by - ay * bx)
            if double <= 0.0:  # on an edge of the hull, or off it by rounding: between its two ends
                for j in range(count):
                    inside[cavity[j]] = False
                length = (bx - ax) ** 2 + (by - ay) ** 2
                share = min(max(-(ax * (bx - ax) + ay * (by - ay)) / length, 0.0), 1.0)
                return z[a] + share * (z[b] - z[a])
            aa = ax * ax + ay * ay
            bb = bx * bx + by * by
            ring[edges, 0] = (by * aa - ay * bb) / double
            ring[edges, 1] = (ax * bb - bx * aa) / double
            pieces[edges] = 0.0
            edges += 1
    if full:
        for i in range(count):
            inside[cavity[i]] = False
        return np.nan
    # rim edge e stands for the vertex it starts from: its piece is summed in pieces[e]
    e = 0
    for i in range(count):
        t = cavity[i]
        cx = circles[t, 0] - px
        cy = circles[t, 1] - py
        for k in range(3):
            a = triangles[t, (k + 1) % 3]
            b = triangles[t, (k + 2) % 3]
            n = neighbours[t, k]
            if n >= 0 and inside[n]:
                if n < t:
                    continue
                ox = circles[n, 0] - px
                oy = circles[n, 1] - py
            else:
                ox = ring[e, 0]
                oy = ring[e, 1]
                e += 1
            area = cx * oy - cy * ox
            left = 2
            for j in range(edges):
                if rim[j, 0] == b:
                    pieces[j] += area
                    left -= 1
                elif rim[j, 0] == a:
                    pieces[j] -= area
                    left -= 1
                if left == 0:
                    break
    for i in range(count):
        inside[cavity[i]] = False
    total = 0.0
    sum_of = 0.0
    for i in range(edges):
        b = rim[i, 1]
        for j in range(edges):
            if rim[j, 0] == b:
                pieces[j] += ring[i, 0] * ring[j, 1] - ring[i, 1] * ring[j, 0]
                break
    for i in range(edges):
        total += pieces[i]
        sum_of += pieces[i] * z[rim[i, 0]]
    return sum_of / total


@kernel
def _fill(xs, ys, x, y, z, triangles, neighbours, circles, longest, result):
    inside = np.zeros(triangles.shape[0], np.bool_)
    cavity = np.empty(_ROOM, np.int32)
    rim = np.empty((_ROOM, 2), np.int32)
    ring = np.empty((_ROOM, 2))
    pieces = np.empty(_ROOM)
    first = 0
    for r in range(ys.size):
        last = first
        for c in range(xs.size):
            home = locate(last, xs[c], ys[r], x, y, triangles, neighbours)
            last = home if home >= 0 else -1 - home
            if c == 0:
                first = last
            if home < 0:
                result[r, c] = np.nan
                continue
            if longest < np.inf:
                too_long = False
                for k in range(3):
                    a = triangles[home, k]
                    b = triangles[home, (k + 1) % 3]
                    if (x[a] - x[b]) ** 2 + (y[a] - y[b]) ** 2 > longest:
                        too_long = True
                if too_long:
                    result[r, c] = np.nan
                    continue
            result[r, c] = _height(
                xs[c], ys[r], home, x, y, z, triangles, neighbours, circles, inside, cavity, rim, ring, pieces
            )


@kernel
def _at(qx, qy, x, y, z, triangles, neighbours, circles, result):
    inside = np.zeros(triangles.shape[0], np.bool_)
    cavity = np.empty(_ROOM, np.int32)
    rim = np.empty((_ROOM, 2), np.int32)
    ring = np.empty((_ROOM, 2))
    pieces = np.empty(_ROOM)
    last = 0
    for i in range(qx.size):
        home = locate(last, qx[i], qy[i], x, y, triangles, neighbours)
        last = home if home >= 0 else -1 - home
        result[i] = np.nan
        if home >= 0:
            result[i] = _height(
                qx[i], qy[i], home, x, y, z, triangles, neighbours, circles, inside, cavity, rim, ring, pieces
            )


def natural_neighbour_at(
    x: FloatArray, y: FloatArray, z: FloatArray, qx: FloatArray, qy: FloatArray, triangulation: Triangulation
) -> FloatArray:
    """Heights at places `(places,)` by natural neighbours; NaN outside the hull. See `natural_neighbour`."""
    east, north = float(np.mean(x)), float(np.mean(y))
    px, py = x - east, y - north
    result = np.empty(qx.size)
    circles = _circles(px, py, triangulation.triangles)
    _at(qx - east, qy - north, px, py, z, triangulation.triangles, triangulation.neighbours, circles, result)
    return result


def natural_neighbour(
    x: FloatArray,
    y: FloatArray,
    z: npt.NDArray[np.float64],
    grid: Grid,
    reach: float = np.inf,
    edge_limit: float = np.inf,
    unit: str = "m",
    triangulation: Triangulation | None = None,
) -> EvaluatedSurface:
    """A surface by natural neighbours.

    x, y, z: `(points,)` in the grid's CRS, one point a place. reach: cells with no point this near stay empty.
    edge_limit: cells in triangles with a longer side stay empty. Both in CRS units. Cells outside the convex hull are
    empty, and those whose place more than 250 points surround on one circle. Raises InputError where the points form
    no triangle.
    """
    mesh = triangulation or triangulate(x, y)
    # circumcentres are computed about the points' middle, where coordinates are short
    east, north = float(np.mean(x)), float(np.mean(y))
    px, py = x - east, y - north
    triangles, neighbours = _near_to_near(px, py, mesh)
    circles = _circles(px, py, triangles)
    index = PointIndex.of(x, y) if np.isfinite(reach) else None

    def evaluate(part: Grid) -> Heights:
        xs, ys = part.centres(part.whole)
        result = np.empty((part.rows, part.cols), np.float32)
        _fill(xs - east, ys - north, px, py, z, triangles, neighbours, circles, float(edge_limit) ** 2, result)
        if index is not None:
            empty_beyond(result, xs, ys, index, reach)
        return result

    return EvaluatedSurface(grid, evaluate, unit, of=("natural neighbour", x, y, z, reach, edge_limit))


def _near_to_near(
    x: FloatArray, y: FloatArray, mesh: Triangulation
) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
    """Triangles and neighbours in an order in which those near on the ground are near in memory."""
    corners = mesh.triangles[:, 0]
    side = max(int(np.sqrt(len(corners) / 8)), 1)
    spread = max(np.ptp(x), np.ptp(y), 1e-12)
    row = ((y[corners] - y.min()) / spread * side).astype(np.int64)
    col = ((x[corners] - x.min()) / spread * side).astype(np.int64)
    order = np.lexsort((np.where(row % 2 == 0, col, -col), row))
    place = np.empty(len(order) + 1, np.int32)
    place[order] = np.arange(len(order), dtype=np.int32)
    place[-1] = -1  # outside stays outside
    return np.ascontiguousarray(mesh.triangles[order]), np.ascontiguousarray(place[mesh.neighbours[order]])
