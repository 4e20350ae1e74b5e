"""Pictures with a position in the service."""

from __future__ import annotations

from pathlib import Path

from ninja import Schema

from yama.service.holdings.kinds.kind import HoldingKind, moved
from yama.service.holdings.models import Holding
from yama.terrain.grid import Bounds
from yama.terrain.kinds import Kept
from yama.terrain.kinds.picture import PIXELS
from yama.terrain.pictures import Picture


class PictureFacts(Schema):
    """Of a picture. cell: metres a cell."""

    rows: int
    cols: int
    bands: int
    cell_type: str
    crs: str
    cell: float


class PictureHolding(HoldingKind):
    """Its uploaded file, and its colours with coarser levels."""

    name = "picture"
    none = "is not a picture"
    folder = "pictures"

    def load(self, holding: Holding) -> Picture:
        return Picture(holding.image_path, holding.facts["crs"], Bounds(*holding.facts["bounds"]), holding.name)

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        moved(folder / PIXELS, holding.image_path)
        holding.facts = kept.facts

    def known(self, holding: Holding) -> str:
        return "picture"
