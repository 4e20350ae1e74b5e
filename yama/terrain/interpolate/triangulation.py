"""Linear interpolation on a triangulation: each cell has the height of the facet its centre lies on."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.delaunay import Triangulation, triangulate
from yama.terrain.interpolate.point_index import PointIndex, bulk, empty_beyond
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights


@kernel
def _bin(value, first, size, count):
    """The bin of a coordinate; what lies outside belongs to the outermost."""
    return int(min(max((value - first) / size, 0.0), count - 1.0))


@kernel
def _bin_triangles(x, y, triangles, west, south, size, rows, cols):
    """CSR lists of the triangles whose bounding box touches each square bin."""
    starts = np.zeros(rows * cols + 1, np.int64)
    for fill in range(2):
        if fill == 1:
            for b in range(rows * cols):
                starts[b + 1] += starts[b]
            members = np.empty(starts[rows * cols], np.int32)
            cursor = starts.copy()
        for t in range(triangles.shape[0]):
            a, b, c = triangles[t]
            left = _bin(min(x[a], x[b], x[c]), west, size, cols)
            right = _bin(max(x[a], x[b], x[c]), west, size, cols)
            low = _bin(min(y[a], y[b], y[c]), south, size, rows)
            high = _bin(max(y[a], y[b], y[c]), south, size, rows)
            for row in range(low, high + 1):
                for col in range(left, right + 1):
                    if fill == 0:
                        starts[row * cols + col + 1] += 1
                    else:
                        members[cursor[row * cols + col]] = t
                        cursor[row * cols + col] += 1
    return starts, members


@kernel
def _draw(x, y, z, triangles, t, edge_limit, west, north, width, height, result):
    """Fill the cells of one triangle, row by row, between where its edges cross the row.

    A crossing is computed from the edge's lower-numbered end, so two triangles that share an edge get the
    same number to the last bit: no cell between them is left out.
    """
    a, b, c = triangles[t]
    if edge_limit < np.inf:
        for p, q in ((a, b), (b, c), (c, a)):
            if (x[p] - x[q]) ** 2 + (y[p] - y[q]) ** 2 > edge_limit * edge_limit:
                return
    rows, cols = result.shape
    first = max(int(math.ceil((north - max(y[a], y[b], y[c])) / height - 0.5)), 0)
    last = min(int(math.floor((north - min(y[a], y[b], y[c])) / height - 0.5)), rows - 1)
    for row in range(first, last + 1):
        at = north - (row + 0.5) * height
        left = np.inf
        right = -np.inf
        z_left = 0.0
        z_right = 0.0
        for p, q in ((min(a, b), max(a, b)), (min(b, c), max(b, c)), (min(c, a), max(c, a))):
            if y[p] == y[q]:
                if y[p] != at:
                    continue
                if x[p] < left:
                    left = x[p]
                    z_left = z[p]
                if x[p] > right:
                    right = x[p]
                    z_right = z[p]
                cross = x[q]
                level = z[q]
            elif min(y[p], y[q]) <= at <= max(y[p], y[q]):
                share = (at - y[p]) / (y[q] - y[p])
                cross = x[p] + share * (x[q] - x[p])
                level = z[p] + share * (z[q] - z[p])
            else:
                continue
            if cross < left:
                left = cross
                z_left = level
            if cross > right:
                right = cross
                z_right = level
        if right < left:
            continue
        from_col = max(int(math.ceil((left - west) / width - 0.5)), 0)
        to_col = min(int(math.floor((right - west) / width - 0.5)), cols - 1)
        gradient = (z_right - z_left) / (right - left) if right > left else 0.0
        for col in range(from_col, to_col + 1):
            result[row, col] = z_left + (west + (col + 0.5) * width - left) * gradient


@kernel
def _draw_all(x, y, z, triangles, starts, members, bin_west, bin_south, size, bin_rows, bin_cols,
              edge_limit, west, north, width, height, result):  # fmt: skip
    rows, cols = result.shape
    left = _bin(west, bin_west, size, bin_cols)
    right = _bin(west + cols * width, bin_west, size, bin_cols)
    low = _bin(north - rows * height, bin_south, size, bin_rows)
    high = _bin(north, bin_south, size, bin_rows)
    for row in range(low, high + 1):
        for col in range(left, right + 1):
            for i in range(starts[row * bin_cols + col], starts[row * bin_cols + col + 1]):
                t = members[i]
                a, b, c = triangles[t]
                # a triangle in several bins is drawn in the first of them that this window visits
                own_col = max(_bin(min(x[a], x[b], x[c]), bin_west, size, bin_cols), left)
                own_row = max(_bin(min(y[a], y[b], y[c]), bin_south, size, bin_rows), low)
                if own_col == col and own_row == row:
                    _draw(x, y, z, triangles, t, edge_limit, west, north, width, height, result)


def triangulated(
    x: FloatArray,
    y: FloatArray,
    z: npt.NDArray[np.float64],
    grid: Grid,
    reach: float = np.inf,
    edge_limit: float = np.inf,
    unit: str = "m",
    triangulation: Triangulation | None = None,
) -> EvaluatedSurface:
    """A surface of flat facets between points.

    x, y, z: `(points,)` in the grid's CRS, one point a place. reach: cells with no point this near stay
    empty. edge_limit: triangles with a longer side are left out. Both in CRS units. Cells outside the convex
    hull are empty. Raises InputError where the points form no triangle.
    """
    mesh = triangulation or triangulate(x, y)
    west, east = bulk(x)
    south, north = bulk(y)
    extent = max(east - west, north - south)
    size = max(extent / min(max(math.sqrt(len(mesh.triangles)) / 8, 1.0), 2048.0), 1e-12)
    bin_rows, bin_cols = int((north - south) / size) + 1, int((east - west) / size) + 1
    starts, members = _bin_triangles(x, y, mesh.triangles, west, south, size, bin_rows, bin_cols)
    index = PointIndex.of(x, y) if np.isfinite(reach) else None

    def evaluate(part: Grid) -> Heights:
        result = np.full((part.rows, part.cols), np.nan, np.float32)
        _draw_all(
            x, y, z, mesh.triangles, starts, members, west, south, size, bin_rows, bin_cols,
            float(edge_limit), part.west, part.north, part.cell_width, part.cell_height, result,
        )  # fmt: skip
        if index is not None:
            xs, ys = part.centres(part.whole)
            empty_beyond(result, xs, ys, index, reach)
        return result

    return EvaluatedSurface(grid, evaluate, unit)
