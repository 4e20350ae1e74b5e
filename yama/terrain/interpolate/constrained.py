"""Breaklines in a triangulation: edges that no facet may cross.

S. W. Sloan, "A fast algorithm for generating constrained Delaunay triangulations", Computers & Structures 47 (1993): the
edges that a breakline's piece crosses are flipped away one by one until the piece is itself an edge; then every edge that
came of it is made Delaunay again, but for the pieces. Decisions come from the exact predicates.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.delaunay import Triangulation
from yama.terrain.interpolate.predicates import in_circle, orient
from yama.terrain.kernels import kernel

_DONE, _CROSSES, _LOST = 0, 1, 2


@dataclass(frozen=True)
class Constrained:
    """A triangulation in which pieces of breaklines are edges. fixed: `(triangles, 3)`, whether the edge opposite each corner
    is one. crossing: `(any, 2)` pieces, as points, that were left out because they cross a piece that came before."""

    triangulation: Triangulation
    fixed: npt.NDArray[np.bool_]
    crossing: npt.NDArray[np.int32]


@kernel
def _corner_of(triangles, t, vertex):
    for k in range(3):
        if triangles[t, k] == vertex:
            return k
    return -1


@kernel
def _replace(neighbours, t, old, new):
    """In a triangle beside, say `new` where it said `old`."""
    if t >= 0:
        for k in range(3):
            if neighbours[t, k] == old:
                neighbours[t, k] = new
                return


@kernel
def _flip(t, k, triangles, neighbours, fixed, at):
    """Turn the edge opposite corner k of triangle t into the other diagonal of its two triangles."""
    u = neighbours[t, k]
    p = triangles[t, k]
    a = triangles[t, (k + 1) % 3]
    b = triangles[t, (k + 2) % 3]
    j = 0
    while neighbours[u, j] != t or triangles[u, j] == a or triangles[u, j] == b:
        j += 1
    q = triangles[u, j]
    at_a = _corner_of(triangles, u, a)
    at_b = _corner_of(triangles, u, b)
    beyond_aq, fixed_aq = neighbours[u, at_b], fixed[u, at_b]
    beyond_qb, fixed_qb = neighbours[u, at_a], fixed[u, at_a]
    beyond_pa, fixed_pa = neighbours[t, (k + 2) % 3], fixed[t, (k + 2) % 3]
    beyond_bp, fixed_bp = neighbours[t, (k + 1) % 3], fixed[t, (k + 1) % 3]
    triangles[t, 0], triangles[t, 1], triangles[t, 2] = p, a, q
    neighbours[t, 0], neighbours[t, 1], neighbours[t, 2] = beyond_aq, u, beyond_pa
    fixed[t, 0], fixed[t, 1], fixed[t, 2] = fixed_aq, False, fixed_pa
    triangles[u, 0], triangles[u, 1], triangles[u, 2] = p, q, b
    neighbours[u, 0], neighbours[u, 1], neighbours[u, 2] = beyond_qb, beyond_bp, t
    fixed[u, 0], fixed[u, 1], fixed[u, 2] = fixed_qb, fixed_bp, False
    _replace(neighbours, beyond_aq, u, t)
    _replace(neighbours, beyond_bp, t, u)
    at[p] = t
    at[a] = t
    at[q] = t
    at[b] = u


@kernel
def _edge_at(a, b, triangles, neighbours, at):
    """The triangle and corner opposite the edge from a to b; -1 where there is none. Turns about a both ways."""
    start = at[a]
    t = start
    for _ in range(triangles.shape[0]):
        i = _corner_of(triangles, t, a)
        if triangles[t, (i + 1) % 3] == b:
            return t, (i + 2) % 3
        if triangles[t, (i + 2) % 3] == b:
            return t, (i + 1) % 3
        t = neighbours[t, (i + 1) % 3]  # anticlockwise about a
        if t < 0 or t == start:
            break
    if t == start:
        return -1, -1
    t = start
    for _ in range(triangles.shape[0]):
        i = _corner_of(triangles, t, a)
        t = neighbours[t, (i + 2) % 3]  # clockwise
        if t < 0 or t == start:
            return -1, -1
        i = _corner_of(triangles, t, a)
        if triangles[t, (i + 1) % 3] == b:
            return t, (i + 2) % 3
        if triangles[t, (i + 2) % 3] == b:
            return t, (i + 1) % 3
    return -1, -1


@kernel
def _fix(a, b, triangles, neighbours, fixed, at):
    t, k = _edge_at(a, b, triangles, neighbours, at)
    if t < 0:
        return False
    fixed[t, k] = True
    u = neighbours[t, k]
    if u >= 0:
        for j in range(3):
            if triangles[u, j] != a and triangles[u, j] != b:
                fixed[u, j] = True
    return True


@kernel
def _first_crossed(a, b, x, y, triangles, neighbours, at):
    """From a towards b: the triangle at a whose far edge the line crosses, and -1; or a triangle and the vertex at a's far
    edge that the line meets first. Triangle -1 where the line leaves the hull."""
    start = at[a]
    t = start
    turned = False
    for _ in range(2 * triangles.shape[0] + 4):
        i = _corner_of(triangles, t, a)
        right = triangles[t, (i + 1) % 3]
        left = triangles[t, (i + 2) % 3]
        if right == b or left == b:
            return t, b
        to_right = orient(x[a], y[a], x[b], y[b], x[right], y[right])
        to_left = orient(x[a], y[a], x[b], y[b], x[left], y[left])
        for vertex, side in ((right, to_right), (left, to_left)):
            if side == 0.0 and (x[vertex] - x[a]) * (x[b] - x[a]) + (y[vertex] - y[a]) * (y[b] - y[a]) > 0.0:
                return t, vertex
        if to_right < 0.0 < to_left:
            return t, -1
        following = neighbours[t, (i + 1) % 3] if not turned else neighbours[t, (i + 2) % 3]
        if following < 0 and not turned:
            turned = True
            i = _corner_of(triangles, start, a)
            following = neighbours[start, (i + 2) % 3]
        if following < 0 or following == start:
            return -1, -1
        t = following
    return -1, -1


@kernel
def _insert(a, b, x, y, triangles, neighbours, fixed, at, crossed, made):
    """Make the piece from a to b, or its first part, an edge. Returns what came of it, and the vertex reached."""
    t, vertex = _first_crossed(a, b, x, y, triangles, neighbours, at)
    if t < 0:
        return _LOST, b
    if vertex >= 0:
        return (_DONE if _fix(a, vertex, triangles, neighbours, fixed, at) else _LOST), vertex
    # the edges between a and b, or up to a vertex that lies on the way
    count = 0
    end = b
    i = _corner_of(triangles, t, a)
    k = i
    while True:
        if fixed[t, k]:
            return _CROSSES, b
        right = triangles[t, (k + 1) % 3]
        left = triangles[t, (k + 2) % 3]
        if count == crossed.shape[0]:
            return _LOST, b
        crossed[count, 0] = right
        crossed[count, 1] = left
        count += 1
        u = neighbours[t, k]
        if u < 0:
            return _LOST, b
        j = 0
        while triangles[u, j] == right or triangles[u, j] == left:
            j += 1
        ahead = triangles[u, j]
        if ahead == b:
            break
        side = orient(x[a], y[a], x[b], y[b], x[ahead], y[ahead])
        if side == 0.0:
            end = ahead
            break
        # the line leaves u through the edge beside `ahead` that has the other side's vertex
        k = _corner_of(triangles, u, left) if side > 0.0 else _corner_of(triangles, u, right)
        t = u
    # flip them away; one whose two triangles make no convex figure waits for the others
    first = 0
    waiting = count
    new = 0
    turns = 0
    while waiting:
        v, w = crossed[first % crossed.shape[0], 0], crossed[first % crossed.shape[0], 1]
        first += 1
        waiting -= 1
        t, k = _edge_at(v, w, triangles, neighbours, at)
        u = neighbours[t, k]
        p = triangles[t, k]
        v = triangles[t, (k + 1) % 3]
        w = triangles[t, (k + 2) % 3]
        j = 0
        while triangles[u, j] == v or triangles[u, j] == w:
            j += 1
        q = triangles[u, j]
        convex = orient(x[p], y[p], x[q], y[q], x[v], y[v]) < 0.0 < orient(x[p], y[p], x[q], y[q], x[w], y[w])
        turns += 1
        if turns > 64 * (count + 8) * (count + 8):
            return _LOST, b
        if not convex:
            place = (first + waiting) % crossed.shape[0]
            crossed[place, 0], crossed[place, 1] = v, w
            waiting += 1
            continue
        _flip(t, k, triangles, neighbours, fixed, at)
        again = False
        if p != a and p != end and q != a and q != end:
            one = orient(x[a], y[a], x[end], y[end], x[p], y[p])
            other = orient(x[a], y[a], x[end], y[end], x[q], y[q])
            again = (one < 0.0 < other) or (other < 0.0 < one)
        if again:
            place = (first + waiting) % crossed.shape[0]
            crossed[place, 0], crossed[place, 1] = p, q
            waiting += 1
        elif new < made.shape[0]:
            made[new, 0], made[new, 1] = p, q
            new += 1
    if not _fix(a, end, triangles, neighbours, fixed, at):
        return _LOST, b
    # what came of it is made Delaunay again
    swapped = True
    while swapped:
        swapped = False
        for n in range(new):
            t, k = _edge_at(made[n, 0], made[n, 1], triangles, neighbours, at)
            if t < 0 or fixed[t, k]:
                continue
            u = neighbours[t, k]
            if u < 0:
                continue
            p = triangles[t, k]
            v = triangles[t, (k + 1) % 3]
            w = triangles[t, (k + 2) % 3]
            j = 0
            while triangles[u, j] == v or triangles[u, j] == w:
                j += 1
            q = triangles[u, j]
            if in_circle(x[p], y[p], x[v], y[v], x[w], y[w], x[q], y[q]) > 0.0:
                _flip(t, k, triangles, neighbours, fixed, at)
                made[n, 0], made[n, 1] = p, q
                swapped = True
    return _DONE, end


@kernel
def _insert_all(pieces, x, y, triangles, neighbours, fixed, at, room, refused):
    crossed = np.empty((room, 2), np.int32)
    made = np.empty((room, 2), np.int32)
    left_out = 0
    for i in range(pieces.shape[0]):
        a, b = pieces[i, 0], pieces[i, 1]
        while a != b:
            done, reached = _insert(a, b, x, y, triangles, neighbours, fixed, at, crossed, made)
            if done == _LOST:
                return -1 - i
            if done == _CROSSES:
                refused[left_out, 0], refused[left_out, 1] = a, b
                left_out += 1
                break
            a = reached
    return left_out


def constrain(x: FloatArray, y: FloatArray, mesh: Triangulation, pieces: npt.ArrayLike) -> Constrained:
    """Make pieces of breaklines edges of a triangulation of points `(points,)`.

    pieces: `(any, 2)` numbers of points, each the two ends of a piece; every vertex of a breakline is a point. A piece that
    runs through further points becomes several edges. A piece that crosses an earlier one is left out from there on and
    listed. The given triangulation stays as it is.
    Raises InputError where a piece names no point or joins a point with itself.
    """
    wanted = np.asarray(pieces, np.int32).reshape(-1, 2)
    if wanted.size and (wanted.min() < 0 or wanted.max() >= x.size):
        raise InputError("A breakline names a point that is not there.")
    wanted = np.ascontiguousarray(mesh.first_of[wanted], np.int32)
    if (wanted[:, 0] == wanted[:, 1]).any():
        raise InputError("A piece of a breakline begins and ends at one place. Leave such pieces out.")
    triangles, neighbours = mesh.triangles.copy(), mesh.neighbours.copy()
    fixed = np.zeros(triangles.shape, np.bool_)
    at = np.full(x.size, -1, np.int32)
    for k in range(3):
        at[triangles[:, k]] = np.arange(len(triangles), dtype=np.int32)
    refused = np.empty((len(wanted), 2), np.int32)
    # a piece crosses no more edges than there are, and most cross a few
    room = min(3 * len(triangles) + 8, 1 << 20)
    count = _insert_all(wanted, x, y, triangles, neighbours, fixed, at, room, refused)
    if count < 0:
        a, b = wanted[-1 - count]
        raise InputError(f"The breakline from E {x[a]:.2f} N {y[a]:.2f} to E {x[b]:.2f} N {y[b]:.2f} cannot be made an edge. "
                         "Leave it out, or draw it in shorter pieces.")  # fmt: skip
    return Constrained(Triangulation(triangles, neighbours, mesh.first_of), fixed, refused[:count].copy())
