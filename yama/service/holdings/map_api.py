"""What the map draws of holdings that are no surfaces."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from yama.service.holdings.features import features_of, geojson
from yama.service.holdings.holes import holes_geojson
from yama.service.holdings.kinds import CLOUD, FEATURES, POINTS, SURFACE
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.terrain import overview

router = Router(tags=["map"])

_VALUES = 200


class ColumnValueOut(Schema):
    """A value of a column, as text, and how many features have it."""

    value: str
    count: int


@router.get("/{int:project_id}/holdings/{int:holding_id}/points", include_in_schema=False)
def points(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """Points in the frame's CRS, for the map: float64 x, float64 y, float32 height, uint16 code, each `(count,)`.

    Codes are numbered as the holding lists them. Points that the frame's CRS cannot express are left out.
    """
    holding = open_holding(request, project_id, holding_id)
    POINTS.require(holding)
    held = POINTS.load(holding).in_crs(holding.project.frame.grid.crs)
    held = held.kept(np.isfinite(held.x) & np.isfinite(held.y))
    numbers = {code: number for number, code in enumerate(holding.facts["codes"])}
    codes = np.array([numbers[code] for code in held.codes] or np.zeros(len(held)), "<u2")
    heights = held.z if held.height_field in held.fields else np.full(len(held), np.nan)
    parts = (held.x.astype("<f8"), held.y.astype("<f8"), heights.astype("<f4"), codes)
    response = HttpResponse(b"".join(part.tobytes() for part in parts), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


@router.get("/{int:project_id}/holdings/{int:holding_id}/features", response=dict[str, Any])
def features(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """Map features as GeoJSON with coordinates in the frame's CRS; a feature's id is its number in the holding."""
    holding = open_holding(request, project_id, holding_id)
    FEATURES.require(holding)
    return HttpResponse(geojson(holding), content_type="application/geo+json")


@router.get("/{int:project_id}/holdings/{int:holding_id}/values", response=list[ColumnValueOut])
def values(request: HttpRequest, project_id: int, holding_id: int, column: str) -> list[dict[str, Any]]:
    """What stands in a column of features, the commonest first, two hundred at most; nothing of a column that is not
    there."""
    holding = open_holding(request, project_id, holding_id)
    FEATURES.require(holding)
    held = features_of(holding).attributes.get(column, [])
    counts = Counter(str(one) for one in held if one is not None)
    return [{"value": value, "count": count} for value, count in counts.most_common(_VALUES)]


@router.get("/{int:project_id}/holdings/{int:holding_id}/holes", response=dict[str, Any])
def holes(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """The largest holes of a surface as GeoJSON polygons in the frame's CRS, with `cells` and `area` in square metres."""
    holding = open_holding(request, project_id, holding_id)
    SURFACE.require(holding)
    return HttpResponse(holes_geojson(holding), content_type="application/geo+json")


@router.get("/{int:project_id}/holdings/{int:holding_id}/cloud", response=dict[str, Any])
def cloud(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """A cloud's overview for the map: corner and size in the frame's CRS, and its squares as level, column, row, first
    point, number of points."""
    return overview.index_of(_cloud(request, project_id, holding_id).overview_path)[0]


@router.get("/{int:project_id}/holdings/{int:holding_id}/cloud/{int:number}", include_in_schema=False)
def cloud_node(request: HttpRequest, project_id: int, holding_id: int, number: int) -> HttpResponse:
    """The points of one square of a cloud's overview, as `overview.RECORD`."""
    data = overview.node_bytes(_cloud(request, project_id, holding_id).overview_path, number)
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


def _cloud(request: HttpRequest, project_id: int, holding_id: int) -> Holding:
    holding = open_holding(request, project_id, holding_id)
    CLOUD.require(holding)
    return holding
