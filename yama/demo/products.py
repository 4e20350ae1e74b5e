"""What the depots sell: tiles of four elevation products of the island, each wrong in its own way."""

from __future__ import annotations

import json
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import rasterio
from pyproj import Transformer
from rasterio.transform import from_origin
from scipy import ndimage

from yama.demo.terrain import FRAME, Island
from yama.terrain.grid import parse_crs

_SECOND = 1 / 3600

Array = npt.NDArray[np.float64]
Cells = npt.NDArray[np.float32]


@dataclass(frozen=True)
class Product:
    """One product as its provider describes it. cell, tile: in units of `crs`; le90: stated accuracy in metres.
    licence: by its SPDX identifier, or a word of the standard of catalogues."""

    name: str
    title: str
    crs: str
    cell: float
    tile: float
    dtype: str
    reference: str
    resolution: float
    le90: float
    year: int
    voids: str
    canopy: bool
    nodata: float | None
    datum: str
    max_cells: int
    licence: str


PRODUCTS = (
    Product("beacon-30", "Beacon 30", "EPSG:4326", _SECOND, 108 * _SECOND, "int16", "first surface", 30, 6.5, 2015,
            "1 %", True, -32768, "Sundrel mean sea level", 250_000, "CC-BY-4.0"),
    Product("plover-30", "Plover 30", "EPSG:4326", _SECOND, 108 * _SECOND, "float32", "bare ground", 30, 4.1, 2019,
            "filled", False, None, "Sundrel 1954", 300_000, "CC0-1.0"),
    Product("heron-90", "Heron 90", "EPSG:4326", 3 * _SECOND, 216 * _SECOND, "float32", "first surface", 90, 9.8, 2011,
            "filled", True, None, "Sundrel mean sea level", 100_000, "CC-BY-4.0"),
    Product("skerry-5", "Skerry 5", FRAME.crs, 5.0, 2000.0, "float64", "bare ground", 5, 0.9, 2024,
            "0.4 %", False, None, "Sundrel mean sea level", 300_000, "proprietary"),
)  # fmt: skip

FAULTS: dict[str, Any] = {
    "plover_offset": 1.7, "heron_shift": 40.0, "skerry_feet": "E448N5436", "skerry_void": "E448N5438",
    "skerry_missing": "E450N5434", "skerry_step": 1.3,
}  # fmt: skip
"""Metres of zero-level offset and of horizontal shift; tiles in feet, with an undeclared void and not offered; the
largest step between neighbouring tiles in metres."""


def _at(values: Cells, x: Array, y: Array) -> Array:
    found: Array = ndimage.map_coordinates(
        values, [FRAME.row_of(y), FRAME.col_of(x)], output=np.float64, order=1, mode="constant", cval=0.0
    )
    return found


def tile_name(product: Product, west: float, south: float) -> str:
    """The name of a tile, which tells its south-west corner: kilometres, or hundredths of a degree."""
    if product.crs != "EPSG:4326":
        return f"E{west / 1000:.0f}N{south / 1000:.0f}"
    lat, lon = round(abs(south) * 100), round(abs(west) * 100)
    return f"{'S' if south < 0 else 'N'}{lat:04d}{'W' if west < 0 else 'E'}{lon:05d}"


def _corners(product: Product, truth: Island) -> list[tuple[float, float]]:
    """South-west corners of the tiles that hold land."""
    bounds = FRAME.bounds
    west, south, east, north = bounds
    if product.crs == "EPSG:4326":
        turn = Transformer.from_crs(FRAME.crs, product.crs, always_xy=True)
        west, south, east, north = turn.transform_bounds(*bounds)
    size = product.tile
    return [
        (i * size, j * size)
        for j in range(int(np.floor(south / size)), int(np.ceil(north / size)))
        for i in range(int(np.floor(west / size)), int(np.ceil(east / size)))
    ]


def _cells(product: Product, values: Cells, west: float, south: float, shift: float = 0.0) -> Array:
    """Heights at the centres of a tile's cells, moved east by `shift` in units of the product's CRS."""
    count = round(product.tile / product.cell)
    x = west + (np.arange(count) + 0.5) * product.cell - shift
    y = south + product.tile - (np.arange(count) + 0.5) * product.cell
    across, down = np.meshgrid(x, y)
    if product.crs == "EPSG:4326":
        across, down = Transformer.from_crs(product.crs, FRAME.crs, always_xy=True).transform(across, down)
    return _at(values, across, down)


def _noise(shape: tuple[int, ...], smooth: float, rng: np.random.Generator) -> Array:
    field = ndimage.gaussian_filter(rng.standard_normal(shape), smooth)
    return np.asarray(field / field.std())


def _tile(product: Product, ground: dict[str, Cells], corner: tuple[float, float], rng: np.random.Generator) -> Any:
    """Cells of one tile, None where it holds no land."""
    west, south = corner
    name = tile_name(product, west, south)
    if product.name == "beacon-30":
        heights = _cells(product, ground["first"], west, south, 0.5 * product.cell)
        land = heights > 0.5
        cells = np.where(land, heights + 2.4 * _noise(heights.shape, 1.1, rng), 0)
        rows, cols = np.indices(cells.shape)
        for _ in range(int(land.mean() * 3)):
            spot = rng.choice(np.flatnonzero(land))
            cells[np.hypot(rows - spot // cells.shape[1], cols - spot % cells.shape[1]) < rng.uniform(2, 5)] = -32768
        return np.round(cells) if land.any() else None
    if product.name == "plover-30":
        heights = _cells(product, ground["smooth"], west, south)
        land = heights > 0.2
        return np.where(land, heights + FAULTS["plover_offset"], 0.0) if land.any() else None
    if product.name == "heron-90":
        heights = _cells(product, ground["coarse"], west, south, FAULTS["heron_shift"] / (111_320 * np.cos(0.7195)))
        land = heights > 0.5
        return np.where(land, heights + 1.5 * _noise(heights.shape, 0.8, rng), 0.0) if land.any() else None
    heights = _cells(product, ground["fine"], west, south)
    land = heights > 0.05
    if not land.any() or name == FAULTS["skerry_missing"]:
        return None
    step = rng.uniform(-1, 1) * FAULTS["skerry_step"] / 2
    cells = np.where(land, heights + step + 0.25 * _noise(heights.shape, 0.9, rng), 0.0)
    pits = rng.choice(np.flatnonzero(land), 6, replace=False)
    cells.ravel()[pits] -= rng.uniform(6, 18, 6)
    if name == FAULTS["skerry_void"]:
        rows, cols = np.indices(cells.shape)
        for _ in range(3):
            spot = rng.choice(np.flatnonzero(land))
            cells[np.hypot(rows - spot // cells.shape[1], cols - spot % cells.shape[1]) < rng.uniform(8, 17)] = -9999
    return cells / 0.3048 if name == FAULTS["skerry_feet"] else cells


def make(truth: Island, canopy: Cells, folder: Path, seed: int) -> Path:
    """Write `folder/<product>/<tile>.tif` and `folder/catalogue.json`, which says what there is; returns the latter."""
    land = np.maximum(truth.heights, 0)
    first = np.where(truth.heights > 0, truth.heights + canopy, 0).astype(np.float32)
    ground: dict[str, Cells] = {
        "first": ndimage.uniform_filter(first, 14),
        "smooth": ndimage.uniform_filter(ndimage.uniform_filter(land, 27), 27),
        "coarse": ndimage.uniform_filter(first, 45),
        "fine": ndimage.uniform_filter(land, 3),
    }
    offered = []
    for number, product in enumerate(PRODUCTS):
        rng = np.random.default_rng(seed + number)
        (folder / product.name).mkdir(parents=True, exist_ok=True)
        tiles = []
        for corner in _corners(product, truth):
            cells = _tile(product, ground, corner, rng)
            if cells is not None:
                tiles.append(_write(product, cells, corner, folder / product.name))
        offered.append({**vars(product), "tiles": tiles})
    path = folder / "catalogue.json"
    path.write_text(json.dumps({"products": offered}, indent=1), encoding="utf-8")
    return path


def _write(product: Product, cells: Array, corner: tuple[float, float], folder: Path) -> dict[str, Any]:
    west, south = corner
    name = tile_name(product, west, south)
    path = folder / f"{name}.tif"
    count = cells.shape[0]
    with rasterio.open(
        path, "w", driver="GTiff", dtype=product.dtype, count=1, width=count, height=count, nodata=product.nodata,
        crs=parse_crs(product.crs).to_wkt(), transform=from_origin(west, south + product.tile, product.cell, product.cell),
        compress="deflate", tiled=True, blockxsize=256, blockysize=256,
    ) as dataset:  # fmt: skip
        dataset.write(cells.astype(product.dtype), 1)
    bounds = [west, south, west + product.tile, south + product.tile]
    degrees = Transformer.from_crs(product.crs, "EPSG:4326", always_xy=True).transform_bounds(
        bounds[0], bounds[1], bounds[2], bounds[3]
    )
    return {"name": name, "bounds": bounds, "bbox": [round(value, 7) for value in degrees], "rows": count, "cols": count,
            "bytes": path.stat().st_size, "sha256": sha256(path.read_bytes()).hexdigest()}  # fmt: skip


_GEOID_WEST, _GEOID_NORTH, _GEOID_STEP = 62.30, -41.14, 1 / 60


def _geoid_cells() -> Array:
    lon = _GEOID_WEST + (np.arange(12) + 0.5) * _GEOID_STEP
    lat = _GEOID_NORTH - (np.arange(9) + 0.5) * _GEOID_STEP
    x, y = np.meshgrid(lon, lat)
    cells: Array = -18.4 + 2.1 * (x - 62.4) * 10 - 1.3 * (y + 41.2) * 10 + 0.3 * np.sin(40 * x) * np.cos(35 * y)
    return cells


def geoid_at(lon: npt.ArrayLike, lat: npt.ArrayLike) -> Array:
    """Heights of the island's mean sea level above the ellipsoid."""
    row = (_GEOID_NORTH - np.asarray(lat, np.float64)) / _GEOID_STEP - 0.5
    col = (np.asarray(lon, np.float64) - _GEOID_WEST) / _GEOID_STEP - 0.5
    found: Array = ndimage.map_coordinates(_geoid_cells(), [row, col], order=1, mode="nearest")
    return found


def geoid(folder: Path) -> Path:
    """Write the island's made-up geoid: heights of mean sea level above the ellipsoid on a coarse grid of degrees."""
    path = folder / "sundrel_geoid.tif"
    heights = _geoid_cells()
    with rasterio.open(
        path, "w", driver="GTiff", dtype="float32", count=1, width=12, height=9, crs="EPSG:4326",
        transform=from_origin(_GEOID_WEST, _GEOID_NORTH, _GEOID_STEP, _GEOID_STEP), compress="deflate",
    ) as dataset:  # fmt: skip
        dataset.write(heights.astype(np.float32), 1)
    return path
