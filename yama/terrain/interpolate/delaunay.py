"""Delaunay triangulation by divide and conquer.

L. Guibas and J. Stolfi, "Primitives for the manipulation of general subdivisions and the computation of
Voronoi diagrams", ACM Transactions on Graphics 4 (1985), with the alternating cuts of R. A. Dwyer, "A faster
divide-and-conquer algorithm for constructing Delaunay triangulations", Algorithmica 2 (1987). All decisions
come from the exact predicates, so gridded, cocircular and nearly collinear points are no special cases.
The two halves of the first cut are triangulated in two threads.

Edges are directed and come in pairs e, e ^ 1. For each: its origin, and the next edge about that origin
anticlockwise and clockwise.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.interpolate.predicates import in_circle, orient
from yama.terrain.kernels import kernel
from yama.terrain.points import first_at_same_place

PARALLEL_FROM = 20_000
_NEXT, _END, _FREE = 0, 1, 2  # slots of the allocator: next unused edge, end of the range, head of the free list


@dataclass(frozen=True)
class Triangulation:
    """Triangles over points.

    triangles: `(count, 3)` int32, indices of points, anticlockwise.
    neighbours: `(count, 3)` int32, the triangle across the edge opposite each corner, -1 outside.
    first_of: `(points,)` int32, for each input point the index of the first point at the same place.
    """

    triangles: npt.NDArray[np.int32]
    neighbours: npt.NDArray[np.int32]
    first_of: npt.NDArray[np.int32]


@kernel
def _before(ax, ay, bx, by, axis):
    """Order along an axis. Axis 1 is axis 0 of the plane turned by a quarter, ties included."""
    if axis == 0:
        return ax < bx or (ax == bx and ay < by)
    return ay < by or (ay == by and ax > bx)


@kernel
def _swap(x, y, ids, i, j):
    x[i], x[j] = x[j], x[i]
    y[i], y[j] = y[j], y[i]
    ids[i], ids[j] = ids[j], ids[i]


@kernel
def _split(x, y, ids, low, high, middle, axis):
    """Quickselect: order [low, high) so that all before `middle` come before all from it on."""
    last = high - 1
    while last - low > 1:
        mid = (low + last) >> 1
        if _before(x[mid], y[mid], x[low], y[low], axis):
            _swap(x, y, ids, mid, low)
        if _before(x[last], y[last], x[low], y[low], axis):
            _swap(x, y, ids, last, low)
        if _before(x[last], y[last], x[mid], y[mid], axis):
            _swap(x, y, ids, last, mid)
        px = x[mid]
        py = y[mid]
        i = low
        j = last
        while i <= j:
            while _before(x[i], y[i], px, py, axis):
                i += 1
            while _before(px, py, x[j], y[j], axis):
                j -= 1
            if i <= j:
                _swap(x, y, ids, i, j)
                i += 1
                j -= 1
        if middle <= j:
            last = j
        elif middle >= i:
            low = i
        else:
            return
    if last > low and _before(x[last], y[last], x[low], y[low], axis):
        _swap(x, y, ids, last, low)


@kernel
def _make_edge(start, end, org, onext, oprev, alloc):
    edge = alloc[_FREE]
    if edge >= 0:
        alloc[_FREE] = onext[edge]
    else:
        edge = alloc[_NEXT]
        alloc[_NEXT] = edge + 2
    twin = edge + 1
    org[edge] = start
    org[twin] = end
    onext[edge] = edge
    oprev[edge] = edge
    onext[twin] = twin
    oprev[twin] = twin
    return edge


@kernel
def _splice(a, b, onext, oprev):
    a_next = onext[a]
    b_next = onext[b]
    onext[a] = b_next
    onext[b] = a_next
    oprev[b_next] = a
    oprev[a_next] = b


@kernel
def _connect(a, b, org, onext, oprev, alloc):
    """A new edge from the end of a to the origin of b, with the same face on its left."""
    edge = _make_edge(org[a ^ 1], org[b], org, onext, oprev, alloc)
    _splice(edge, oprev[a ^ 1], onext, oprev)
    _splice(edge + 1, b, onext, oprev)
    return edge


@kernel
def _delete(edge, org, onext, oprev, alloc):
    twin = edge ^ 1
    _splice(edge, oprev[edge], onext, oprev)
    _splice(twin, oprev[twin], onext, oprev)
    org[edge] = -1
    org[twin] = -1
    edge = min(edge, twin)
    onext[edge] = alloc[_FREE]
    alloc[_FREE] = edge


@kernel
def _side(point, edge, x, y, org):
    """Positive where the point lies left of the edge."""
    a = org[edge]
    b = org[edge ^ 1]
    return orient(x[a], y[a], x[b], y[b], x[point], y[point])


@kernel
def _circle(a, b, c, d, x, y):
    return in_circle(x[a], y[a], x[b], y[b], x[c], y[c], x[d], y[d]) > 0.0


@kernel
def _extremes(hull_edge, axis, x, y, org, onext):
    """From any hull edge with the outside on its right: the same kind of edge out of the first point along
    the axis, and the opposite kind out of the last one."""
    edge = hull_edge
    first_edge = edge
    last_edge = edge ^ 1
    first = org[edge]
    last = org[edge ^ 1]
    while True:
        start = org[edge]
        end = org[edge ^ 1]
        if _before(x[start], y[start], x[first], y[first], axis):
            first = start
            first_edge = edge
        if _before(x[last], y[last], x[end], y[end], axis):
            last = end
            last_edge = edge ^ 1
        edge = onext[edge ^ 1]
        if edge == hull_edge:
            return first_edge, last_edge


@kernel
def _merge(left_outer, left_inner, right_inner, right_outer, x, y, org, onext, oprev, alloc):
    """Join two triangulations that a line separates; returns the hull edges out of first and last point."""
    while True:  # down to the lower common tangent
        if _side(org[right_inner], left_inner, x, y, org) > 0.0:
            left_inner = oprev[left_inner ^ 1]
        elif _side(org[left_inner], right_inner, x, y, org) < 0.0:
            right_inner = onext[right_inner ^ 1]
        else:
            break
    base = _connect(right_inner ^ 1, left_inner, org, onext, oprev, alloc)
    if org[left_inner] == org[left_outer]:
        left_outer = base ^ 1
    if org[right_inner] == org[right_outer]:
        right_outer = base
    while True:  # rise, one cross edge at a time
        base_org = org[base]
        base_dest = org[base ^ 1]
        left = onext[base ^ 1]
        left_valid = _side(org[left ^ 1], base, x, y, org) < 0.0
        if left_valid:
            after = onext[left]
            while _circle(base_dest, base_org, org[left ^ 1], org[after ^ 1], x, y):
                _delete(left, org, onext, oprev, alloc)
                left = after
                after = onext[left]
        right = oprev[base]
        right_valid = _side(org[right ^ 1], base, x, y, org) < 0.0
        if right_valid:
            after = oprev[right]
            while _circle(base_dest, base_org, org[right ^ 1], org[after ^ 1], x, y):
                _delete(right, org, onext, oprev, alloc)
                right = after
                after = oprev[right]
        if not left_valid and not right_valid:
            return left_outer, right_outer
        if not left_valid or (right_valid and _circle(org[left ^ 1], org[left], org[right], org[right ^ 1], x, y)):
            base = _connect(right, base ^ 1, org, onext, oprev, alloc)
        else:
            base = _connect(base ^ 1, left ^ 1, org, onext, oprev, alloc)


@kernel
def _order_three(x, y, ids, low, high, axis):
    for i in range(low + 1, high):
        j = i
        while j > low and _before(x[j], y[j], x[j - 1], y[j - 1], axis):
            _swap(x, y, ids, j, j - 1)
            j -= 1


@kernel
def _triangulate(low, high, axis, x, y, ids, org, onext, oprev, alloc):
    """Triangulate points [low, high), at least two; reorders them. Returns as `_merge` does, for `axis`."""
    count = high - low
    if count <= 3:
        _order_three(x, y, ids, low, high, axis)
        a = _make_edge(low, low + 1, org, onext, oprev, alloc)
        if count == 2:
            return a, a ^ 1
        b = _make_edge(low + 1, low + 2, org, onext, oprev, alloc)
        _splice(a ^ 1, b, onext, oprev)
        turn = orient(x[low], y[low], x[low + 1], y[low + 1], x[low + 2], y[low + 2])
        if turn == 0.0:
            return a, b ^ 1
        c = _connect(b, a, org, onext, oprev, alloc)
        if turn > 0.0:
            return a, b ^ 1
        return c ^ 1, c
    middle = low + (count >> 1)
    _split(x, y, ids, low, high, middle, axis)
    left, _left_last = _triangulate(low, middle, 1 - axis, x, y, ids, org, onext, oprev, alloc)
    right, _right_last = _triangulate(middle, high, 1 - axis, x, y, ids, org, onext, oprev, alloc)
    left_outer, left_inner = _extremes(left, axis, x, y, org, onext)
    right_inner, right_outer = _extremes(right, axis, x, y, org, onext)
    return _merge(left_outer, left_inner, right_inner, right_outer, x, y, org, onext, oprev, alloc)


@kernel
def _merge_halves(left, right, axis, x, y, org, onext, oprev, alloc, other):
    """The top merge of two halves made with allocators of their own; all spare edges go to the first."""
    for edge in range(other[_END] - 2, other[_NEXT] - 1, -2):
        org[edge] = -1
        org[edge + 1] = -1
        onext[edge] = alloc[_FREE]
        alloc[_FREE] = edge
    left_outer, left_inner = _extremes(left, axis, x, y, org, onext)
    right_inner, right_outer = _extremes(right, axis, x, y, org, onext)
    _merge(left_outer, left_inner, right_inner, right_outer, x, y, org, onext, oprev, alloc)


@kernel
def _collect(x, y, ids, org, oprev, used):
    """Triangles and neighbours of all faces but the outer one, in terms of the caller's point indices."""
    owner = np.full(used, -1, np.int32)
    room = 0
    for edge in range(used):
        if org[edge] >= 0:
            room += 1
    triangles = np.empty((room // 3 + 1, 3), np.int32)
    edges = np.empty((room // 3 + 1, 3), np.int32)
    count = 0
    for edge in range(used):
        if org[edge] < 0 or owner[edge] >= 0:
            continue
        second = oprev[edge ^ 1]
        third = oprev[second ^ 1]
        if oprev[third ^ 1] != edge or second == edge ^ 1 or third == edge:
            continue
        a = org[edge]
        b = org[second]
        c = org[third]
        if orient(x[a], y[a], x[b], y[b], x[c], y[c]) <= 0.0:
            continue
        owner[edge] = count
        owner[second] = count
        owner[third] = count
        triangles[count, 0] = ids[a]
        triangles[count, 1] = ids[b]
        triangles[count, 2] = ids[c]
        edges[count, 0] = second  # opposite corner a
        edges[count, 1] = third
        edges[count, 2] = edge
        count += 1
    neighbours = np.empty((count, 3), np.int32)
    for i in range(count):
        for corner in range(3):
            neighbours[i, corner] = owner[edges[i, corner] ^ 1]
    return triangles[:count].copy(), neighbours


@kernel
def locate(start, px, py, x, y, triangles, neighbours):
    """The triangle that holds a place, walking from another; -1 - the last one walked where the place is outside the
    hull. A place on an edge belongs to either side."""
    t = start
    came = -1
    for _ in range(triangles.shape[0] + 3):
        onward = -1
        blocked = False
        for k in range(3):
            a = triangles[t, (k + 1) % 3]
            b = triangles[t, (k + 2) % 3]
            if (x[b] - x[a]) * (py - y[a]) - (y[b] - y[a]) * (px - x[a]) < 0.0:
                n = neighbours[t, k]
                if n < 0:
                    blocked = True
                elif n != came:
                    onward = n
                    break
        if onward < 0:
            return -1 - t if blocked else t
        came = t
        t = onward
    return -1 - t


def triangulate(x: npt.ArrayLike, y: npt.ArrayLike, workers: int | None = None) -> Triangulation:
    """The Delaunay triangulation of points.

    x, y: `(points,)` finite coordinates in one unit, at least three that are not on one line. Points at one
    place count once; `first_of` tells which. Where four or more points lie on one circle any of the valid
    triangulations may come out, the same one every time for the same input.

    Raises InputError where coordinates are not finite or no triangle exists.
    """
    workers = workers or cores()
    xs = np.array(x, np.float64, copy=True).ravel() + 0.0  # -0.0 becomes 0.0, so that equal means equal bits
    ys = np.array(y, np.float64, copy=True).ravel() + 0.0
    if xs.size != ys.size:
        raise InputError(f"There are {xs.size} x and {ys.size} y coordinates; each point needs both.")
    if not (np.isfinite(xs).all() and np.isfinite(ys).all()):
        raise InputError("Some points have coordinates that are not numbers; leave them out before triangulating.")
    if xs.size and max(np.abs(xs).max(), np.abs(ys).max()) > 1e60:
        raise InputError("Some coordinates are larger than 1e60; they cannot be positions. Leave those points out.")
    first_of = first_at_same_place(xs, ys)
    ids = np.flatnonzero(first_of == np.arange(xs.size, dtype=np.int32)).astype(np.int32)
    if ids.size < 3:
        raise InputError(f"A triangulation needs three points at different places; there are {ids.size}.")
    if ids.size < xs.size:
        xs, ys = xs[ids], ys[ids]
    count = ids.size
    org = np.empty(6 * count, np.int32)
    onext = np.empty(6 * count, np.int32)
    oprev = np.empty(6 * count, np.int32)
    axis = 0 if np.ptp(xs) >= np.ptp(ys) else 1
    if count < PARALLEL_FROM or workers < 2:
        alloc = np.array([0, 6 * count, -1], np.int64)
        _triangulate(0, count, axis, xs, ys, ids, org, onext, oprev, alloc)
        used = int(alloc[_NEXT])
    else:
        middle = count // 2
        _split(xs, ys, ids, 0, count, middle, axis)
        first = np.array([0, 6 * middle, -1], np.int64)
        second = np.array([6 * middle, 6 * count, -1], np.int64)
        with ThreadPoolExecutor(2) as pool:
            halves = [
                pool.submit(_triangulate, low, high, 1 - axis, xs, ys, ids, org, onext, oprev, alloc)
                for low, high, alloc in ((0, middle, first), (middle, count, second))
            ]
            (left, _), (right, _) = (half.result() for half in halves)
        unused = np.arange(int(first[_NEXT]), 6 * middle)
        org[unused] = -1
        _merge_halves(left, right, axis, xs, ys, org, onext, oprev, first, second)
        used = 6 * count
    triangles, neighbours = _collect(xs, ys, ids, org, oprev, used)
    if not len(triangles):
        raise InputError("All points lie on one line, so no triangle can be formed. Points across the line are needed.")
    return Triangulation(triangles, neighbours, first_of)
