"""Small image pairs of ground that is known everywhere."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
from scipy import ndimage

from yama.terrain.formats import image
from yama.terrain.grid import FloatArray, Grid, turn_between
from yama.terrain.images import Image
from yama.terrain.rational import RationalModel
from yama.terrain.stereo.rays import Sensor

LON, LAT = turn_between("EPSG:32741", "EPSG:4326").transform(448_090.0, 5_438_100.0)
METRES = 111_195.0
ACROSS = METRES * np.cos(np.deg2rad(LAT))
"""Metres in a degree of longitude."""

Ground = Callable[[FloatArray, FloatArray], FloatArray]


def model(
    rows: int, cols: int, lean: float, aside: float = 0.0, curve: float = 0.0, height: float = 100.0
) -> RationalModel:
    """A camera above the place, whose cells are a metre wide: rays lean by `lean` metres to the south and `aside` to
    the east for each metre of height. curve: by how much it is no plain camera."""
    half_rows, half_cols, up = rows / 2, cols / 2, 400.0

    def polynomial(**terms: float) -> tuple[float, ...]:
        names = ["one", "x", "y", "z", "xy", "xz", "yz", "xx", "yy", "zz"]
        return tuple(terms.get(name, 0.0) for name in names) + (0.0,) * 10

    return RationalModel(
        half_rows - 0.5, half_cols - 0.5, LAT, LON, height, half_rows, half_cols, half_rows / METRES, half_cols / ACROSS, up,
        polynomial(y=-1.0, z=lean * up / half_rows, xx=curve, yz=curve / 2), polynomial(one=1.0, x=curve / 3),
        polynomial(x=1.0, z=-aside * up / half_cols, yy=curve / 2), polynomial(one=1.0, y=curve / 4),
    )  # fmt: skip


@cache
def texture(seed: int = 1) -> Ground:
    """Grey values of places, in metres east and north of the middle, with detail from two metres up."""
    rng = np.random.default_rng(seed)
    lattices = [
        (size, ndimage.spline_filter(rng.standard_normal((256, 256)), mode="grid-wrap"))
        for size in (2.2, 5.0, 13.0, 37.0)
    ]

    def grey(x: FloatArray, y: FloatArray) -> FloatArray:
        total = np.zeros(np.shape(x))
        for size, values in lattices:
            total += ndimage.map_coordinates(
                values, [y / size + 128, x / size + 128], order=3, mode="grid-wrap", prefilter=False
            )
        return 900 + 150 * total

    return grey


def seen(sensor: Sensor, rows: int, cols: int, ground: Ground, grey: Ground) -> FloatArray:
    """What a camera sees of ground without overhangs: the grey value where each ray meets it."""
    col, row = np.meshgrid(np.arange(cols, dtype=float), np.arange(rows, dtype=float))
    height = np.full(col.shape, 100.0)
    for _ in range(12):
        lon, lat = sensor.ground_of(col, row, height)
        x, y = (lon - LON) * ACROSS, (lat - LAT) * METRES
        height = ground(x, y)
    return grey(x, y)


def grid(side: float = 200.0, cell: float = 2.0) -> Grid:
    """A grid of degrees over the middle of the pair, with cells of about so many metres."""
    half = int(side / 2 / cell)
    x, y = turn_between("EPSG:4326", "EPSG:32741").transform(LON, LAT)
    return Grid("EPSG:32741", round(x) - half * cell, round(y) + half * cell, cell, cell, 2 * half, 2 * half)


def local(grid: Grid) -> tuple[FloatArray, FloatArray]:
    """Metres east and north of the middle of each cell's centre."""
    x, y = np.meshgrid(*grid.centres(grid.whole))
    lon, lat = turn_between(grid.crs, "EPSG:4326").transform(x, y)
    return (lon - LON) * ACROSS, (lat - LAT) * METRES


def hills(x: FloatArray, y: FloatArray) -> FloatArray:
    """Rolling ground between about 70 and 130 m."""
    return 100 + 18 * np.sin(x / 47) + 12 * np.cos(y / 39) + 0.03 * x


def pair(
    folder: Path, ground: Ground = hills, rows: int = 360, cols: int = 320, bias: tuple[float, float] = (0.0, 0.0),
    noise: float = 4.0, seed: int = 1, lean: float = 0.22, covered: Callable[[FloatArray], FloatArray] | None = None,
) -> tuple[Image, Image]:  # fmt: skip
    """Both images as files, the models of the right one off by a bias of columns and rows."""
    made = []
    rng = np.random.default_rng(seed)
    for number, tilt in enumerate((lean, -lean)):
        true = model(rows, cols, tilt, aside=0.03)
        cells = seen(Sensor(true), rows, cols, ground, texture())
        cells = (1.0, 0.85)[number] * cells + (0, 60)[number] + rng.normal(0, noise, cells.shape)
        if covered is not None:
            cells = covered(cells)
        told = true
        if number:
            told = RationalModel(
                **{**vars(true), "col_offset": true.col_offset + bias[0], "row_offset": true.row_offset + bias[1]}
            )
        path = folder / f"{'left' if number == 0 else 'right'}.tif"
        image.write(np.clip(np.rint(cells), 1, 4095).astype(np.uint16), told, path)
        made.append(image.read(path))
    return made[0], made[1]
