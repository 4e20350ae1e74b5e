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
from yama.terrain.grid import Grid

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


def collection(features: Features, numbers: Sequence[int], grid: Grid) -> str:
    """Features as a GeoJSON text with coordinates in a grid's CRS, each with its number as id.

    Beside its properties a feature has its `length` in metres or its `area` in square metres on the ground, by the size of
    the CRS's units in the middle of the grid. What the CRS cannot express is left out.
    """
    column = "\0number"  # no file has a column of that name
    held = replace(features, attributes={**features.attributes, column: list(numbers)}).in_crs(grid.crs)
    flat = shapely.force_2d(held.geometries)
    shapes = shapely.transform(flat, lambda places: np.round(places, _DECIMALS)) if len(held) else flat
    on_ground = shapely.transform(flat, lambda places: places * grid.metres_per_unit())
    sizes = {1: ("length", shapely.length(on_ground)), 2: ("area", shapely.area(on_ground))}
    dimensions = shapely.get_dimensions(flat)
    parts: list[str] = []
    for i, shape in enumerate(shapely.to_geojson(shapes)):
        row: dict[str, Any] = held.row(i)
        number = row.pop(column)
        name, values = sizes.get(int(dimensions[i]), ("", None))
        size = f'"{name}":{values[i]:.2f},' if values is not None else ""
        parts.append(f'{{"type":"Feature","id":{number},{size}"properties":{json.dumps(row)},"geometry":{shape}}}')
    return '{"type":"FeatureCollection","features":[' + ",".join(parts) + "]}"


def geojson(holding: Holding) -> str:
    """A holding as a GeoJSON text with coordinates in the frame's CRS."""
    held = features_of(holding)
    return collection(held, range(len(held)), holding.project.frame.grid)
