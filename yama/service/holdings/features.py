"""Features between the database and the core."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import shapely

from yama.service.holdings.models import Feature, Holding
from yama.terrain.features import Features, Value

_DECIMALS = 2  # of a metre, on the map


def features_of(holding: Holding) -> Features:
    """All features of a holding, in its own CRS."""
    rows = list(Feature.objects.filter(holding=holding).values_list("geometry", "attributes"))
    names = list(holding.facts["attributes"])
    return Features(
        holding.facts["crs"],
        shapely.from_wkb(np.array([bytes(geometry) for geometry, _ in rows], dtype=object)),
        {name: [attributes.get(name) for _, attributes in rows] for name in names},
    )


def geojson(holding: Holding) -> str:
    """The holding as a GeoJSON text with coordinates in the frame's CRS. Ids are the features' numbers."""
    held = features_of(holding)
    numbers: list[Value] = list(Feature.objects.filter(holding=holding).values_list("number", flat=True))
    held = Features(held.crs, held.geometries, {**held.attributes, "": numbers}).in_crs(holding.project.frame.grid.crs)
    flat = shapely.force_2d(held.geometries)
    shapes = shapely.transform(flat, lambda places: np.round(places, _DECIMALS)) if len(held) else flat
    parts: list[str] = []
    for i, shape in enumerate(shapely.to_geojson(shapes)):
        row: dict[str, Any] = held.row(i)
        number = row.pop("")
        parts.append(f'{{"type":"Feature","id":{number},"properties":{json.dumps(row)},"geometry":{shape}}}')
    return '{"type":"FeatureCollection","features":[' + ",".join(parts) + "]}"
