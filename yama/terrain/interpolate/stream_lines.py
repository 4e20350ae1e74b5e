"""Heights along streams that cross contours: they fall all the way, through every crossing."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable

import numpy as np
import shapely

from yama.terrain.grid import FloatArray
from yama.terrain.later import later

interpolate = later("scipy.interpolate")

Sample = Callable[[FloatArray, FloatArray], FloatArray]
"""Heights of a first surface at places x, y `(places,)`; NaN where it has none."""


def _most_falling(heights: FloatArray) -> list[int]:
    """The largest set of crossings that fall, or stay level, from first to last (longest non-increasing subsequence)."""
    tails: list[float] = []
    ends: list[int] = []
    before = [-1] * len(heights)
    for i, height in enumerate(heights):
        at = bisect_left(tails, -height + 1e-9)
        if at == len(tails):
            tails.append(-height)
            ends.append(i)
        else:
            tails[at] = -height
            ends[at] = i
        before[i] = ends[at - 1] if at else -1
    chain: list[int] = []
    i = ends[-1] if ends else -1
    while i >= 0:
        chain.append(i)
        i = before[i]
    return chain[::-1]


def _crossings(line: shapely.LineString, tree: shapely.STRtree, heights: FloatArray) -> tuple[FloatArray, FloatArray]:
    """How far along a line contours cross it, in order, and their heights."""
    near = tree.query(line, "intersects")
    if not near.size:
        return np.empty(0), np.empty(0)
    at: list[float] = []
    known: list[float] = []
    for i, shape in zip(near, shapely.intersection(line, tree.geometries[near]), strict=True):
        places = shapely.points(shapely.get_coordinates(shape))
        at += [float(s) for s in np.atleast_1d(shapely.line_locate_point(line, places))]
        known += [float(heights[i])] * len(places)
    order = np.argsort(at, kind="stable")
    return np.array(at)[order], np.array(known)[order]


def _profile(line: FloatArray, at: FloatArray, known: FloatArray, top: float, end: float) -> FloatArray:
    """The line `(vertices, 3)` with a vertex at each crossing that falls, and heights that fall from `top` to `end`.

    Between crossings the height follows a monotone cubic (F. N. Fritsch and R. E. Carlson, "Monotone piecewise cubic
    interpolation", SIAM Journal on Numerical Analysis 17, 1980)."""
    steps = np.hypot(*np.diff(line[:, :2], axis=0).T)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    keep = _most_falling(known)
    at, known = at[keep], known[keep]
    inside = (at > 0) & (at < along[-1])
    at, known = at[inside], known[inside]
    if len(known):
        top, end = max(top, known[0]), min(end, known[-1])
    places = np.concatenate([[0.0], at, [along[-1]]])
    heights = np.concatenate([[top], known, [min(end, top)]])
    places, first = np.unique(places, return_index=True)
    knots = np.unique(np.concatenate([along, at]))
    xs, ys = (np.interp(knots, along, line[:, k]) for k in (0, 1))
    return np.column_stack([xs, ys, interpolate.PchipInterpolator(places, heights[first])(knots)])


def falling(
    streams: list[FloatArray], contours: list[FloatArray], heights: FloatArray, sample: Sample, snap: float
) -> list[FloatArray]:
    """Streams `(vertices, 2 or 3)` as lines `(vertices, 3)` that run downhill.

    contours: lines `(vertices, 2)` of the `heights` `(lines,)`. A stream that climbs as it is drawn is turned about.
    Where it ends within `snap` of another it meets that one's height, which is found first. Above the first crossing and
    below the last the heights of a first surface are taken as far as they allow a fall; a stream whose ends that surface
    does not reach is left out.
    """
    if not streams or not contours:
        return []
    tree = shapely.STRtree([shapely.LineString(line) for line in contours])
    shapes, crossed = [], []
    lines: list[FloatArray] = []
    for stream in streams:
        line = np.ascontiguousarray(stream[:, :2])
        shape = shapely.LineString(line)
        at, known = _crossings(shape, tree, heights)
        first, last = sample(line[[0, -1], 0].copy(), line[[0, -1], 1].copy())
        rises = np.polyfit(at, known, 1)[0] > 0 if len(known) > 1 and np.ptp(known) > 0 else last > first
        if rises:
            line, shape = line[::-1].copy(), shapely.reverse(shape)
            at, known = shape.length - at[::-1], known[::-1]
        lines.append(line)
        shapes.append(shape)
        crossed.append((at, known))
    mouths = shapely.points([line[-1] for line in lines])
    among = shapely.STRtree(shapes)
    into = [
        next((int(j) for j in np.atleast_1d(among.query(mouth, "dwithin", snap)) if j != i), -1)
        for i, mouth in enumerate(mouths)
    ]
    made: dict[int, FloatArray] = {}

    def make(i: int, below: float | None) -> None:
        (top, end), (at, known) = sample(lines[i][[0, -1], 0].copy(), lines[i][[0, -1], 1].copy()), crossed[i]
        if below is not None:
            end = below
        if not (np.isfinite(top) and np.isfinite(end)):
            return
        made[i] = _profile(lines[i], at, known, float(top), float(end))

    for i in range(len(lines)):
        chain: list[int] = []
        j = i
        while j >= 0 and j not in made and j not in chain:  # down to the sea, or to what is known, or round in a ring
            chain.append(j)
            j = into[j]
        for k in reversed(chain):
            receiver = made.get(into[k]) if into[k] >= 0 else None
            below = None
            if receiver is not None:
                spot = lines[k][-1]
                below = float(receiver[np.argmin(np.hypot(*(receiver[:, :2] - spot).T)), 2])
            make(k, below)
    return [made[i] for i in sorted(made)]
