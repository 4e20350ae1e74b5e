"""Products of the providers: compared, with what covers an area, and looked at before anything is ordered."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from django.core.cache import cache
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError
from pyproj import Transformer

from yama.service.depots import client
from yama.service.depots.areas import checked, turned
from yama.service.depots.models import Part
from yama.service.holdings.models import working_folder
from yama.service.projects.access import open_project
from yama.service.projects.models import Project
from yama.service.schemas import Failure
from yama.service.surfaces.keys import quick_look_path
from yama.terrain.apart import readers
from yama.terrain.errors import InputError
from yama.terrain.files import put_in_place
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.kinds.surface import CELLS

router = Router(tags=["depots"])

_KNOWN_SECONDS = 600
_ASK_AGAIN_SECONDS = 3
_EDGE_POINTS = 9
_ROUND = (1, 2, 3, 4, 5, 6, 8, 10)


class ProductOut(Schema):
    """A product as one compares it. resolution: cell in metres as its provider says. down_for: seconds until a provider
    that is down may be asked again; null where it answers. The rest is null while it has never answered."""

    depot: str
    title: str
    product: str
    resolution: float | None = None
    reference: str | None = None
    le90: float | None = None
    year: int | None = None
    voids: str | None = None
    canopy: bool | None = None
    crs: str | None = None
    datum: str | None = None
    max_cells: int | None = None
    cell_size: float | None = None
    licence: str | None = None
    down_for: float | None = None
    reason: str = ""


class AreaIn(Schema):
    """An area in the frame's CRS: west, south, east, north."""

    bounds: tuple[float, float, float, float]


class TileOut(Schema):
    """A tile that touches the area. ring: its outline in the frame's CRS. standing: of its newest order here."""

    name: str
    bytes: int
    cells: int
    ring: list[tuple[float, float]]
    part_id: int | None
    standing: str
    holding_id: int | None


class CoverOut(Schema):
    """What a product has for an area. cells: a cut-out at its own cell size; finest: the smallest cell, in units of the
    product's CRS, at which a cut-out keeps within its limit."""

    depot: str
    product: str
    tiles: list[TileOut]
    cells: int
    finest: float | None
    cell_size: float
    max_cells: int
    unit: str
    reason: str = ""


def _first(summaries: dict[str, Any], name: str) -> Any:
    values = summaries.get(name) or [None]
    return values[0] if isinstance(values, list) else values


def _product(provider: client.Provider, held: dict[str, Any]) -> dict[str, Any]:
    said = held.get("summaries", {})
    return {
        "depot": provider.name, "title": held.get("title") or held["id"], "product": held["id"],
        "resolution": _first(said, "gsd"), "reference": _first(said, "reference_surface"),
        "le90": _first(said, "vertical_accuracy_le90"), "year": int(held["extent"]["temporal"]["interval"][0][0][:4]),
        "voids": _first(said, "voids"), "canopy": _first(said, "canopy"), "crs": _first(said, "proj:code"),
        "datum": _first(said, "vertical_datum"), "max_cells": _first(said, "max_cells"),
        "cell_size": _first(said, "cell_size"), "licence": str(held.get("license") or "")[:60] or None,
        "down_for": None, "reason": "",
    }  # fmt: skip


def _ask(provider: client.Provider) -> dict[str, Any]:
    """A provider's product: what it says now, or what it said last with the reason why it says nothing now."""
    key = f"depot:{provider.name}"
    fresh = cache.get(f"{key}:fresh")
    if fresh is not None:
        return dict(fresh)
    try:
        product = _product(provider, client.collections(provider)[0])
        cache.set(key, product, _KNOWN_SECONDS)
        cache.set(f"{key}:fresh", product, 20)
    except (client.DepotError, KeyError, IndexError, ValueError, TypeError) as error:
        down = error.seconds if isinstance(error, client.DepotDownError) else 60.0
        reason = (
            str(error)
            if isinstance(error, client.DepotError)
            else f"{provider.title} did not answer as its standard asks."
        )
        known = cache.get(key) or {"depot": provider.name, "title": provider.title, "product": ""}
        product = {**known, "down_for": down, "reason": reason}
        cache.set(f"{key}:fresh", product, min(_ASK_AGAIN_SECONDS, down))
    return product


@router.get("/{int:project_id}/depots", response=list[ProductOut])
def products(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """The products of all configured providers, finest first; those that do not answer come last, with the reason."""
    open_project(request, project_id)
    asked = list(client.providers().values())
    with ThreadPoolExecutor(len(asked) or 1) as pool:
        found = list(pool.map(_ask, asked))
    return sorted(found, key=lambda one: (one.get("resolution") is None, one.get("resolution") or 0, one["depot"]))


def known(depot: str) -> tuple[client.Provider, dict[str, Any]]:
    """A provider and its product. Raises InputError for one that is not configured, HttpError for one that is down."""
    provider = client.providers().get(depot)
    if provider is None:
        raise InputError(f"{depot} is not a provider that is configured here.")
    product = _ask(provider)
    if not product.get("product"):
        raise HttpError(503, product["reason"])
    return provider, product


def _ring(bounds: list[float], source: str, frame: Grid) -> list[tuple[float, float]]:
    """The outline of a tile in the frame's CRS, bent as its edges are there."""
    west, south, east, north = bounds
    t = np.linspace(0, 1, _EDGE_POINTS)
    x = np.concatenate(
        [west + (east - west) * t, np.full(t.size, east), east - (east - west) * t, np.full(t.size, west)]
    )
    y = np.concatenate(
        [np.full(t.size, south), south + (north - south) * t, np.full(t.size, north), north - (north - south) * t]
    )
    turn = Transformer.from_crs(parse_crs(source), parse_crs(frame.crs), always_xy=True)
    xs, ys = turn.transform(x, y)
    return [(round(float(a), 2), round(float(b), 2)) for a, b in zip(xs, ys, strict=True)]


def finest_cell(width: float, height: float, cell: float, most: int) -> float:
    """The smallest round cell at which an area keeps within a limit of cells: the product's own, or 1, 2, 3, 4, 5, 6, 8
    or 10 times it, or of ten times it..."""
    scale = cell
    while True:
        for step in _ROUND:
            size = scale * step
            if round(width / size) * round(height / size) <= most and max(width, height) / size <= 4000:
                return size
        scale *= 10


@router.post("/{int:project_id}/depots/{depot}/cover", response={200: CoverOut, 422: Failure, 503: Failure})
def cover(request: HttpRequest, project_id: int, depot: str, body: AreaIn) -> Any:
    """The tiles of a provider that touch an area, how they stand here, and what a cut-out would cost."""
    project = open_project(request, project_id)
    frame = project.frame.grid
    bounds = checked(body.bounds, frame)
    provider, product = known(depot)
    own = turned(frame.crs, product["crs"], bounds)
    width, height, cell = own[2] - own[0], own[3] - own[1], product["cell_size"]
    answer: dict[str, Any] = {
        "depot": depot, "product": product["product"], "tiles": [], "cells": round(width / cell) * round(height / cell),
        "finest": finest_cell(width, height, cell, product["max_cells"]), "cell_size": cell,
        "max_cells": product["max_cells"], "unit": "°" if parse_crs(product["crs"]).is_geographic else "m",
    }  # fmt: skip
    try:
        items = client.search(provider, product["product"], turned(frame.crs, "EPSG:4326", bounds))
    except client.DepotError as error:
        return {**answer, "reason": str(error)}
    standing = newest_parts(project, depot)
    for item in items:
        said, asset = item["properties"], item["assets"]["data"]
        box = said["proj:bbox"]
        if box[0] >= own[2] or box[2] <= own[0] or box[1] >= own[3] or box[3] <= own[1]:
            continue  # the box in degrees is larger than the area
        part = standing.get(item["id"])
        answer["tiles"].append(
            {
                "name": item["id"], "bytes": asset.get("file:size", 0), "ring": _ring(box, said["proj:code"], frame),
                "cells": said["proj:shape"][0] * said["proj:shape"][1], "part_id": part.pk if part else None,
                "standing": part.standing if part else "", "holding_id": part.holding_id if part else None,
            }
        )  # fmt: skip
    return answer


def newest_parts(project: Project, depot: str) -> dict[str, Part]:
    """The newest part of each tile that was ordered of a depot; one whose holding was deleted since does not count."""
    found: dict[str, Part] = {}
    parts = Part.objects.filter(order__project=project, order__depot=depot, order__kind="tiles").select_related(
        "job", "holding"
    )
    for part in parts.order_by("pk"):
        gone = part.holding is None or part.holding.deleted_at is not None
        if part.state == Part.State.RECEIVED and gone:
            found.pop(part.name, None)
        else:
            found[part.name] = part
    return found


@router.post("/{int:project_id}/depots/{depot}/quick-look", response={200: dict[str, str], 422: Failure, 503: Failure})
def quick_look(request: HttpRequest, project_id: int, depot: str) -> dict[str, str]:
    """Fetch a product's overview; returns the key under which it can be looked at as any surface."""
    project = open_project(request, project_id)
    provider, product = known(depot)
    key = f"quick-{depot}"
    path = quick_look_path(project.pk, key)
    if not path.exists():
        name = f"The overview of {product['title']}"
        with working_folder(project.pk) as folder:
            raw = folder / "overview.tif"
            try:
                client.download(client.Session(provider), f"{provider.root}/overview.tif", raw, 0, "", lambda _: None)
            except client.DepotError as error:
                raise HttpError(503, str(error)) from error
            crs = project.frame.grid.crs
            taken = readers.take(raw, Declared(), name, crs, crs, folder)
            void = next(
                (one.fix.set_params["nodata"] for one in taken.findings if one.code == "void_value" and one.fix), None
            )
            if void is not None:
                readers.take(raw, Declared(nodata=void), name, crs, crs, folder)
            put_in_place(folder / CELLS, path)
    return {"key": key, "name": f"{product['title']} quick look"}
