"""Two images that overlap: from files to heights, step by step."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, turn_between
from yama.terrain.images import Image
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.stereo import dense, tie_points
from yama.terrain.stereo.adjust import Adjusted, Correction, adjusted, moved
from yama.terrain.stereo.control import Offset, offset
from yama.terrain.stereo.dense import Kept
from yama.terrain.stereo.epipolar import Geometry, Plane, across_parallax, geometry, on_plane, plane_of
from yama.terrain.stereo.heights import Cloud, Gridded, cloud_of, gridded
from yama.terrain.stereo.matching import Matching
from yama.terrain.stereo.rays import Sensor, intersection
from yama.terrain.stereo.tie_points import TiePoints
from yama.terrain.stereo.zero import ZeroLevel

ndimage = later("scipy.ndimage")

Floats = npt.NDArray[np.float32]

PRESETS: dict[str, Matching] = {
    "flat": Matching(steep=9, jump=90, edge=0.6, speck=120),
    "hilly": Matching(),
    "steep": Matching(steep=4, jump=45, edge=0.8, speck=50),
    "built_up": Matching(steep=7, jump=38, edge=1.6, speck=40, half=3),
    "speckled": Matching(
        steep=10, jump=80, edge=0.0, apart=1.5, speck=200, likeness=0.3, half=10, smooth=1.2, even=5.0
    ),
}
"""How images of each kind of ground are matched. Flat: parallax hardly changes, so changes cost more. Steep: it
changes all the time, so changes cost less. Built-up: it jumps, where grey values do. Speckled: single cells say
little, so images are smoothed first, larger areas are compared, changes cost most, and the parallaxes found are
evened out."""

_ACROSS = 0.3  # cells of parallax across rows that are borne
_LARGEST = 4096  # rows and columns of a section
_OVERLAP = 128
_ROOM = 0.35  # share of the range of tie points' heights that the ground may go beyond it
_LEAST_ROOM = 60.0
_TRY_HALO = 56  # cells around a window that is tried


@dataclass(frozen=True)
class Pair:
    """Two images that show the same ground, with their models as far as they are known.

    Parameters
    ----------
    left, right : Image
    sensors : tuple of Sensor
    """

    left: Image
    right: Image
    sensors: tuple[Sensor, Sensor]

    @classmethod
    def of(cls, left: Image, right: Image) -> Pair:
        """With the models as delivered. Raises InputError where it is one image twice."""
        if left.told == right.told:
            raise InputError(f"{left.name} and {right.name} have the same coefficients: it is the same image twice. "
                             "Choose two that were taken from different places.")  # fmt: skip
        return cls(left, right, (Sensor(left.model), Sensor(right.model)))

    @property
    def middle_height(self) -> float:
        """Of what both models are meant for, metres above the ellipsoid."""
        low, high = self.heights
        return (low + high) / 2

    @property
    def heights(self) -> tuple[float, float]:
        """What both models are meant for. Raises InputError where they have nothing in common."""
        ranges = [one.model.heights for one in (self.left, self.right)]
        low, high = max(one[0] for one in ranges), min(one[1] for one in ranges)
        if low >= high:
            raise InputError(
                "The coefficients of the two images are meant for different heights. They belong to other images."
            )
        return low, high

    def geometry(self, height: float | None = None) -> Geometry:
        """How both see the ground of a height. Raises InputError where they cannot give heights."""
        one, other = ((image.rows, image.cols) for image in (self.left, self.right))
        return geometry(*self.sensors, one, other, self.middle_height if height is None else height)

    def tie_points(
        self, count: int = 300, heights: tuple[float, float] | None = None, progress: Progress = ignore_progress
    ) -> TiePoints:
        """Places that both show alike; see `tie_points.find`."""
        return tie_points.find(
            self.left, self.right, self.sensors, self.geometry(), heights or self.heights, count, progress
        )

    def tie_at(self, place: tuple[float, float], heights: tuple[float, float] | None = None) -> TiePoints:
        """The tie point at a column and row of the left image; see `tie_points.snapped`."""
        return tie_points.snapped(self.left, self.right, self.sensors, self.geometry(), *place, heights or self.heights)

    def adjusted(
        self, cells: FloatArray, correction: Correction = "shift", most: float | None = None,
        without: npt.NDArray[np.bool_] | None = None,
    ) -> tuple[Pair, Adjusted]:  # fmt: skip
        """With models brought together at tie points; see `adjust.adjusted`."""
        found = adjusted(*self.sensors, cells, correction, most, without)
        return replace(self, sensors=(found.left, found.right)), found

    def moved(self, by: Offset) -> Pair:
        """With models that see the ground so much farther east, north and up."""
        ring = self.geometry().ring
        at = (float(ring[:, 0].mean()), float(ring[:, 1].mean()), self.middle_height)
        one, other = (moved(sensor, by.east, by.north, by.up, at) for sensor in self.sensors)
        return replace(self, sensors=(one, other))

    def search_range(self, met_heights: FloatArray) -> tuple[float, float]:
        """Heights between which ground is looked for: those of nearly all tie points, since a few are always wrong,
        and room."""
        low, high = (float(value) for value in np.percentile(met_heights, [2, 98]))
        room = max(_ROOM * (high - low), _LEAST_ROOM)
        return low - room, high + room


def sections(
    pair: Pair, heights: tuple[float, float], ring: FloatArray | None = None, cell: float | None = None
) -> list[Plane]:
    """Epipolar planes that cover what both images show, or a ring of longitude and latitude in it: as few as keep the
    parallax across rows below 0.3 cells and their size within bounds.

    Raises
    ------
    InputError
        Where it cannot be kept below 0.3 cells.
    """
    seen = pair.geometry((heights[0] + heights[1]) / 2)
    whole = plane_of(seen, (heights[0] + heights[1]) / 2, ring, cell)
    found: list[Plane] = []
    waiting = [whole]
    while waiting:
        plane = waiting.pop()
        across = across_parallax(plane, *pair.sensors, heights)
        if max(plane.rows, plane.cols) <= _LARGEST and across <= _ACROSS:
            found.append(plane)
            continue
        if min(plane.rows, plane.cols) < 4 * _OVERLAP:
            raise InputError("The two images cannot be brought onto common rows; their coefficients are too far off. "
                             "Find tie points and adjust the models first.")  # fmt: skip
        if plane.rows >= plane.cols:
            half = plane.rows // 2
            waiting += [plane.window(0, 0, half + _OVERLAP, plane.cols),
                        plane.window(half - _OVERLAP, 0, plane.rows - half + _OVERLAP, plane.cols)]  # fmt: skip
        else:
            half = plane.cols // 2
            waiting += [plane.window(0, 0, plane.rows, half + _OVERLAP),
                        plane.window(0, half - _OVERLAP, plane.rows, plane.cols - half + _OVERLAP)]  # fmt: skip
    return found


def smoothed(cells: Floats, width: float) -> Floats:
    """Logarithms of grey values, smoothed by a Gaussian; NaN stays NaN and is not smeared."""
    known = np.isfinite(cells) & (cells > 0)
    values = np.where(known, np.log(np.where(known, cells, 1.0)), 0.0)
    weight = ndimage.gaussian_filter(known.astype(np.float32), width)
    found = ndimage.gaussian_filter(values, width) / np.maximum(weight, 1e-6)
    return np.where(known, found, np.nan).astype(np.float32)


def match(
    pair: Pair, plane: Plane, heights: tuple[float, float], how: Matching, progress: Progress = ignore_progress
) -> Kept:
    """Match both images on an epipolar plane, between two heights above the ellipsoid; what looks unlike is left
    out."""
    seen = pair.geometry(plane.height)
    left, right = (on_plane(*one, plane) for one in zip((pair.left, pair.right), pair.sensors, strict=True))
    if how.smooth:
        left, right = smoothed(left, how.smooth), smoothed(right, how.smooth)
    per_metre = seen.base_to_height / plane.cell
    low = int(np.floor((heights[0] - plane.height) * per_metre)) - 1
    high = int(np.ceil((heights[1] - plane.height) * per_metre)) + 1
    return dense.kept(dense.match(left, right, low, high, how, progress), how)


def places_in(grid: Grid, zero: ZeroLevel):  # type: ignore[no-untyped-def]
    """What `cloud_of` asks for: columns and rows in a grid, and the zero level there."""
    turn = turn_between("EPSG:4326", grid.crs)

    def places(lon: FloatArray, lat: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        x, y = turn.transform(lon, lat)
        return grid.col_of(x), grid.row_of(y), zero.at(lon, lat)

    return places


def heights_on(
    pair: Pair, grid: Grid, zero: ZeroLevel, heights: tuple[float, float], how: Matching,
    progress: Progress = ignore_progress, cell: float | None = None, gather: list[Cloud] | None = None,
) -> Gridded:  # fmt: skip
    """Heights of a grid's cells from both images, in metres above a zero level.

    Parameters
    ----------
    pair : Pair
        With models that were brought together.
    grid : Grid
    zero : ZeroLevel
    heights : tuple of float
        Between which ground is looked for, metres above the ellipsoid.
    how : Matching
    progress : callable
    cell : float, optional
        Size of the cells in which images are compared, in metres; the images' own where not given.
    gather : list of Cloud, optional
        Takes the points that heights are made of.
    """
    planes = sections(pair, heights, _ring_over(pair, grid, heights), cell)
    found: Gridded | None = None
    for number, plane in enumerate(planes):
        begin, end = number / len(planes), (number + 1) / len(planes)
        part = part_of(progress, begin, end)
        matched = match(pair, plane, heights, how, part_of(part, 0.0, 0.75))
        cloud = cloud_of(plane, *pair.sensors, matched, places_in(grid, zero), part_of(part, 0.75, 0.87))
        one = gridded(cloud, grid, part_of(part, 0.87, 1.0))
        if gather is not None:
            gather.append(cloud)
        found = one if found is None else _better(found, one)
    assert found is not None
    return found


def _ring_over(pair: Pair, grid: Grid, heights: tuple[float, float]) -> FloatArray | None:
    """What both images show of a grid, as longitude and latitude; None for all of it. Ground as high and as low as
    may be lies beside its place on the epipolar plane, so the ring is that much wider. Raises InputError where they
    show none of it."""
    seen = pair.geometry((heights[0] + heights[1]) / 2)
    t = np.linspace(0, 1, 9)[:-1]
    box = grid.bounds
    x = np.concatenate(
        [
            box.west + (box.east - box.west) * t,
            np.full(8, box.east),
            box.east + (box.west - box.east) * t,
            np.full(8, box.west),
        ]
    )
    y = np.concatenate(
        [
            np.full(8, box.south),
            box.south + (box.north - box.south) * t,
            np.full(8, box.north),
            box.north + (box.south - box.north) * t,
        ]
    )
    lon, lat = turn_between(grid.crs, "EPSG:4326").transform(x, y)
    across = np.cos(np.deg2rad(np.mean(lat)))  # degrees of longitude are shorter, and are grown as if they were not
    reach = (0.5 * (heights[1] - heights[0]) + 64 * seen.cell) / 111_195
    area = shapely.Polygon(np.stack([np.asarray(lon) * across, lat], axis=1)).buffer(reach, join_style="mitre")
    both = shapely.Polygon(seen.ring * [across, 1.0])
    if area.contains(both):
        return None
    part = shapely.intersection(area, both)
    if part.is_empty:
        raise InputError("The two images show nothing of the area. Choose another one, or other images.")
    found: FloatArray = shapely.get_coordinates(part.convex_hull) / [across, 1.0]
    return found


def _better(one: Gridded, other: Gridded) -> Gridded:
    """The surer of two, cell by cell."""
    take = ~(one.uncertainty <= other.uncertainty) & np.isfinite(other.height)
    return Gridded(
        *(np.where(take, getattr(other, name), getattr(one, name)) for name in ("height", "uncertainty", "likeness"))
    )


def offset_at(
    pair: Pair, grid: Grid, zero: ZeroLevel, heights: tuple[float, float], how: Matching, x: FloatArray, y: FloatArray, z: FloatArray,
    progress: Progress = ignore_progress,
) -> Offset | None:  # fmt: skip
    """By how much the models must be moved so that the heights they give agree with points in a grid's CRS, in metres.

    Images are compared in cells twice as large as theirs, which tells an offset as well and takes a quarter of the
    time.
    """
    seen = pair.geometry((heights[0] + heights[1]) / 2)
    coarse = Grid.covering(grid.crs, grid.bounds, 4 * seen.cell / float(np.sqrt(np.prod(grid.metres_per_unit()))))
    found = heights_on(pair, coarse, zero, heights, how, progress, cell=2 * seen.cell)
    return offset(found.height, coarse.metres_per_cell(), coarse.col_of(x), coarse.row_of(y), z)


@dataclass(frozen=True)
class Tried:
    """What a window of the left image gives: heights in metres above a zero level, how alike both images are, and
    longitude and latitude of its cells' ground; `(size, size)` each, NaN where nothing was matched."""

    height: Floats
    likeness: Floats
    lon: FloatArray
    lat: FloatArray


def tried(
    pair: Pair, zero: ZeroLevel, place: tuple[float, float], size: int, heights: tuple[float, float], how: Matching
) -> Tried:
    """Match a window of the left image only, to see what settings do.

    Parameters
    ----------
    pair : Pair
    zero : ZeroLevel
    place : tuple of float
        Column and row of its middle.
    size : int
        Cells along each side.
    heights : tuple of float
        Between which ground is looked for, metres above the ellipsoid.
    how : Matching

    Raises
    ------
    InputError
        Where the window lies outside the left image, or the right one does not show it.
    """
    middle = (heights[0] + heights[1]) / 2
    if not (0 <= place[0] < pair.left.cols and 0 <= place[1] < pair.left.rows):
        raise InputError("The window lies outside the left image.")
    col, row = np.meshgrid(place[0] + np.arange(size) - (size - 1) / 2, place[1] + np.arange(size) - (size - 1) / 2)
    lon, lat = pair.sensors[0].ground_of(col, row, middle)
    seen = pair.geometry(middle)
    corners = np.array([[lon[i, j], lat[i, j]] for i in (0, -1) for j in (0, -1)])
    small = plane_of(seen, middle, corners)
    plane = small.window(-_TRY_HALO, -_TRY_HALO, small.rows + 2 * _TRY_HALO, small.cols + 2 * _TRY_HALO)
    matched = match(pair, plane, heights, how)
    r, c = np.nonzero(np.isfinite(matched.parallax))
    found = np.full(matched.parallax.shape, np.nan)
    if r.size:
        mine = pair.sensors[0].image_of(*plane.ground(c, r), middle)
        theirs = pair.sensors[1].image_of(*plane.ground(c + matched.parallax[r, c], r), middle)
        met = intersection(*pair.sensors, np.stack([*mine, *theirs], axis=1))
        found[r, c] = met.height - zero.at(met.lon, met.lat)
    across, down = (
        np.clip(np.rint(one).astype(int), 0, most - 1)
        for one, most in zip(plane.place(lon, lat), (plane.cols, plane.rows), strict=True)
    )
    height = found[down, across]
    known = np.isfinite(height)
    at_lon, at_lat = np.full(height.shape, np.nan), np.full(height.shape, np.nan)
    if known.any():
        above = height[known] + zero.at(lon[known], lat[known])
        at_lon[known], at_lat[known] = pair.sensors[0].ground_of(col[known], row[known], above)
    likeness = np.where(known, matched.likeness[down, across], np.nan)
    return Tried(height.astype(np.float32), likeness.astype(np.float32), at_lon, at_lat)
