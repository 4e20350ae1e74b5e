"""Lines and polygons in the service."""

from __future__ import annotations

from pathlib import Path

from ninja import Schema

from yama.service.holdings.features import features_of, keep_features
from yama.service.holdings.kinds.kind import HoldingKind, grouped
from yama.service.holdings.models import Holding
from yama.terrain.features import Features
from yama.terrain.frame import Extent
from yama.terrain.grid import Bounds
from yama.terrain.kinds import Kept


class FeaturesFacts(Schema):
    """Of features: how many of each geometry, the columns of their table with what they hold, and the units of those where they are
    known."""

    counts: dict[str, int]
    vertices: int
    attributes: dict[str, str]
    units: dict[str, str]
    crs: str
    layer: str
    layers: list[str]


class FeaturesHolding(HoldingKind):
    """Kept in rows."""

    name = "features"
    none = "holds no lines or polygons"
    folder = "lines"

    def load(self, holding: Holding) -> Features:
        return features_of(holding)

    def extent(self, holding: Holding) -> Extent:
        facts = holding.facts
        only_areas = set(facts["counts"]) == {"polygons"}
        return Extent(holding.name, facts["crs"], Bounds(*facts["bounds"]), boundary=only_areas)

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        assert kept.features is not None
        keep_features(holding, kept.features, kept.facts, kept.findings)

    def known(self, holding: Holding) -> str:
        return ", ".join(f"{grouped(count)} {kind}" for kind, count in holding.facts["counts"].items() if count)
