"""Points: places with heights and other fields."""

from __future__ import annotations

from pathlib import Path

from yama.terrain.errors import InputError
from yama.terrain.formats import delimited
from yama.terrain.formats.families import Looked
from yama.terrain.frame import Extent, extent_of_points
from yama.terrain.kinds.kind import Kept, Kind
from yama.terrain.points import Points
from yama.terrain.progress import Progress

POINTS = "points.npz"
"""Name in the folder of what is kept of points."""


class PointsKind(Kind[Points]):
    """Kept as arrays, written as tables."""

    name = "points"
    title = "points"
    holds = Points
    suffixes = (".csv", ".txt", ".xlsx")

    def write(self, held: Points, path: Path, progress: Progress, tags: dict[str, str]) -> None:
        if path.suffix.lower() not in self.suffixes:
            raise InputError(f"Points are written as .csv or .xlsx, not as {path.suffix.lower() or 'a bare name'}.")
        delimited.write(held, path)

    def extent(self, held: Points, name: str, meant: bool) -> Extent:
        return extent_of_points(held, name)

    def keep(self, held: Points, looked: Looked, folder: Path, frame_crs: str, progress: Progress) -> Kept:
        held.save(folder / POINTS)
        facts = {**held.facts(), "findings": [finding.to_dict() for finding in looked.findings]}
        return Kept(self.name, facts, looked.findings)
