"""Images with a model of where each cell sees the ground."""

from __future__ import annotations

from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.frame import Extent
from yama.terrain.images import Image
from yama.terrain.kinds.kind import Kind
from yama.terrain.progress import Progress


class ImageKind(Kind[Image]):
    """The uploaded file is the image; it is given away as it came."""

    name = "image"
    title = "images"
    holds = Image

    def write(self, held: Image, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        raise InputError(f"{held.name} is an image, which is taken away as it came.")

    def extent(self, held: Image, name: str, meant: bool) -> Extent:
        return Extent(name, held.crs, held.bounds)
