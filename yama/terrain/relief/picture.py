"""A small shaded picture of a whole surface, for lists and reports."""

from __future__ import annotations

import io
import warnings

import numpy as np
import numpy.typing as npt
import rasterio
from pyproj import Transformer
from rasterio.errors import NotGeoreferencedWarning

from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Bounds, Grid, parse_crs
from yama.terrain.operations.base import Quantity
from yama.terrain.relief.ramps import RAMP_OF, colours
from yama.terrain.relief.slope import Light, hillshade_of
from yama.terrain.surface import Surface

_GROUND = np.array([0xE6, 0xE2, 0xD6], np.float32)
_HATCH = np.array([0xC9, 0xC4, 0xB6], np.float32)


def picture(
    surface: Surface, frame: Grid, size: int = 228, ramp: str = "Foreshore", span: tuple[float, float] | None = None
) -> bytes:
    """A PNG of `size` x `size` pixels: the frame's area, relief under colour, hatch where empty. Of a surface that is
    small in the frame only its own area is shown, a little wider. span: the values at the ends of the ramp; nearly all of
    them where not given."""
    area = _shown(surface, frame)
    cell = max(area.east - area.west, area.north - area.south) / size
    middle_x, middle_y = (area.west + area.east) / 2, (area.south + area.north) / 2
    grid = Grid(frame.crs, middle_x - cell * size / 2, middle_y + cell * size / 2, cell, cell, size, size)
    return _png(_drawn(surface, grid, ramp, span))


def view_picture(surface: Surface, grid: Grid, quantity: Quantity, span: tuple[float, float] | None = None) -> bytes:
    """A PNG of a pixel for each cell of any grid, drawn as `picture` draws; the ramp is the quantity's own."""
    return _png(_drawn(surface, grid, RAMP_OF.get(quantity, "Foreshore"), span))


def span_of(surface: Surface, grid: Grid, tail: float = 0.005) -> tuple[float, float] | None:
    """The values at the ends of the ramp of a picture on this grid, with a share `tail` of the cells beyond each; None where all
    of it is empty."""
    heights = fitted(surface, grid).read(grid.whole)
    filled = heights[~np.isnan(heights)]
    return (float(np.quantile(filled, tail)), float(np.quantile(filled, 1 - tail))) if filled.size else None


def _drawn(surface: Surface, grid: Grid, ramp: str, span: tuple[float, float] | None) -> npt.NDArray[np.float32]:
    """Red, green and blue `(grid.rows, grid.cols, 3)` from 0 to 255."""
    cell = grid.cell_width
    view = fitted(surface, grid, "nearest" if ramp == "Patchwork" else "bilinear")
    heights = view.read(grid.whole.grown(1))
    inner = heights[1:-1, 1:-1]
    rows, cols = np.indices(inner.shape)
    image = np.where(((rows + cols) % 8 == 0)[..., None], _HATCH, _GROUND).astype(np.float32)
    filled = ~np.isnan(inner)
    if filled.any():
        low, high = span or np.quantile(inner[filled], [0.005, 0.995])
        shares = np.clip((inner - low) / max(high - low, 1e-6), 0, 1)
        # relief as strong in a small picture of a wide area as on the map
        light = (
            np.float32(0.7)
            if ramp == "Patchwork"
            else hillshade_of(heights, grid.part(grid.whole.grown(1)), Light(exaggeration=min(max(cell / 8, 1.0), 4.0)))
        )
        shaded = colours(ramp, shares) * np.asarray(0.45 + 0.78 * light)[..., None]
        image[filled] = np.clip(shaded[filled], 0, 255)
    return image


def _shown(surface: Surface, frame: Grid) -> Bounds:
    """The frame's bounds, or those of the surface where it covers less than a quarter of them."""
    whole = frame.bounds
    turn = Transformer.from_crs(parse_crs(surface.grid.crs), parse_crs(frame.crs), always_xy=True)
    west, south, east, north = turn.transform_bounds(*surface.grid.bounds)
    if not np.isfinite([west, south, east, north]).all():
        return whole
    inside = whole.intersection(Bounds(west, south, east, north))
    if inside is None:
        return whole
    side = max(inside.east - inside.west, inside.north - inside.south)
    if 2 * side > max(whole.east - whole.west, whole.north - whole.south):
        return whole
    margin = 0.04 * side
    return Bounds(inside.west - margin, inside.south - margin, inside.east + margin, inside.north + margin)


def _png(image: npt.NDArray[np.float32]) -> bytes:
    """An image `(rows, cols, 3)` of 0 to 255 as PNG."""
    high, wide = image.shape[:2]
    buffer = io.BytesIO()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", NotGeoreferencedWarning)
        with rasterio.MemoryFile() as memory:
            with memory.open(driver="PNG", width=wide, height=high, count=3, dtype="uint8") as dataset:
                dataset.write(np.moveaxis(image.round().astype(np.uint8), -1, 0))
            buffer.write(memory.read())
    return buffer.getvalue()
