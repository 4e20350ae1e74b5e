"""Features between the database, the core and the map."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
import shapely
from django.db import transaction

from yama.service.holdings.models import Feature, Holding
from yama.terrain.features import Features
from yama.terrain.findings import Finding

_DECIMALS = 2  # of a metre, on the map


def features_of(holding: Holding) -> Features:
    """All features of a holding, in its own CRS, in the order of their numbers."""
    return _features(holding.pk, holding.key)


@lru_cache(maxsize=16)
def _features(number: int, key: str) -> Features:
    facts = Holding.objects.values_list("facts", flat=True).get(pk=number, key=key)
    rows = list(Feature.objects.filter(holding_id=number).values_list("geometry", "attributes"))
    return Features(
        facts["crs"],
        shapely.from_wkb(np.array([bytes(geometry) for geometry, _ in rows], dtype=object)),
        {name: [attributes.get(name) for _, attributes in rows] for name in facts["attributes"]},
        facts["units"],
    )


def keep_features(holding: Holding, features: Features, facts: dict[str, Any], findings: list[Finding]) -> None:
    """Save a holding of features with a row for each. facts: what is known of their file, where they are of one."""
    holding.kind = "features"
    holding.facts = {
        "layer": "", "layers": [], **facts, "counts": features.counts(), "vertices": features.vertices,
        "attributes": features.kinds(), "units": features.units, "crs": features.crs, "bounds": list(features.bounds),
        "findings": [finding.to_dict() for finding in findings],
    }  # fmt: skip
    boxes = shapely.bounds(features.geometries)
    with transaction.atomic():
        holding.save()
        Feature.objects.bulk_create(
            (
                Feature(holding=holding, number=i, geometry=shapely.to_wkb(features.geometries[i]), west=boxes[i, 0],
                        south=boxes[i, 1], east=boxes[i, 2], north=boxes[i, 3], attributes=features.row(i))
                for i in range(len(features))
            ),
            batch_size=500,
        )  # fmt: skip


def collection(features: Features, numbers: Sequence[int], crs: str) -> str:
    """Features as a GeoJSON text with coordinates in that CRS, each with its number as id. What the CRS cannot express
    is left out."""
    column = "\0number"  # no file has a column of that name
    held = replace(features, attributes={**features.attributes, column: list(numbers)}).in_crs(crs)
    flat = shapely.force_2d(held.geometries)
    shapes = shapely.transform(flat, lambda places: np.round(places, _DECIMALS)) if len(held) else flat
    parts: list[str] = []
    for i, shape in enumerate(shapely.to_geojson(shapes)):
        row: dict[str, Any] = held.row(i)
        number = row.pop(column)
        parts.append(f'{{"type":"Feature","id":{number},"properties":{json.dumps(row)},"geometry":{shape}}}')
    return '{"type":"FeatureCollection","features":[' + ",".join(parts) + "]}"


def geojson(holding: Holding) -> str:
    """A holding as a GeoJSON text with coordinates in the frame's CRS."""
    held = features_of(holding)
    return collection(held, range(len(held)), holding.project.frame.grid.crs)
