"""What a contour map says, and whether it can be right: heights of lines, wrong labels, gaps and crossings."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.features import Features, parts_of
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.later import later

spatial = later("scipy.spatial")

_BAD, _GOOD = 0.3, 0.1
"""Shares of a line's neighbours that lie two intervals off: from which it is suspected, and to which another height must
bring that down."""
_WIDEST = 12.0
"""Contour spacings over which two loose ends may still belong together."""


@dataclass(frozen=True)
class Sheet:
    """What a contour map says, in one CRS.

    contours: lines `(vertices, 2)`. heights: of each. spots: `(spots, 3)`. streams: lines `(vertices, 2)`, any direction.
    lakes: polygons. coast: lines at height 0, below which nothing lies where no contour does.
    """

    contours: list[FloatArray]
    heights: FloatArray
    spots: FloatArray = field(default_factory=lambda: np.empty((0, 3)))
    streams: list[FloatArray] = field(default_factory=list)
    lakes: list[shapely.Polygon] = field(default_factory=list)
    coast: list[FloatArray] = field(default_factory=list)

    @cached_property
    def spacing(self) -> float:
        """Mean distance between neighbouring contours: the ground that has any over their length (after T. Hengl, "Finding
        the right pixel size", Computers & Geosciences 32, 2006)."""
        length = sum(float(np.hypot(*np.diff(line, axis=0).T).sum()) for line in self.contours)
        if not length:
            return float("inf")
        places = np.concatenate(self.contours)
        size = float(np.ptp(places, axis=0).max()) / 200
        drawn = shapely.multilinestrings([shapely.LineString(line) for line in self.contours])
        places = shapely.get_coordinates(shapely.segmentize(drawn, size)) - places.min(0)
        for _ in range(12):  # squares no finer than the contours are apart, so that none between two stands empty
            found = len(np.unique(np.floor(places / size), axis=0)) * size * size / length
            if size >= 2 * found:
                break
            size = 2.2 * found
        return found

    def clear(self) -> Sheet:
        """The same sheet without the pieces of contours and streams that run through lakes or touch them."""
        if not self.lakes:
            return self
        water = shapely.union_all(shapely.buffer(np.array(self.lakes, dtype=object), 0.02 * self.spacing))
        shapely.prepare(water)

        def dry(line: FloatArray) -> list[FloatArray]:
            shape = shapely.LineString(line)
            if not shapely.intersects(water, shape):
                return [line]
            rest = shapely.get_parts(shapely.difference(shape, water))
            return [shapely.get_coordinates(piece) for piece in rest if piece.length > 0]

        pieces = [dry(line) for line in self.contours]
        heights = np.repeat(self.heights, [len(each) for each in pieces])
        streams = [piece for line in self.streams for piece in dry(line)]
        return replace(self, contours=[piece for each in pieces for piece in each], heights=heights, streams=streams)

    @property
    def interval(self) -> float:
        """The step between heights that occurs most; 0 where all lines have one height."""
        steps = np.diff(np.unique(self.heights)).round(6)
        if not steps.size:
            return 0.0
        values, counts = np.unique(steps, return_counts=True)
        return float(values[np.argmax(counts)])


def height_fields(features: Features) -> list[str]:
    """Columns that can hold the height of a line: those with numbers; `z` first where the vertices have heights."""
    own = ["z"] if len(features) and bool(shapely.has_z(features.geometries).all()) else []
    return own + [name for name, kind in features.kinds().items() if kind == "number" and name not in own]


def likely_height_field(features: Features) -> str | None:
    """The height field by its name, else the only one there is; None where neither can be told."""
    fields = height_fields(features)
    for part in ("elev", "height", "hoehe", "contour", "level", "alt", "z"):
        for name in fields:
            if part in name.lower():
                return name
    return fields[0] if len(fields) == 1 else None


def contour_lines(features: Features, name: str) -> tuple[list[FloatArray], FloatArray, int]:
    """Lines `(vertices, 2)`, their heights, and how many features have none and are left out.

    name: a column, or `z` for the mean height of the vertices. Rims of polygons count as lines, points do not."""
    lines: list[FloatArray] = []
    heights: list[float] = []
    without = 0
    column = features.attributes.get(name)
    for i, geometry in enumerate(features.geometries):
        if shapely.get_dimensions(geometry) < 1:
            continue
        for part in parts_of(geometry):
            if len(part) < 2:
                continue
            value = column[i] if column is not None else float(part[:, 2].mean()) if part.shape[1] > 2 else None
            if not isinstance(value, (int, float)) or isinstance(value, bool) or not np.isfinite(value):
                without += 1
                continue
            moved = np.append(True, (np.diff(part[:, :2], axis=0) != 0).any(1))
            if moved.sum() > 1:
                lines.append(np.ascontiguousarray(part[moved, :2]))
                heights.append(float(value))
    return lines, np.array(heights), without


@dataclass(frozen=True)
class Suspect:
    """A line whose label does not fit its neighbours: its number, the height that would, and a place on it."""

    line: int
    height: float
    x: float
    y: float


def mislabelled(sheet: Sheet) -> list[Suspect]:
    """Lines most of whose neighbours, across a triangulation of all vertices, lie two intervals or more off, while with
    another height hardly any would."""
    interval = sheet.interval
    sizes = [len(line) for line in sheet.contours]
    places = np.concatenate(sheet.contours)
    if interval <= 0 or len(places) < 3:
        return []
    owner = np.repeat(np.arange(len(sizes)), sizes)
    triangles = triangulate(places[:, 0].copy(), places[:, 1].copy()).triangles
    pairs = owner[np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])]
    pairs = np.sort(pairs[pairs[:, 0] != pairs[:, 1]], axis=1)
    if not len(pairs):
        return []
    pairs, counts = np.unique(pairs, axis=0, return_counts=True)
    both = np.concatenate([pairs, pairs[:, ::-1]])
    weights = np.concatenate([counts, counts]).astype(np.float64)
    order = np.argsort(both[:, 0], kind="stable")
    both, weights = both[order], weights[order]
    starts = np.searchsorted(both[:, 0], np.arange(len(sizes) + 1))
    found = []
    for i in range(len(sizes)):
        part = slice(starts[i], starts[i + 1])
        beside, weight = sheet.heights[both[part, 1]], weights[part]
        if not weight.size or weight.sum() < 8:
            continue

        def off(height: float, beside: FloatArray = beside, weight: FloatArray = weight) -> float:
            return float(weight[np.abs(beside - height) > 1.5 * interval].sum() / weight.sum())

        if off(sheet.heights[i]) < _BAD:
            continue
        tried = np.unique(np.concatenate([beside - interval, beside, beside + interval]))
        shares = np.array([off(height) for height in tried])
        # of the heights that fit as well the one nearest to the neighbours' middle
        good = tried[shares <= shares.min() + 1e-9]
        best = float(good[np.argmin(np.abs(good - np.average(beside, weights=weight)))])
        if shares.min() <= _GOOD and best != sheet.heights[i]:
            middle = sheet.contours[i][len(sheet.contours[i]) // 2]
            found.append(Suspect(i, best, float(middle[0]), float(middle[1])))
    return found


@dataclass(frozen=True)
class Gap:
    """Two loose ends of one height: lines and whether it is their last vertex, and how far they lie apart."""

    one: tuple[int, bool]
    other: tuple[int, bool]
    width: float
    x: float
    y: float


def gaps(sheet: Sheet) -> tuple[list[Gap], FloatArray]:
    """Loose ends that face another of their height, nearest pairs first, and the places `(ends, 2)` of those that face none
    and do not lie on the sheet's own edge."""
    places = np.concatenate(sheet.contours)
    low, high = places.min(0), places.max(0)
    edge = 0.01 * float(max(high - low))
    ends: list[tuple[int, bool]] = []
    for i, line in enumerate(sheet.contours):
        if np.hypot(*(line[0] - line[-1])) < 1e-6 * max(1.0, float(np.abs(line[0]).max()) * 1e-3):
            continue
        for last in (False, True):
            spot = line[-1 if last else 0]
            if (spot - low > edge).all() and (high - spot > edge).all():
                ends.append((i, last))
    if not ends:
        return [], np.empty((0, 2))
    spots = np.array([sheet.contours[i][-1 if last else 0] for i, last in ends])
    heights = sheet.heights[[i for i, _ in ends]]
    limit = _WIDEST * sheet.spacing
    near = np.array(sorted(spatial.cKDTree(spots).query_pairs(limit)), np.int64).reshape(-1, 2)
    near = near[heights[near[:, 0]] == heights[near[:, 1]]]
    widths = np.hypot(*(spots[near[:, 0]] - spots[near[:, 1]]).T)
    found: list[Gap] = []
    used: set[int] = set()
    for k in np.argsort(widths, kind="stable"):
        a, b = int(near[k, 0]), int(near[k, 1])
        if a in used or b in used or (ends[a][0] == ends[b][0] and len(sheet.contours[ends[a][0]]) < 4):
            continue
        used |= {a, b}
        if widths[k] < 1e-3 * sheet.spacing:
            continue  # one line in two pieces
        x, y = (spots[a] + spots[b]) / 2
        found.append(Gap(ends[a], ends[b], float(widths[k]), float(x), float(y)))
    return found, spots[[i for i in range(len(ends)) if i not in used]]


def joined(sheet: Sheet, width: float) -> list[tuple[FloatArray, float]]:
    """The pieces `(2, 2)` that close gaps up to a width, and their heights."""
    pieces = []
    for gap in gaps(sheet)[0]:
        if gap.width <= width:
            ends = np.array([sheet.contours[i][-1 if last else 0] for i, last in (gap.one, gap.other)])
            pieces.append((ends, float(sheet.heights[gap.one[0]])))
    return pieces


def crossings(sheet: Sheet) -> list[tuple[float, float]]:
    """Places where lines of different heights cross or touch."""
    lines = [shapely.LineString(line) for line in sheet.contours]
    tree = shapely.STRtree(lines)
    one, other = tree.query(lines, "intersects")
    keep = (one < other) & (sheet.heights[one] != sheet.heights[other])
    found: list[tuple[float, float]] = []
    for i, j in zip(one[keep], other[keep], strict=True):
        spot = shapely.get_coordinates(shapely.intersection(lines[i], lines[j]))
        found += [(float(x), float(y)) for x, y in spot[:5]]
    return found


def with_heights(sheet: Sheet, suspects: list[Suspect]) -> npt.NDArray[np.float64]:
    """The heights of all lines, those of the suspects as they would fit."""
    heights = sheet.heights.copy()
    for suspect in suspects:
        heights[suspect.line] = suspect.height
    return heights
