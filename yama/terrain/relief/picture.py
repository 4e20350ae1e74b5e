"""A small shaded picture of a whole surface, for lists and reports."""

from __future__ import annotations

import io
import math

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Bounds, Grid, Window, parse_crs
from yama.terrain.later import later
from yama.terrain.ramps import RAMPS
from yama.terrain.relief.dress import Dress
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS, in_unit

rasterio = later("rasterio")

_LOOKED_AT = 128
"""Cells along a side in which a picture's area is found."""
_GROUND = np.array([0xE6, 0xE2, 0xD6], np.float32)
_HATCH = np.array([0xC9, 0xC4, 0xB6], np.float32)


def picture(surface: Surface, frame: Grid, dress: Dress, size: int = 228) -> bytes:
    """A PNG of `size` x `size` pixels: the frame's area as it is dressed, hatch where empty. Of a surface that is small in the
    frame only its own area is shown, a little wider."""
    area = _shown(surface, frame)
    cell = max(area.east - area.west, area.north - area.south) / size
    middle_x, middle_y = (area.west + area.east) / 2, (area.south + area.north) / 2
    grid = Grid(frame.crs, middle_x - cell * size / 2, middle_y + cell * size / 2, cell, cell, size, size)
    return view_picture(surface, grid, dress)


def view_picture(surface: Surface, grid: Grid, dress: Dress, clear: bool = False) -> bytes:
    """A PNG of a pixel for each cell of any grid. clear: empty cells let through what lies below, instead of a hatch."""
    return png_of(view_pixels(surface, grid, dress, clear))


def view_pixels(surface: Surface, grid: Grid, dress: Dress, clear: bool = False) -> npt.NDArray[np.uint8]:
    """The pixels of `view_picture`: `(grid.rows, grid.cols, 3)`, or 4 with opacity where clear."""
    surface = in_unit(surface, dress.unit)
    classes = dress.stops == RAMPS["Patchwork"]
    halo = dress.halo
    around = grid.part(grid.whole.grown(halo))  # relief at the rim needs the ground beyond it
    heights = fitted(surface, around, "nearest" if classes else "bilinear").read(around.whole)
    painted = dress.paint(heights, around, UNITS.get(surface.unit, 1.0))
    filled = ~np.isnan(heights[halo:-halo, halo:-halo])
    if clear:
        opacity = np.where(filled, np.uint8(255), np.uint8(0))
        return np.dstack([np.nan_to_num(painted).round().astype(np.uint8), opacity])
    rows, cols = np.indices(filled.shape)
    hatch = np.where(((rows + cols) % 8 == 0)[..., None], _HATCH, _GROUND)
    return np.where(filled[..., None], painted, hatch).round().astype(np.uint8)


def span_of(surface: Surface, grid: Grid, tail: float = 0.005) -> tuple[float, float] | None:
    """The values at the ends of the ramp of a picture on this grid, with a share `tail` of the cells beyond each; None where all
    of it is empty."""
    heights = fitted(surface, grid).read(grid.whole)
    filled = heights[~np.isnan(heights)]
    return (float(np.quantile(filled, tail)), float(np.quantile(filled, 1 - tail))) if filled.size else None


def _shown(surface: Surface, frame: Grid) -> Bounds:
    """The frame's bounds, or those of the filled cells where they span less than half of it."""
    whole = frame.bounds
    area = filled_area(surface, frame) or whole
    wide = max(area.east - area.west, area.north - area.south)
    if 2 * wide > max(whole.east - whole.west, whole.north - whole.south):
        return whole
    margin = 0.04 * wide
    return Bounds(area.west - margin, area.south - margin, area.east + margin, area.north + margin)


def filled_area(surface: Surface, frame: Grid) -> Bounds | None:
    """The rectangle in the frame around all cells with a value, to about a hundredth of its longer side; None where there is none."""
    area = _inside(surface, frame.bounds, frame.crs)
    for again in (True, False):  # what was a few wide cells at first has edges when it is looked at again
        cell = max(area.east - area.west, area.north - area.south) / _LOOKED_AT
        rows, cols = (max(math.ceil(length / cell), 1) for length in (area.north - area.south, area.east - area.west))
        grid = Grid(frame.crs, area.west, area.north, cell, cell, rows, cols)
        filled = ~np.isnan(fitted(surface, grid, "nearest").read(grid.whole))
        if not filled.any():
            return None
        down, across = np.flatnonzero(filled.any(1)), np.flatnonzero(filled.any(0))
        top, left = int(down[0]), int(across[0])
        box = Window(top, left, int(down[-1]) + 1 - top, int(across[-1]) + 1 - left)
        area = grid.part(box.grown(1) if again else box).bounds
    return area


def _inside(surface: Surface, whole: Bounds, crs: str) -> Bounds:
    """What a surface's grid has of an area; all of it where that cannot be told."""
    turn = Transformer.from_crs(parse_crs(surface.grid.crs), parse_crs(crs), always_xy=True)
    bounds = turn.transform_bounds(*surface.grid.bounds)
    found = whole.intersection(Bounds(*bounds)) if np.isfinite(bounds).all() else None
    return found or whole


def png_of(image: npt.NDArray[np.uint8]) -> bytes:
    """Pixels as PNG: `(rows, cols, 3)`, or 4 with opacity."""
    high, wide = image.shape[:2]
    buffer = io.BytesIO()
    with rasterio.MemoryFile() as memory:
        with memory.open(driver="PNG", width=wide, height=high, count=image.shape[2], dtype="uint8") as dataset:
            dataset.write(np.moveaxis(image, -1, 0))
        buffer.write(memory.read())
    return buffer.getvalue()
