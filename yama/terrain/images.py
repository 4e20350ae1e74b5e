"""Images: seen from above, with a model that says where each cell sees the ground."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds
from yama.terrain.later import later
from yama.terrain.rational import RationalModel

rasterio = later("rasterio")

_DEGREE = 111_195.0  # metres


@dataclass(frozen=True)
class Image:
    """An image file with its model. rows, cols: its size. crs, bounds: of its footprint."""

    path: Path
    model: RationalModel
    rows: int
    cols: int
    crs: str
    bounds: Bounds
    name: str

    @property
    def told(self) -> str:
        """A short name of its model, the same wherever it is read: by which an adjustment is found again."""
        return hashlib.sha256(repr(self.model).encode()).hexdigest()[:16]

    @property
    def ground_size(self) -> float:
        """Metres of ground to a cell in the middle, by the model."""
        col, row = (self.cols - 1) / 2, (self.rows - 1) / 2
        lon, lat = self.model.ground_of([col, col + 1, col], [row, row, row + 1], self.model.height_offset)
        east, north = (lon - lon[0]) * _DEGREE * np.cos(np.deg2rad(lat[0])), (lat - lat[0]) * _DEGREE
        return float(np.sqrt(abs(east[1] * north[2] - east[2] * north[1])))

    def read(
        self, row: int = 0, col: int = 0, rows: int | None = None, cols: int | None = None, level: int = 0
    ) -> npt.NDArray[np.float32]:
        """Grey values of a window.

        Parameters
        ----------
        row, col, rows, cols : int
            In cells of the level; it may reach past the image. All of it where they are not given.
        level : int
            Level n has cells of 2**n x 2**n cells of the file: their means.

        Returns
        -------
        ndarray of float32, shape (rows, cols)
            NaN where the image is empty (0, or what the file declares) and outside of it.

        Raises
        ------
        InputError
            Where the file cannot be read.
        """
        scale = 2**level
        high, wide = -(-self.rows // scale), -(-self.cols // scale)
        rows, cols = high - row if rows is None else rows, wide - col if cols is None else cols
        out = np.full((rows, cols), np.nan, np.float32)
        top, left = max(row, 0), max(col, 0)
        bottom, right = min(row + rows, high), min(col + cols, wide)
        if top >= bottom or left >= right:
            return out
        try:
            levelled = level > 0 and self._has(level)
            with rasterio.open(
                self.path, driver="GTiff", **({"overview_level": level - 1} if levelled else {})
            ) as dataset:
                if levelled:
                    scale, level = 1, 0
                window = rasterio.windows.Window(
                    left * scale, top * scale, (right - left) * scale, (bottom - top) * scale
                )
                inside = window.intersection(rasterio.windows.Window(0, 0, dataset.width, dataset.height))
                cells = dataset.read(1, window=inside).astype(np.float32)
                nodata = 0 if dataset.nodata is None else dataset.nodata
        except (rasterio.errors.RasterioError, OSError) as error:
            raise InputError(
                f"{self.name} cannot be read to its end; it is damaged or cut short. Get it again."
            ) from error
        cells[(cells == nodata) | ~np.isfinite(cells)] = np.nan
        for _ in range(level):
            edge = ((0, cells.shape[0] % 2), (0, cells.shape[1] % 2))
            cells = np.pad(cells, edge, mode="edge") if edge != ((0, 0), (0, 0)) else cells
            cells = cells.reshape(cells.shape[0] // 2, 2, cells.shape[1] // 2, 2).mean((1, 3), dtype=np.float32)
        out[top - row : bottom - row, left - col : right - col] = cells
        return out

    def _has(self, level: int) -> bool:
        """Whether the file has means of so many cells ready."""
        with rasterio.open(self.path, driver="GTiff") as dataset:
            ready = dataset.overviews(1)
            return len(ready) >= level and ready[level - 1] == 2**level
