"""What an operator is given: the cells of a patch and around it, and which of them are its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.grid import FloatArray, Grid
from yama.terrain.later import later

ndimage = later("scipy.ndimage")

Mask = npt.NDArray[np.bool_]

_AT_ONCE = 200_000


@dataclass(frozen=True)
class Ground:
    """Cells of a patch and around it.

    Parameters
    ----------
    cells : ndarray of float64, shape (rows, cols)
        Heights as they are below the patch, in metres; NaN where empty.
    inside : ndarray of bool, shape (rows, cols)
        Which cells have their middle within the patch.
    grid : Grid
        Of the cells.
    outline : shapely.Polygon
        In the grid's CRS.
    line : ndarray, shape (n, 2), optional
        The line that the patch was drawn along, in the grid's CRS.
    other : ndarray of float64, shape (rows, cols), optional
        Another surface's heights, in metres.
    """

    cells: FloatArray
    inside: Mask
    grid: Grid
    outline: shapely.Polygon
    line: FloatArray | None = None
    other: FloatArray | None = None

    @property
    def known(self) -> Mask:
        """Cells of the patch that have a height."""
        return self.inside & np.isfinite(self.cells)

    @property
    def metres(self) -> tuple[float, float]:
        """Width and height of a cell."""
        return self.grid.metres_per_cell()

    def rim(self, width: int = 1) -> Mask:
        """Cells with a height that are at most so many cells outside of the patch."""
        square = np.ones((3, 3), np.bool_)
        near: Mask = ndimage.binary_dilation(self.inside, square, width)
        return near & ~self.inside & np.isfinite(self.cells)

    def places(self) -> tuple[FloatArray, FloatArray]:
        """Metres east and north of each cell's middle from the middle of the outline."""
        x, y = self.grid.centres(self.grid.whole)
        return self.local(*np.meshgrid(x, y))

    def stations(self, course: shapely.LineString) -> FloatArray:
        """How far along a line, in metres from the middle of the outline, each cell within lies; 0 in others."""
        east, north = self.places()
        at = np.zeros(self.cells.shape)
        rows, cols = np.nonzero(self.inside)
        for begin in range(0, rows.size, _AT_ONCE):  # a point is an object, and these are large
            some = rows[begin : begin + _AT_ONCE], cols[begin : begin + _AT_ONCE]
            at[some] = shapely.line_locate_point(course, shapely.points(east[some], north[some]))
        return at

    def local(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Metres east and north of places of the grid's CRS from the middle of the outline."""
        west, south, east, north = self.outline.bounds
        across, up = self.grid.metres_per_unit()
        return (x - (west + east) / 2) * across, (y - (south + north) / 2) * up
