"""Surfaces: values on a grid."""

from __future__ import annotations

from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.formats import text_grid
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface, store

CELLS = "cells.tif"
"""Name in the folder of what is kept of a surface."""


class SurfaceKind(Kind[Surface]):
    """GeoTIFF is the only format that keeps unit, vertical datum and tags."""

    name = "surface"
    title = "surfaces"
    holds = Surface
    suffixes = (".tif", ".tiff", ".asc", ".xyz")

    def write(self, held: Surface, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        suffix = path.suffix.lower()
        if suffix in (".tif", ".tiff"):
            store(held, path, progress, tags=tags, given_away=True)
        elif suffix == ".asc":
            text_grid.write_ascii(held, path, progress=progress)
        elif suffix == ".xyz":
            text_grid.write_xyz(held, path, progress=progress)
        else:
            raise InputError(f"Surfaces are written as .tif, .asc or .xyz, not as {suffix or 'a bare name'}.")

    def extent(self, held: Surface, name: str, meant: bool) -> Extent:
        width, height = held.grid.metres_per_cell()
        return Extent(name, held.grid.crs, held.grid.bounds, cell=(width * height) ** 0.5)

    def keep(self, held: Surface, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        found = store(held, folder / CELLS, progress)
        return Kept(self.name, {}, looked.findings, statistics=found, holes=looked.holes, file=looked.file)
