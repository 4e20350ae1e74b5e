"""Networks of lines that are given, such as rivers of a map, told link by link as streams of a surface are."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.links import Links, Numbers
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.surface import Heights

_FINE = 1000.0  # parts of a cell's side to which places where lines meet are rounded


@dataclass(frozen=True)
class Rivers(Links):
    """A network of lines that are given.

    Parameters
    ----------
    shapes : ndarray of LineString, shape (links,)
        Each drawn downstream, in the grid's CRS.
    outside : int
        How many links were left out, because no height lies along their part of the network.
    """

    shapes: npt.NDArray[np.object_] = field(repr=False)
    outside: int = 0

    def features(self) -> Features:
        """The links as lines with what is known of them."""
        return Features(self.grid.crs, self.shapes, *self.columns())


def rivers(
    lines: Sequence[shapely.LineString], grid: Grid, heights: Heights, counts: npt.NDArray[np.int32], within: float
) -> Rivers:
    """Number the links of lines, and tell which way water goes in them.

    Lines meet where they share a place. Water goes from where it is high to the lowest end of each part of the network
    that hangs together, and to ends without height, as in the sea, that it falls towards; on the way there it may
    be led uphill, since a line beside its valley is. Of streams that part and meet again one is the main stream;
    the others have its order and change nothing about the one that they come to.

    Parameters
    ----------
    lines : sequence of LineString
        In the grid's CRS.
    grid : Grid
    heights : ndarray, shape (rows, cols)
        In metres; NaN where there is none.
    counts : ndarray, shape (rows, cols)
        How many cells drain through each; 0 where there is no height.
    within : float
        Metres to both sides within which the most ground is looked for that drains into a link.

    Raises
    ------
    InputError
        Where no line has heights along it, or all are too short.
    """
    fine = min(grid.cell_width, grid.cell_height) / _FINE
    noded = shapely.line_merge(shapely.union_all(np.array(list(lines), object), grid_size=fine))
    shapes = shapely.get_parts(noded)
    if not len(shapes):
        raise InputError("These lines are shorter than a thousandth of a cell. Choose longer ones.")
    ends, high = _ends(shapes, grid, heights)
    nodes, between = np.unique(ends.reshape(-1, 2), axis=0, return_inverse=True)
    between = between.reshape(-1, 2)
    flood = _Flood.of(between, high, len(nodes), _reached(nodes, grid, heights))
    there = flood.rank[between[:, 0]] >= 0
    if not there.any():
        raise InputError("No height lies along these lines. Choose lines that run over the surface.")
    kept = np.flatnonzero(there)
    # water comes to an end that is reached earlier
    upward = flood.rank[between[kept, 0]] < flood.rank[between[kept, 1]]
    shapes = np.where(upward, shapely.reverse(shapes[kept]), shapes[kept])
    high = np.where(upward[:, None], high[kept, ::-1], high[kept])
    lower = np.where(upward, between[kept, 0], between[kept, 1]).astype(np.int64)
    upper = np.where(upward, between[kept, 1], between[kept, 0]).astype(np.int64)
    order, magnitude = flood.orders(upper, lower, kept)
    number = np.append(np.cumsum(there) - 1, -1)
    below = number[flood.into[lower]]
    scale = np.array(grid.metres_per_unit())
    length = shapely.length(shapely.transform(shapes, lambda at: at * scale))
    area = _ground(shapes, below, grid, counts, within)
    outside = len(there) - len(kept)
    return Rivers(grid, order, magnitude, below, length, area, high[:, 0], high[:, 1], shapes, outside)


def _cells(places: FloatArray, grid: Grid) -> tuple[Numbers, Numbers, npt.NDArray[np.bool_]]:
    rows = np.rint(grid.row_of(places[:, 1])).astype(np.int64)
    cols = np.rint(grid.col_of(places[:, 0])).astype(np.int64)
    return rows, cols, (rows >= 0) & (cols >= 0) & (rows < grid.rows) & (cols < grid.cols)


def _reached(places: FloatArray, grid: Grid, heights: Heights) -> npt.NDArray[np.bool_]:
    """Which places have heights."""
    rows, cols, there = _cells(places, grid)
    there[there] = np.isfinite(heights[rows[there], cols[there]])
    return there


def _ends(shapes: npt.NDArray[np.object_], grid: Grid, heights: Heights) -> tuple[FloatArray, FloatArray]:
    """Both ends of lines, `(lines, 2, 2)`, and the first and the last height along each, `(lines, 2)`; NaN for a line
    without heights."""
    side = min(grid.cell_width, grid.cell_height)
    places, of = shapely.get_coordinates(shapely.segmentize(shapes, side), return_index=True)
    starts = np.searchsorted(of, np.arange(len(shapes) + 1))
    ends = np.stack([places[starts[:-1]], places[starts[1:] - 1]], axis=1)
    rows, cols, there = _cells(places, grid)
    found = np.full(len(places), np.nan)
    found[there] = heights[rows[there], cols[there]]
    known = np.flatnonzero(np.isfinite(found))
    first, last = (np.searchsorted(known, at) for at in (starts[:-1], starts[1:]))
    high = np.full((len(shapes), 2), np.nan)
    some = last > first
    high[some, 0], high[some, 1] = found[known[first[some]]], found[known[last[some] - 1]]
    return ends, high


@dataclass(frozen=True)
class _Flood:
    """How a network is reached from where its water ends, upstream.

    rank: of each node, in which place it is reached; -1 where it is not. into: of each node the link down from it;
    -1 at ends and where it is not reached.
    """

    rank: Numbers
    into: Numbers

    @classmethod
    def of(cls, between: Numbers, high: FloatArray, nodes: int, reached: npt.NDArray[np.bool_]) -> _Flood:
        """between: the nodes of links, `(links, 2)`; high: heights there; reached: which nodes have a height."""
        level = np.full(nodes, np.inf)
        np.fmin.at(level, between.ravel(), high.ravel())
        links_at: list[list[int]] = [[] for _ in range(nodes)]
        for link, (one, other) in enumerate(between.tolist()):
            links_at[one].append(link)
            if other != one:
                links_at[other].append(link)
        rank, into = np.full(nodes, -1, np.int64), np.full(nodes, -1, np.int64)
        queue: list[tuple[float, int]] = []
        seen = np.zeros(nodes, np.bool_)
        for part in _parts(between, nodes):
            single = part[[len(links_at[one]) == 1 for one in part.tolist()]]
            lowest = single if len(single) else part
            mouths = [int(lowest[np.argmin(level[lowest])])]
            if not np.isfinite(level[mouths[0]]):
                continue
            for one in single[~reached[single]].tolist():
                link = links_at[one][0]
                here, there = high[link] if between[link, 0] == one else high[link, ::-1]
                if here < there:
                    mouths.append(one)
            for one in set(mouths):
                seen[one] = True
                heapq.heappush(queue, (float(level[one]), one))
        count = 0
        while queue:
            flooded, node = heapq.heappop(queue)
            rank[node] = count
            count += 1
            for link in links_at[node]:
                one, other = between[link].tolist()
                on = other if one == node else one
                if not seen[on]:
                    seen[on] = True
                    into[on] = link
                    heapq.heappush(queue, (max(flooded, float(level[on])) if np.isfinite(level[on]) else flooded, on))
        return cls(rank, into)

    def orders(self, upper: Numbers, lower: Numbers, links: Numbers) -> tuple[Numbers, Numbers]:
        """Orders and magnitudes of links, from one node down to another. links: their numbers in `into`."""
        nodes = len(self.rank)
        highest, times = np.zeros(nodes, np.int64), np.zeros(nodes, np.int64)
        sums, aside = np.zeros(nodes, np.int64), np.zeros((nodes, 2), np.int64)
        order, magnitude = np.empty(len(links), np.int64), np.empty(len(links), np.int64)
        main = self.into[upper] == links
        for k in np.argsort(-self.rank[upper], kind="stable").tolist():
            top, foot = upper[k], lower[k]
            if highest[top]:
                order[k], magnitude[k] = highest[top] + (times[top] > 1), sums[top]
            elif aside[top, 0]:  # only arms of another stream come to it
                order[k], magnitude[k] = aside[top]
            else:
                order[k] = magnitude[k] = 1
            if not main[k]:
                aside[foot] = np.maximum(aside[foot], (order[k], magnitude[k]))
                continue
            sums[foot] += magnitude[k]
            if order[k] > highest[foot]:
                highest[foot], times[foot] = order[k], 1
            elif order[k] == highest[foot]:
                times[foot] += 1
        return order, magnitude


def _parts(between: Numbers, nodes: int) -> list[Numbers]:
    """The nodes of each part of a network that hangs together."""
    above = list(range(nodes))

    def root(one: int) -> int:
        while above[one] != one:
            above[one] = above[above[one]]
            one = above[one]
        return one

    for one, other in between.tolist():
        above[root(one)] = root(other)
    roots = np.array([root(one) for one in range(nodes)], np.int64)
    order = np.argsort(roots, kind="stable")
    return np.split(order, np.flatnonzero(np.diff(roots[order])) + 1)


def _ground(
    shapes: npt.NDArray[np.object_], below: Numbers, grid: Grid, counts: npt.NDArray[np.int32], within: float
) -> FloatArray:
    """Square metres that drain into each link: the most near its places, apart from those near the link that it flows
    into. NaN where nothing does."""
    across, along = grid.metres_per_cell()
    up, aside = int(within / along), int(within / across)
    # not between the centres of cells that touch in a corner, since such a place may lie in a third one
    side = max(within, 1.5 * min(across, along)) / max(grid.metres_per_unit())
    places, of = shapely.get_coordinates(shapely.segmentize(shapes, side), return_index=True)
    starts = np.searchsorted(of, np.arange(len(shapes) + 1))
    feet = places[starts[1:] - 1][of]
    scale = np.array(grid.metres_per_unit())
    near = np.hypot(*((places - feet) * scale).T) <= max(within, 0.75 * min(across, along))
    near &= below[of] >= 0
    near[starts[:-1]] = False
    rows, cols, there = _cells(places, grid)
    found = np.zeros(len(shapes))
    for k in np.flatnonzero(there & ~near).tolist():
        top, left = max(rows[k] - up, 0), max(cols[k] - aside, 0)
        most = counts[top : rows[k] + up + 1, left : cols[k] + aside + 1].max()
        found[of[k]] = max(found[of[k]], float(most))
    return np.where(found > 0, found, np.nan) * across * along
