"""Contours to a surface of facets: contours, streams and lake rims as edges, flat patches repaired."""

from __future__ import annotations

import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.breaklines import Lines, lines_of, mesh_with
from yama.terrain.interpolate.constrained import constrain
from yama.terrain.interpolate.contour_sheet import Sheet
from yama.terrain.interpolate.delaunay import Triangulation, triangulate
from yama.terrain.interpolate.flats import middle_points
from yama.terrain.interpolate.stream_lines import falling
from yama.terrain.interpolate.triangulation import triangulated, triangulated_at
from yama.terrain.surface import EvaluatedSurface

_RIM = 10.0
"""Per cent of a lake's rim that lies below its level."""


def _edges(lines: list[FloatArray], crs: str) -> Lines:
    """Lines with heights `(vertices, 3)`, cut where they cross."""
    shapes = np.array([shapely.LineString(line) for line in lines], dtype=object)
    nothing = np.empty(0)
    return lines_of([Features(crs, shapes, {})], crs, nothing, nothing, nothing)


def _raised(lines: list[FloatArray], heights: FloatArray) -> list[FloatArray]:
    return [np.column_stack([line, np.full(len(line), height)]) for line, height in zip(lines, heights, strict=True)]


def contour_mesh(sheet: Sheet, crs: str, snap: float) -> tuple[FloatArray, FloatArray, FloatArray, Triangulation]:
    """Points and triangles of a contour map. snap: within which a stream meets another, in CRS units.

    Raises InputError where no triangle exists.
    """
    drawn = [*_raised(sheet.contours, sheet.heights), *_raised(sheet.coast, np.zeros(len(sheet.coast)))]
    if sheet.streams or sheet.lakes:
        first = _edges(drawn, crs)
        bare = triangulate(first.x, first.y)

        def sample(x: FloatArray, y: FloatArray) -> FloatArray:
            return triangulated_at(first.x, first.y, first.z, x, y, bare)

        drawn += falling(sheet.streams, sheet.contours, sheet.heights, sample, snap)
        for lake in sheet.lakes:
            rim = shapely.get_coordinates(lake.exterior)
            heights = sample(rim[:, 0].copy(), rim[:, 1].copy())
            if np.isfinite(heights).any():
                drawn.append(np.column_stack([rim, np.full(len(rim), np.nanpercentile(heights, _RIM))]))
    lines = _edges(drawn, crs)
    mesh = constrain(lines.x, lines.y, triangulate(lines.x, lines.y), lines.pieces)
    added = middle_points(lines.x, lines.y, lines.z, mesh, sheet.interval)
    points = np.concatenate([sheet.spots, added])
    for lake in sheet.lakes:
        points = points[~shapely.contains_xy(lake, points[:, 0], points[:, 1])]
    return mesh_with(points[:, 0].copy(), points[:, 1].copy(), points[:, 2].copy(), lines)


def contour_facets(
    sheet: Sheet, grid: Grid, reach: float = np.inf, edge_limit: float = np.inf, unit: str = "m"
) -> EvaluatedSurface:
    """A surface of flat facets between contours, none of which bridges a bend of one. reach, edge_limit: as in
    `triangulated`. Raises InputError where the contours form no triangle."""
    if not sheet.contours:
        raise InputError("There are no contours.")
    x, y, z, mesh = contour_mesh(sheet, grid.crs, grid.cell_width)
    return triangulated(x, y, z, grid, reach, edge_limit, unit, triangulation=mesh)
