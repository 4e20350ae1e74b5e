"""Epipolar images: both images of a pair on one plane, turned so that the same ground lies on the same row of both.

A place of height h that both images show on a level plane of height h0 appears there shifted, in each of them along its
own ray. The difference of both shifts has the same direction nearly everywhere in a scene, whatever the sensor. The
plane's columns run along it, so that what is left between the two images is a parallax along rows, in proportion to h
- h0.
"""

from __future__ import annotations

import itertools
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.images import Image
from yama.terrain.kernels import kernel
from yama.terrain.stereo.rays import Sensor

Floats = npt.NDArray[np.float32]

STEP = 16
"""Cells between the places at which the models are asked; between them positions are interpolated."""

_EARTH = 6_371_000.0
_DEGREE = np.deg2rad(1.0) * _EARTH
_LEAST_ANGLE = 2.0
_MOST_ANGLE = 75.0


@dataclass(frozen=True)
class Plane:
    """A level plane with square cells, turned against north.

    Parameters
    ----------
    lon, lat : float
        Of the middle of the cell in row 0 and column 0, in degrees.
    height : float
        Above the ellipsoid, in metres.
    turn : float
        Direction of the columns from east towards north, in radians.
    cell : float
        Size of a cell in metres.
    rows, cols : int
    """

    lon: float
    lat: float
    height: float
    turn: float
    cell: float
    rows: int
    cols: int

    @property
    def metres(self) -> tuple[float, float]:
        """Metres in a degree of longitude and of latitude, as the plane takes them."""
        return _DEGREE * float(np.cos(np.deg2rad(self.lat))), _DEGREE

    def ground(self, col: npt.ArrayLike, row: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Longitudes and latitudes of places of the plane. Rows run down, at a right angle to the columns'
        direction."""
        across, down = np.asarray(col, np.float64) * self.cell, np.asarray(row, np.float64) * self.cell
        sin, cos = np.sin(self.turn), np.cos(self.turn)
        per_lon, per_lat = self.metres
        return self.lon + (across * cos + down * sin) / per_lon, self.lat + (across * sin - down * cos) / per_lat

    def place(self, lon: npt.ArrayLike, lat: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Columns and rows of the plane at longitudes and latitudes."""
        per_lon, per_lat = self.metres
        east, north = (np.asarray(lon) - self.lon) * per_lon, (np.asarray(lat) - self.lat) * per_lat
        sin, cos = np.sin(self.turn), np.cos(self.turn)
        return (east * cos + north * sin) / self.cell, (east * sin - north * cos) / self.cell

    def window(self, row: int, col: int, rows: int, cols: int) -> Plane:
        """A part of the plane."""
        lon, lat = self.ground(col, row)
        return Plane(float(lon), float(lat), self.height, self.turn, self.cell, rows, cols)

    def coarser(self, level: int) -> Plane:
        """The same plane in cells of 2**level x 2**level of its own."""
        scale = 2**level
        lon, lat = self.ground((scale - 1) / 2, (scale - 1) / 2)
        size = -(-self.rows // scale), -(-self.cols // scale)
        return Plane(float(lon), float(lat), self.height, self.turn, self.cell * scale, *size)

    def positions(self, sensor: Sensor) -> FloatArray:
        """Columns and rows of an image at every `STEP`-th cell of the plane: `(2, n, m)`, reaching past the last
        cell."""
        row, col = np.meshgrid(
            np.arange(0, self.rows + STEP, STEP), np.arange(0, self.cols + STEP, STEP), indexing="ij"
        )
        return np.stack(sensor.image_of(*self.ground(col, row), self.height))


@dataclass(frozen=True)
class Geometry:
    """How two images see the same ground.

    Parameters
    ----------
    angle : float
        Between both rays, in degrees.
    base_to_height : float
        Metres of parallax on the ground for each metre of height.
    cell : float
        Size on the ground of a cell of the coarser image, in metres.
    turn : float
        Direction of the parallax, from east towards north, in radians.
    overlap : tuple of float
        Share of each image's area that the other one shows too.
    ring : ndarray, shape (n, 2)
        Longitude and latitude of the outline of what both show.
    """

    angle: float
    base_to_height: float
    cell: float
    turn: float
    overlap: tuple[float, float]
    ring: FloatArray

    @property
    def height_of_cell(self) -> float:
        """Metres of height to which one cell of parallax corresponds."""
        return self.cell / self.base_to_height


def _rays(sensor: Sensor, lon: float, lat: float, height: float) -> FloatArray:
    """By how many metres a ray moves to east and north with each metre of height."""
    col, row = sensor.image_of(lon, lat, height)
    x, y = sensor.ground_of(col, row, np.array([height - 50.0, height + 50.0]))
    cos = np.cos(np.deg2rad(lat))
    return np.array([(x[1] - x[0]) * _DEGREE * cos, (y[1] - y[0]) * _DEGREE]) / 100.0


def _ring(sensor: Sensor, size: tuple[int, int], height: float) -> FloatArray:
    rows, cols = size
    share = np.linspace(0, 1, 8, endpoint=False)
    col = np.concatenate([share * cols, np.full(8, cols), (1 - share) * cols, np.zeros(8)]) - 0.5
    row = np.concatenate([np.zeros(8), share * rows, np.full(8, rows), (1 - share) * rows]) - 0.5
    return np.stack(sensor.ground_of(col, row, height), axis=1)


def geometry(
    left: Sensor, right: Sensor, left_size: tuple[int, int], right_size: tuple[int, int], height: float
) -> Geometry:
    """How two images of such rows and columns see the ground of a height above the ellipsoid.

    Raises
    ------
    InputError
        Where they show no ground in common, or their rays are too close or too far apart for heights.
    """
    rings = [_ring(left, left_size, height), _ring(right, right_size, height)]
    if not all(np.isfinite(ring).all() for ring in rings):
        raise InputError("The coefficients of an image do not lead from all of its cells to the ground. "
                         "They belong to another image, or are damaged.")  # fmt: skip
    areas = [shapely.make_valid(shapely.Polygon(ring)) for ring in rings]
    both = shapely.intersection(*areas)
    if both.is_empty or both.area < 0.02 * min(one.area for one in areas):
        raise InputError("The two images show hardly any ground in common. Choose two that overlap.")
    both = max(shapely.get_parts(both), key=lambda part: float(part.area))
    lon, lat = shapely.get_coordinates(shapely.centroid(both))[0].tolist()
    slopes = [_rays(one, lon, lat, height) for one in (left, right)]
    apart = slopes[1] - slopes[0]
    base = float(np.hypot(*apart))
    lines = [np.array([*slope, 1.0]) for slope in slopes]
    cosine = float(lines[0] @ lines[1] / np.sqrt((lines[0] @ lines[0]) * (lines[1] @ lines[1])))
    angle = float(np.rad2deg(np.arccos(min(max(cosine, -1.0), 1.0))))
    if angle < _LEAST_ANGLE:
        raise InputError(f"The rays of the two images are {angle:.1f} degrees apart; heights need at least {_LEAST_ANGLE:g}. "
                         "They may be the same image twice, or two of the same pass.")  # fmt: skip
    if angle > _MOST_ANGLE:
        raise InputError(f"The rays of the two images are {angle:.0f} degrees apart; with more than {_MOST_ANGLE:g} hardly "
                         "any ground looks alike in both.")  # fmt: skip
    cell = max(_size(one, lon, lat, height) for one in (left, right))
    share = [float(both.area / one.area) for one in areas]
    turn = float(np.arctan2(apart[1], apart[0]))
    return Geometry(angle, base, cell, turn, (share[0], share[1]), shapely.get_coordinates(both))


def _size(sensor: Sensor, lon: float, lat: float, height: float) -> float:
    col, row = (float(value) for value in sensor.image_of(lon, lat, height))
    x, y = sensor.ground_of([col, col + 1, col], [row, row, row + 1], height)
    dx, dy = (x - x[0]) * _DEGREE * np.cos(np.deg2rad(lat)), (y - y[0]) * _DEGREE
    return float(np.sqrt(abs(dx[1] * dy[2] - dx[2] * dy[1])))


def plane_of(found: Geometry, height: float, ring: FloatArray | None = None, cell: float | None = None) -> Plane:
    """The epipolar plane around a ring of longitude and latitude, or around all that both images show."""
    places = found.ring if ring is None else ring
    start = Plane(float(places[0, 0]), float(places[0, 1]), height, found.turn, cell or found.cell, 1, 1)
    col, row = start.place(places[:, 0], places[:, 1])
    size = int(np.ceil(row.max() - row.min())) + 1, int(np.ceil(col.max() - col.min())) + 1
    return start.window(int(np.floor(row.min())), int(np.floor(col.min())), *size)


def across_parallax(plane: Plane, left: Sensor, right: Sensor, heights: tuple[float, float]) -> float:
    """The largest parallax across rows, in cells, that heights between two cause anywhere on a plane."""
    row, col = np.meshgrid(np.linspace(0, plane.rows - 1, 9), np.linspace(0, plane.cols - 1, 9), indexing="ij")
    lon, lat = plane.ground(col, row)
    worst = 0.0
    for height in heights:
        places = []
        for sensor in (left, right):
            cells = sensor.image_of(lon, lat, height)
            places.append(plane.place(*sensor.ground_of(*cells, plane.height))[1])
        worst = max(worst, float(np.nanmax(np.abs(places[1] - places[0]))))
    return worst


@kernel
def between(lattice, k, r, c):
    """A value at a fractional row and column between the nodes of a lattice; beyond it as its last cells go on."""
    i = min(max(int(r // STEP), 0), lattice.shape[1] - 2)
    j = min(max(int(c // STEP), 0), lattice.shape[2] - 2)
    s, t = (c - j * STEP) / STEP, (r - i * STEP) / STEP
    upper = lattice[k, i, j] * (1 - s) + lattice[k, i, j + 1] * s
    lower = lattice[k, i + 1, j] * (1 - s) + lattice[k, i + 1, j + 1] * s
    return upper * (1 - t) + lower * t


@kernel
def taken(cells, col, row, first_col, first_row):
    """The value of an image at a fractional column and row, by cubic convolution (R. Keys, 1981); NaN outside and where
    cells are empty. cells: a piece of it that begins at a column and row."""
    rows, cols = cells.shape
    i, j = int(np.floor(row)), int(np.floor(col))
    t, s = row - i, col - j
    i, j = i - first_row, j - first_col
    if not (-0.5 <= j + s <= cols - 0.5 and -0.5 <= i + t <= rows - 0.5):
        return np.float32(np.nan)
    a0, a1 = ((-0.5 * s + 1) * s - 0.5) * s, (1.5 * s - 2.5) * s * s + 1
    a2, a3 = ((-1.5 * s + 2) * s + 0.5) * s, (0.5 * s - 0.5) * s * s
    b = (
        ((-0.5 * t + 1) * t - 0.5) * t,
        (1.5 * t - 2.5) * t * t + 1,
        ((-1.5 * t + 2) * t + 0.5) * t,
        (0.5 * t - 0.5) * t * t,
    )
    total = 0.0
    for k in range(4):
        p = min(max(i - 1 + k, 0), rows - 1)
        if 1 <= j < cols - 2:
            line = cells[p, j - 1] * a0 + cells[p, j] * a1 + cells[p, j + 1] * a2 + cells[p, j + 2] * a3
        else:
            last = cols - 1
            line = (cells[p, min(max(j - 1, 0), last)] * a0 + cells[p, min(max(j, 0), last)] * a1
                    + cells[p, min(j + 1, last)] * a2 + cells[p, min(j + 2, last)] * a3)  # fmt: skip
        total += line * b[k]
    return np.float32(total)


@kernel
def _resampled(cells, lattice, top, bottom, out):
    for r in range(top, bottom):
        for c in range(out.shape[1]):
            out[r, c] = taken(cells, between(lattice, 0, r, c), between(lattice, 1, r, c), 0, 0)


def halved(cells: Floats) -> Floats:
    """Means of 2 x 2 cells; NaN where any of them is. A last odd row or column is left out."""
    rows, cols = cells.shape[0] // 2 * 2, cells.shape[1] // 2 * 2
    blocks = cells[:rows, :cols].reshape(rows // 2, 2, cols // 2, 2)
    found: Floats = blocks.mean((1, 3), dtype=np.float32)
    return found


def resampled(cells: Floats, positions: FloatArray, rows: int, cols: int) -> Floats:
    """An image at places between the nodes of a lattice, by cubic convolution; NaN where it has none.

    Parameters
    ----------
    cells : ndarray of float32
    positions : ndarray, shape (2, n, m)
        Columns and rows in `cells` at every `STEP`-th row and column of the result.
    rows, cols : int
        Of the result.
    """
    out = np.empty((rows, cols), np.float32)
    edges = np.linspace(0, rows, 4 * cores() + 1).astype(int).tolist()
    with ThreadPoolExecutor(cores()) as pool:
        list(pool.map(lambda band: _resampled(cells, positions, band[0], band[1], out), itertools.pairwise(edges)))
    return out


def on_plane(image: Image, sensor: Sensor, plane: Plane) -> Floats:
    """An image on an epipolar plane, NaN where it does not show it; only the part that is needed is read."""
    positions = plane.positions(sensor)
    low, high = np.nanmin(positions, axis=(1, 2)), np.nanmax(positions, axis=(1, 2))
    # of a plane whose cells are larger than the image's, cells are means of as many of them
    ratio = float(np.nanmedian(np.hypot(*np.diff(positions, axis=2)))) / STEP
    level = max(int(np.floor(np.log2(max(ratio, 1.0)) + 0.25)), 0)
    scale = 2**level
    first = np.floor(np.maximum(low, 0) / scale).astype(int) - 4
    last = np.ceil(np.minimum(high, [image.cols, image.rows]) / scale).astype(int) + 5
    if (last <= first).any():
        return np.full((plane.rows, plane.cols), np.nan, np.float32)
    cells = image.read(int(first[1]), int(first[0]), int(last[1] - first[1]), int(last[0] - first[0]), level)
    return resampled(cells, (positions + 0.5) / scale - 0.5 - first[:, None, None], plane.rows, plane.cols)
