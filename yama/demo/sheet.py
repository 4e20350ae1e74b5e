"""The old map sheet: contours every 10 m from before the quarry, with spot heights and streams beside them."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path
from typing import Any

import contourpy
import numpy as np
import numpy.typing as npt
import shapely
from pyproj import Transformer
from scipy import ndimage

from yama.demo.terrain import COVERS, FRAME, Island, streams
from yama.terrain.features import Features
from yama.terrain.formats import vector

INTERVAL = 10.0
FAULTS = {"broken": 24, "mislabelled": 1}
"""Contours with a gap, and contours with the height of a line two intervals further up."""

_STEP = 4  # the sheet was drawn from cells this many times coarser than the truth

Array = npt.NDArray[np.float64]


def old_ground(truth: Island) -> npt.NDArray[np.float32]:
    """The ground before the quarry was dug, as smooth as an old sheet drew it."""
    heights = truth.heights[::_STEP, ::_STEP].copy()
    qx, qy = truth.places["Dunnock Quarry"]
    rows, cols = np.ogrid[: heights.shape[0], : heights.shape[1]]
    x, y = FRAME.x_of(cols * _STEP), FRAME.y_of(rows * _STEP)
    pit = np.hypot(x - qx, y - qy) < 205
    known = np.where(pit, 0, heights)
    weight = ndimage.gaussian_filter((~pit).astype(np.float32), 24)
    filled = ndimage.gaussian_filter(known, 24) / np.maximum(weight, 1e-6)
    heights[pit] = filled[pit]
    smooth: npt.NDArray[np.float32] = ndimage.gaussian_filter(heights, 1.6)
    return smooth


def make(truth: Island, folder: Path, seed: int) -> tuple[Path, Path]:
    """Write `old_sheet_contours.zip`, a shapefile in degrees, and `old_sheet_spots_streams.gpkg`; returns both."""
    rng = np.random.default_rng(seed)
    ground = old_ground(truth)
    generator: Any = contourpy.contour_generator(z=ground)
    lines: list[Array] = []
    levels: list[float] = []
    for level in np.arange(INTERVAL, ground.max(), INTERVAL):
        for line in generator.lines(float(level)):
            places = np.column_stack([FRAME.x_of(line[:, 0] * _STEP), FRAME.y_of(line[:, 1] * _STEP)])
            if len(places) >= 12:
                lines.append(shapely.get_coordinates(shapely.LineString(places).simplify(1.5)))
                levels.append(float(level))
    long = [i for i, line in enumerate(lines) if len(line) > 60]
    chosen = rng.choice(long, FAULTS["broken"] + FAULTS["mislabelled"], replace=False)
    for i in chosen[: FAULTS["broken"]]:
        line, cut = lines[i], int(len(lines[i]) * rng.uniform(0.3, 0.7))
        lines[i] = line[:cut]
        lines.append(line[cut + 6 :])
        levels.append(levels[i])
    for i in chosen[FAULTS["broken"] :]:
        levels[i] += 2 * INTERVAL
    features = Features(FRAME.crs, np.array([shapely.LineString(line) for line in lines], dtype=object), {
        "elev": [float(level) for level in levels], "sheet": ["41-62"] * len(lines),
    }).in_crs("EPSG:4326")  # fmt: skip
    contours = folder / "old_sheet_contours.zip"
    with tempfile.TemporaryDirectory() as held:
        vector.write(features, Path(held) / "contours.shp", "contours")
        with zipfile.ZipFile(contours, "w", zipfile.ZIP_DEFLATED) as pack:
            for part in sorted(Path(held).iterdir()):
                pack.writestr(
                    zipfile.ZipInfo(part.name, (1984, 5, 2, 0, 0, 0)), part.read_bytes(), zipfile.ZIP_DEFLATED
                )
    return contours, _spots_and_streams(truth, ground, folder, rng)


def _spots_and_streams(truth: Island, ground: npt.NDArray[np.float32], folder: Path, rng: np.random.Generator) -> Path:
    highest = ndimage.maximum_filter(ground, 45)
    peaks = np.argwhere((ground == highest) & (ground > 30))
    rows, cols = peaks[:, 0], peaks[:, 1]
    turn = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True)
    lon, lat = turn.transform(FRAME.x_of(cols * _STEP), FRAME.y_of(rows * _STEP))
    heights = np.round(ground[rows, cols] + rng.normal(0, 0.5, len(rows)), 1)
    spots = Features("EPSG:4326", shapely.points(lon, lat), {"height": [float(h) for h in heights]})
    lake = truth.cover == COVERS.index("water")
    found = []
    for line in streams(truth, 240):
        rows, cols = FRAME.row_of(line[:, 1]).astype(int), FRAME.col_of(line[:, 0]).astype(int)
        dry = line[~lake[np.clip(rows, 0, FRAME.rows - 1), np.clip(cols, 0, FRAME.cols - 1)]]
        if len(dry) > 5 and np.hypot(*np.diff(dry, axis=0).T).max() < 100:  # what flows through the lake is not drawn
            found.append(shapely.LineString(dry).simplify(4))
    lines = Features(FRAME.crs, np.array(found, dtype=object), {"kind": ["stream"] * len(found)}).in_crs("EPSG:4326")
    path = folder / "old_sheet_spots_streams.gpkg"
    path.unlink(missing_ok=True)
    vector.write(lines, path, "streams")
    vector.write(spots, path, "spots", append=True)
    return path
