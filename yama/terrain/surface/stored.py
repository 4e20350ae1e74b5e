"""A surface in a file."""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from affine import Affine

os.environ.setdefault("GDAL_CACHEMAX", "48")  # MB, a few rows of tiles; the library takes a share of the machine

from yama.terrain.cog import Encoding, halve
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window, crs_name, horizontal, parse_crs
from yama.terrain.later import later
from yama.terrain.surface.base import Category, Heights, Surface, put_in

rasterio = later("rasterio")

CATEGORIES = "YAMA_CATEGORIES"
"""The tag with the categories of a file's cells, as JSON."""


class _Handles:
    """Open handles of a raster file: of each level as many as have read at one time. A thread that is new takes one that rests,
    with the blocks it has decoded. In another process there are none yet."""

    def __init__(self, path: Path, driver: str) -> None:
        self._path, self._driver = path, driver
        self._resting: dict[
            tuple[int, int], list[Any]
        ] = {}  # by process: a forked one would share the place in the file
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self._path, self._driver)

    @contextmanager
    def lent(self, level: int) -> Iterator[Any]:
        """A handle for one reader at a time. One whose reader failed is not lent again."""
        with self._lock:
            resting = self._resting.setdefault((os.getpid(), level), [])
            handle = resting.pop() if resting else None
        if handle is None:
            overview = {"overview_level": level - 1} if level else {}
            handle = rasterio.open(self._path, driver=self._driver, **overview)
        yield handle
        resting.append(handle)


def has_mask(dataset: Any) -> bool:
    """Whether a raster file says by a mask or an alpha band, and not by a value, which of its cells are empty."""
    return rasterio.enums.MaskFlags.per_dataset in dataset.mask_flag_enums[0]


def _categories(told: str, name: str) -> tuple[Category, ...]:
    try:
        return tuple(
            Category(int(one["value"]), str(one["name"]), str(one["colour"]), tuple(map(int, one["inputs"])))
            for one in json.loads(told)
        )
    except (ValueError, KeyError, TypeError) as error:
        raise InputError(f"{name} does not say properly what its categories are. Get the file again.") from error


class StoredSurface(Surface):
    """Values in a raster file.

    Parameters
    ----------
    path : path
        The file.
    band : int
        Counted from 1.
    unit : str, optional
        Of its cells; what the file says where not given, metres where it says nothing.
    vertical_datum : str
        What height 0 means, where the file does not say it.
    name : str
        What people call the file, for sentences.
    driver : str
        The only one that may open it.
    crs : str
        Instead of the file's own.
    empty : float, optional
        A further cell value that means empty.
    factor : float, optional
        Cells times this are heights in metres. Given, the file's own word on its unit does not count.
    place : Affine, optional
        Where its cells lie, instead of what the file says.

    Raises
    ------
    InputError
        Where the file is damaged, is no raster, or does not say its CRS.
    """

    levels = "means"

    def __init__(
        self,
        path: str | Path,
        band: int = 1,
        unit: str | None = None,
        vertical_datum: str = "",
        name: str = "",
        driver: str = "GTiff",
        crs: str = "",
        empty: float | None = None,
        factor: float | None = None,
        place: Affine | None = None,
    ) -> None:
        self.path = Path(path)
        self._name = name or self.path.name
        self._band = band
        self._driver = driver
        self._handles = _Handles(self.path, driver)
        try:
            with rasterio.open(self.path, driver=driver) as dataset:
                if dataset.crs is None and not crs:
                    raise InputError(f"{self._name} does not say its CRS. Give it one before using it.")
                crs = crs or crs_name(horizontal(parse_crs(dataset.crs.to_wkt())))
                grid = Grid.from_transform(crs, place or dataset.transform, dataset.height, dataset.width)
                tags = dataset.tags()
                self._nodata = dataset.nodatavals[band - 1]
                self._empty = empty
                self._scale = dataset.scales[band - 1] * (factor or 1.0)
                self._offset = dataset.offsets[band - 1] * (factor or 1.0)
                self._overviews = dataset.overviews(band)
                self._masked = has_mask(dataset)
                self._exact_type = np.dtype(dataset.dtypes[band - 1])
        except rasterio.errors.RasterioError as error:
            raise InputError(f"{self._name} cannot be read as a raster: {error}") from error
        file = self.path.stat()
        self._of = (str(self.path.resolve()), file.st_mtime_ns, file.st_size, band, driver, empty, factor, place)
        said = tags.get("HEIGHT_UNIT", "m") if factor is None else "m"
        super().__init__(grid, unit or said, vertical_datum or tags.get("VERTICAL_DATUM", ""))

        if CATEGORIES in tags:
            self.categories = _categories(tags[CATEGORIES], self._name)
        if (self._is_wider or self.categories) and self._scale == 1.0 and self._offset == 0.0:
            whole = self._exact_type.kind in "iu"
            unsaid = float(np.iinfo(self._exact_type).min) if whole else float("nan")
            nodata = unsaid if self._nodata is None else float(self._nodata)
            self.encoding = Encoding(str(self._exact_type), 1.0, nodata, categorical=bool(self.categories))  # type: ignore[arg-type]

    @property
    def _is_wider(self) -> bool:
        """Whether cells have more digits than float32 has."""
        return self._exact_type in (np.dtype(np.float64), np.dtype(np.int32))

    def made_of(self) -> tuple[Any, ...]:
        return self._of

    def read(self, window: Window, level: int = 0) -> Heights:
        if level > 0 and (level > len(self._overviews) or self._overviews[level - 1] != 2**level):
            finer = Window(window.row * 2, window.col * 2, window.rows * 2, window.cols * 2)
            return halve(self.read(finer, level - 1), bool(self.categories))
        found: Heights = self._read(window, level, np.float32)
        return found

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        return self._read(window, 0, np.float64 if self._is_wider else np.float32)

    def _read(self, window: Window, level: int, kind: type[Any]) -> npt.NDArray[Any]:
        result = np.full((window.rows, window.cols), np.nan, kind)
        try:
            with self._handles.lent(level) as dataset:
                inside = window.clipped(dataset.height, dataset.width)
                if not (inside.rows and inside.cols):
                    return result
                rows = (inside.row, inside.row + inside.rows)
                cols = (inside.col, inside.col + inside.cols)
                raw = dataset.read(self._band, window=(rows, cols))
                masked = dataset.read_masks(self._band, window=(rows, cols)) == 0 if self._masked else None
        except rasterio.errors.RasterioError as error:
            raise InputError(
                f"{self._name}: rows {window.row} to {window.row + window.rows} cannot be read; "
                "the file is damaged or cut short. Get it again."
            ) from error
        heights = raw.astype(kind)
        if masked is not None:
            heights[masked] = np.nan
        if self._nodata is not None and not np.isnan(self._nodata):
            heights[raw == raw.dtype.type(self._nodata)] = np.nan
        if self._empty is not None:
            heights[raw == self._empty] = np.nan
        if self._scale != 1.0 or self._offset != 0.0:
            heights = (heights * kind(self._scale) + kind(self._offset)).astype(kind)
        heights[~np.isfinite(heights)] = np.nan
        put_in(result, heights, inside.row - window.row, inside.col - window.col)
        return result
