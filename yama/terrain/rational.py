"""Rational polynomial coefficients: where a place on the ground lies in an image, and back.

As in RPC00B of the National Imagery Transmission Format's extensions (STDI-0002, appendix E): ratios of cubic
polynomials of longitude, latitude and ellipsoidal height, all of them offset and scaled to about -1 to 1.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray

TERMS = 20
_STEPS = 20


@dataclass(frozen=True)
class RationalModel:
    """Offsets and scales of row, column (cells, from the centre of the first), latitude, longitude (degrees) and height
    (metres), and the polynomials: numerator and denominator of row and column, `(20,)` each, in RPC00B's order."""

    row_offset: float
    col_offset: float
    latitude_offset: float
    longitude_offset: float
    height_offset: float
    row_scale: float
    col_scale: float
    latitude_scale: float
    longitude_scale: float
    height_scale: float
    row_numerator: tuple[float, ...]
    row_denominator: tuple[float, ...]
    col_numerator: tuple[float, ...]
    col_denominator: tuple[float, ...]

    def __post_init__(self) -> None:
        scales = (self.row_scale, self.col_scale, self.latitude_scale, self.longitude_scale, self.height_scale)
        polynomials = (self.row_numerator, self.row_denominator, self.col_numerator, self.col_denominator)
        numbers = [*scales, *(value for polynomial in polynomials for value in polynomial)]
        if not all(scale > 0 for scale in scales) or not np.isfinite(numbers).all():
            raise InputError("Rational polynomial coefficients need scales above zero and finite numbers.")
        if any(len(polynomial) != TERMS for polynomial in polynomials):
            raise InputError(f"Rational polynomials have {TERMS} coefficients each.")

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> RationalModel:
        """What `dataclasses.asdict` made, also where lists have taken the place of tuples."""
        fields: dict[str, Any] = {
            name: tuple(value) if isinstance(value, list) else value for name, value in data.items()
        }
        return cls(**fields)

    @property
    def heights(self) -> tuple[float, float]:
        """Lowest and highest height the model is meant for."""
        return self.height_offset - self.height_scale, self.height_offset + self.height_scale

    def image_of(
        self, longitude: npt.ArrayLike, latitude: npt.ArrayLike, height: npt.ArrayLike
    ) -> tuple[FloatArray, FloatArray]:
        """Column and row of places, in cells from the centre of the first; NaN where a denominator vanishes."""
        east, north, up = np.broadcast_arrays(
            (np.asarray(longitude, np.float64) - self.longitude_offset) / self.longitude_scale,
            (np.asarray(latitude, np.float64) - self.latitude_offset) / self.latitude_scale,
            (np.asarray(height, np.float64) - self.height_offset) / self.height_scale,
        )
        with np.errstate(all="ignore"):
            terms = terms_of(east, north, up)
            col = (terms @ np.array(self.col_numerator)) / (terms @ np.array(self.col_denominator))
            row = (terms @ np.array(self.row_numerator)) / (terms @ np.array(self.row_denominator))
        return col * self.col_scale + self.col_offset, row * self.row_scale + self.row_offset

    def ground_of(self, col: npt.ArrayLike, row: npt.ArrayLike, height: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Longitude and latitude at which a cell sees the ground of that height, by Newton's method; NaN where it does
        not come to rest within a thousandth of a cell."""
        wanted_col, wanted_row, up = (
            np.array(values, np.float64) for values in np.broadcast_arrays(col, row, np.asarray(height, np.float64))
        )
        longitude = np.full(wanted_col.shape, self.longitude_offset)
        latitude = np.full(wanted_col.shape, self.latitude_offset)
        step_x, step_y = 1e-6 * self.longitude_scale, 1e-6 * self.latitude_scale
        for _ in range(_STEPS):
            c, r = self.image_of(longitude, latitude, up)
            c_x, r_x = self.image_of(longitude + step_x, latitude, up)
            c_y, r_y = self.image_of(longitude, latitude + step_y, up)
            with np.errstate(all="ignore"):
                miss_c, miss_r = wanted_col - c, wanted_row - r
                a, b, d, e = (c_x - c) / step_x, (c_y - c) / step_y, (r_x - r) / step_x, (r_y - r) / step_y
                determinant = a * e - b * d
                longitude = longitude + (e * miss_c - b * miss_r) / determinant
                latitude = latitude + (a * miss_r - d * miss_c) / determinant
            apart = np.hypot(miss_c, miss_r)
            if not (apart > 1e-6).any():
                break
        c, r = self.image_of(longitude, latitude, up)
        with np.errstate(invalid="ignore"):
            lost = ~(np.hypot(wanted_col - c, wanted_row - r) < 1e-3)
        return np.where(lost, np.nan, longitude), np.where(lost, np.nan, latitude)


def terms_of(x: FloatArray, y: FloatArray, z: FloatArray) -> FloatArray:
    """The twenty products of longitude, latitude and height, offset and scaled, in the standard's order: `(..., 20)`."""
    return np.stack(
        [np.ones_like(x), x, y, z, x * y, x * z, y * z, x * x, y * y, z * z, x * y * z, x**3, x * y * y, x * z * z,
         x * x * y, y**3, y * z * z, x * x * z, y * y * z, z**3],
        axis=-1,
    )  # fmt: skip
