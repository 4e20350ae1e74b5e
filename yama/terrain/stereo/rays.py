"""Rays of images: where a place is seen, which places a cell sees, and where two rays meet.

An image's model with its adjustment is packed into one array, so that kernels can take it: offsets and scales, the four
polynomials in RPC00B's order, and an affine adjustment of the image's columns and rows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel
from yama.terrain.rational import RationalModel

_STEPS = 12
_NO_CHANGE = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Sensor:
    """A model and what was found to be missing from it.

    Parameters
    ----------
    model : RationalModel
        As it was delivered.
    shift : tuple of float
        What must be added to the columns and rows that the model gives, in cells: `(c0, c1, c2, r0, r1, r2)`,
        constants and slopes over columns and rows that are offset and scaled as the model's.

    References
    ----------
    J. Grodecki and G. Dial, "Block adjustment of high-resolution satellite images described by rational polynomials",
    Photogrammetric Engineering and Remote Sensing 69, 2003.
    """

    model: RationalModel
    shift: tuple[float, float, float, float, float, float] = _NO_CHANGE

    def packed(self) -> FloatArray:
        """As kernels take it: `(96,)`."""
        m = self.model
        return np.array(
            [m.row_offset, m.col_offset, m.latitude_offset, m.longitude_offset, m.height_offset, m.row_scale,
             m.col_scale, m.latitude_scale, m.longitude_scale, m.height_scale, *m.row_numerator, *m.row_denominator,
             *m.col_numerator, *m.col_denominator, *self.shift], np.float64,
        )  # fmt: skip

    def image_of(self, lon: npt.ArrayLike, lat: npt.ArrayLike, height: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Columns and rows at which places are seen; NaN where a denominator vanishes."""
        x, y, z = np.broadcast_arrays(*(np.asarray(values, np.float64) for values in (lon, lat, height)))
        out = np.empty((2, x.size))
        _see(self.packed(), np.ravel(x), np.ravel(y), np.ravel(z), out)
        return out[0].reshape(x.shape), out[1].reshape(x.shape)

    def ground_of(self, col: npt.ArrayLike, row: npt.ArrayLike, height: npt.ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Longitudes and latitudes at which cells see the ground of a height; NaN where they see none."""
        c, r, z = np.broadcast_arrays(*(np.asarray(values, np.float64) for values in (col, row, height)))
        out = np.empty((2, c.size))
        _reach(self.packed(), np.ravel(c), np.ravel(r), np.ravel(z), out)
        return out[0].reshape(c.shape), out[1].reshape(c.shape)


@kernel
def _cubic(p, at, x, y, z):
    """A polynomial of twenty terms, and its slopes in x, y and z."""
    value = (p[at] + p[at + 1] * x + p[at + 2] * y + p[at + 3] * z + p[at + 4] * x * y + p[at + 5] * x * z
             + p[at + 6] * y * z + p[at + 7] * x * x + p[at + 8] * y * y + p[at + 9] * z * z + p[at + 10] * x * y * z
             + p[at + 11] * x * x * x + p[at + 12] * x * y * y + p[at + 13] * x * z * z + p[at + 14] * x * x * y
             + p[at + 15] * y * y * y + p[at + 16] * y * z * z + p[at + 17] * x * x * z + p[at + 18] * y * y * z
             + p[at + 19] * z * z * z)  # fmt: skip
    in_x = (p[at + 1] + p[at + 4] * y + p[at + 5] * z + 2 * p[at + 7] * x + p[at + 10] * y * z + 3 * p[at + 11] * x * x
            + p[at + 12] * y * y + p[at + 13] * z * z + 2 * p[at + 14] * x * y + 2 * p[at + 17] * x * z)  # fmt: skip
    in_y = (p[at + 2] + p[at + 4] * x + p[at + 6] * z + 2 * p[at + 8] * y + p[at + 10] * x * z + 2 * p[at + 12] * x * y
            + p[at + 14] * x * x + 3 * p[at + 15] * y * y + p[at + 16] * z * z + 2 * p[at + 18] * y * z)  # fmt: skip
    in_z = (p[at + 3] + p[at + 5] * x + p[at + 6] * y + 2 * p[at + 9] * z + p[at + 10] * x * y + 2 * p[at + 13] * x * z
            + 2 * p[at + 16] * y * z + p[at + 17] * x * x + p[at + 18] * y * y + 3 * p[at + 19] * z * z)  # fmt: skip
    return value, in_x, in_y, in_z


@kernel
def seen(p, lon, lat, height):
    """Column and row of a place, and their slopes per degree of longitude, of latitude, and per metre of height."""
    x, y, z = (lon - p[3]) / p[8], (lat - p[2]) / p[7], (height - p[4]) / p[9]
    rn, rn_x, rn_y, rn_z = _cubic(p, 10, x, y, z)
    rd, rd_x, rd_y, rd_z = _cubic(p, 30, x, y, z)
    cn, cn_x, cn_y, cn_z = _cubic(p, 50, x, y, z)
    cd, cd_x, cd_y, cd_z = _cubic(p, 70, x, y, z)
    if rd == 0 or cd == 0:
        return np.nan, np.nan, np.nan, np.nan, np.nan, np.nan, np.nan, np.nan
    r, c = rn / rd, cn / cd
    r_x, r_y, r_z = (rn_x - r * rd_x) / rd, (rn_y - r * rd_y) / rd, (rn_z - r * rd_z) / rd
    c_x, c_y, c_z = (cn_x - c * cd_x) / cd, (cn_y - c * cd_y) / cd, (cn_z - c * cd_z) / cd
    col = c * p[6] + p[1] + p[90] + p[91] * c + p[92] * r
    row = r * p[5] + p[0] + p[93] + p[94] * c + p[95] * r
    cc, cr, rc, rr = p[6] + p[91], p[92], p[94], p[5] + p[95]
    return (col, row, (cc * c_x + cr * r_x) / p[8], (cc * c_y + cr * r_y) / p[7], (cc * c_z + cr * r_z) / p[9],
            (rc * c_x + rr * r_x) / p[8], (rc * c_y + rr * r_y) / p[7], (rc * c_z + rr * r_z) / p[9])  # fmt: skip


@kernel
def _value(p, at, x, y, z):
    """A polynomial of twenty terms."""
    flat = p[at] + x * (
        p[at + 1] + x * (p[at + 7] + x * p[at + 11] + y * p[at + 14]) + y * (p[at + 4] + y * p[at + 12])
    )
    flat += y * (p[at + 2] + y * (p[at + 8] + y * p[at + 15]))
    first = p[at + 3] + x * (p[at + 5] + x * p[at + 17] + y * p[at + 10]) + y * (p[at + 6] + y * p[at + 18])
    return flat + z * (first + z * (p[at + 9] + x * p[at + 13] + y * p[at + 16] + z * p[at + 19]))


@kernel
def position(p, lon, lat, height):
    """Column and row of a place; NaN where a denominator vanishes."""
    x, y, z = (lon - p[3]) / p[8], (lat - p[2]) / p[7], (height - p[4]) / p[9]
    below, beside = _value(p, 30, x, y, z), _value(p, 70, x, y, z)
    if below == 0 or beside == 0:
        return np.nan, np.nan
    r, c = _value(p, 10, x, y, z) / below, _value(p, 50, x, y, z) / beside
    return c * p[6] + p[1] + p[90] + p[91] * c + p[92] * r, r * p[5] + p[0] + p[93] + p[94] * c + p[95] * r


@kernel
def _see(p, lon, lat, height, out):
    for i in range(lon.size):
        out[0, i], out[1, i] = position(p, lon[i], lat[i], height[i])


@kernel
def reached(p, col, row, height):
    """Longitude and latitude at which a cell sees the ground of a height, by Newton's method; NaN where it sees
    none."""
    lon, lat = p[3], p[2]
    for _ in range(_STEPS):
        c, r, c_x, c_y, _c, r_x, r_y, _r = seen(p, lon, lat, height)
        away = c_x * r_y - c_y * r_x
        if away == 0 or c != c:
            return np.nan, np.nan
        lon += (r_y * (col - c) - c_y * (row - r)) / away
        lat += (c_x * (row - r) - r_x * (col - c)) / away
        if abs(col - c) + abs(row - r) < 1e-6:
            return lon, lat
    return np.nan, np.nan


@kernel
def _reach(p, col, row, height, out):
    for i in range(col.size):
        out[0, i], out[1, i] = reached(p, col[i], row[i], height[i])


@kernel
def meet(left, right, lc, lr, rc, rr, lon, lat, height):
    """The place that both images see best at their cells, by least squares from a first guess.

    Returns longitude, latitude, height, how far both rays miss each other in cells (root of the sum of squares), and
    the height's variance in square metres for cells measured to one cell. NaN where it does not come to rest.
    """
    miss = np.nan
    for _ in range(_STEPS):
        a, b, a_x, a_y, a_z, b_x, b_y, b_z = seen(left, lon, lat, height)
        c, d, c_x, c_y, c_z, d_x, d_y, d_z = seen(right, lon, lat, height)
        v0, v1, v2, v3 = lc - a, lr - b, rc - c, rr - d
        miss = np.sqrt(v0 * v0 + v1 * v1 + v2 * v2 + v3 * v3)
        xx = a_x * a_x + b_x * b_x + c_x * c_x + d_x * d_x
        xy = a_x * a_y + b_x * b_y + c_x * c_y + d_x * d_y
        xz = a_x * a_z + b_x * b_z + c_x * c_z + d_x * d_z
        yy = a_y * a_y + b_y * b_y + c_y * c_y + d_y * d_y
        yz = a_y * a_z + b_y * b_z + c_y * c_z + d_y * d_z
        zz = a_z * a_z + b_z * b_z + c_z * c_z + d_z * d_z
        gx = a_x * v0 + b_x * v1 + c_x * v2 + d_x * v3
        gy = a_y * v0 + b_y * v1 + c_y * v2 + d_y * v3
        gz = a_z * v0 + b_z * v1 + c_z * v2 + d_z * v3
        # degrees are eliminated first: they are well known, what is left is the height
        flat = xx * yy - xy * xy
        if not flat > 0:
            return np.nan, np.nan, np.nan, np.nan, np.nan
        sx, sy = (yy * xz - xy * yz) / flat, (xx * yz - xy * xz) / flat
        left_over = zz - sx * xz - sy * yz
        if not left_over > 0:
            return np.nan, np.nan, np.nan, np.nan, np.nan
        up = (gz - sx * gx - sy * gy) / left_over
        gx, gy = gx - xz * up, gy - yz * up
        east, north = (yy * gx - xy * gy) / flat, (xx * gy - xy * gx) / flat
        lon += east
        lat += north
        height += up
        if abs(up) < 1e-4 and abs(east) + abs(north) < 1e-9:
            return lon, lat, height, miss, 1 / left_over
    return np.nan, np.nan, np.nan, np.nan, np.nan


@kernel
def _meet_all(left, right, cells, first, out):
    for i in range(cells.shape[0]):
        found = meet(left, right, cells[i, 0], cells[i, 1], cells[i, 2], cells[i, 3], first[0], first[1], first[2])
        for k in range(5):
            out[i, k] = found[k]


@dataclass(frozen=True)
class Met:
    """Places where rays of two images meet, `(n,)` each: longitude, latitude, height above the ellipsoid; miss: how
    far the rays pass each other, in cells; variance: of the height, in square metres for a cell of uncertainty in
    each measured column and row. All NaN where two rays do not meet."""

    lon: FloatArray
    lat: FloatArray
    height: FloatArray
    miss: FloatArray
    variance: FloatArray


def intersection(left: Sensor, right: Sensor, cells: FloatArray) -> Met:
    """Where the rays of matched cells meet.

    Parameters
    ----------
    left, right : Sensor
    cells : ndarray, shape (n, 4)
        Column and row in the left image, column and row in the right one.
    """
    m = left.model
    out = np.empty((len(cells), 5))
    first = np.array([m.longitude_offset, m.latitude_offset, m.height_offset])
    _meet_all(left.packed(), right.packed(), np.ascontiguousarray(cells, np.float64), first, out)
    return Met(*out.T.copy())
