"""Images with rational polynomial coefficients, in their tags or in a text beside them: what image pairs are made of."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from pyproj import Geod

from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.findings import Finding
from yama.terrain.formats import rpc
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Bounds
from yama.terrain.images import Image
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.rational import RationalModel

rasterio = later("rasterio")

_EARTH = Geod(ellps="WGS84")
_STRIP = 4_000_000
_MOST_CELLS = 4_000_000_000
_EDGE = 8  # places along each side of a footprint


@dataclass
class ImageFacts:
    """What an image holds. bits: that its values need. empty: share of cells that hold 0 or what the file declares empty.
    ground_size: metres of ground to a cell at the middle. footprint: ring of longitude and latitude on the ground of the
    model's middle height. heights: that the model is meant for, metres above the ellipsoid."""

    name: str
    rows: int
    cols: int
    bands: int
    cell_type: str
    lowest: float = 0.0
    highest: float = 0.0
    bits: int = 0
    empty: float = 0.0
    ground_size: float = 0.0
    footprint: list[tuple[float, float]] = field(default_factory=list)
    heights: tuple[float, float] = (0.0, 0.0)
    crs: str = "EPSG:4326"
    findings: list[Finding] = field(default_factory=list)
    kind = "image"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "kind": self.kind, "bounds": list(self.bounds),
                "findings": [finding.to_dict() for finding in self.findings]}  # fmt: skip

    @property
    def bounds(self) -> Bounds:
        """The rectangle around the footprint, in degrees."""
        places = np.array(self.footprint)
        return Bounds(*places.min(0).tolist(), *places.max(0).tolist())


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    """A GeoTIFF that need not lie anywhere: an image's place is in its coefficients."""
    with rasterio.open(path, driver="GTiff") as dataset:
        yield dataset


def has_model(path: Path) -> bool:
    """Whether a GeoTIFF brings rational polynomial coefficients in its tags."""
    try:
        with _opened(path) as dataset:
            return dataset.rpcs is not None
    except (rasterio.errors.RasterioError, OSError, ValueError):
        return False


def model_of(path: str | Path, declared: Declared = NOTHING, name: str = "") -> RationalModel:
    """The coefficients of an image: those declared, else those in its tags. Raises InputError where there are none."""
    path = Path(path)
    name = name or path.name
    if declared.rpc:
        return rpc.parse(declared.rpc, f"the coefficients of {name}")
    try:
        with _opened(path) as dataset:
            said = dataset.rpcs
    except (rasterio.errors.RasterioError, OSError, ValueError) as error:
        raise InputError(f"{name} cannot be read as a GeoTIFF; it is damaged or cut short. Get it again.") from error
    if said is None:
        raise InputError(
            f"{name} brings no rational polynomial coefficients. Zip it with their text file and add that."
        )
    return RationalModel(
        said.line_off, said.samp_off, said.lat_off, said.long_off, said.height_off, said.line_scale, said.samp_scale,
        said.lat_scale, said.long_scale, said.height_scale, tuple(said.line_num_coeff), tuple(said.line_den_coeff),
        tuple(said.samp_num_coeff), tuple(said.samp_den_coeff),
    )  # fmt: skip


def header(path: str | Path, declared: Declared = NOTHING, name: str = "") -> ImageFacts:
    """What an image's header and coefficients say, at once. Raises InputError."""
    path = Path(path)
    name = name or path.name
    model = model_of(path, declared, name)
    try:
        with _opened(path) as dataset:
            facts = ImageFacts(name, dataset.height, dataset.width, dataset.count, dataset.dtypes[0])
    except (rasterio.errors.RasterioError, OSError) as error:
        raise InputError(f"{name} cannot be read as a GeoTIFF; it is damaged or cut short. Get it again.") from error
    if facts.rows * facts.cols > _MOST_CELLS:
        raise InputError(f"{name} claims {facts.cols} x {facts.rows} cells; the header may be damaged.")
    _place(facts, model)
    return facts


def inspect(
    path: str | Path, declared: Declared = NOTHING, name: str = "", progress: Progress = ignore_progress
) -> ImageFacts:
    """Read an image once, strip by strip: true range of its values, empty share, footprint. Raises InputError."""
    facts = header(path, declared, name)
    try:
        with _opened(Path(path)) as dataset:
            _scan(dataset, facts, progress)
    except (rasterio.errors.RasterioError, OSError) as error:
        raise InputError(
            f"{facts.name} cannot be read to its end; it is damaged or cut short. Get it again."
        ) from error
    return facts


def read(path: str | Path, declared: Declared = NOTHING, name: str = "") -> Image:
    """The image in a file, with its model. Raises InputError."""
    facts = header(path, declared, name)
    model = model_of(path, declared, facts.name)
    return Image(Path(path), model, facts.rows, facts.cols, facts.crs, facts.bounds, facts.name)


def write(cells: npt.NDArray[Any], model: RationalModel, path: str | Path) -> None:
    """Write an image `(rows, cols)` as a tiled GeoTIFF with its model in the tags, whole or not at all."""
    said = rasterio.rpc.RPC(
        model.height_offset, model.height_scale, model.latitude_offset, model.latitude_scale,
        list(model.row_denominator), list(model.row_numerator), model.row_offset, model.row_scale,
        model.longitude_offset, model.longitude_scale, list(model.col_denominator), list(model.col_numerator),
        model.col_offset, model.col_scale, None, None,
    )  # fmt: skip
    profile = {"driver": "GTiff", "dtype": cells.dtype, "count": 1, "height": cells.shape[0], "width": cells.shape[1],
               "tiled": True, "compress": "deflate"}  # fmt: skip
    with replacing(Path(path)) as part, rasterio.open(part, "w", **profile, rpcs=said) as dataset:
        dataset.write(cells, 1)


def with_levels(held: Image, path: Path, progress: Progress = ignore_progress) -> None:
    """Write an image's first band in tiles, with coarser levels of means down to one tile; 0 where it is empty.

    Strip by strip, so that memory stays bounded. Raises InputError where the image cannot be read to its end.
    """
    profile = {"driver": "GTiff", "dtype": "float32", "count": 1, "height": held.rows, "width": held.cols, "nodata": 0,
               "tiled": True, "blockxsize": 256, "blockysize": 256, "compress": "deflate", "predictor": 3, "zlevel": 1,
               "bigtiff": "if_safer"}  # fmt: skip
    with rasterio.open(held.path, driver="GTiff") as dataset:
        if dataset.dtypes[0] in ("uint8", "uint16"):
            profile |= {"dtype": dataset.dtypes[0], "predictor": 2}
    step = max(_STRIP // held.cols // 256, 1) * 256
    with rasterio.open(path, "w", **profile) as made:
        for row in range(0, held.rows, step):
            cells = np.nan_to_num(held.read(row, 0, min(step, held.rows - row), held.cols))
            made.write(
                cells.astype(str(profile["dtype"])), 1, window=rasterio.windows.Window(0, row, held.cols, len(cells))
            )
            progress(0.7 * (row + len(cells)) / held.rows)
    scales = [2**level for level in range(1, 12) if max(held.rows, held.cols) > 256 * 2 ** (level - 1)]
    if scales:
        with rasterio.open(path, "r+") as made:
            made.build_overviews(scales, rasterio.enums.Resampling.average)
    progress(1.0)


def _scan(dataset: Any, facts: ImageFacts, progress: Progress) -> None:
    low, high, empty, full = np.inf, -np.inf, 0, 0
    nodata = 0 if dataset.nodata is None else dataset.nodata
    step = max(1, _STRIP // facts.cols)
    for row in range(0, facts.rows, step):
        cells = dataset.read(1, window=rasterio.windows.Window(0, row, facts.cols, min(step, facts.rows - row)))
        if np.issubdtype(cells.dtype, np.complexfloating):
            raise InputError(f"{facts.name} holds complex numbers; images of light hold plain ones.")
        filled = (cells != nodata) & np.isfinite(cells)
        empty += cells.size - int(filled.sum())
        if filled.any():
            low, high = min(low, float(cells[filled].min())), max(high, float(cells[filled].max()))
            full += int((cells[filled] == high).sum())
        progress((row + len(cells)) / facts.rows)
    facts.empty = empty / (facts.rows * facts.cols)
    add = facts.findings.append
    if not np.isfinite(low):
        raise InputError(f"Every cell of {facts.name} is empty. Get the image again.")
    facts.lowest, facts.highest = low, high
    facts.bits = int(high).bit_length() if "int" in facts.cell_type else 0
    if facts.bands > 1:
        add(Finding("bands", "note", f"{facts.name} has {facts.bands} bands; the first is matched."))
    if high > low and full > 0.01 * facts.rows * facts.cols:
        add(Finding("saturated", "caution", f"{100 * full / (facts.rows * facts.cols):.1f} % of the cells of {facts.name} "
                    f"hold its highest value, {high:g}.", "Nothing can be matched where the image is saturated."))  # fmt: skip
    if facts.bits and facts.bits <= 8:
        add(Finding("few_grey", "note", f"{facts.name} holds {facts.bits} bits of grey.",
                    "Shade and snow match better with 11 or more."))  # fmt: skip


def _place(facts: ImageFacts, model: RationalModel) -> None:
    facts.heights = model.heights
    share = np.linspace(0, 1, _EDGE, endpoint=False)
    across, down = facts.cols - 1, facts.rows - 1
    col = np.concatenate([share * across, np.full(_EDGE, across), (1 - share) * across, np.zeros(_EDGE)])
    row = np.concatenate([np.zeros(_EDGE), share * down, np.full(_EDGE, down), (1 - share) * down])
    longitude, latitude = model.ground_of(col, row, model.height_offset)
    if not (np.isfinite(longitude).all() and np.isfinite(latitude).all()):
        raise InputError(f"The coefficients of {facts.name} do not lead from all of its cells to the ground. "
                         "They belong to another image, or are damaged.")  # fmt: skip
    facts.footprint = [(float(x), float(y)) for x, y in zip(longitude, latitude, strict=True)]
    facts.footprint.append(facts.footprint[0])
    x, y = model.ground_of(
        [across / 2, across / 2 + 1, across / 2], [down / 2, down / 2, down / 2 + 1], model.height_offset
    )
    sizes = [float(_EARTH.inv(x[0], y[0], x[i], y[i])[2]) for i in (1, 2)]
    facts.ground_size = (sizes[0] * sizes[1]) ** 0.5
    row_span, col_span = abs(model.row_offset) + model.row_scale, abs(model.col_offset) + model.col_scale
    if facts.rows > 1.2 * row_span or facts.cols > 1.2 * col_span:
        facts.findings.append(
            Finding("model_reach", "caution", f"The coefficients of {facts.name} are meant for {col_span:.0f} by "
                    f"{row_span:.0f} cells, the image has {facts.cols} by {facts.rows}.",
                    "They may belong to a part of it, or to another image.")
        )  # fmt: skip
