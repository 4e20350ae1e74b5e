"""Point clouds in the service."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ninja import Schema

from yama.service.holdings.kinds.kind import HoldingKind, grouped, moved
from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.terrain.cloud import Cloud
from yama.terrain.formats import las
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Extent
from yama.terrain.grid import Bounds
from yama.terrain.kinds import Kept
from yama.terrain.kinds.cloud import OVERVIEW


class CloudFacts(Schema):
    """Of a point cloud. classes and returns: number of points by number. spacing: mean distance of neighbours in metres."""

    count: int
    crs: str
    version: str
    unit: str
    classes: dict[str, int]
    class_names: dict[str, str]
    returns: dict[str, int]
    lowest: float
    highest: float
    spacing: float
    density: float
    strips: int


class CloudHolding(HoldingKind):
    """Its uploaded file, with an overview for the map."""

    name = "cloud"
    none = "is not a point cloud"
    folder = "clouds"

    def load(self, holding: Holding) -> Cloud:
        return las.read(holding.upload_path, Declared.from_dict(holding.declared), holding.original)

    def facts(self, holding: Holding, project: Project) -> dict[str, Any]:
        names = {code: las.CLASSES.get(int(code), f"class {code}") for code in holding.facts["classes"]}
        return {**holding.facts, "class_names": names}

    def extent(self, holding: Holding) -> Extent:
        facts = holding.facts
        return Extent(holding.name, facts["crs"], Bounds(*facts["bounds"]), spacing=facts["spacing"])

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        holding.facts = kept.facts
        moved(folder / OVERVIEW, holding.overview_path)

    def known(self, holding: Holding) -> str:
        return f"{grouped(holding.facts['count'])} points"
