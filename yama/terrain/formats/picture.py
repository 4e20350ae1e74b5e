"""Pictures with a position, from GeoTIFF, PNG or JPEG: what they are, and their cells made ready to be looked at."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from affine import Affine

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats import raster
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Bounds, metres_per_unit
from yama.terrain.later import later
from yama.terrain.pictures import Picture
from yama.terrain.progress import Progress, ignore_progress

rasterio = later("rasterio")

_ABOUT_PLACE = ("no_place", "no_crs", "not_degrees", "too_large", "hollow", "no_cells", "degrees")
_LOOKED_AT = 1024  # rows and columns from which the range of grey values is taken
_SHARES = (1.0, 99.0)  # percent of the cells that are darker than black, and darker than white
_STRIP = 4_000_000


@dataclass
class PictureFacts:
    """What a picture holds. cell: metres a cell; bounds: around it, in its CRS."""

    name: str
    rows: int
    cols: int
    bands: int
    cell_type: str
    crs: str
    cell: float = 0.0
    bounds: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    findings: list[Finding] = field(default_factory=list)
    kind = "picture"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "kind": self.kind, "bounds": list(self.bounds),
                "findings": [finding.to_dict() for finding in self.findings]}  # fmt: skip


def header(path: str | Path, declared: Declared = NOTHING, name: str = "") -> PictureFacts:
    """What a picture's header says, at once; what its place lacks is a question, as with heights. Raises InputError."""
    seen = raster.header(path, declared.also({"band": 1}), name)
    facts = PictureFacts(seen.name, seen.rows, seen.cols, seen.bands, seen.cell_type, seen.crs)
    facts.findings = [one for one in seen.findings if one.code in _ABOUT_PLACE]
    if any(one.weight == "stop" for one in facts.findings):
        return facts
    turn = _turn(seen)
    corners = np.array([turn @ place for place in ((0, 0), (seen.cols, 0), (seen.cols, seen.rows), (0, seen.rows))])
    low, high = corners.min(0), corners.max(0)
    facts.bounds = (float(low[0]), float(low[1]), float(high[0]), float(high[1]))
    across, down = metres_per_unit(seen.crs, *((low + high) / 2))
    facts.cell = float(abs(turn.determinant) * across * down) ** 0.5
    if "complex" in facts.cell_type:
        facts.findings.append(
            Finding("cell_type", "stop", f"{facts.name} holds complex numbers, which are no picture.")
        )
    if facts.bands > 3:
        facts.findings.append(
            Finding("bands", "note", f"{facts.name} has {facts.bands} bands.",
                    "Those that it calls red, green and blue are shown, or the first three where it does not say.")
        )  # fmt: skip
    return facts


def _turn(seen: raster.RasterFacts) -> Affine:
    """From columns and rows of corners to x and y: a plane through control points where these say it."""
    assert seen.placing is not None
    if seen.placing.transform is not None:
        return seen.placing.transform
    control = seen.placing.control
    assert control is not None
    system = np.column_stack([control[:, :2], np.ones(len(control))])
    (a, d), (b, e), (c, f) = np.linalg.lstsq(system, control[:, 2:], rcond=None)[0]
    return Affine(a, b, c, d, e, f)


def read(path: str | Path, declared: Declared = NOTHING, name: str = "") -> Picture:
    """The picture in a file. Raises InputError where nobody says where it lies."""
    facts = header(path, declared, name)
    return Picture(Path(path), facts.crs, Bounds(*facts.bounds), facts.name)


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    with path.open("rb") as file:
        driver = raster.driver_of(file.read(512)) or "GTiff"
    with rasterio.open(path, driver=driver) as dataset:
        yield dataset


def with_levels(
    source: str | Path, declared: Declared, name: str, path: Path, progress: Progress = ignore_progress
) -> None:
    """Write red, green, blue and opacity of a picture in tiles, with coarser levels of means.

    Values of more than eight bits are stretched, each band from its darkest to its brightest hundredth. Strip by strip,
    so that memory stays bounded. Raises InputError where the picture cannot be read to its end.
    """
    source = Path(source)
    seen = raster.header(source, declared.also({"band": 1}), name)
    turn = _turn(seen)
    try:
        with _opened(source) as dataset:
            shown = _shown(dataset)
            table = _palette(dataset)
            spans = None if table is not None or dataset.dtypes[0] == "uint8" else _spans(dataset, shown)
            nodata = declared.nodata if declared.nodata is not None else dataset.nodata
            profile = {"driver": "GTiff", "dtype": "uint8", "count": 4, "height": seen.rows, "width": seen.cols, "crs": seen.crs,
                       "transform": turn, "tiled": True, "blockxsize": 256, "blockysize": 256, "compress": "deflate",
                       "predictor": 2, "zlevel": 1, "photometric": "RGB", "alpha": "yes", "bigtiff": "if_safer"}  # fmt: skip
            step = max(_STRIP // seen.cols // 256, 1) * 256
            with rasterio.open(path, "w", **profile) as made:
                for row in range(0, seen.rows, step):
                    window = rasterio.windows.Window(0, row, seen.cols, min(step, seen.rows - row))
                    cells = dataset.read(shown, window=window)
                    opacity = dataset.dataset_mask(window=window)
                    if nodata is not None:
                        opacity[(cells == nodata).all(0)] = 0
                    made.write(_painted(cells, table, spans, opacity), window=window)
                    progress(0.7 * (row + window.height) / seen.rows)
    except (rasterio.errors.RasterioError, OSError) as error:
        raise InputError(f"{name} cannot be read to its end; it is damaged or cut short. Get it again.") from error
    scales = [2**level for level in range(1, 12) if max(seen.rows, seen.cols) > 256 * 2 ** (level - 1)]
    if scales:
        with rasterio.open(path, "r+") as made:
            made.build_overviews(scales, rasterio.enums.Resampling.average)
    progress(1.0)


def _shown(dataset: Any) -> list[int]:
    """Numbers of the bands that are shown: red, green and blue, or one for all three."""
    named = {one.name: number for number, one in enumerate(dataset.colorinterp, start=1)}
    if {"red", "green", "blue"} <= set(named):
        return [named["red"], named["green"], named["blue"]]
    plain = [number for number, one in enumerate(dataset.colorinterp, start=1) if one.name != "alpha"]
    return plain[:3] if len(plain) >= 3 else plain[:1] or [1]


def _palette(dataset: Any) -> npt.NDArray[np.uint8] | None:
    """Colours by value, where the picture has a palette: `(256, 4)`."""
    if dataset.colorinterp[0].name != "palette":
        return None
    table = np.zeros((256, 4), np.uint8)
    for value, colour in dataset.colormap(1).items():
        if 0 <= value < 256:
            table[value] = colour
    return table


def _spans(dataset: Any, shown: list[int]) -> list[tuple[float, float]]:
    """What is black and what is white in each band that is shown."""
    shrink = max(dataset.height, dataset.width) / _LOOKED_AT
    size = (max(int(dataset.height / max(shrink, 1)), 1), max(int(dataset.width / max(shrink, 1)), 1))
    filled = dataset.dataset_mask(out_shape=size) > 0
    spans = []
    for number in shown:
        values = dataset.read(number, out_shape=size)[filled].astype(np.float64)
        values = values[np.isfinite(values)]
        low, high = np.percentile(values, _SHARES) if values.size else (0.0, 1.0)
        spans.append((float(low), float(max(high, low + 1e-9))))
    return spans


def _painted(
    cells: npt.NDArray[Any], table: npt.NDArray[np.uint8] | None, spans: list[tuple[float, float]] | None,
    opacity: npt.NDArray[np.uint8],
) -> npt.NDArray[np.uint8]:  # fmt: skip
    """Red, green, blue and opacity of some cells, `(4, rows, cols)`."""
    if table is not None:
        painted: npt.NDArray[np.uint8] = np.moveaxis(table[np.clip(cells[0], 0, 255).astype(np.uint8)], -1, 0).copy()
        painted[3] = np.minimum(painted[3], opacity)
        return painted
    if spans is not None:
        opacity = np.where(np.isfinite(cells).all(0), opacity, 0)
        cells = np.stack(
            [
                np.clip((np.nan_to_num(one.astype(np.float32)) - low) / (high - low), 0, 1) * 255
                for one, (low, high) in zip(cells, spans, strict=True)
            ]
        )
    colours = np.broadcast_to(cells, (3, *cells.shape[1:])) if len(cells) == 1 else cells
    return np.concatenate([np.rint(colours).astype(np.uint8), opacity[None].astype(np.uint8)])
