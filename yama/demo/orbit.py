"""The made-up satellite that takes the demo's image pair: a line of detectors on its way, and the rational polynomials
fitted to it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.demo.products import geoid_at
from yama.demo.terrain import FRAME
from yama.terrain.rational import TERMS, RationalModel, terms_of

ROWS, COLS = 3840, 2944
"""Cells of each image, a metre wide."""

CENTRE = (448_860.0, 5_437_560.0)
"""Place in the middle of both images."""

ORBIT = 480_000.0
"""Height of the satellite in metres."""

_TRACK = np.deg2rad(189.0)  # the direction of flight from north
_PITCH = np.deg2rad(12.4)
_MIDDLE = 150.0  # the height at which cells are a metre wide
_DEEPEST, _HIGHEST = -40.0, 660.0

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Sensor:
    """A line of detectors that is carried along and takes a row at a time. pitch: how far it looks ahead, radians."""

    pitch: float

    def origin(self, row: npt.ArrayLike) -> Array:
        """Where it is while it takes a row: `(..., 3)` of x, y and height."""
        ahead = np.array([np.sin(_TRACK), np.cos(_TRACK)])
        start = np.array(CENTRE) - ahead * (ORBIT - _MIDDLE) * np.tan(self.pitch)
        far = np.asarray(row, np.float64)[..., None] - (ROWS - 1) / 2
        return np.concatenate([start + ahead * far, np.full((*np.shape(row), 1), ORBIT)], axis=-1)

    def slopes(self, col: npt.ArrayLike, row: npt.ArrayLike) -> Array:
        """How far a cell's ray moves in x and y with each metre of height: `(..., 2)`."""
        t = (np.asarray(row, np.float64) / (ROWS - 1)) * 2 - 1
        pitch = self.pitch + 2.4e-6 * t * t - 1.1e-6 * t**3  # attitude is never held quite still
        roll = 1.7e-6 * t - 0.9e-6 * t * t
        across = (np.asarray(col, np.float64) - (COLS - 1) / 2) / (ORBIT - _MIDDLE) + roll
        sin, cos = np.sin(_TRACK), np.cos(_TRACK)
        forward = np.tan(pitch)
        return np.stack(np.broadcast_arrays(-(forward * sin - across * cos), -(forward * cos + across * sin)), axis=-1)

    def ground(self, col: npt.ArrayLike, row: npt.ArrayLike, height: npt.ArrayLike) -> Array:
        """Where a cell's ray is at a height: `(..., 2)` of x and y."""
        origin, slope = self.origin(row), self.slopes(col, row)
        return origin[..., :2] + slope * (np.asarray(height, np.float64) - ORBIT)[..., None]


LEFT, RIGHT = Sensor(_PITCH), Sensor(-_PITCH)


def fitted(sensor: Sensor) -> RationalModel:
    """The sensor's rational polynomials, with heights above the ellipsoid."""
    col, row, high = np.meshgrid(
        np.linspace(-20, COLS + 19, 17), np.linspace(-20, ROWS + 19, 19), np.linspace(_DEEPEST, _HIGHEST, 9)
    )
    places = sensor.ground(col, row, high)
    lon, lat = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True).transform(places[..., 0], places[..., 1])
    above = high + geoid_at(lon, lat)

    def spread(values: Array) -> tuple[float, float, Array]:
        middle, half = (values.max() + values.min()) / 2, (values.max() - values.min()) / 2
        return float(middle), float(half), (values.ravel() - middle) / half

    lon0, lon1, x = spread(lon)
    lat0, lat1, y = spread(lat)
    high0, high1, z = spread(above)
    col0, col1, c = spread(col)
    row0, row1, r = spread(row)
    terms = terms_of(x, y, z)

    def ratio(wanted: Array) -> tuple[tuple[float, ...], tuple[float, ...]]:
        weight = np.ones_like(wanted)
        for _ in range(3):  # of the equations multiplied by the denominator
            system = np.hstack([terms, -wanted[:, None] * terms[:, 1:]]) * weight[:, None]
            normal = system.T @ system + 1e-8 * len(wanted) * np.eye(2 * TERMS - 1)
            found = np.linalg.solve(normal, system.T @ (wanted * weight))
            below = np.r_[1.0, found[TERMS:]]
            weight = 1 / (terms @ below)
        return tuple(found[:TERMS].tolist()), tuple(below.tolist())

    row_above, row_below = ratio(r)
    col_above, col_below = ratio(c)
    return RationalModel(row0, col0, lat0, lon0, high0, row1, col1, lat1, lon1, high1,
                         row_above, row_below, col_above, col_below)  # fmt: skip
