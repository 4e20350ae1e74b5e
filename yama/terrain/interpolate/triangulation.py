"""Linear interpolation on a triangulation: each cell has the height of the facet its centre lies on."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Bounds, FloatArray, Grid
from yama.terrain.interpolate.delaunay import Triangulation, locate, triangulate
from yama.terrain.interpolate.point_index import PointIndex, bulk, empty_beyond
from yama.terrain.kernels import kernel
from yama.terrain.surface import EvaluatedSurface, Heights


@kernel
def _bin(value, first, size, count):
    """The bin of a coordinate; what lies outside belongs to the outermost."""
    return int(min(max((value - first) / size, 0.0), count - 1.0))


@kernel
def _used_corners(x, y, z, triangles, corners, numbered):
    """The points that triangles use, in the order of their first use, so that what is drawn together lies together in memory.

    Fills corners `(points, 3)` with their x, y and z, and numbered `(triangles, 3)` with the triangles in their numbers;
    returns how many there are."""
    number = np.full(x.size, -1, np.int32)
    used = 0
    for t in range(triangles.shape[0]):
        for k in range(3):
            old = triangles[t, k]
            if number[old] < 0:
                number[old] = used
                corners[used, 0] = x[old]
                corners[used, 1] = y[old]
                corners[used, 2] = z[old]
                used += 1
            numbered[t, k] = number[old]
    return used


@kernel
def _sort_triangles(corners, triangles, west, south, size, rows, cols, result):
    """Fills result with the triangles sorted by the bin of their south-west corner; returns CSR offsets of the bins.

    Triangles larger than a bin, and those reaching out of the binned area, come after all bins: they concern every
    window. The others reach at most into the next bin to the east and to the north.
    """
    count = triangles.shape[0]
    bins = rows * cols
    starts = np.zeros(bins + 2, np.int64)
    home = np.empty(count, np.int32)
    for t in range(count):
        a = triangles[t, 0]
        b = triangles[t, 1]
        c = triangles[t, 2]
        left = min(corners[a, 0], corners[b, 0], corners[c, 0])
        low = min(corners[a, 1], corners[b, 1], corners[c, 1])
        wide = max(corners[a, 0], corners[b, 0], corners[c, 0]) - left
        high = max(corners[a, 1], corners[b, 1], corners[c, 1]) - low
        inside = left >= west and low >= south and left < west + cols * size and low < south + rows * size
        if inside and wide <= size and high <= size:
            home[t] = _bin(low, south, size, rows) * cols + _bin(left, west, size, cols)
        else:
            home[t] = bins
        starts[home[t] + 1] += 1
    for i in range(bins + 1):
        starts[i + 1] += starts[i]
    cursor = starts.copy()
    for t in range(count):
        place = cursor[home[t]]
        cursor[home[t]] += 1
        for k in range(3):
            result[place, k] = triangles[t, k]
    return starts


@kernel
def _edge(corners, low, top):
    """An edge from its lower end: x, y, z there, change of x and z for one step of y, and the other end."""
    rise = corners[top, 1] - corners[low, 1]
    per_rise = 1.0 / rise if rise > 0.0 else 0.0
    return (
        corners[low, 0],
        corners[low, 1],
        corners[low, 2],
        (corners[top, 0] - corners[low, 0]) * per_rise,
        (corners[top, 2] - corners[low, 2]) * per_rise,
        corners[top, 0],
        corners[top, 1],
        corners[top, 2],
    )


@kernel
def _crossing(x0, y0, z0, dx, dz, x1, y1, z1, at):
    """Where an edge crosses the row at `at`, and its height there; a row through an end takes that end exactly."""
    if at == y1:
        return x1, z1
    return x0 + (at - y0) * dx, z0 + (at - y0) * dz


@kernel
def _draw(corners, triangles, first, last, edge_limit, west, north, width, height, result):
    """Fill the cells of triangles [first, last), row by row, between where their edges cross the row.

    A crossing is computed from the edge's lower end, so two triangles that share an edge get the same number
    to the last bit: no cell between them is left out. The edge from the lowest to the highest corner bounds every row
    on one side; the other side's edge changes at the middle corner.
    """
    rows, cols = result.shape
    east = west + cols * width
    south = north - rows * height
    longest = edge_limit * edge_limit
    per_width, per_height = 1.0 / width, 1.0 / height
    for t in range(first, last):
        low = triangles[t, 0]
        mid = triangles[t, 1]
        top = triangles[t, 2]
        if corners[low, 1] > corners[mid, 1]:
            low, mid = mid, low
        if corners[mid, 1] > corners[top, 1]:
            mid, top = top, mid
        if corners[low, 1] > corners[mid, 1]:
            low, mid = mid, low
        y_mid = corners[mid, 1]
        if corners[low, 1] > north or corners[top, 1] < south or corners[low, 1] == corners[top, 1]:
            continue
        if (
            min(corners[low, 0], corners[mid, 0], corners[top, 0]) > east
            or max(corners[low, 0], corners[mid, 0], corners[top, 0]) < west
        ):
            continue
        if longest < np.inf and (
            (corners[low, 0] - corners[mid, 0]) ** 2 + (corners[low, 1] - y_mid) ** 2 > longest
            or (corners[mid, 0] - corners[top, 0]) ** 2 + (y_mid - corners[top, 1]) ** 2 > longest
            or (corners[low, 0] - corners[top, 0]) ** 2 + (corners[low, 1] - corners[top, 1]) ** 2 > longest
        ):
            continue
        first_row = max(int(math.ceil((north - corners[top, 1]) * per_height - 0.5)), 0)
        last_row = min(int(math.floor((north - corners[low, 1]) * per_height - 0.5)), rows - 1)
        if first_row > last_row:
            continue
        x0, y0, z0, dx, dz, x1, y1, z1 = _edge(corners, low, top)
        u0, v0, w0, du, dw, u1, v1, w1 = _edge(corners, mid, top)
        above = True
        for row in range(first_row, last_row + 1):
            at = north - (row + 0.5) * height
            if above and (at < y_mid or y_mid == corners[top, 1]):
                u0, v0, w0, du, dw, u1, v1, w1 = _edge(corners, low, mid)
                above = False
            here, level = _crossing(x0, y0, z0, dx, dz, x1, y1, z1, at)
            there, other = _crossing(u0, v0, w0, du, dw, u1, v1, w1, at)
            from_col = max(int(math.ceil((min(here, there) - west) * per_width - 0.5)), 0)
            to_col = min(int(math.floor((max(here, there) - west) * per_width - 0.5)), cols - 1)
            if from_col > to_col:
                continue
            gradient = (other - level) / (there - here) if there != here else 0.0
            for col in range(from_col, to_col + 1):
                result[row, col] = level + (west + (col + 0.5) * width - here) * gradient


@kernel
def _draw_all(corners, triangles, starts, bin_west, bin_south, size, bin_rows, bin_cols,
              edge_limit, west, north, width, height, result):  # fmt: skip
    rows, cols = result.shape
    left = max(_bin(west, bin_west, size, bin_cols) - 1, 0)
    right = _bin(west + cols * width, bin_west, size, bin_cols)
    low = max(_bin(north - rows * height, bin_south, size, bin_rows) - 1, 0)
    high = _bin(north, bin_south, size, bin_rows)
    bins = bin_rows * bin_cols
    _draw(corners, triangles, starts[bins], starts[bins + 1], edge_limit, west, north, width, height, result)
    for row in range(low, high + 1):
        first = starts[row * bin_cols + left]
        last = starts[row * bin_cols + right + 1]
        _draw(corners, triangles, first, last, edge_limit, west, north, width, height, result)


@kernel
def _edges_in(corners, triangles, edge_limit, west, south, east, north, found, kinds):
    """Sides of the triangles that reach into a rectangle: x, y of both ends and what the triangle is. Returns how many there
    are, which may be more than there is room for."""
    count = 0
    longest = edge_limit * edge_limit
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if (
            min(corners[a, 0], corners[b, 0], corners[c, 0]) > east or max(corners[a, 0], corners[b, 0], corners[c, 0]) < west
            or min(corners[a, 1], corners[b, 1], corners[c, 1]) > north or max(corners[a, 1], corners[b, 1], corners[c, 1]) < south
        ):  # fmt: skip
            continue
        kind = 1 if corners[a, 2] == corners[b, 2] == corners[c, 2] else 0
        for k in range(3):
            i, j = triangles[t, k], triangles[t, (k + 1) % 3]
            if (corners[i, 0] - corners[j, 0]) ** 2 + (corners[i, 1] - corners[j, 1]) ** 2 > longest:
                kind = 2
        for k in range(3):
            i, j = triangles[t, k], triangles[t, (k + 1) % 3]
            if count < found.shape[0]:
                found[count, 0], found[count, 1] = corners[i, 0], corners[i, 1]
                found[count, 2], found[count, 3] = corners[j, 0], corners[j, 1]
                kinds[count] = kind
            count += 1
    return count


class FacetSurface(EvaluatedSurface):
    """A surface of flat facets that can show them. corners: `(points, 3)` x, y, z. triangles: `(triangles, 3)` numbers of
    corners. edge_limit: facets with a longer side are not part of the surface."""

    def __init__(
        self, grid: Grid, evaluate: Callable[[Grid], Heights], unit: str, corners: FloatArray,
        triangles: npt.NDArray[np.int32], edge_limit: float, of: tuple[Any, ...] = (),
    ) -> None:  # fmt: skip
        super().__init__(grid, evaluate, unit, of=(*of, corners, triangles, edge_limit))
        self._corners, self._triangles, self._limit = corners, triangles, edge_limit

    @property
    def facets(self) -> FacetSurface:
        return self

    def edges(self, bounds: Bounds, most: int) -> tuple[FloatArray, npt.NDArray[np.uint8], int]:
        """Sides of the facets that reach into a rectangle: `(edges, 4)` x, y of both ends; 0, 1 for those of a level facet, 2 for
        those of one left out because a side is too long; and how many sides there are. None are given where there are more
        than `most`, as a side may be of two facets and is given twice then."""
        found, kinds = np.empty((most, 4)), np.empty(most, np.uint8)
        count = _edges_in(self._corners, self._triangles, self._limit, *bounds, found, kinds)
        held = count if count <= most else 0
        return found[:held], kinds[:held], int(count)


def triangulated(
    x: FloatArray,
    y: FloatArray,
    z: npt.NDArray[np.float64],
    grid: Grid,
    reach: float = np.inf,
    edge_limit: float = np.inf,
    unit: str = "m",
    triangulation: Triangulation | None = None,
) -> FacetSurface:
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
    corners, numbered = np.empty((x.size, 3)), np.empty_like(mesh.triangles)
    corners = corners[: _used_corners(x, y, z, mesh.triangles, corners, numbered)]
    triangles = np.empty_like(numbered)
    starts = _sort_triangles(corners, numbered, west, south, size, bin_rows, bin_cols, triangles)
    index = PointIndex.of(x, y) if np.isfinite(reach) else None

    def evaluate(part: Grid) -> Heights:
        result = np.full((part.rows, part.cols), np.nan, np.float32)
        _draw_all(
            corners, triangles, starts, west, south, size, bin_rows, bin_cols, float(edge_limit),
            part.west, part.north, part.cell_width, part.cell_height, result,
        )  # fmt: skip
        if index is not None:
            xs, ys = part.centres(part.whole)
            empty_beyond(result, xs, ys, index, reach)
        return result

    return FacetSurface(grid, evaluate, unit, corners, triangles, float(edge_limit), ("facets", x, y, reach))


@kernel
def _at(qx, qy, x, y, z, triangles, neighbours, result):
    last = 0
    for i in range(qx.size):
        home = locate(last, qx[i], qy[i], x, y, triangles, neighbours)
        last = home if home >= 0 else -1 - home
        result[i] = np.nan
        if home < 0:
            continue
        a = triangles[home, 0]
        b = triangles[home, 1]
        c = triangles[home, 2]
        bx = x[b] - x[a]
        by = y[b] - y[a]
        cx = x[c] - x[a]
        cy = y[c] - y[a]
        px = qx[i] - x[a]
        py = qy[i] - y[a]
        double = bx * cy - by * cx
        to_b = (px * cy - py * cx) / double
        to_c = (bx * py - by * px) / double
        result[i] = z[a] + to_b * (z[b] - z[a]) + to_c * (z[c] - z[a])


def triangulated_at(
    x: FloatArray, y: FloatArray, z: FloatArray, qx: FloatArray, qy: FloatArray, triangulation: Triangulation
) -> FloatArray:
    """Heights of the facets at places `(places,)`; NaN outside the hull."""
    result = np.empty(qx.size)
    _at(qx, qy, x, y, z, triangulation.triangles, triangulation.neighbours, result)
    return result
