"""Pictures of the ground that have a position: orthoimages and scanned maps. They never hold heights."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, Grid, Window
from yama.terrain.later import later

rasterio = later("rasterio")

Pixels = npt.NDArray[np.uint8]


@dataclass(frozen=True)
class Picture:
    """A picture in a file of red, green, blue and opacity with coarser levels; `formats.picture.with_levels` writes it.

    Parameters
    ----------
    path : Path
    crs : str
    bounds : Bounds
        Around it, in its CRS.
    name : str
        What people call it.
    """

    path: Path
    crs: str
    bounds: Bounds
    name: str

    def read(self, grid: Grid, window: Window, level: int = 0) -> Pixels:
        """What it shows on a grid of any CRS.

        Parameters
        ----------
        grid : Grid
        window : Window
            In cells of the level; it may reach past the grid.
        level : int
            Level n has cells of 2**n x 2**n of the grid's.

        Returns
        -------
        ndarray of uint8, shape (window.rows, window.cols, 4)
            Red, green, blue and opacity, which is 0 beside the picture and where it is empty.

        Raises
        ------
        InputError
            Where the file cannot be read, or its CRS cannot be brought onto the grid's.
        """
        part = grid.at_level(level).part(window)
        try:
            with (
                rasterio.open(self.path, driver="GTiff") as dataset,
                rasterio.vrt.WarpedVRT(
                    dataset, crs=part.crs, transform=part.transform, width=part.cols, height=part.rows,
                    resampling=rasterio.enums.Resampling.bilinear,
                ) as fitted,
            ):  # fmt: skip
                pixels: Pixels = np.moveaxis(fitted.read(), 0, -1)
        except (rasterio.errors.RasterioError, OSError) as error:
            raise InputError(
                f"{self.name} cannot be shown here: its file is damaged, or its CRS does not reach the frame's."
            ) from error
        return pixels
