"""Tables of points that are really the cells of a grid written out, one row a cell."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

_FEWEST = 25
_FILLED = 0.4
_OFF = 0.02  # of a step


def _steps(values: npt.NDArray[np.float64]) -> tuple[float, float, int] | None:
    """First value, step and number of places of evenly spaced values; None where they are not."""
    places = np.unique(values)
    if places.size < 3:
        return None
    gaps = np.diff(places)
    smallest = float(np.median(gaps[gaps > 0.2 * gaps.max()])) if gaps.max() > 0 else 0.0
    if smallest <= 0:
        return None
    counts = (places - places[0]) / smallest
    if np.abs(counts - np.round(counts)).max() > _OFF:
        return None
    return float(places[0]), smallest, round(float(counts[-1])) + 1


def grid_of(points: Points) -> Grid | None:
    """The grid whose cell centres the points are; None where they are no such thing or most cells would be empty."""
    if len(points) < _FEWEST:
        return None
    across, down = _steps(points.x), _steps(points.y)
    if across is None or down is None or len(points) < _FILLED * across[2] * down[2]:
        return None
    if len(points) > 1.01 * across[2] * down[2]:
        return None
    west, north = across[0] - across[1] / 2, down[0] + (down[2] - 0.5) * down[1]
    return Grid(points.crs, west, north, across[1], down[1], down[2], across[2])


def surface_of(points: Points, name: str) -> ArraySurface:
    """The surface that the points write out. Raises InputError where they are not the cells of a grid."""
    grid = grid_of(points)
    if grid is None:
        raise InputError(f"The points of {name} are not evenly spaced in rows and columns. Interpolate them instead.")
    heights = np.full((grid.rows, grid.cols), np.nan, np.float32)
    rows = np.round(grid.row_of(points.y)).astype(np.int64)
    cols = np.round(grid.col_of(points.x)).astype(np.int64)
    heights[rows, cols] = points.z
    return ArraySurface(heights, grid, points.unit)
