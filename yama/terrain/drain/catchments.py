"""Catchments: the ground that drains through a place."""

from __future__ import annotations

import itertools
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

Whole = npt.NDArray[np.int32]

_ROOM = 1 << 16  # corners of outlines before more room is made


@kernel
def _upwards(to, starts, labels, box):
    """Give all that drains into each start before another one its number from 1 on. Starts must be labelled before.
    box: the first and last rows and columns that are labelled."""
    rows, cols = to.shape
    flat = to.reshape(rows * cols)
    label_of = labels.reshape(rows * cols)
    steps = ROWS * cols + COLS
    stack = np.empty(rows * cols, np.int64)  # what is not used takes no memory
    top, bottom, left, right = box
    for k in range(starts.size):
        stack[0] = starts[k]
        size = 1
        label = k + 1
        while size > 0:
            size -= 1
            at = stack[size]
            r = at // cols
            c = at - r * cols
            top = min(top, r)
            bottom = max(bottom, r)
            left = min(left, c)
            right = max(right, c)
            if 0 < r < rows - 1 and 0 < c < cols - 1:
                for n in range(8):
                    there = at + steps[n]
                    if flat[there] == (n + 4) & 7 and label_of[there] == 0:
                        label_of[there] = label
                        stack[size] = there
                        size += 1
                continue
            for n in range(8):
                i = r + ROWS[n]
                j = c + COLS[n]
                if 0 <= i < rows and 0 <= j < cols and to[i, j] == (n + 4) & 7 and labels[i, j] == 0:
                    labels[i, j] = label
                    stack[size] = i * cols + j
                    size += 1
    box[0] = top
    box[1] = bottom
    box[2] = left
    box[3] = right


@kernel
def label_down(to, labels):
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
    # counts of large surfaces have no sign
    drained = np.where(away <= max(radius, 1e-9), near, 0).astype(np.float64)
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
    label_down(to, labels)
    sizes = np.bincount(labels.ravel(), minlength=len(ends) + 1)
    rank = np.zeros(len(ends) + 1, np.int32)
    rank[1 + np.argsort(-sizes[1:], kind="stable")] = np.arange(1, len(ends) + 1)
    found: Whole = rank[labels]
    return found


def links_of(streams: Streams) -> tuple[npt.NDArray[np.int64], Whole]:
    """The cells of a network, counted along rows, each once, and the number of the link of each, from 1 on. The last
    cell of a link is the first one of the link below."""
    last = streams.starts[1:] - 1
    own = np.ones(len(streams.cells), np.bool_)
    own[last[streams.below >= 0]] = False
    numbers = np.repeat(np.arange(1, len(streams) + 1, dtype=np.int32), np.diff(streams.starts))
    return streams.cells[own], numbers[own]


def between(to: Directions, streams: Streams) -> Whole:
    """The ground that drains into each link of a network, from 1 on, without that of links above it; 0 elsewhere."""
    labels = np.zeros(to.shape, np.int32)
    flat = labels.ravel()
    flat[np.isin(to.ravel(), (OUT, NONE))] = -1
    cells, numbers = links_of(streams)
    flat[cells] = numbers
    label_down(to, labels)
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
def _label(labels, r, c):
    """Of a cell; 0 outside."""
    if 0 <= r < labels.shape[0] and 0 <= c < labels.shape[1]:
        return labels[r, c]
    return 0


@kernel
def _ring(labels, row, col, done, places, count):
    """Follow the rim of a cell's area along the edges of cells, the area to the right, from the upper left corner of
    the cell, above which another area begins. Corners, columns and rows, are written to `places`: where the rim turns,
    and where more than two areas meet. Of an area that touches itself in a corner each part is followed by itself.
    Returns how many there are then; -1 where there is no room."""
    own = labels[row, col]
    x = col
    y = row
    step_x = 1
    step_y = 0
    turned = True
    while True:
        # from here the next edge goes; edges above a cell are done once
        if step_x == 1:
            if done[y, x]:
                break
            done[y, x] = True
        a = _label(labels, y - 1, x - 1)
        b = _label(labels, y - 1, x)
        c = _label(labels, y, x - 1)
        d = _label(labels, y, x)
        if turned or (a != b) + (b != d) + (d != c) + (c != a) > 2:
            if count == places.shape[0]:
                return -1
            places[count, 0] = x
            places[count, 1] = y
            count += 1
        x += step_x
        y += step_y
        # cells ahead, to the right and to the left of the way
        if step_x != 0:
            ahead_x = x if step_x == 1 else x - 1
            right_y = y if step_x == 1 else y - 1
            left_y = y - 1 if step_x == 1 else y
            right = _label(labels, right_y, ahead_x)
            left = _label(labels, left_y, ahead_x)
        else:
            ahead_y = y if step_y == 1 else y - 1
            right_x = x - 1 if step_y == 1 else x
            left_x = x if step_y == 1 else x - 1
            right = _label(labels, ahead_y, right_x)
            left = _label(labels, ahead_y, left_x)
        turned = True
        if right != own:
            step_x, step_y = -step_y, step_x
        elif left == own:
            step_x, step_y = step_y, -step_x
        else:
            turned = False
    return count


@kernel
def _rings(labels, done, places, bounds, of):
    """All rims. bounds: where each ends in `places`; of: a cell of the area that it is the rim of. Returns how many
    there are; -1 where there is no room for all."""
    rows, cols = labels.shape
    count = 0
    rings = 0
    for r in range(rows):
        for c in range(cols):
            own = labels[r, c]
            if own <= 0 or done[r, c] or (r > 0 and labels[r - 1, c] == own):
                continue
            if rings == of.size:
                return -1
            count = _ring(labels, r, c, done, places, count)
            if count < 0:
                return -1
            bounds[rings] = count
            of[rings] = r * cols + c
            rings += 1
    return rings


def polygons(labels: Whole, grid: Grid) -> dict[int, shapely.Geometry]:
    """The ground of each number above 0 as a polygon along the edges of cells, in the grid's CRS; of several parts
    where they meet in a corner only. Neighbours share their edges exactly, corner by corner.

    labels: those of the grid's cells.
    """
    room = _ROOM
    while True:
        places, bounds, of = np.empty((room, 2), np.int32), np.empty(room // 4, np.int64), np.empty(room // 4, np.int64)
        count = int(_rings(labels, np.zeros(labels.shape, np.bool_), places, bounds, of))
        if count >= 0:
            break
        room *= 4
    west, north = grid.bounds.west, grid.bounds.north
    outer: dict[int, list[tuple[FloatArray, int]]] = {}
    holes: dict[int, list[tuple[FloatArray, int]]] = {}
    for number, (first, last) in enumerate(itertools.pairwise(np.append(0, bounds[:count]).tolist())):
        cell = int(of[number])
        value = int(labels.flat[cell])
        for ring in _plain(places[first:last].astype(np.int64)):
            x, y = ring.T
            around = int((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())
            turned = np.column_stack([west + x * grid.cell_width, north - y * grid.cell_height])
            (outer if around > 0 else holes).setdefault(value, []).append((turned, cell))
    return {value: _with_holes(rings, holes.get(value, []), grid) for value, rings in outer.items()}


def _plain(ring: npt.NDArray[np.int64]) -> list[npt.NDArray[np.int64]]:
    """A rim that comes to a corner twice as rims that do so once: what it encloses there is a hole."""
    keys = ring[:, 1] << 32 | ring[:, 0]
    if len(np.unique(keys)) == len(keys):
        return [ring]
    found, path, places = [], list[int](), dict[int, int]()
    for at, key in enumerate(keys.tolist()):
        if key in places:
            first = places[key]
            found.append(ring[path[first:]])
            for gone in path[first:]:
                del places[int(keys[gone])]
            del path[first:]
        places[key] = len(path)
        path.append(at)
    return [*found, ring[path]]


def _with_holes(
    outer: Sequence[tuple[FloatArray, int]], holes: Sequence[tuple[FloatArray, int]], grid: Grid
) -> shapely.Geometry:
    """Parts of an area with their holes. Each ring comes with a cell of the part that it bounds."""
    if len(outer) == 1:
        return shapely.Polygon(outer[0][0], [ring for ring, _ in holes])
    parts = [shapely.Polygon(ring) for ring, _ in outer]
    within: list[list[FloatArray]] = [[] for _ in parts]
    if holes:
        rows, cols = np.divmod(np.array([cell for _, cell in holes]), grid.cols)
        places = shapely.points(grid.x_of(cols), grid.y_of(rows))
        around: dict[int, int] = {}
        # a part may lie in the hole of another one: the smallest that holds the cell is its own
        sizes = shapely.area(parts)
        for hole, part in shapely.STRtree(parts).query(places, predicate="within").T.tolist():
            if hole not in around or sizes[part] < sizes[around[hole]]:
                around[hole] = part
        for hole, part in around.items():
            within[part].append(holes[hole][0])
    return shapely.MultiPolygon([(ring, inner) for (ring, _), inner in zip(outer, within, strict=True)])


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
    return outlined(*labelled(to, start_cells(outlets)), to, grid, outlets)


def start_cells(outlets: Sequence[Outlet]) -> list[int]:
    """The cells of outlets. Raises InputError where there are none, or two in one cell."""
    if not outlets:
        raise InputError("There are no outlets. Give at least one.")
    cells = [one.cell for one in outlets]
    if len(set(cells)) != len(cells):
        raise InputError("Two outlets lie in one cell. Take one of them away, or move them less far.")
    return cells


def outlined(labels: Whole, window: Window, to: Directions, grid: Grid, outlets: Sequence[Outlet]) -> Catchments:
    """The catchments of outlets from labels; see `labelled`."""
    within = [_next_below(to, one.cell, labels) for one in outlets]
    part = labels[window.row : window.row + window.rows, window.col : window.col + window.cols]
    own = polygons(part, grid.part(window))
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
