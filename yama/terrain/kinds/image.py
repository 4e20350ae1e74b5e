"""Images with a model of where each cell sees the ground."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.formats import image
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.images import Image
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.progress import Progress

CELLS = "image.tif"
"""Name in the folder of what is kept of an image."""


class ImageKind(Kind[Image]):
    """The uploaded file is the image, which is given away as it came. Its first band is kept beside it with coarser levels, for
    what looks at it."""

    name = "image"
    title = "images"
    holds = Image

    def write(self, held: Image, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        raise InputError(f"{held.name} is an image, which is taken away as it came.")

    def keep(self, held: Image, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        image.with_levels(held, folder / CELLS, progress)
        return Kept(self.name, {**looked.facts, "model": asdict(held.model)}, looked.findings)

    def extent(self, held: Image, name: str, meant: bool) -> Extent:
        return Extent(name, held.crs, held.bounds)
