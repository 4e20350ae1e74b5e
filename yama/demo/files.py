"""The demo's files, with all that is deliberately wrong with them.

`make(folder)` writes survey points, checkpoints, lidar, an old sheet's contours and its scan, an image pair, a geoid and what the depots offer; the
same cells and coordinates every time. What is wrong is listed in each module's FAULTS, so that tests can look for it.
"""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import numpy.typing as npt
import rasterio
from pyproj import Transformer
from rasterio.transform import from_origin
from scipy import ndimage

from yama.demo import lidar, pair, products, scan, sheet, waymark
from yama.demo.terrain import COVERS, FRAME, SEED, Island, island
from yama.terrain.frame import Frame
from yama.terrain.surface import sample

VERTICAL_DATUM = "Sundrel mean sea level"

FAULTS = {
    "duplicates": 23,  # places surveyed twice with different heights
    "swapped": 1,  # east and north exchanged
    "blunders": 3,  # heights wrong by tens of metres
    "voids": 6,  # in Beacon 30
    "half_cell": 0.5,  # by which Beacon 30 is shifted east
}

_ARC_SECOND = 1 / 3600


def frame() -> Frame:
    """The demo project's frame."""
    return Frame(FRAME, "m", VERTICAL_DATUM)


def _truth_at(truth: Island, x: npt.ArrayLike, y: npt.ArrayLike) -> npt.NDArray[np.float64]:
    return sample(truth.surface, x, y)


def _cover_at(truth: Island, x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> npt.NDArray[np.uint8]:
    rows = np.clip(FRAME.row_of(y).round().astype(int), 0, FRAME.rows - 1)
    cols = np.clip(FRAME.col_of(x).round().astype(int), 0, FRAME.cols - 1)
    found: npt.NDArray[np.uint8] = truth.cover[rows, cols]
    return found


def _near_river(truth: Island, rng: np.random.Generator, count: int, spread: float) -> npt.NDArray[np.float64]:
    """Random land positions within about `spread` metres of the Avel."""
    found = np.empty((0, 2))
    low, high = truth.river.min(0) - spread, truth.river.max(0) + spread
    while len(found) < count:
        trial = rng.uniform(low, high, (count * 6, 2))
        distance = np.sqrt(((trial[:, None, :] - truth.river[None, ::8, :]) ** 2).sum(2)).min(1)
        cover = _cover_at(truth, trial[:, 0], trial[:, 1])
        good = (distance < spread) & (cover != COVERS.index("sea")) & (cover != COVERS.index("water"))
        found = np.vstack([found, trial[good]])
    return found[:count]


def _survey(truth: Island, rng: np.random.Generator) -> list[tuple[float, float, float, str]]:
    ground = _near_river(truth, rng, 4080, 900.0)
    side = np.diff(truth.river, axis=0)
    side = np.column_stack([-side[:, 1], side[:, 0]]) / np.maximum(np.hypot(*side.T), 1e-6)[:, None]
    banks = np.vstack([truth.river[:-1] + side * 7, truth.river[:-1] - side * 7])[::2]
    spots = _near_river(truth, rng, 190, 1100.0)
    water = truth.river[10::14][:36]
    rows: list[tuple[float, float, float, str]] = []
    for places, code in ((ground, "ground"), (banks, "breakline"), (spots, "spot"), (water, "water")):
        heights = _truth_at(truth, places[:, 0], places[:, 1]) + rng.normal(0, 0.02, len(places))
        rows += [(x, y, z, code) for (x, y), z in zip(places, heights, strict=True) if np.isfinite(z)]
    for i in rng.choice(4080, int(FAULTS["duplicates"]), replace=False):
        x, y, z, code = rows[int(i)]
        rows.append((x, y, z + rng.uniform(0.3, 1.86), code))
    for i in rng.choice(4080, int(FAULTS["blunders"]), replace=False):
        x, y, z, code = rows[int(i)]
        rows[int(i)] = (x, y, z + float(rng.choice([-20.0, 30.0, 50.0])), code)
    x, y, z, code = rows[77]
    rows[77] = (y, x, z, code)
    return rows


def _checkpoints(truth: Island, rng: np.random.Generator) -> list[tuple[float, float, float, str]]:
    near = _near_river(truth, rng, 140, 750.0)
    bounds = FRAME.bounds
    wide = rng.uniform((bounds.west, bounds.south), (bounds.east, bounds.north), (600, 2))
    cover = _cover_at(truth, wide[:, 0], wide[:, 1])
    wide = wide[(cover != COVERS.index("sea")) & (cover != COVERS.index("water"))][:60]
    places = np.vstack([near, wide])
    heights = _truth_at(truth, places[:, 0], places[:, 1]) + rng.normal(0, 0.02, len(places))
    names = [COVERS[code] for code in _cover_at(truth, places[:, 0], places[:, 1])]
    return [(x, y, z, name) for (x, y), z, name in zip(places, heights, names, strict=True)]


def canopy_of(truth: Island) -> npt.NDArray[np.float32]:
    """Heights of trees and buildings above the ground, in the truth's cells."""
    rng = np.random.default_rng(SEED + 3)
    top = np.zeros(truth.heights.shape, np.float32)
    wood = truth.cover == COVERS.index("wood")
    small = rng.uniform(6, 17, (FRAME.rows // 4, FRAME.cols // 4)).astype(np.float32)
    trees = np.kron(ndimage.uniform_filter(small, 3), np.ones((4, 4), np.float32))
    top[wood] = trees[wood]
    houses = np.kron(
        (rng.random((FRAME.rows // 8, FRAME.cols // 8)) < 0.3).astype(np.float32) * 7, np.ones((8, 8), np.float32)
    )
    town = truth.cover == COVERS.index("town")
    top[town] = houses[town]
    deck = truth.viaduct
    rows, cols = np.ogrid[: FRAME.rows, : FRAME.cols]
    along, aside = deck.along_and_aside(FRAME.x_of(cols), FRAME.y_of(rows))
    top[(np.abs(aside) < 14) & (along > -60) & (along < deck.length + 60)] = 0  # the road is kept clear
    return top


def _beacon(truth: Island, canopy: npt.NDArray[np.float32], path: Path, rng: np.random.Generator) -> None:
    """Beacon 30: whole metres on one-arc-second cells, a first surface with noise, voids and a half-cell shift."""
    to_degrees = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True)
    west, south, east, north = to_degrees.transform_bounds(*FRAME.bounds)
    west, south = np.floor(west / _ARC_SECOND) * _ARC_SECOND, np.floor(south / _ARC_SECOND) * _ARC_SECOND
    cols, rows = int(np.ceil((east - west) / _ARC_SECOND)), int(np.ceil((north - south) / _ARC_SECOND))
    north = south + rows * _ARC_SECOND
    top = np.where(truth.heights > 0, truth.heights + canopy, 0).astype(np.float32)
    blurred = ndimage.uniform_filter(top, 14)
    # the heights belong half a cell west of where the file says they are
    longitude = west + (np.arange(cols) + 0.5 - FAULTS["half_cell"]) * _ARC_SECOND
    latitude = north - (np.arange(rows) + 0.5) * _ARC_SECOND
    lon, lat = np.meshgrid(longitude, latitude)
    x, y = Transformer.from_crs("EPSG:4326", FRAME.crs, always_xy=True).transform(lon, lat)
    heights = ndimage.map_coordinates(blurred, [FRAME.row_of(y), FRAME.col_of(x)], order=1, mode="constant", cval=0)
    land = heights > 0.5
    noise = ndimage.gaussian_filter(rng.standard_normal(heights.shape), 1.1)
    heights = np.where(land, heights + noise / noise.std() * 2.4, 0)
    cells = np.round(heights).astype(np.int16)
    labels = np.flatnonzero(land.ravel())
    r, c = np.indices(cells.shape)
    for spot in rng.choice(labels, int(FAULTS["voids"]), replace=False):
        row, col = divmod(int(spot), cols)
        size = rng.uniform(3, 7)
        cells[np.hypot(r - row, (c - col) * rng.uniform(0.7, 1.3)) < size] = -32768
    with rasterio.open(
        path, "w", driver="GTiff", dtype="int16", count=1, width=cols, height=rows, nodata=-32768, crs="EPSG:4326",
        transform=from_origin(west, north, _ARC_SECOND, _ARC_SECOND), compress="deflate", tiled=True,
        blockxsize=256, blockysize=256,
    ) as dataset:  # fmt: skip
        dataset.write(cells, 1)


def _table(path: Path, rows: list[tuple[float, float, float, str]], last: str, decimal_comma: bool) -> None:
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, delimiter=";" if decimal_comma else ",")
        writer.writerow(["id", "x_m", "y_m", "z_m", last])
        for number, (x, y, z, code) in enumerate(rows, start=1):
            numbers = [f"{value:.3f}" for value in (x, y, z)]
            if decimal_comma:
                numbers = [value.replace(".", ",") for value in numbers]
            writer.writerow([number, *numbers, code])


def make(folder: Path, *, images: bool = True) -> dict[str, Path]:
    """Write all files into `folder`, the depots' into `folder/depot`; returns paths by short name. images: with the image
    pair, which takes the longest."""
    folder.mkdir(parents=True, exist_ok=True)
    truth = island()
    canopy = canopy_of(truth)
    paths = {
        "survey": folder / "survey_points_2026.csv",
        "checkpoints": folder / "checkpoints_2026.csv",
        "beacon": folder / "beacon_30.tif",
        "geoid": products.geoid(folder),
    }
    _table(paths["survey"], _survey(truth, np.random.default_rng(SEED + 1)), "code", decimal_comma=False)
    _table(paths["checkpoints"], _checkpoints(truth, np.random.default_rng(SEED + 2)), "cover", decimal_comma=True)
    _beacon(truth, canopy, paths["beacon"], np.random.default_rng(SEED + 4))
    paths["contours"], paths["sheet"] = sheet.make(truth, folder, SEED + 5)
    paths["scan"] = scan.make(truth, folder, SEED + 6)
    for number, tile in enumerate(lidar.make(truth, canopy, folder, SEED + 10)):
        paths[f"lidar_{number}"] = tile
    if images:
        paths["left"], paths["right"] = pair.make(truth, canopy, folder, SEED + 40)
    depot = folder / "depot"
    products.make(truth, canopy, depot, SEED + 20)
    waymark.make(truth, depot, SEED + 30)
    for name in waymark.COLLECTIONS:
        paths[name] = depot / f"waymark_{name}.geojson"
    return paths
