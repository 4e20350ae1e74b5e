"""The kinds of thing that can be held: one module each, and the one list of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yama.terrain.cloud import Reclassified
from yama.terrain.frame import Extent
from yama.terrain.held import Held
from yama.terrain.kinds.cloud import CloudKind, write_reclassified
from yama.terrain.kinds.features import FeaturesKind
from yama.terrain.kinds.image import ImageKind
from yama.terrain.kinds.kind import Kept, Kind, KindName
from yama.terrain.kinds.points import PointsKind
from yama.terrain.kinds.surface import SurfaceKind
from yama.terrain.kinds.table import TableKind
from yama.terrain.progress import Progress, ignore_progress

__all__ = ["KINDS", "Kept", "Kind", "KindName", "extent_of", "kind_of", "write"]

KINDS: dict[KindName, Kind[Any]] = {
    one.name: one for one in (SurfaceKind(), PointsKind(), FeaturesKind(), CloudKind(), ImageKind(), TableKind())
}


def kind_of(held: Held) -> Kind[Any]:
    """The kind of what is held."""
    return next(one for one in KINDS.values() if isinstance(held, one.holds))


def extent_of(held: Held, name: str, meant: bool = False) -> Extent:
    """Where something lies and how fine it is. meant: its polygons say which area is meant. Raises InputError where it lies nowhere."""
    return kind_of(held).extent(held, name, meant)


def write(
    held: Held | Reclassified,
    path: str | Path,
    progress: Progress = ignore_progress,
    tags: dict[str, str] | None = None,
) -> None:
    """Write what is held in the format that the suffix of `path` names, whole or not at all.

    Surfaces: .tif (the only one that keeps unit, vertical datum and `tags`), .asc, .xyz. Points: .csv, .xlsx. Clouds: .las, .laz.
    Features: .gpkg, .shp, .geojson, .kml, .dxf. Tables: .csv, .json. Raises InputError for any other, naming those there are.
    """
    path = Path(path)
    if isinstance(held, Reclassified):
        write_reclassified(held, path, progress)
    else:
        kind_of(held).write(held, path, progress, tags or {})
