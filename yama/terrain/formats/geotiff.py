"""Raster files of heights: what one says of itself, and whether it can be used as a surface."""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import rasterio
from rasterio.errors import NotGeoreferencedWarning, RasterioError

from yama.terrain.errors import GridError, InputError
from yama.terrain.findings import Finding
from yama.terrain.grid import MAX_CELLS, Grid, crs_name, parse_crs
from yama.terrain.surface import StoredSurface

_LARGEST_SIDE = 1_000_000


@dataclass
class RasterFacts:
    """What a raster's header says. `usable` is false where a finding of weight stop was made."""

    name: str
    rows: int
    cols: int
    bands: int
    cell_type: str
    crs: str
    nodata: float | None
    grid: dict[str, Any] | None
    findings: list[Finding] = field(default_factory=list)

    @property
    def usable(self) -> bool:
        """Whether it can be brought in as it is."""
        return not any(finding.weight == "stop" for finding in self.findings)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return {**vars(self), "findings": [finding.to_dict() for finding in self.findings], "kind": "surface"}


def inspect(path: str | Path, name: str = "") -> RasterFacts:
    """Read a raster's header; `name` is what people call the file. Raises InputError where the file cannot be opened as a GeoTIFF at all."""
    path = Path(path)
    name = name or path.name
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", NotGeoreferencedWarning)
            with rasterio.open(path, driver="GTiff") as dataset:
                facts = RasterFacts(
                    name=name,
                    rows=dataset.height,
                    cols=dataset.width,
                    bands=dataset.count,
                    cell_type=dataset.dtypes[0],
                    crs=crs_name(parse_crs(dataset.crs.to_wkt())) if dataset.crs else "",
                    nodata=dataset.nodatavals[0],
                    grid=None,
                )
                transform = dataset.transform
    except RasterioError as error:
        raise InputError(
            f"{name} is not a readable GeoTIFF (it may be damaged, cut short or of another kind). "
            "Get the file again, or convert it to GeoTIFF."
        ) from error
    if not facts.crs:
        facts.findings.append(
            Finding(
                "no_crs",
                "stop",
                f"{facts.name} does not say its CRS.",
                "Without one its place is unknown. Write the CRS into the file and add it again.",
            )
        )
    if max(facts.rows, facts.cols) > _LARGEST_SIDE or facts.rows * facts.cols > MAX_CELLS:
        facts.findings.append(
            Finding(
                "too_large",
                "stop",
                f"{facts.name} claims {facts.cols} x {facts.rows} cells.",
                f"More than {_LARGEST_SIDE} in a row or {MAX_CELLS} in all cannot be held; the header may be damaged.",
            )
        )
    elif facts.crs:
        try:
            facts.grid = Grid.from_transform(facts.crs, transform, facts.rows, facts.cols).to_dict()
        except GridError as error:
            facts.findings.append(
                Finding("rotated", "stop", f"{facts.name}: {error}", "Resample it to a north-up grid and add it again.")
            )
    if facts.bands > 1:
        facts.findings.append(
            Finding(
                "bands",
                "caution",
                f"{facts.name} has {facts.bands} bands; the first is taken as height.",
                "A picture has three or four bands and holds colours, not heights.",
            )
        )
    if "complex" in facts.cell_type:
        facts.findings.append(Finding("cell_type", "stop", f"{facts.name} holds complex numbers.", "Heights are real."))
    elif "int" in facts.cell_type:
        facts.findings.append(
            Finding(
                "whole_numbers",
                "note",
                f"{facts.name} holds whole numbers ({facts.cell_type}).",
                "Slopes of gentle ground come out as steps.",
            )
        )
    return facts


def read(path: str | Path) -> StoredSurface:
    """The surface in a raster file. Raises InputError with the first reason why it cannot be used."""
    facts = inspect(path)
    for finding in facts.findings:
        if finding.weight == "stop":
            raise InputError(f"{finding.sentence} {finding.why}")
    return StoredSurface(path)
