"""Points in the service."""

from __future__ import annotations

from pathlib import Path

from ninja import Schema

from yama.service.holdings.kinds.kind import HoldingKind, grouped, moved
from yama.service.holdings.models import Holding
from yama.terrain.frame import Extent, extent_of_points
from yama.terrain.kinds import Kept
from yama.terrain.kinds.points import POINTS
from yama.terrain.points import Points


class PointsFacts(Schema):
    """Of points: how many, how many of each code, number columns."""

    count: int
    codes: dict[str, int]
    fields: list[str]
    height_field: str
    unit: str
    crs: str


class PointsHolding(HoldingKind):
    """Kept as arrays in a file."""

    name = "points"
    none = "holds no points"
    folder = "points"

    def load(self, holding: Holding) -> Points:
        return Points.load(holding.points_path)

    def extent(self, holding: Holding) -> Extent:
        return extent_of_points(self.load(holding), holding.name)

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        holding.facts = kept.facts
        moved(folder / POINTS, holding.points_path)

    def known(self, holding: Holding) -> str:
        return f"{grouped(holding.facts['count'])} points"
