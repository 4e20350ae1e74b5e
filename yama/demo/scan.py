"""The old map sheet once more, scanned: a picture in colours, laid on the glass a little askew."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt
import rasterio
from affine import Affine
from scipy import ndimage

from yama.demo.sheet import INTERVAL, old_ground
from yama.demo.terrain import COVERS, FRAME, Island

NAME = "old_sheet_scan.tif"
TURN = 0.7
"""Degrees by which the sheet lies askew."""

ROWS, COLS, CELL = 1500, 1250, 4.0
_CORNER = (446_500.0, 5_440_400.0)
_TINTS = {"sea": (176, 206, 220), "grass": (238, 232, 208), "wood": (190, 209, 160), "rock": (214, 205, 192),
          "town": (216, 160, 140), "water": (160, 198, 216), "flats": (222, 214, 178)}  # fmt: skip
_CONTOUR, _RIVER = (158, 104, 62), (60, 116, 160)

Array = npt.NDArray[np.float64]


def transform() -> Affine:
    """From columns and rows of the scan's corners to x and y."""
    return Affine.translation(*_CORNER) * Affine.rotation(TURN) * Affine.scale(CELL, -CELL)


def make(truth: Island, folder: Path, seed: int) -> Path:
    """Write the scan, a GeoTIFF of three bands; returns its path."""
    row, col = np.mgrid[:ROWS, :COLS] + 0.5
    x, y = transform() @ (col, row)
    r, c = FRAME.row_of(y), FRAME.col_of(x)
    ground = old_ground(truth)
    step = FRAME.rows / len(ground)
    heights = ndimage.map_coordinates(ground, [r / step, c / step], output=np.float64, order=1, mode="nearest")
    cover = truth.cover[
        np.clip(np.rint(r), 0, FRAME.rows - 1).astype(int), np.clip(np.rint(c), 0, FRAME.cols - 1).astype(int)
    ]
    quarry = truth.places["Dunnock Quarry"]
    cover[np.hypot(x - quarry[0], y - quarry[1]) < 215] = COVERS.index("grass")  # nobody had dug there yet
    paint = np.array([_TINTS[name] for name in COVERS], np.float64)[cover]
    down, across = np.gradient(heights, CELL)
    steep = np.hypot(across, down)
    # ink is drawn where a contour is less than a line's width away; every fifth line is broader
    for every, width in ((INTERVAL, 0.55), (5 * INTERVAL, 0.95)):
        off = np.abs((heights + every / 2) % every - every / 2) / np.maximum(steep * CELL, 0.02)
        ink = np.clip(1.3 * width - off, 0, 1) * (heights > 1)
        paint += ink[..., None] * (np.array(_CONTOUR) - paint)
    river = np.full(ground.shape, True)
    places = np.column_stack([FRAME.row_of(truth.river[:, 1]), FRAME.col_of(truth.river[:, 0])]) / step
    for start, end in zip(places[:-1], places[1:], strict=True):
        count = int(np.ceil(np.abs(end - start).max() * 2)) + 1
        rows, cols = np.rint(np.linspace(start, end, count)).astype(int).T
        river[np.clip(rows, 0, len(ground) - 1), np.clip(cols, 0, ground.shape[1] - 1)] = False
    away = ndimage.map_coordinates(
        ndimage.distance_transform_edt(river), [r / step, c / step], output=np.float64, order=1
    )
    ink = np.clip(1.6 - away, 0, 1)
    paint += ink[..., None] * (np.array(_RIVER) - paint)
    rng = np.random.default_rng(seed)
    stains = ndimage.zoom(rng.standard_normal((ROWS // 100 + 2, COLS // 100 + 2)), 100, order=3)[:ROWS, :COLS]
    paint += 3.0 * stains[..., None] + rng.normal(0, 2.2, (ROWS, COLS, 1))  # old paper, and the scanner's noise
    rim = np.minimum.reduce([row, ROWS - row, col, COLS - col])
    paint[(rim > 24) & (rim < 27)] = (40, 40, 40)
    paint[rim <= 24] = (246, 243, 234)
    path = folder / NAME
    profile = {"driver": "GTiff", "dtype": "uint8", "count": 3, "height": ROWS, "width": COLS, "crs": FRAME.crs,
               "transform": transform(), "tiled": True, "compress": "deflate", "predictor": 2, "photometric": "RGB"}  # fmt: skip
    with rasterio.open(path, "w", **profile) as dataset:
        dataset.write(np.moveaxis(np.clip(np.rint(paint), 0, 255).astype(np.uint8), -1, 0))
    return path
