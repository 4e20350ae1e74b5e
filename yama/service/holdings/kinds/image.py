"""Images in the service."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from ninja import Schema

from yama.service.holdings.kinds.kind import HoldingKind, moved
from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.terrain.formats import image
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import Bounds, turn_between
from yama.terrain.images import Image
from yama.terrain.kinds import Kept
from yama.terrain.kinds.image import CELLS
from yama.terrain.rational import RationalModel


class ImageFacts(Schema):
    """Of an image. bits: that its values need; ground_size: metres of ground to a cell; footprint: ring of x, y on the
    ground in the frame's CRS; heights: that its model is meant for."""

    rows: int
    cols: int
    bands: int
    cell_type: str
    lowest: float
    highest: float
    bits: int
    empty: float
    ground_size: float
    heights: tuple[float, float]
    footprint: list[tuple[float, float]]


class ImageHolding(HoldingKind):
    """Its uploaded file, and its first band with coarser levels."""

    name = "image"
    none = "is not an image"
    folder = "images"

    def load(self, holding: Holding) -> Image:
        facts = holding.facts
        if "model" not in facts or not holding.image_path.exists():
            # taken in by an earlier version: nothing but its file says what it is
            return image.read(holding.upload_path, Declared.from_dict(holding.declared), holding.original)
        model = RationalModel.from_dict(facts["model"])
        return Image(
            holding.image_path,
            model,
            facts["rows"],
            facts["cols"],
            facts["crs"],
            Bounds(*facts["bounds"]),
            holding.name,
        )

    def facts(self, holding: Holding, project: Project) -> dict[str, Any]:
        turn = turn_between(holding.facts["crs"], project.frame.grid.crs)
        places = [turn.transform(x, y) for x, y in holding.facts["footprint"]]
        ring = [(round(x, 2), round(y, 2)) for x, y in places if np.isfinite((x, y)).all()]
        return {**holding.facts, "footprint": ring}

    def keep(self, holding: Holding, kept: Kept, folder: Path) -> None:
        moved(folder / CELLS, holding.image_path)
        holding.facts = kept.facts

    def known(self, holding: Holding) -> str:
        return "image"
