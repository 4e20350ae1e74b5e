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
def _sort_triangles(x, y, triangles, west, south, size, rows, cols):
    """Triangles, corners by rising number, sorted by the bin of their south-west corner, with CSR offsets of the bins.

    Triangles larger than a bin, and those reaching out of the binned area, come after all bins: they concern every
    window. The others reach at most into the next bin to the east and to the north.
    """
    count = triangles.shape[0]
    bins = rows * cols
    starts = np.zeros(bins + 2, np.int64)
    home = np.empty(count, np.int32)
    for t in range(count):
        a, b, c = triangles[t]
        left = min(x[a], x[b], x[c])
        low = min(y[a], y[b], y[c])
        wide = max(x[a], x[b], x[c]) - left
        high = max(y[a], y[b], y[c]) - low
        inside = left >= west and low >= south and left < west + cols * size and low < south + rows * size
        if inside and wide <= size and high <= size:
            home[t] = _bin(low, south, size, rows) * cols + _bin(left, west, size, cols)
        else:
            home[t] = bins
        starts[home[t] + 1] += 1
    for i in range(bins + 1):
        starts[i + 1] += starts[i]
    cursor = starts.copy()
    result = np.empty((count, 3), np.int32)
    for t in range(count):
        a, b, c = triangles[t]
        if a > b:
            a, b = b, a
        if b > c:
            b, c = c, b
        if a > b:
            a, b = b, a
        place = cursor[home[t]]
        cursor[home[t]] += 1
        result[place, 0] = a
        result[place, 1] = b
        result[place, 2] = c
    return result, starts


@kernel
def _slopes(x0, y0, z0, x1, y1, z1):
    """Change of x and of z along an edge for one step of y; anything where the edge is level."""
    rise = y1 - y0
    if rise == 0.0:
        return 0.0, 0.0
    return (x1 - x0) / rise, (z1 - z0) / rise


@kernel
def _stretch(at, x0, y0, z0, x1, y1, z1, dx, dz, left, right, z_left, z_right):
    """Widen [left, right] to where an edge crosses the row at `at`; a row through an end takes that end exactly."""
    if y0 == y1 or ((at < y0) == (at < y1) and at != y0 and at != y1):
        return left, right, z_left, z_right
    if at == y1:
        cross = x1
        level = z1
    else:
        cross = x0 + (at - y0) * dx
        level = z0 + (at - y0) * dz
    if cross < left:
        left = cross
        z_left = level
    if cross > right:
        right = cross
        z_right = level
    return left, right, z_left, z_right


@kernel
def _draw(x, y, z, triangles, first, last, edge_limit, west, north, width, height, result):
    """Fill the cells of triangles [first, last), row by row, between where their edges cross the row.

    A crossing is computed from the edge's lower-numbered end, so two triangles that share an edge get the same number
    to the last bit: no cell between them is left out.
    """
    rows, cols = result.shape
    east = west + cols * width
    south = north - rows * height
    longest = edge_limit * edge_limit
    for t in range(first, last):
        a = triangles[t, 0]
        b = triangles[t, 1]
        c = triangles[t, 2]
        xa = x[a]
        xb = x[b]
        xc = x[c]
        ya = y[a]
        yb = y[b]
        yc = y[c]
        top = max(ya, yb, yc)
        low = min(ya, yb, yc)
        if low > north or top < south or min(xa, xb, xc) > east or max(xa, xb, xc) < west:
            continue
        if (
            (xa - xb) ** 2 + (ya - yb) ** 2 > longest
            or (xb - xc) ** 2 + (yb - yc) ** 2 > longest
            or (xa - xc) ** 2 + (ya - yc) ** 2 > longest
        ):
            continue
        za = z[a]
        zb = z[b]
        zc = z[c]
        dx_ab, dz_ab = _slopes(xa, ya, za, xb, yb, zb)
        dx_bc, dz_bc = _slopes(xb, yb, zb, xc, yc, zc)
        dx_ac, dz_ac = _slopes(xa, ya, za, xc, yc, zc)
        for row in range(
            max(int(math.ceil((north - top) / height - 0.5)), 0),
            min(int(math.floor((north - low) / height - 0.5)), rows - 1) + 1,
        ):
            at = north - (row + 0.5) * height
            left = np.inf
            right = -np.inf
            z_left = 0.0
            z_right = 0.0
            left, right, z_left, z_right = _stretch(
                at, xa, ya, za, xb, yb, zb, dx_ab, dz_ab, left, right, z_left, z_right
            )
            left, right, z_left, z_right = _stretch(
                at, xb, yb, zb, xc, yc, zc, dx_bc, dz_bc, left, right, z_left, z_right
            )
            left, right, z_left, z_right = _stretch(
                at, xa, ya, za, xc, yc, zc, dx_ac, dz_ac, left, right, z_left, z_right
            )
            if right < left:
                continue
            from_col = max(int(math.ceil((left - west) / width - 0.5)), 0)
            to_col = min(int(math.floor((right - west) / width - 0.5)), cols - 1)
            if from_col > to_col:
                continue
            gradient = (z_right - z_left) / (right - left) if right > left else 0.0
            for col in range(from_col, to_col + 1):
                result[row, col] = z_left + (west + (col + 0.5) * width - left) * gradient


@kernel
def _draw_all(x, y, z, triangles, starts, bin_west, bin_south, size, bin_rows, bin_cols,
              edge_limit, west, north, width, height, result):  # fmt: skip
    rows, cols = result.shape
    left = max(_bin(west, bin_west, size, bin_cols) - 1, 0)
    right = _bin(west + cols * width, bin_west, size, bin_cols)
    low = max(_bin(north - rows * height, bin_south, size, bin_rows) - 1, 0)
    high = _bin(north, bin_south, size, bin_rows)
    bins = bin_rows * bin_cols
    _draw(x, y, z, triangles, starts[bins], starts[bins + 1], edge_limit, west, north, width, height, result)
    for row in range(low, high + 1):
        first = starts[row * bin_cols + left]
        last = starts[row * bin_cols + right + 1]
        _draw(x, y, z, triangles, first, last, edge_limit, west, north, width, height, result)


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
    triangles, starts = _sort_triangles(x, y, mesh.triangles, west, south, size, bin_rows, bin_cols)
    index = PointIndex.of(x, y) if np.isfinite(reach) else None

    def evaluate(part: Grid) -> Heights:
        result = np.full((part.rows, part.cols), np.nan, np.float32)
        _draw_all(
            x, y, z, triangles, starts, west, south, size, bin_rows, bin_cols, float(edge_limit),
            part.west, part.north, part.cell_width, part.cell_height, result,
        )  # fmt: skip
        if index is not None:
            xs, ys = part.centres(part.whole)
            empty_beyond(result, xs, ys, index, reach)
        return result

    return EvaluatedSurface(grid, evaluate, unit)
