"""Outlines changed as a whole: corners made square, rims moved, two made of one and one of two, and grown over the
ground."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import shapely
import shapely.geometry

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window
from yama.terrain.later import later
from yama.terrain.surface import Surface

ndimage = later("scipy.ndimage")
rasterio = later("rasterio")

Ring = list[tuple[float, float]]

_MITRE = 3.0
_NEVER = 1e-9
_GROWN = 1500  # cells around the place at most, along each side
_PLAIN = 0.75  # of a cell: how far a grown outline may be from the cells' own


def _polygon(ring: Sequence[tuple[float, float]]) -> shapely.Polygon:
    if len(ring) < 3:
        raise InputError("An outline needs three vertices at least.")
    found = shapely.Polygon(ring)
    if not found.is_valid:
        raise InputError("The outline crosses itself. Move a vertex there first.")
    return found


def _ring(polygon: shapely.Polygon) -> Ring:
    return [(float(x), float(y)) for x, y in shapely.get_coordinates(polygon.exterior)[:-1]]


def _scaled(shape: shapely.Geometry, grid: Grid, back: bool = False) -> shapely.Geometry:
    """A shape in metres east and north of the grid's middle, or back: far from 0 corners would lose their digits."""
    factors, middle = np.array(grid.metres_per_unit()), np.array(grid.middle)
    return shapely.transform(shape, lambda at: at / factors + middle if back else (at - middle) * factors)


def squared(ring: Ring, grid: Grid) -> Ring:
    """The rectangle with the outline's area that lies as it does.

    Its direction is that of the smallest rectangle around the outline, and so are its sides' ratio and its middle.
    """
    shape = _scaled(_polygon(ring), grid)
    box = shapely.oriented_envelope(shape)
    if box.area <= 0:
        raise InputError("The outline covers nothing, so that it has no corners.")
    factor = float(np.sqrt(shape.area / box.area))
    middle = np.asarray(shapely.get_coordinates(box.centroid)[0])
    made = shapely.transform(box, lambda at: (at - middle) * factor + middle)
    return _ring(_scaled(made, grid, back=True))


def offset(ring: Ring, metres: float, grid: Grid) -> Ring:
    """The outline with its rim moved outwards, or inwards where `metres` is below 0; corners stay corners."""
    moved = _scaled(_polygon(ring), grid).buffer(metres, join_style="mitre", mitre_limit=_MITRE)
    if not isinstance(moved, shapely.Polygon) or moved.is_empty:
        raise InputError(
            f"Moved by {metres:g} m nothing of the outline is left in one piece. Move it less."
            if metres < 0
            else "The outline cannot be moved by so much."
        )
    return _ring(_scaled(moved, grid, back=True))


def split(ring: Ring, line: Sequence[tuple[float, float]]) -> list[Ring]:
    """The parts on either side of a line that crosses the outline."""
    if len(line) < 2:
        raise InputError("Draw a line across the outline.")
    shape = _polygon(ring)
    rims = shapely.union_all([shape.exterior, shapely.LineString(line)])
    parts = [one for one in shapely.get_parts(shapely.polygonize([rims])) if shape.contains(one.representative_point())]
    parts = [one for one in parts if one.area > _NEVER * shape.area]
    if len(parts) < 2:
        raise InputError("The line does not cross the outline. Draw it from outside to outside.")
    return [_ring(one) for one in parts]


def merged(rings: Sequence[Ring]) -> Ring:
    """One outline around several that touch or overlap."""
    found = shapely.union_all([_polygon(ring) for ring in rings])
    if not isinstance(found, shapely.Polygon):
        raise InputError("The outlines do not touch, so that they cannot be one. Move them together first.")
    return _ring(found)


def grown(surface: Surface, x: float, y: float, height: float, slope: float) -> Ring:
    """An outline around all that is reached from a place without leaving its height or its slope.

    Parameters
    ----------
    surface : Surface
    x, y : float
        The place, in the surface's CRS.
    height : float
        Metres that a cell may be above or below the place.
    slope : float
        Degrees that the ground may fall at most.

    Returns
    -------
    list of (float, float)
        In the surface's CRS, along the cells' sides but for their steps.

    Raises
    ------
    InputError
        Where the place is empty or steeper, or what is reached is too large.
    """
    grid = surface.grid
    row, col = round(float(grid.row_of(y))), round(float(grid.col_of(x)))
    half = _GROWN // 2
    window = Window(row - half, col - half, 2 * half + 1, 2 * half + 1).clipped(grid.rows, grid.cols)
    if not (0 <= row < grid.rows and 0 <= col < grid.cols):
        raise InputError("That place is outside of the surface.")
    cells = surface.read(window).astype(np.float64)
    seed = row - window.row, col - window.col
    if not np.isfinite(cells[seed]):
        raise InputError("The surface is empty there. Press where it has a height.")
    wide, high = grid.metres_per_cell()
    padded = np.pad(cells, 1, mode="edge")
    with np.errstate(invalid="ignore"):
        east = (padded[1:-1, 2:] - padded[1:-1, :-2]) / (2 * wide)
        north = (padded[:-2, 1:-1] - padded[2:, 1:-1]) / (2 * high)
        level = np.hypot(east, north) <= np.tan(np.radians(min(slope, 89.9)))
        like = level & (np.abs(cells - cells[seed]) <= height)
    if not like[seed]:
        raise InputError("The ground is steeper than that there already. Allow a steeper slope, or press elsewhere.")
    labels, _ = ndimage.label(like)
    found = labels == labels[seed]
    if (
        (found[0].any() and window.row > 0)
        or (found[-1].any() and window.row + window.rows < grid.rows)
        or (found[:, 0].any() and window.col > 0)
        or (found[:, -1].any() and window.col + window.cols < grid.cols)
    ):
        raise InputError(f"It grows over more than {_GROWN} cells. Allow less height or slope, or draw the outline.")
    found = ndimage.binary_fill_holes(found)
    part = grid.part(window)
    cells_of = rasterio.features.shapes(found.astype(np.uint8), transform=part.transform)
    shapes = [shapely.geometry.shape(one) for one, value in cells_of if value]
    whole = max(shapes, key=lambda one: one.area)
    plain = shapely.Polygon(whole.exterior).simplify(_PLAIN * max(part.cell_width, part.cell_height))
    return _ring(plain if isinstance(plain, shapely.Polygon) and plain.area > 0 else whole)
