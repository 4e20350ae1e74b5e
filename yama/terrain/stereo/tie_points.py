"""Tie points: places that two images show alike, found by themselves, spread over all that both show."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.images import Image
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.stereo.epipolar import Geometry, Plane, on_plane, plane_of
from yama.terrain.stereo.least_squares import refined
from yama.terrain.stereo.rays import Sensor, intersection

cv2 = later("cv2")

Floats = npt.NDArray[np.float32]

_HALF = 10  # cells around a corner that are looked for in the other image
_BAND = 14  # cells across the epipolar line within which models may be off
_TRIES = 3  # corners of a square of the grid that are tried, best first
_LEAST = 0.72  # correlation
_BOTH_WAYS = 1.5
_AROUND = 24  # cells around a place that are read to refine it
_LARGEST = 4096  # rows and columns of the images in which places are looked for
_PRECISE = 0.12  # the largest standard deviation of a tie point, in cells


@dataclass(frozen=True)
class TiePoints:
    """Places in both images, `(n,)` each: columns and rows; correlation; precision, the larger standard deviation of
    the right position in cells."""

    left_col: FloatArray
    left_row: FloatArray
    right_col: FloatArray
    right_row: FloatArray
    likeness: FloatArray
    precision: FloatArray

    def __len__(self) -> int:
        return len(self.left_col)

    @property
    def cells(self) -> FloatArray:
        """Column and row in the left image, column and row in the right one: `(n, 4)`."""
        return np.stack([self.left_col, self.left_row, self.right_col, self.right_row], axis=1)

    def joined(self, other: TiePoints) -> TiePoints:
        """These and others behind them."""
        names = self.__dataclass_fields__
        return TiePoints(*(np.concatenate([getattr(self, name), getattr(other, name)]) for name in names))

    def only(self, which: npt.NDArray[np.bool_]) -> TiePoints:
        """Some of them."""
        return TiePoints(*(getattr(self, name)[which] for name in self.__dataclass_fields__))


def corners(cells: Floats, count: int, apart: float) -> FloatArray:
    """Columns and rows of the clearest corners, best first: `(n, 2)`."""
    if min(cells.shape) < 4 * _HALF or not np.isfinite(cells).all() or np.ptp(cells) == 0:
        return np.empty((0, 2))
    found = cv2.goodFeaturesToTrack(cells, count, 0.02, apart, blockSize=5)
    return np.empty((0, 2)) if found is None else found.reshape(-1, 2).astype(np.float64)


def _seek(piece: Floats, where: Floats) -> tuple[float, int, int]:
    """The place in an image where a piece fits best: correlation, row and column of its upper left cell."""
    likeness = cv2.matchTemplate(where, piece, cv2.TM_CCOEFF_NORMED)
    _, best, _, (col, row) = cv2.minMaxLoc(likeness)
    return float(best), int(row), int(col)


def _piece(cells: Floats, row: int, col: int, half: int = _HALF) -> Floats | None:
    if row < half or col < half or row + half >= cells.shape[0] or col + half >= cells.shape[1]:
        return None
    found = cells[row - half : row + half + 1, col - half : col + half + 1]
    return found if np.isfinite(found).all() else None


def _counterpart(left: Floats, right: Floats, row: int, col: int, low: int, high: int) -> tuple[int, int] | None:
    """Row and column in the right epipolar image of a corner of the left one, where both find each other; None where
    not."""
    piece = _piece(left, row, col)
    if piece is None:
        return None
    top, bottom = max(row - _BAND - _HALF, 0), min(row + _BAND + _HALF + 1, right.shape[0])
    begin, end = max(col + low - _HALF, 0), min(col + high + _HALF + 1, right.shape[1])
    where = right[top:bottom, begin:end]
    if min(where.shape) <= 2 * _HALF + 1:
        return None
    best, r, c = _seek(piece, np.nan_to_num(where))
    if best < _LEAST:
        return None
    r, c = r + top + _HALF, c + begin + _HALF
    back = _piece(right, r, c)
    if back is None:
        return None
    top, bottom = max(r - _BAND - _HALF, 0), min(r + _BAND + _HALF + 1, left.shape[0])
    begin, end = max(c - high - _HALF, 0), min(c - low + _HALF + 1, left.shape[1])
    _, p, q = _seek(back, np.nan_to_num(left[top:bottom, begin:end]))
    if abs(p + top + _HALF - row) > _BOTH_WAYS or abs(q + begin + _HALF - col) > _BOTH_WAYS:
        return None
    return r, c


def _affine(left: Sensor, right: Sensor, cells: FloatArray) -> FloatArray:
    """How a level piece of ground lies in the right image, seen from the left one: `(n, 4)`."""
    height = intersection(left, right, cells).height
    height = np.where(np.isfinite(height), height, np.nanmedian(height))
    base = right.image_of(*left.ground_of(cells[:, 0], cells[:, 1], height), height)
    across = right.image_of(*left.ground_of(cells[:, 0] + 8, cells[:, 1], height), height)
    down = right.image_of(*left.ground_of(cells[:, 0], cells[:, 1] + 8, height), height)
    return np.stack([across[0] - base[0], down[0] - base[0], across[1] - base[1], down[1] - base[1]], axis=1) / 8


def refine(left: Image, right: Image, sensors: tuple[Sensor, Sensor], cells: FloatArray) -> TiePoints:
    """Refine places of both images `(n, 4)` by least squares; those that do not come to rest are left out."""
    shapes = _affine(*sensors, cells)
    out = np.full((len(cells), 5), np.nan)

    def one(i: int) -> None:
        first = np.rint(cells[i]).astype(int) - _AROUND
        size = 2 * _AROUND + 1
        pieces = left.read(first[1], first[0], size, size), right.read(first[3], first[2], size, size)
        found = refined(*pieces, cells[i : i + 1] - first, shapes[i : i + 1])
        out[i] = [
            found.col[0] + first[2],
            found.row[0] + first[3],
            found.likeness[0],
            found.col_sigma[0],
            found.row_sigma[0],
        ]

    with ThreadPoolExecutor(cores()) as pool:
        list(pool.map(one, range(len(cells))))
    precision = np.maximum(out[:, 3], out[:, 4])
    found = TiePoints(cells[:, 0], cells[:, 1], out[:, 0], out[:, 1], out[:, 2], precision)
    return found.only(np.isfinite(out[:, 0]))


def find(
    left: Image, right: Image, sensors: tuple[Sensor, Sensor], seen: Geometry, heights: tuple[float, float],
    count: int = 300, progress: Progress = ignore_progress,
) -> TiePoints:  # fmt: skip
    """Find tie points.

    Corners of the left epipolar image are looked for in the right one along their row, within the parallaxes of the
    heights and a band for models that are off, and back again. A grid over the overlap spreads them: of each square the
    clearest corner is taken that both images agree on. Positions are then refined in the images as they are.

    Parameters
    ----------
    left, right : Image
    sensors : tuple of Sensor
    seen : Geometry
    heights : tuple of float
        Lowest and highest ground that may be there, metres above the ellipsoid.
    count : int
        Squares of the grid: about as many points as are wanted.

    Returns
    -------
    TiePoints
        In no order that matters, with a precision better than 0.12 cells.

    Raises
    ------
    InputError
        Where fewer than 6 are found.
    """
    middle = (heights[0] + heights[1]) / 2
    plane = plane_of(seen, middle)
    coarser = max(plane.rows, plane.cols) / _LARGEST
    if coarser > 1:  # places are found in coarser images, and then refined in the images themselves
        plane = plane_of(seen, middle, cell=seen.cell * coarser)
    per_metre = seen.base_to_height / plane.cell
    half_range = (heights[1] - heights[0]) / 2 * per_metre
    low, high = -int(np.ceil(half_range)) - 4, int(np.ceil(half_range)) + 4
    one, other = (on_plane(image, sensor, plane) for image, sensor in zip((left, right), sensors, strict=True))
    progress(0.2)
    side = max(int(np.sqrt(plane.rows * plane.cols / count)), 4 * _HALF)
    squares = [(r, c) for r in range(0, plane.rows, side) for c in range(0, plane.cols, side)]

    def search(square: tuple[int, int]) -> tuple[float, float, float, float] | None:
        row, col = square
        for x, y in corners(one[row : row + side, col : col + side], _TRIES * 2, side / 6)[: _TRIES * 2]:
            r, c = round(row + y), round(col + x)
            there = _counterpart(one, other, r, c, low, high)
            if there is not None:
                return (c, r, there[1], there[0])
        return None

    found: list[tuple[float, float, float, float]] = []
    with ThreadPoolExecutor(cores()) as pool:
        for number in range(0, len(squares), 32):
            found += [one for one in pool.map(search, squares[number : number + 32]) if one is not None]
            progress(0.2 + 0.7 * (number + 32) / max(len(squares), 32))
    cells = np.array(found, np.float64).reshape(-1, 4)
    if len(cells) >= 6:
        lon, lat = plane.ground(cells[:, 0], cells[:, 1])
        mine = np.stack(sensors[0].image_of(lon, lat, plane.height), axis=1)
        lon, lat = plane.ground(cells[:, 2], cells[:, 3])
        theirs = np.stack(sensors[1].image_of(lon, lat, plane.height), axis=1)
        ties = refine(left, right, sensors, np.hstack([mine, theirs]))
        ties = ties.only((ties.precision < _PRECISE) & (ties.likeness > _LEAST))
    if len(cells) < 6 or len(ties) < 6:
        raise InputError(
            f"Only {len(cells) if len(cells) < 6 else len(ties)} places look alike in both images; 6 are needed. "
            "Water, cloud or snow may cover them, or the coefficients belong to another image."
        )
    progress(1.0)
    return ties


def snapped(
    left: Image, right: Image, sensors: tuple[Sensor, Sensor], seen: Geometry, col: float, row: float,
    heights: tuple[float, float],
) -> TiePoints:  # fmt: skip
    """The tie point at a place of the left image that somebody points at. Raises InputError where nothing is alike
    there."""
    if not (_HALF <= col < left.cols - _HALF and _HALF <= row < left.rows - _HALF):
        raise InputError("That place lies outside the left image, or too close to its edge.")
    middle = (heights[0] + heights[1]) / 2
    lon, lat = sensors[0].ground_of(col, row, middle)
    reach = (heights[1] - heights[0]) / 2 * seen.base_to_height / seen.cell + 4 * (_HALF + _BAND)
    whole = Plane(float(lon), float(lat), middle, seen.turn, seen.cell, 1, 1)
    size = 2 * int(reach) + 1
    plane = whole.window(-int(reach), -int(reach), size, size)
    one, other = (on_plane(image, sensor, plane) for image, sensor in zip((left, right), sensors, strict=True))
    span = int(reach) - 2 * (_HALF + _BAND)
    there = _counterpart(one, other, int(reach), int(reach), -span, span)
    if there is None:
        raise InputError("Nothing in the right image looks like that place. Choose a corner or a crossing nearby.")
    lon, lat = plane.ground(there[1], there[0])
    theirs = sensors[1].image_of(lon, lat, plane.height)
    ties = refine(left, right, sensors, np.array([[col, row, float(theirs[0]), float(theirs[1])]]))
    if not len(ties):
        raise InputError("That place cannot be measured exactly. Choose a corner or a crossing nearby.")
    return ties
