"""Features: lines, polygons and plain points with attributes."""

from __future__ import annotations

from pathlib import Path

import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import vector
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.progress import Progress


class FeaturesKind(Kind[Features]):
    """Kept in rows, so that a map asks for those in view."""

    name = "features"
    title = "lines and polygons"
    holds = Features
    suffixes = (".gpkg", ".shp", ".geojson", ".kml", ".dxf")

    def write(self, held: Features, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        vector.write(held, path)

    def extent(self, held: Features, name: str, meant: bool) -> Extent:
        polygons = shapely.get_dimensions(held.geometries) == 2
        if meant and not polygons.any():
            raise InputError(f"{name} holds no polygon that could say which area is meant.")
        return Extent(name, held.crs, (held.kept(polygons) if polygons.any() else held).bounds, boundary=meant)

    def keep(self, held: Features, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        return Kept(self.name, looked.facts, looked.findings, features=held)
