"""Lidar of the Avel's valley: six LAZ tiles of two crossing strips, with what airborne scanners really do wrong."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import laspy
import numpy as np
import numpy.typing as npt
from pyproj import CRS
from scipy import ndimage

from yama.demo.terrain import COVERS, FRAME, Island

TILES = ((448, 5439), (448, 5438), (448, 5437), (448, 5436), (449, 5436), (449, 5435))
"""South-west corners in kilometres of the tiles, which are a kilometre wide and reach 20 m into their neighbours."""

FAULTS = {"strip_offset": 0.18, "noise": 40}
"""Metres by which one strip lies high, and points of low noise in each tile."""

_OVERLAP = 20.0
_DENSITY = 0.25
_NOISE = 0.04

Array = npt.NDArray[np.float64]


def _at(values: npt.NDArray[Any], x: Array, y: Array, order: int) -> Array:
    found: Array = ndimage.map_coordinates(
        values, [FRAME.row_of(y), FRAME.col_of(x)], output=np.float64, order=order, mode="nearest"
    )
    return found


def _tile(truth: Island, canopy: npt.NDArray[np.float32], water: npt.NDArray[np.uint8],
          corner: tuple[int, int], path: Path, seed: int) -> None:  # fmt: skip
    rng = np.random.default_rng(seed)
    west, south = corner[0] * 1000.0 - _OVERLAP, corner[1] * 1000.0 - _OVERLAP
    side = 1000.0 + 2 * _OVERLAP
    columns: dict[str, list[npt.NDArray[Any]]] = {}
    for strip in (1, 2, 3):  # two strips to the east that overlap, one across them
        from_y, to_y = {1: (0.0, 0.56), 2: (0.44, 1.0), 3: (0.0, 1.0)}[strip]
        count = int(side * side * (to_y - from_y) * _DENSITY * (0.5 if strip == 3 else 1.0))
        x = west + side * rng.random(count)
        y = south + side * (from_y + (to_y - from_y) * rng.random(count))
        cover = _at(truth.cover, x, y, 0).astype(np.uint8)
        keep = (cover != COVERS.index("sea")) & (cover != COVERS.index("water"))  # still water gives nothing back
        x, y, cover = x[keep], y[keep], cover[keep]
        ground = _at(truth.heights, x, y, 1)
        top = _at(canopy, x, y, 0)
        river = _at(water, x, y, 0) > 0
        high = top > 2
        wood = high & (cover == COVERS.index("wood"))
        house = high & (cover == COVERS.index("town"))
        through = wood & (rng.random(x.size) < 0.55)  # pulses that reach the ground below trees
        first_z = np.where(wood, ground + top * rng.uniform(0.55, 1.0, x.size), np.where(house, ground + top, ground))
        first_class = np.where(wood, 5, np.where(house, 6, np.where(river, 9, 2)))
        bush = (first_class == 2) & (rng.random(x.size) < 0.03)
        first_class[bush] = 3
        first_z[bush] += rng.uniform(0.3, 1.2, int(bush.sum()))
        unsure = (first_class == 2) & (rng.random(x.size) < 0.01)
        first_class[unsure] = 1
        intensity = 18_000 + 9_000 * rng.random(x.size) - 9_000 * wood - 12_000 * river
        angle = rng.uniform(-18, 18, x.size)
        parts = [(slice(None), first_z, first_class, np.ones(x.size), np.where(through, 2, 1))]
        parts.append((through, ground, np.full(x.size, 2), np.full(x.size, 2), np.full(x.size, 2)))
        for chosen, z, classes, number, of in parts:
            offset = FAULTS["strip_offset"] if strip == 2 else 0.0
            heights = z[chosen] + rng.normal(0, _NOISE, z[chosen].size) + offset
            for name, values in (
                ("x", x[chosen]), ("y", y[chosen]), ("z", heights), ("class", classes[chosen]),
                ("number", number[chosen]), ("of", of[chosen]), ("intensity", intensity[chosen]),
                ("angle", angle[chosen]), ("strip", np.full(heights.size, strip)),
            ):  # fmt: skip
                columns.setdefault(name, []).append(values)
    held = {name: np.concatenate(values) for name, values in columns.items()}
    low = rng.choice(held["x"].size, int(FAULTS["noise"]), replace=False)
    held["z"][low] -= rng.uniform(4, 40, low.size)
    held["class"][low] = 7
    _bridge(truth, held)
    _save(held, path)


def river_cells(truth: Island) -> npt.NDArray[np.uint8]:
    """Cells of the Avel, 1 where its water is."""
    along = np.r_[0, np.cumsum(np.hypot(*np.diff(truth.river, axis=0).T))]
    fine = np.arange(0, along[-1], 1.0)
    bed = np.zeros(truth.heights.shape, np.bool_)
    rows, cols = (np.round(v).astype(int) for v in (
        FRAME.row_of(np.interp(fine, along, truth.river[:, 1])), FRAME.col_of(np.interp(fine, along, truth.river[:, 0]))
    ))  # fmt: skip
    bed[rows, cols] = True
    wide: npt.NDArray[np.uint8] = ndimage.binary_dilation(bed, iterations=2).astype(np.uint8)
    return wide


def _bridge(truth: Island, held: dict[str, npt.NDArray[Any]]) -> None:
    """First returns over the viaduct come from its deck."""
    deck = truth.viaduct
    along, aside = deck.along_and_aside(held["x"], held["y"])
    over = (along > 0) & (along < deck.length) & (np.abs(aside) < deck.width / 2)
    on = over & (held["number"] == 1) & (held["z"] < deck.height) & (held["class"] != 7)
    held["z"][on] = deck.height
    held["class"][on] = 17


def _save(held: dict[str, npt.NDArray[Any]], path: Path) -> None:
    header = laspy.LasHeader(version="1.4", point_format=6)
    header.scales = np.array([0.01, 0.01, 0.01])
    header.offsets = np.array([FRAME.west, FRAME.bounds.south, 0.0])
    header.creation_date = None
    header.add_crs(CRS.from_user_input(FRAME.crs))
    cloud = laspy.LasData(header)
    order = np.lexsort((held["x"], np.floor(held["y"] / 20), held["strip"]))  # as flown
    cloud.x, cloud.y, cloud.z = (held[name][order] for name in ("x", "y", "z"))
    cloud.classification = held["class"][order].astype(np.uint8)
    cloud.return_number = held["number"][order].astype(np.uint8)
    cloud.number_of_returns = held["of"][order].astype(np.uint8)
    cloud.intensity = held["intensity"][order].astype(np.uint16)
    cloud.scan_angle = (held["angle"][order] / 0.006).astype(np.int16)
    cloud.point_source_id = held["strip"][order].astype(np.uint16)
    cloud.write(str(path), do_compress=True, laz_backend=laspy.LazBackend.LazrsParallel)


def make(truth: Island, canopy: npt.NDArray[np.float32], folder: Path, seed: int) -> list[Path]:
    """Write all tiles; returns their paths."""
    water = river_cells(truth)
    made = []
    for number, corner in enumerate(TILES):
        path = folder / f"avel_lidar_{corner[0]}_{corner[1]}.laz"
        _tile(truth, canopy, water, corner, path, seed + number)
        made.append(path)
    return made
