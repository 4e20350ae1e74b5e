"""Holes of stored surfaces as shapes: traced once, kept beside the cells, drawn on the map."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import shapely

from yama.service.holdings.features import collection
from yama.service.holdings.models import Holding
from yama.terrain.features import Features
from yama.terrain.files import replacing
from yama.terrain.surface import StoredSurface
from yama.terrain.voids import Holes, outlines

_TRACED = 60
"""Holes whose shapes are kept, largest first; the others are only counted."""


def keep_holes(holding: Holding, holes: Holes | None) -> None:
    """Note the holes of a surface whose cells are in place, and write the shapes of the largest."""
    holding.facts["holes"] = {"count": 0, "cells": 0, "outside": 0}
    if holes is None:
        return
    holding.facts["holes"] = {"count": holes.count, "cells": holes.cells, "outside": holes.outside}
    if not holes.count:
        return
    found = [
        {"cells": one.cells, "area": one.area, "exact": one.exact, "wkb": shapely.to_wkb(one.polygon, hex=True)}
        for one in outlines(StoredSurface(holding.cells_path), holes.largest[:_TRACED])
    ]
    with replacing(holding.holes_path) as part:
        part.write_text(json.dumps(found), encoding="utf-8")


def holes_geojson(holding: Holding) -> str:
    """The shapes kept, as GeoJSON in the frame's CRS, each with its `cells`, `area` in square metres and `exact`."""
    found: list[dict[str, Any]] = []
    if holding.holes_path.exists():
        found = json.loads(holding.holes_path.read_text(encoding="utf-8"))
    shapes = np.array([shapely.from_wkb(one["wkb"]) for one in found], dtype=object)
    columns = {name: [one[name] for one in found] for name in ("cells", "area", "exact")}
    held = Features(holding.facts["grid"]["crs"], shapes, columns)
    return collection(held, range(len(found)), holding.project.frame.grid)
