"""Breaklines beside points: their vertices become points, their pieces edges of the triangulation."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features, parts_of
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.constrained import constrain
from yama.terrain.interpolate.delaunay import Triangulation, triangulate
from yama.terrain.interpolate.triangulation import triangulated_at

MOST_SOFT = 200_000
"""Points that soft breaklines are turned into, at most."""

_DIFFER = 0.05
"""Height units by which two breaklines must differ where they cross to be worth a finding."""


@dataclass(frozen=True)
class Lines:
    """Pieces of breaklines with a vertex at every crossing.

    x, y, z: vertices `(vertices,)`, each place once. pieces: `(any, 2)` numbers of vertices. clashes: places where lines of
    different heights cross, each with the difference. draped: how many vertices had no height and took the facets'.
    """

    x: FloatArray
    y: FloatArray
    z: FloatArray
    pieces: npt.NDArray[np.int32]
    clashes: list[tuple[float, float, float]] = field(default_factory=list)
    draped: int = 0


def _nothing() -> Lines:
    return Lines(np.empty(0), np.empty(0), np.empty(0), np.empty((0, 2), np.int32))


def lines_of(features: list[Features], crs: str, x: FloatArray, y: FloatArray, z: FloatArray) -> Lines:
    """The lines and rims of features in a CRS, cut where they cross. Heights come from their vertices; a line without any
    is laid onto the facets between the points, and left out where it leaves them.

    x, y, z: the points `(points,)`, in that CRS.
    """
    parts: list[FloatArray] = []
    for one in features:
        for geometry in one.in_crs(crs).geometries:
            if shapely.get_dimensions(geometry) >= 1:
                parts += [part for part in parts_of(geometry) if len(part) > 1]
    if not parts:
        return _nothing()
    parts, draped = _with_heights(parts, x, y, z)
    if not parts:
        return _nothing()
    known: dict[tuple[float, float], list[float]] = {}
    for part in parts:
        for east, north, height in part.tolist():
            known.setdefault((east, north), []).append(height)
    lines = [shapely.LineString(part[:, :2]) for part in parts]
    noded = shapely.union_all(np.array(lines, dtype=object))
    tree = shapely.STRtree(lines)
    places: dict[tuple[float, float], int] = {}
    heights: list[float] = []
    clashes: list[tuple[float, float, float]] = []

    def vertex(place: tuple[float, float]) -> int:
        if place in places:
            return places[place]
        found = known.get(place)
        if found is None:  # a crossing: the lines' heights there
            spot = shapely.Point(place)
            found = [
                _height_at(parts[i], lines[i], spot)
                for i in tree.query(spot, "dwithin", 1e-6 * max(1.0, abs(place[0]) * 1e-6))
            ]
        if max(found) - min(found) > _DIFFER:
            clashes.append((*place, max(found) - min(found)))
        places[place] = len(heights)
        heights.append(sum(found) / len(found))
        return places[place]

    pieces: set[tuple[int, int]] = set()
    for line in shapely.get_parts(noded):
        numbers = [vertex((a, b)) for a, b in shapely.get_coordinates(line).tolist()]
        pieces |= {(min(a, b), max(a, b)) for a, b in zip(numbers, numbers[1:], strict=False) if a != b}
    spots = np.array(list(places), np.float64).reshape(-1, 2)
    return Lines(
        spots[:, 0].copy(), spots[:, 1].copy(), np.array(heights), np.array(sorted(pieces), np.int32).reshape(-1, 2), clashes,
        draped,
    )  # fmt: skip


def _with_heights(parts: list[FloatArray], x: FloatArray, y: FloatArray, z: FloatArray) -> tuple[list[FloatArray], int]:
    """Parts with a height at every vertex; flat ones are laid onto the facets, and cut where those end."""
    mesh = None
    made: list[FloatArray] = []
    draped = 0
    for part in parts:
        own = part[:, 2] if part.shape[1] > 2 else np.full(len(part), np.nan)
        missing = ~np.isfinite(own)
        if missing.any():
            mesh = mesh or triangulate(x, y)
            own = np.where(missing, triangulated_at(x, y, z, part[:, 0].copy(), part[:, 1].copy(), mesh), own)
            draped += int((missing & np.isfinite(own)).sum())
        whole = np.column_stack([part[:, :2], own])
        cuts = np.flatnonzero(~np.isfinite(own))
        made += [run for run in np.split(whole, cuts) if np.isfinite(run[:, 2]).sum() > 1]
    return [run[np.isfinite(run[:, 2])] for run in made], draped


def _height_at(part: FloatArray, line: shapely.LineString, spot: shapely.Point) -> float:
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(part[:, :2], axis=0).T))])
    return float(np.interp(line.project(spot), along, part[:, 2]))


def along(lines: Lines, step: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Points of breaklines that are soft: their vertices, and places between them no farther than `step` apart, `(points,)` each.

    They bring heights to any method without breaking its smoothness. Of lines so long that there would be more than
    MOST_SOFT, places lie farther apart.
    """
    if not len(lines.pieces):
        return np.empty(0), np.empty(0), np.empty(0)
    a, b = lines.pieces[:, 0], lines.pieces[:, 1]
    lengths = np.hypot(lines.x[b] - lines.x[a], lines.y[b] - lines.y[a])
    step = max(step, float(lengths.sum()) / MOST_SOFT)
    counts = np.maximum(np.ceil(lengths / step).astype(np.int64), 1) - 1
    piece = np.repeat(np.arange(len(counts)), counts)
    number = np.arange(piece.size) - np.repeat(np.cumsum(counts) - counts, counts)
    share = (number + 1) / (counts[piece] + 1)
    found = [
        np.concatenate([values, values[a[piece]] + share * (values[b[piece]] - values[a[piece]])])
        for values in (lines.x, lines.y, lines.z)
    ]
    return found[0], found[1], found[2]


def mesh_with(
    x: FloatArray, y: FloatArray, z: FloatArray, lines: Lines
) -> tuple[FloatArray, FloatArray, FloatArray, Triangulation]:
    """Points and vertices of breaklines together, and the triangulation in which the pieces are edges.

    Where a point lies at a vertex's place the vertex's height counts. Raises InputError where no triangle exists.
    """
    xs, ys, zs = np.append(lines.x, x), np.append(lines.y, y), np.append(lines.z, z)
    mesh = triangulate(xs, ys)
    found = constrain(xs, ys, mesh, lines.pieces)
    if len(found.crossing):  # they were cut at every crossing, but rounding may move one by a hair
        a, b = found.crossing[0]
        raise InputError(f"A breakline from E {xs[a]:.2f} N {ys[a]:.2f} to E {xs[b]:.2f} N {ys[b]:.2f} crosses another within "
                         "a hair of its end. Join the two there, or leave one out.")  # fmt: skip
    return xs, ys, zs, found.triangulation
