"""Water standing in a lake at any level, in many surfaces at once."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import shapely
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, kind_of
from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.features import turned
from yama.terrain.fit.clip import named_polygons
from yama.terrain.grid import Bounds, turn_between
from yama.terrain.judge.water import Basin, Unlike, basin, lowland, unlike
from yama.terrain.kept import Kept

router = Router(tags=["judging"])

_STEPS = 120
_VERTICES = 4_000
_basins: Kept[tuple[str, bytes], Basin] = Kept(64)


class WaterIn(Schema):
    """A lake, or a part of the ground. features, lake: the polygon of a number among those of a holding, the largest
    where null. bounds: where features is null, the part in which all that is lower than the level is under water, in
    the frame's CRS. surfaces: in which water stands; the others are compared with `to`, the first of them where null.
    level: in metres, that of `to` where null."""

    surfaces: list[int] = Field(min_length=1, max_length=20)
    features: int | None = None
    lake: int | None = None
    bounds: tuple[float, float, float, float] | None = None
    to: int | None = None
    level: float | None = Field(None, ge=-20_000, le=20_000)


class LakeOut(Schema):
    """A lake that can be chosen. area: in square metres. at: a place in it, in frame coordinates."""

    number: int
    name: str
    area: float
    at: tuple[float, float]


class UnlikeOut(Schema):
    """How a basin differs from that of the surface it is compared with, as the core's `Unlike`."""

    offset: float | None
    rim: float | None
    shared: float | None
    shared_put_right: float | None
    likeness: float
    verdict: Literal["", "alike", "offset", "shape"]


class BasinOut(Schema):
    """Water in a surface; reason says why there is none. level, flatness, rim, spill, cell: in metres, as the core's
    `Basin`. areas, volumes: at `levels`. area, volume: at the level that is asked for. shore: in frame coordinates."""

    id: int
    name: str
    reason: str
    level: float | None = None
    flatness: float | None = None
    filled: float | None = None
    rim: list[float | None] = []
    spill: float | None = None
    cell: float | None = None
    areas: list[float] = []
    volumes: list[float] = []
    area: float | None = None
    volume: float | None = None
    spilled: bool = False
    unlike: UnlikeOut | None = None
    shore: list[list[tuple[float, float]]] = []


class WaterOut(Schema):
    """Water in surfaces at a level. levels: in metres, from where the first is wet to where the last runs out."""

    lake: int | None
    to: int | None
    level: float | None
    levels: list[float]
    basins: list[BasinOut]


def _polygons(project: Project, number: int) -> tuple[list[shapely.Polygon], list[str]]:
    """The polygons of a holding in the frame's CRS, with their names, the largest first."""
    holding = get_object_or_404(Holding, pk=number, project=project)
    if kind_of(holding) is not FEATURES:
        raise InputError(f"{holding.name} holds no polygons. Choose lakes.")
    found = named_polygons([features_of(holding)], "name", project.frame.grid.crs)
    if not found:
        raise InputError(f"{holding.name} holds no polygons. Choose lakes.")
    found.sort(key=lambda each: -each[0].area)
    return [polygon for polygon, _ in found], [name for _, name in found]


def _basin(holding: Holding, place: shapely.Polygon | Bounds, crs: str) -> Basin:
    if isinstance(place, shapely.Polygon):
        return _lake(holding, place, crs)
    own = holding.facts["grid"]["crs"]
    bounds = place if own == crs else Bounds(*turn_between(crs, own).transform_bounds(*place))
    mark = np.array(bounds).tobytes()
    return _basins.get((holding.key, mark), lambda: lowland(keys.surface_of_holding(holding), bounds))


def _lake(holding: Holding, lake: shapely.Polygon, crs: str) -> Basin:
    own = turned(lake, crs, holding.facts["grid"]["crs"])
    return _basins.get((holding.key, own.wkb), lambda: basin(keys.surface_of_holding(holding), own))


def _shore(found: Basin, level: float, crs: str) -> list[list[tuple[float, float]]]:
    """Lines that can be drawn: not finer than a cell is wide, the longest first."""
    lines = [shapely.LineString(line) for line in found.outline(level) if len(line) > 1]
    lines.sort(key=lambda one: -one.length)
    turn = turn_between(found.grid.crs, crs).transform
    told: list[list[tuple[float, float]]] = []
    left = _VERTICES
    for line in lines:
        places = shapely.get_coordinates(shapely.simplify(line, found.grid.cell_width / 4))
        left -= len(places)
        if left < 0:
            break
        x, y = turn(places[:, 0], places[:, 1])
        told.append(list(zip(np.asarray(x).tolist(), np.asarray(y).tolist(), strict=True)))
    return told


@router.get("/{int:project_id}/lakes/{int:holding_id}", response={200: list[LakeOut], 422: Failure})
def read_lakes(request: HttpRequest, project_id: int, holding_id: int) -> list[dict[str, Any]]:
    """The polygons of a holding as lakes that can be chosen, the largest first, a thousand at most."""
    project = open_project(request, project_id)
    polygons, names = _polygons(project, holding_id)
    ground = float(np.prod(project.frame.grid.metres_per_unit()))
    told = []
    for number, (polygon, name) in enumerate(zip(polygons[:1000], names, strict=False)):
        at = polygon.representative_point()
        told.append({"number": number, "name": name, "area": polygon.area * ground, "at": (at.x, at.y)})
    return told


def _place(project: Project, body: WaterIn) -> tuple[int | None, shapely.Polygon | Bounds]:
    """Where water is to stand, and the number of the lake that it is."""
    if (body.features is None) == (body.bounds is None):
        raise InputError("Water stands in a lake or in a part of the ground. Choose one of the two.")
    if body.bounds is not None:
        bounds = Bounds(*body.bounds)
        if not all(np.isfinite(bounds)) or bounds.west >= bounds.east or bounds.south >= bounds.north:
            raise InputError(
                "The part that is asked for has no extent. Give west, south, east and north of a rectangle."
            )
        return None, bounds
    assert body.features is not None
    polygons, _ = _polygons(project, body.features)
    number = body.lake or 0
    if not 0 <= number < len(polygons):
        raise InputError(f"There are {len(polygons)} lakes, and none of number {number + 1}.")
    return number, polygons[number]


@router.post("/{int:project_id}/water", response={200: WaterOut, 422: Failure})
def read_water(request: HttpRequest, project_id: int, body: WaterIn) -> dict[str, Any]:
    """Water standing in a lake of many surfaces, or on all that is low in a part of them."""
    project = open_project(request, project_id)
    crs = project.frame.grid.crs
    number, place = _place(project, body)
    held = {one.pk: one for one in Holding.objects.filter(pk__in=body.surfaces, project=project)}
    surfaces = [held[one] for one in dict.fromkeys(body.surfaces) if one in held]
    basins: dict[int, Basin] = {}
    reasons: dict[int, str] = {}
    for one in surfaces:
        try:
            basins[one.pk] = _basin(one, place, crs)
        except InputError as error:
            reasons[one.pk] = str(error)
    to = body.to if body.to in basins else next(iter(basins), None)
    level = body.level if body.level is not None else (basins[to].level if to is not None else None)
    levels: list[float] = []
    if basins and level is not None:
        low = min(one.lowest for one in basins.values())
        high = max(one.highest for one in basins.values())
        levels = np.linspace(min(low, level - 1.0), max(high, level + 1.0), _STEPS).tolist()
    told = []
    for one in surfaces:
        found = basins.get(one.pk)
        if found is None or level is None:
            told.append({"id": one.pk, "name": one.name, "reason": reasons.get(one.pk, "")})
            continue
        curve = [found.at(each) for each in levels]
        wet = found.at(level)
        other: Unlike | None = unlike(found, basins[to], level) if to is not None and to != one.pk else None
        told.append(
            {
                "id": one.pk,
                "name": one.name,
                "reason": "",
                **found.to_dict(),
                "areas": [each.area for each in curve],
                "volumes": [each.volume for each in curve],
                "area": wet.area,
                "volume": wet.volume,
                "spilled": wet.spilled,
                "unlike": other.to_dict() if other is not None else None,
                "shore": _shore(found, level, crs),
            }
        )
    return {"lake": number, "to": to, "level": level, "levels": levels, "basins": told}
