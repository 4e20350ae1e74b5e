"""Catchments: the ground that drains through a place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.directions import COLS, NONE, OUT, ROWS, Directions
from yama.terrain.drain.streams import Streams
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.later import later

pyproj = later("pyproj")
rasterio_features = later("rasterio.features")

Whole = npt.NDArray[np.int32]


@kernel
def _upwards(to, starts, labels, box):
    """Give all that drains into each start before another one its number from 1 on. Starts must be labelled before.
    box: the first and last rows and columns that are labelled."""
    rows, cols = to.shape
    stack = np.empty(rows * cols, np.int64)  # what is not used takes no memory
    for k in range(starts.size):
        stack[0] = starts[k]
        size = 1
        label = k + 1
        while size > 0:
            size -= 1
            r = stack[size] // cols
            c = stack[size] % cols
            box[0] = min(box[0], r)
            box[1] = max(box[1], r)
            box[2] = min(box[2], c)
            box[3] = max(box[3], c)
            for n in range(8):
                i = r + ROWS[n]
                j = c + COLS[n]
                if 0 <= i < rows and 0 <= j < cols and to[i, j] == (n + 4) % 8 and labels[i, j] == 0:
                    labels[i, j] = label
                    stack[size] = i * cols + j
                    size += 1


@kernel
def _downwards(to, labels):
    """Give each cell that is not labelled the label of the first cell on its way that is. Every end of a way must be
    labelled before."""
    rows, cols = to.shape
    for row in range(rows):
        for col in range(cols):
            if labels[row, col] != 0 or to[row, col] < 0:
                continue
            r = row
            c = col
            while labels[r, c] == 0:
                n = to[r, c]
                r += ROWS[n]
                c += COLS[n]
            found = labels[r, c]
            r = row
            c = col
            while labels[r, c] == 0:
                labels[r, c] = found
                n = to[r, c]
                r += ROWS[n]
                c += COLS[n]


@dataclass(frozen=True)
class Outlet:
    """A place through which a catchment drains.

    Parameters
    ----------
    name : str
    x, y : float
        Where it was asked for, in the grid's CRS.
    cell : int
        The cell it was moved to, counted along rows.
    moved : float
        How far, in metres.
    """

    name: str
    x: float
    y: float
    cell: int
    moved: float


def snapped(counts: npt.NDArray[Any], grid: Grid, x: float, y: float, radius: float, name: str = "") -> Outlet:
    """An outlet, moved to the cell within a radius through which most ground drains.

    Parameters
    ----------
    counts : ndarray, shape (rows, cols)
        What drains through each cell; 0 where there is no height.
    grid : Grid
    x, y : float
        In the grid's CRS.
    radius : float
        In metres; 0 for the cell it lies in.

    Raises
    ------
    InputError
        Where it lies outside, or there is no height within the radius.
    """
    said = name or f"The outlet at E {x:.0f} N {y:.0f}"
    row, col = int(np.rint(grid.row_of(y))), int(np.rint(grid.col_of(x)))
    if not (0 <= row < grid.rows and 0 <= col < grid.cols):
        raise InputError(f"{said} lies outside the surface.")
    across, along = grid.metres_per_cell()
    up, aside = int(radius / along), int(radius / across)
    window = Window(row - up, col - aside, 2 * up + 1, 2 * aside + 1).clipped(grid.rows, grid.cols)
    rows = np.arange(window.row, window.row + window.rows)
    cols = np.arange(window.col, window.col + window.cols)
    away = np.hypot((rows[:, None] - row) * along, (cols[None, :] - col) * across)
    near = counts[window.row : window.row + window.rows, window.col : window.col + window.cols]
    drained = np.where(away <= max(radius, 1e-9), near, 0)
    if not (drained > 0).any():
        raise InputError(f"{said} has no height within {radius:g} m, such as in the sea. Move it onto the surface.")
    # of two that drain as much, the nearer one
    best = np.lexsort((away.ravel(), -drained.ravel()))[0]
    i, j = divmod(int(best), window.cols)
    return Outlet(name, x, y, int(rows[i]) * grid.cols + int(cols[j]), float(away[i, j]))


def labelled(to: Directions, cells: Sequence[int]) -> tuple[Whole, Window]:
    """Of which of some cells each other one is the catchment: the first of them that its water reaches, from 1 on; 0
    where it reaches none. And the rows and columns within which there are any.

    Raises
    ------
    InputError
        Where two of the cells are one.
    """
    labels = np.zeros(to.shape, np.int32)
    starts = np.array(cells, np.int64)
    if len(np.unique(starts)) != len(starts):
        raise InputError("Two outlets lie in one cell. Take one of them away, or move them less far.")
    labels.ravel()[starts] = np.arange(1, len(starts) + 1)
    box = np.array([to.shape[0], -1, to.shape[1], -1], np.int64)
    _upwards(to, starts, labels, box)
    top, bottom, left, right = box.tolist()
    return labels, Window(top, left, bottom - top + 1, right - left + 1)


def basins(to: Directions) -> Whole:
    """All catchments of where water leaves the surface, and of hollows that keep theirs, from 1 on, the largest first;
    0 where there is no height."""
    flat = to.ravel()
    ends = np.flatnonzero((flat == OUT) | (flat == NONE))
    labels = np.zeros(to.shape, np.int32)
    labels.ravel()[ends] = np.arange(1, len(ends) + 1)
    _downwards(to, labels)
    sizes = np.bincount(labels.ravel(), minlength=len(ends) + 1)
    rank = np.zeros(len(ends) + 1, np.int32)
    rank[1 + np.argsort(-sizes[1:], kind="stable")] = np.arange(1, len(ends) + 1)
    found: Whole = rank[labels]
    return found


def between(to: Directions, streams: Streams) -> Whole:
    """The ground that drains into each link of a network, from 1 on, without that of links above it; 0 elsewhere."""
    labels = np.zeros(to.shape, np.int32)
    flat = labels.ravel()
    flat[np.isin(to.ravel(), (OUT, NONE))] = -1
    # the last cell of a link is the first one of the link below
    for number in range(len(streams)):
        flat[streams.cells[streams.starts[number] : streams.starts[number + 1] - 1]] = number + 1
    ends = streams.below < 0
    flat[streams.cells[streams.starts[1:][ends] - 1]] = np.flatnonzero(ends) + 1
    _downwards(to, labels)
    return np.maximum(labels, 0)


@dataclass(frozen=True)
class Catchments:
    """Catchments of outlets, each with all above it.

    Parameters
    ----------
    grid : Grid
    outlets : tuple of Outlet
    shapes : ndarray of Polygon or MultiPolygon, shape (outlets,)
        Along the edges of cells, in the grid's CRS.
    areas : ndarray, shape (outlets,)
        Square metres on the ellipsoid.
    within : tuple of int or None
        The outlet next below each, by number from 0 on.
    """

    grid: Grid
    outlets: tuple[Outlet, ...]
    shapes: npt.NDArray[np.object_] = field(repr=False)
    areas: FloatArray
    within: tuple[int | None, ...]

    def features(self) -> Features:
        """The catchments as polygons, with their names, areas and how far outlets were moved."""
        columns: dict[str, list[Value]] = {
            "outlet": list(range(1, len(self.outlets) + 1)),
            "name": [one.name for one in self.outlets],
            "area": np.round(self.areas / 1e6, 6).tolist(),
            "moved": [round(one.moved, 2) for one in self.outlets],
            "within": [None if one is None else one + 1 for one in self.within],
        }
        return Features(self.grid.crs, self.shapes, columns, {"area": "km²", "moved": "m"})


@kernel
def _with_corners(ring, corner, made):
    """A ring along the edges of cells, `(places, 2)` of columns and rows, with each marked corner on it as a place of
    its own. Returns how many places there are."""
    count = 0
    for k in range(ring.shape[0] - 1):
        x, y = ring[k]
        to_x, to_y = ring[k + 1]
        step_x, step_y = np.sign(to_x - x), np.sign(to_y - y)
        made[count] = ring[k]
        count += 1
        x += step_x
        y += step_y
        while x != to_x or y != to_y:
            if corner[y, x]:
                made[count, 0] = x
                made[count, 1] = y
                count += 1
            x += step_x
            y += step_y
    made[count] = ring[-1]
    return count + 1


def _corners(labels: Whole) -> npt.NDArray[np.bool_]:
    """Corners of cells, `(rows + 1, cols + 1)`, at which more than two areas meet."""
    around = np.pad(labels, 1)
    a, b, c, d = around[:-1, :-1], around[:-1, 1:], around[1:, :-1], around[1:, 1:]
    edges = (a != b).astype(np.int8) + (b != d) + (d != c) + (c != a)
    found: npt.NDArray[np.bool_] = edges > 2
    return found


def polygons(labels: Whole, grid: Grid) -> dict[int, shapely.Geometry]:
    """The ground of each number above 0 as a polygon along the edges of cells, in the grid's CRS; of several parts
    where they meet in a corner only. Neighbours share their edges exactly, corner by corner.

    labels: those of the grid's cells.
    """
    corner = _corners(labels)
    bounds = grid.bounds
    size = np.array([grid.cell_width, -grid.cell_height])

    def placed(ring: list[tuple[float, float]]) -> FloatArray:
        cells = np.array(ring, np.int64)
        made = np.empty((int(np.abs(np.diff(cells, axis=0)).sum()) + 1, 2), np.int64)
        count = int(_with_corners(cells, corner, made))
        turned: FloatArray = made[:count] * size + np.array([bounds.west, bounds.north])
        return turned

    found: dict[int, list[shapely.Geometry]] = {}
    for shape, value in rasterio_features.shapes(labels, mask=labels > 0, connectivity=4):
        rings = [placed(ring) for ring in shape["coordinates"]]
        found.setdefault(int(value), []).append(shapely.Polygon(rings[0], rings[1:]))
    return {value: shapely.MultiPolygon(parts) if len(parts) > 1 else parts[0] for value, parts in found.items()}


def area_of(shape: shapely.Geometry, crs: str) -> float:
    """Square metres of a polygon on its CRS's ellipsoid (C. Karney, Journal of Geodesy 87, 2013)."""
    held = pyproj.CRS(crs)
    geographic = held.geodetic_crs
    turn = pyproj.Transformer.from_crs(held, geographic, always_xy=True)
    turned = shapely.transform(shape, lambda at: np.column_stack(turn.transform(at[:, 0], at[:, 1])))
    area, _ = held.get_geod().geometry_area_perimeter(turned)
    return abs(float(area))


def catchments(to: Directions, grid: Grid, outlets: Sequence[Outlet]) -> Catchments:
    """The catchments of outlets.

    Parameters
    ----------
    to : ndarray of int8, shape (rows, cols)
        Where water goes.
    grid : Grid
    outlets : sequence of Outlet
        No two in one cell.

    Raises
    ------
    InputError
        Where there are none, or two in one cell.
    """
    if not outlets:
        raise InputError("There are no outlets. Give at least one.")
    labels, window = labelled(to, [one.cell for one in outlets])
    within = [_next_below(to, one.cell, labels) for one in outlets]
    part = labels[window.row : window.row + window.rows, window.col : window.col + window.cols]
    own = polygons(np.ascontiguousarray(part), grid.part(window))
    above: list[list[int]] = [[number] for number in range(len(outlets))]
    for number in range(len(outlets)):
        at = within[number]
        while at is not None:
            above[at].append(number)
            at = within[at]
    shapes = np.empty(len(outlets), object)
    for number, parts in enumerate(above):
        given = [own[one + 1] for one in parts]
        shapes[number] = shapely.coverage_union_all(given) if len(given) > 1 else given[0]
    areas = np.array([area_of(one, grid.crs) for one in shapes])
    return Catchments(grid, tuple(outlets), shapes, areas, tuple(within))


def _next_below(to: Directions, cell: int, labels: Whole) -> int | None:
    """The outlet that the water of another one comes to next."""
    cols = to.shape[1]
    own = labels.ravel()[cell]
    while True:
        r, c = divmod(cell, cols)
        n = int(to[r, c])
        if not 0 <= n < 8:
            return None
        cell = (r + int(ROWS[n])) * cols + c + int(COLS[n])
        found = int(labels.ravel()[cell])
        if found != own:
            return found - 1 if found else None


def simplified(shapes: npt.NDArray[np.object_], tolerance: float) -> npt.NDArray[np.object_]:
    """Polygons that cover ground without gaps, with fewer corners; edges that two share stay shared.

    tolerance: what is left out covers less than its square, in units of the CRS (M. Visvalingam and J. Whyatt, The
    Cartographic Journal 30, 1993).
    """
    made: npt.NDArray[np.object_] = np.asarray(shapely.coverage_simplify(shapes, tolerance), object)
    return made
