"""The kinds of thing that can be held: one module each, and the one list of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yama.terrain.cloud import NewCloud
from yama.terrain.frame import Extent
from yama.terrain.held import Held
from yama.terrain.kinds.cloud import CloudKind, write_new
from yama.terrain.kinds.features import FeaturesKind
from yama.terrain.kinds.image import ImageKind
from yama.terrain.kinds.kind import Kept, Kind, KindName
from yama.terrain.kinds.picture import PictureKind
from yama.terrain.kinds.points import PointsKind
from yama.terrain.kinds.surface import SurfaceKind
from yama.terrain.kinds.table import TableKind
from yama.terrain.progress import Progress, ignore_progress

__all__ = ["KINDS", "Kept", "Kind", "KindName", "extent_of", "kind_of", "write"]

KINDS: dict[KindName, Kind[Any]] = {
    one.name: one
    for one in (SurfaceKind(), PointsKind(), FeaturesKind(), CloudKind(), ImageKind(), PictureKind(), TableKind())
}


def kind_of(held: Held) -> Kind[Any]:
    """The kind of what is held."""
    return next(one for one in KINDS.values() if isinstance(held, one.holds))


def extent_of(held: Held, name: str, meant: bool = False) -> Extent:
    """Where something lies and how fine it is.

    Parameters
    ----------
    held : Held
        Of any kind.
    name : str
        What people call it, for sentences.
    meant : bool
        Its polygons say which area is meant.

    Raises
    ------
    InputError
        Where it lies nowhere, as a table does.
    """
    return kind_of(held).extent(held, name, meant)


def write(
    held: Held | NewCloud,
    path: str | Path,
    progress: Progress = ignore_progress,
    tags: dict[str, str] | None = None,
) -> None:
    """Write what is held into a file. The file is there when it is whole, or not at all.

    Parameters
    ----------
    held : Held or NewCloud
        Of any kind but image and picture.
    path : path
        Its suffix names the format. Surfaces: .tif (the only one that keeps unit, vertical datum and `tags`), .asc, .xyz. Points: .csv,
        .xlsx. Clouds: .las, .laz. Features: .gpkg, .shp, .geojson, .kml, .dxf. Tables: .csv, .json.
    progress : callable
        Called with the share done; what it raises ends the work and leaves nothing behind.
    tags : dict of str, optional
        What else the file is to say of itself.

    Raises
    ------
    InputError
        For any other suffix, naming those there are; where the disk is full.
    """
    path = Path(path)
    if isinstance(held, NewCloud):
        write_new(held, path, progress)
    else:
        kind_of(held).write(held, path, progress, tags or {})
