"""Flat triangles between contours, given the shape of the ridge, valley, pass or summit they stand for.

A triangulation of contours puts a flat facet wherever a contour bends round a ridge or a valley: all three corners lie on
one line. J. M. Ware, "A procedure for automatically correcting invalid flat triangles occurring in triangulated contour
data", Computers & Geosciences 24 (1998): points are added along the middle of each flat patch, with heights that run from
the end of the patch to the next contour beyond its opening.

The middle is the graph of the midpoints of inner edges. Along the ways from a patch's openings to its farthest end heights
are linear in length, where several ways meet harmonic. A patch without an opening is a summit or a hollow and is raised or
lowered as the slope around it goes on, by less than half an interval.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.constrained import Constrained
from yama.terrain.later import later

csgraph = later("scipy.sparse.csgraph")
linalg = later("scipy.sparse.linalg")
sparse = later("scipy.sparse")

_SUMMIT = 0.45
"""Share of the contour interval by which a closed patch rises at most."""

Numbers = npt.NDArray[np.int64]


class _Middle:
    """The graph along the middle of all flat patches."""

    def __init__(self, x: FloatArray, y: FloatArray, z: FloatArray, mesh: Constrained) -> None:
        triangles, neighbours = mesh.triangulation.triangles, mesh.triangulation.neighbours
        flat = (np.ptp(z[triangles], axis=1) == 0) & (triangles >= 0).all(1)
        self.places: list[tuple[float, float]] = []
        self.heights: list[float] = []
        self.level: list[float] = []  # of the patch a node belongs to
        self.given: list[bool] = []  # a vertex there was before
        self.exits: list[int] = []
        self.leaves: list[int] = []
        self.ends: list[tuple[int, int]] = []
        self.outside: dict[int, list[float]] = {}  # slopes across the rim, by node
        midpoints: dict[tuple[int, int], int] = {}
        vertices: dict[tuple[int, int], int] = {}

        def node(px: float, py: float, height: float, level: float, given: bool) -> int:
            self.places.append((px, py))
            self.heights.append(height)
            self.level.append(level)
            self.given.append(given)
            return len(self.places) - 1

        corners_of, beyond_of, fixed = triangles.tolist(), neighbours.tolist(), mesh.fixed.tolist()
        x, y, z, is_flat = x.tolist(), y.tolist(), z.tolist(), flat.tolist()  # plain numbers: read one by one
        for t in np.flatnonzero(flat).tolist():
            corners = corners_of[t]
            level = z[corners[0]]
            inner: list[int] = []
            slopes: list[float] = []
            for k in range(3):
                beyond = beyond_of[t][k]
                a, b = corners[(k + 1) % 3], corners[(k + 2) % 3]
                if beyond < 0:
                    continue
                far = sum(corners_of[beyond]) - a - b
                if fixed[t][k]:
                    away = math.hypot(x[far] - (x[a] + x[b]) / 2, y[far] - (y[a] + y[b]) / 2)
                    slopes.append((z[far] - level) / max(away, 1e-9))
                    continue
                key = (min(a, b), max(a, b))
                if key not in midpoints:
                    midpoints[key] = node((x[a] + x[b]) / 2, (y[a] + y[b]) / 2, np.nan, level, False)
                    if not is_flat[beyond]:
                        out = node(x[far], y[far], z[far], level, True)
                        self.exits.append(out)
                        self.ends.append((midpoints[key], out))
                inner.append(midpoints[key])
            if len(inner) == 1:  # the end of a patch: its tip is the corner on the line
                k = next(k for k in range(3) if midpoints.get(_key(corners, k)) == inner[0])
                tip = corners[k]
                if (t, tip) not in vertices:
                    vertices[t, tip] = node(x[tip], y[tip], level, level, True)
                    self.leaves.append(vertices[t, tip])
                self.ends.append((inner[0], vertices[t, tip]))
            elif len(inner) == 2:
                self.ends.append((inner[0], inner[1]))
            elif len(inner) == 3:
                middle = node(sum(x[v] for v in corners) / 3, sum(y[v] for v in corners) / 3, np.nan, level, False)
                self.ends += [(one, middle) for one in inner]
            for one in inner:
                self.outside.setdefault(one, []).extend(slopes)

    def graph(self) -> Any:
        """Lengths between nodes, both ways."""
        count = len(self.places)
        spots, ends = np.array(self.places).reshape(-1, 2), np.array(self.ends, np.int64).reshape(-1, 2)
        lengths = np.maximum(np.hypot(*(spots[ends[:, 0]] - spots[ends[:, 1]]).T), 1e-9)
        whole = sparse.coo_array((np.tile(lengths, 2), (ends.T.ravel(), ends[:, ::-1].T.ravel())), shape=(count, count))
        return sparse.csr_array(whole)


def _key(corners: list[int], k: int) -> tuple[int, int]:
    a, b = corners[(k + 1) % 3], corners[(k + 2) % 3]
    return (min(a, b), max(a, b))


def middle_points(x: FloatArray, y: FloatArray, z: FloatArray, mesh: Constrained, interval: float) -> FloatArray:
    """Points `(any, 3)` to add to a triangulation of contours so that no patch of it is flat where land is not.

    x, y, z: the vertices `(points,)`. mesh: in which the contours' pieces are edges. interval: between contours.
    """
    middle = _Middle(x, y, z, mesh)
    count = len(middle.places)
    if not count:
        return np.empty((0, 3))
    graph = middle.graph()
    patches, patch = csgraph.connected_components(graph, directed=False)
    given, level = np.array(middle.given), np.array(middle.level)
    heights = np.array(middle.heights)
    exits = np.array(middle.exits, np.int64)
    opened = np.zeros(patches, np.bool_)
    opened[patch[exits]] = True
    closed = np.flatnonzero(~given & ~opened[patch])
    found = [_summits(middle, closed, patch, x, y, interval)]
    if exits.size:
        found.append(_ways(middle, graph, exits, np.flatnonzero(opened[patch]), patch, heights, level, given))
    return np.concatenate(found)


def _ways(
    middle: _Middle, graph: Any, exits: Numbers, nodes: Numbers, patch: npt.NDArray[np.int32], heights: FloatArray,
    level: FloatArray, given: npt.NDArray[np.bool_],
) -> FloatArray:  # fmt: skip
    """Points along the ways from the openings of patches to their farthest ends."""
    far = csgraph.dijkstra(graph, indices=exits, min_only=True)
    order = nodes[np.lexsort((far[nodes], patch[nodes]))]
    last = np.append(np.flatnonzero(np.diff(patch[order])), len(order) - 1)
    ends = order[last]  # the farthest node of each patch
    _, before, _ = csgraph.dijkstra(graph, indices=ends, min_only=True, return_predecessors=True)
    used = np.zeros(len(heights), np.bool_)
    used[ends] = True
    for node in exits:
        while node >= 0 and not used[node]:
            used[node] = True
            node = before[node]
    # the end of a patch lies on its line where it is a tip; between openings half way to what they lead to
    tip = np.zeros(len(heights), np.bool_)
    tip[middle.leaves] = True
    sums, counts = np.zeros(len(heights)), np.zeros(len(heights))
    np.add.at(sums, patch[exits], heights[exits])
    np.add.at(counts, patch[exits], 1.0)
    beyond = sums[patch[ends]] / counts[patch[ends]]
    heights = heights.copy()
    heights[ends] = np.where(tip[ends], level[ends], (level[ends] + beyond) / 2)
    known = np.zeros(len(heights), np.bool_)
    known[ends] = known[exits] = True
    wanted = np.flatnonzero(used & ~known)
    if wanted.size:
        inside = graph[used][:, used].tocoo()
        back = np.flatnonzero(used)
        rows, cols, flow = back[inside.row], back[inside.col], 1.0 / inside.data
        number = np.full(len(heights), -1)
        number[wanted] = np.arange(wanted.size)
        own = number[rows] >= 0
        rows, cols, flow = rows[own], cols[own], flow[own]
        matrix = sparse.coo_array((flow, (number[rows], number[rows])), shape=(wanted.size, wanted.size))
        free = number[cols] >= 0
        between = sparse.coo_array((-flow[free], (number[rows[free]], number[cols[free]])), shape=matrix.shape)
        side = np.zeros(wanted.size)
        np.add.at(side, number[rows[~free]], flow[~free] * heights[cols[~free]])
        heights[wanted] = linalg.spsolve(sparse.csr_array(matrix + between).tocsc(), side)
    made = np.flatnonzero(used & ~given)
    return np.column_stack([np.array(middle.places)[made], heights[made]])


def _summits(
    middle: _Middle, nodes: Numbers, patch: npt.NDArray[np.int32], x: FloatArray, y: FloatArray, interval: float
) -> FloatArray:
    """Points of closed patches, which go on as the ground around them comes up or goes down to them."""
    made = []
    slopes: dict[int, list[float]] = {}
    for node in nodes:
        slopes.setdefault(int(patch[node]), []).extend(middle.outside.get(int(node), []))
    rim: dict[int, list[int]] = {}
    for one, other in middle.ends:
        for node in (one, other):
            if middle.given[node]:
                rim.setdefault(int(patch[node]), []).append(node)
    spots = np.array(middle.places).reshape(-1, 2)
    for node in nodes:
        around = slopes.get(int(patch[node]), [])
        if not around:
            continue
        slope = -float(np.median(around))  # lower ground around: it rises inwards
        width = (
            float(np.min(np.hypot(*(spots[rim[int(patch[node])]] - spots[node]).T))) if int(patch[node]) in rim else 0.0
        )
        rise = np.clip(slope * width, -_SUMMIT * interval, _SUMMIT * interval)
        made.append((*middle.places[node], middle.level[node] + rise))
    return np.array(made, np.float64).reshape(-1, 3)
