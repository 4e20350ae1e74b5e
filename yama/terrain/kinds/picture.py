"""Pictures with a position, which lie under or over surfaces."""

from __future__ import annotations

from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.formats.families import Looked
from yama.terrain.formats.picture import with_levels
from yama.terrain.frame import Extent
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.pictures import Picture
from yama.terrain.progress import Progress

PIXELS = "picture.tif"
"""Name in the folder of what is kept of a picture."""


class PictureKind(Kind[Picture]):
    """The uploaded file is given away as it came. Its colours are kept beside it with coarser levels, for the map."""

    name = "picture"
    title = "pictures"
    holds = Picture

    def write(self, held: Picture, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        raise InputError(f"{held.name} is a picture, which is taken away as it came.")

    def keep(self, held: Picture, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        with_levels(held.path, looked.declared, held.name, folder / PIXELS, progress)
        return Kept(self.name, looked.facts, looked.findings)

    def extent(self, held: Picture, name: str, meant: bool) -> Extent:
        return Extent(name, held.crs, held.bounds)
