"""Point clouds: a file, and an overview of it for the map."""

from __future__ import annotations

from pathlib import Path

from yama.terrain import overview
from yama.terrain.cloud import Cloud, Gathered, NewCloud
from yama.terrain.formats import las
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent
from yama.terrain.grid import metres_per_unit
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.progress import Progress

OVERVIEW = "overview.cloud"
"""Name in the folder of what is kept of a cloud."""


class CloudKind(Kind[Cloud]):
    """The uploaded file is the cloud; nothing of it is copied but what the map draws."""

    name = "cloud"
    title = "point clouds"
    holds = Cloud
    suffixes = (".laz", ".las")

    def write(self, held: Cloud, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        las.write(held, path, progress=progress)

    def extent(self, held: Cloud, name: str, meant: bool) -> Extent:
        across, up = metres_per_unit(held.crs, *held.bounds.middle)
        box = held.bounds
        area = (box.east - box.west) * across * (box.north - box.south) * up
        return Extent(name, held.crs, box, spacing=float((area / max(held.count, 1)) ** 0.5))

    def keep(self, held: Cloud, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        overview.build(held, frame_crs, folder / OVERVIEW, progress)
        return Kept(self.name, looked.facts, looked.findings)


def write_new(made: NewCloud, path: Path, progress: Progress) -> None:
    """Write a cloud that is no file yet, as .las or .laz. Classes that its points get are found first, with 0.8 of the
    progress."""
    if isinstance(made, Gathered):
        las.write_gathered(made, path, progress)
        return
    made.classifier.prepare(lambda share: progress(0.8 * share))
    las.write(made.cloud, path, progress=lambda share: progress(0.8 + 0.2 * share), classes=made.classifier.classes)
