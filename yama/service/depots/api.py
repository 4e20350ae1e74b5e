"""Ordering from providers: compare products, see what covers an area, order, watch it come in; fetch map features."""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import Annotated, Any, Literal

import numpy as np
from django.core.cache import cache
from django.db import transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Field, Router, Schema
from ninja.errors import HttpError
from pyproj import Transformer

from yama.service.accounts.people import person
from yama.service.depots import client
from yama.service.depots.models import Order, Part
from yama.service.holdings.models import working_folder
from yama.service.jobs.api import AcceptedOut, cancel_job
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.service.surfaces.keys import quick_look_path
from yama.terrain.apart import readers
from yama.terrain.errors import InputError
from yama.terrain.files import put_in_place
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.kinds.surface import CELLS

router = Router(tags=["depots"])

_MOST_COUNTED = 5_000
"""Features whose kinds and names are counted."""
_MOST_SAID = 3
"""Kinds and names that a title says."""
_KNOWN_SECONDS = 600
_ASK_AGAIN_SECONDS = 3
_EDGE_POINTS = 9
_MOST_PARTS = 400
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


class OrderIn(Schema):
    """Whole tiles by name, or a cut-out of an area at a cell size in units of the product's CRS."""

    depot: str
    kind: Literal["tiles", "cut_out"]
    tiles: list[str] = Field([], max_length=_MOST_PARTS)
    bounds: tuple[float, float, float, float] | None = None
    cell_size: float | None = Field(None, gt=0)


class PartOut(Schema):
    """One file of an order and how it stands."""

    id: int
    name: str
    standing: str
    size: int
    received: int
    tries: int
    note: str
    try_in: float | None
    holding_id: int | None


class OrderOut(Schema):
    """An order."""

    id: int
    depot: str
    title: str
    kind: str
    created_at: Any
    parts: list[PartOut]


class PlaceOut(Schema):
    """A named place in the frame's CRS."""

    name: str
    x: float
    y: float


class CollectionOut(Schema):
    """A collection of map features and the kinds in it."""

    name: str
    title: str
    kinds: list[str]


class ValueOut(Schema):
    """How many features have a kind and a name; either may be empty."""

    kind: str
    name: str
    count: int


class FetchIn(Schema):
    """Features to fetch: of a collection, with any of the kinds and names where some are given, in an area or in all of
    the frame."""

    collection: str = Field(pattern=r"^[a-z_]{1,40}$")
    kinds: list[Annotated[str, Field(max_length=60)]] = Field([], max_length=20)
    names: list[Annotated[str, Field(max_length=60)]] = Field([], max_length=20)
    bounds: tuple[float, float, float, float] | None = None


# -- products -----------------------------------------------------------------------------------------------


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
        "cell_size": _first(said, "cell_size"), "down_for": None, "reason": "",
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


def _known(depot: str) -> tuple[client.Provider, dict[str, Any]]:
    provider = client.providers().get(depot)
    if provider is None:
        raise InputError(f"{depot} is not a provider that is configured here.")
    product = _ask(provider)
    if not product.get("product"):
        raise HttpError(503, product["reason"])
    return provider, product


def _turned(source: str, target: str, bounds: Any) -> list[float]:
    """The box in another CRS around a box. Raises InputError where it has none."""
    turn = Transformer.from_crs(parse_crs(source), parse_crs(target), always_xy=True)
    box = [float(value) for value in turn.transform_bounds(bounds[0], bounds[1], bounds[2], bounds[3])]
    if not np.isfinite(box).all():
        raise InputError("That area cannot be expressed in the provider's CRS. Choose one nearer to the frame.")
    return box


def _checked(bounds: Any, frame: Grid) -> list[float]:
    west, south, east, north = bounds
    if not (np.isfinite(bounds).all() and west < east and south < north):
        raise InputError("The area is not a rectangle: west must be less than east, south less than north.")
    around = frame.bounds
    width, height = around.east - around.west, around.north - around.south
    if (
        west < around.west - 20 * width
        or east > around.east + 20 * width
        or south < around.south - 20 * height
        or north > around.north + 20 * height
    ):
        raise InputError("That area lies far outside the frame. Choose one near it.")
    return [float(value) for value in bounds]


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
    bounds = _checked(body.bounds, frame)
    provider, product = _known(depot)
    own = _turned(frame.crs, product["crs"], bounds)
    width, height, cell = own[2] - own[0], own[3] - own[1], product["cell_size"]
    answer: dict[str, Any] = {
        "depot": depot, "product": product["product"], "tiles": [], "cells": round(width / cell) * round(height / cell),
        "finest": finest_cell(width, height, cell, product["max_cells"]), "cell_size": cell,
        "max_cells": product["max_cells"], "unit": "°" if parse_crs(product["crs"]).is_geographic else "m",
    }  # fmt: skip
    try:
        items = client.search(provider, product["product"], _turned(frame.crs, "EPSG:4326", bounds))
    except client.DepotError as error:
        return {**answer, "reason": str(error)}
    standing = _standing(project, depot)
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


def _standing(project: Project, depot: str) -> dict[str, Part]:
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
    provider, product = _known(depot)
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


# -- orders -------------------------------------------------------------------------------------------------


def _order_out(order: Order) -> dict[str, Any]:
    now = timezone.now()
    return {
        "id": order.pk, "depot": order.depot, "title": order.title, "kind": order.kind, "created_at": order.created_at,
        "parts": [
            {
                "id": part.pk, "name": part.name, "standing": part.standing, "size": part.size, "received": part.received,
                "tries": part.tries, "holding_id": part.holding_id if part.holding and part.holding.deleted_at is None else None,
                "note": part.job.message if part.job and part.standing in ("failed", "cancelled") else part.note,
                "try_in": max((part.try_at - now).total_seconds(), 0.0) if part.try_at else None,
            }
            for part in order.parts.all()
        ],
    }  # fmt: skip


@router.get("/{int:project_id}/orders", response=list[OrderOut])
def orders(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """The newest orders, newest first."""
    project = open_project(request, project_id)
    found = Order.objects.filter(project=project).prefetch_related("parts__job", "parts__holding")[:30]
    return [_order_out(order) for order in found]


@router.post("/{int:project_id}/orders", response={202: OrderOut, 200: OrderOut, 422: Failure, 503: Failure})
def order(request: HttpRequest, project_id: int, body: OrderIn) -> Any:
    """Order tiles or a cut-out. Tiles that were ordered before and came or are coming are not ordered twice."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    provider, product = _known(body.depot)
    if body.kind == "cut_out":
        return 202, _order_cut_out(request, project, product, body)
    if not body.tiles:
        raise InputError("Choose at least one tile.")
    frame = project.frame.grid
    around = _turned(frame.crs, "EPSG:4326", _grown(frame))
    try:
        items = {item["id"]: item for item in client.search(provider, product["product"], around)}
    except client.DepotError as error:
        raise HttpError(503, str(error)) from error
    strange = [name for name in body.tiles if name not in items]
    if strange:
        raise InputError(f"{product['title']} has no tile {', '.join(strange[:5])} near the frame.")
    standing = _standing(project, body.depot)
    wanted = [
        name
        for name in dict.fromkeys(body.tiles)
        if name not in standing or standing[name].standing in ("failed", "cancelled")
    ]
    if not wanted:
        latest = Order.objects.filter(project=project, depot=body.depot, kind="tiles").first()
        assert latest is not None, "a part that stands belongs to an order"
        return 200, _order_out(latest)
    with transaction.atomic():
        made = Order.objects.create(
            project=project, depot=body.depot, product=product["product"], title=product["title"], kind="tiles",
            request={"datum": product["datum"] or ""}, created_by=person(request),
        )  # fmt: skip
        for name in wanted:
            asset = items[name]["assets"]["data"]
            checksum = str(asset.get("file:checksum", ""))
            part = Part.objects.create(
                order=made, name=name, href=asset["href"], size=asset.get("file:size", 0),
                sha256=checksum[4:] if checksum.startswith("1220") and len(checksum) == 68 else "",
            )  # fmt: skip
            _start(request, project, part, f"{product['title']} {name}")
    return 202, _order_out(Order.objects.prefetch_related("parts__job", "parts__holding").get(pk=made.pk))


def _grown(frame: Grid) -> list[float]:
    west, south, east, north = frame.bounds
    return [
        west - 3 * (east - west),
        south - 3 * (north - south),
        east + 3 * (east - west),
        north + 3 * (north - south),
    ]


def _start(request: HttpRequest, project: Project, part: Part, title: str) -> None:
    part.job = submit(project, "fetch", f"Fetch {title}", {"part": part.pk}, person(request).pk)
    part.save(update_fields=["job"])


def _order_cut_out(request: HttpRequest, project: Project, product: dict[str, Any], body: OrderIn) -> dict[str, Any]:
    if body.bounds is None or body.cell_size is None:
        raise InputError("A cut-out needs an area and a cell size.")
    own = _turned(project.frame.grid.crs, product["crs"], _checked(body.bounds, project.frame.grid))
    cell = body.cell_size
    # whole cells from round coordinates, so that neighbouring cut-outs fit together
    own = [float(np.floor(own[0] / cell) * cell), float(np.floor(own[1] / cell) * cell),
           float(np.ceil(own[2] / cell) * cell), float(np.ceil(own[3] / cell) * cell)]  # fmt: skip
    cells = round((own[2] - own[0]) / cell) * round((own[3] - own[1]) / cell)
    if cells > product["max_cells"]:
        least = finest_cell(own[2] - own[0], own[3] - own[1], product["cell_size"], product["max_cells"])
        raise InputError(
            f"{cells} cells are over the limit of {product['max_cells']}. The finest that fits is {least:g}."
        )
    number = Order.objects.filter(project=project, kind="cut_out").count() + 1
    with transaction.atomic():
        made = Order.objects.create(
            project=project, depot=body.depot, product=product["product"], title=product["title"], kind="cut_out",
            request={"bounds": own, "cell_size": cell, "datum": product["datum"] or ""}, created_by=person(request),
        )  # fmt: skip
        part = Part.objects.create(order=made, name=f"cut-out {number}", href="")
        _start(request, project, part, f"{product['title']} {part.name}")
    return _order_out(Order.objects.prefetch_related("parts__job", "parts__holding").get(pk=made.pk))


@router.post("/{int:project_id}/orders/{int:order_id}/cancel", response=OrderOut)
def cancel(request: HttpRequest, project_id: int, order_id: int) -> dict[str, Any]:
    """Cancel what has not arrived of an order."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    found = get_object_or_404(Order, pk=order_id, project=project)
    for part in found.parts.exclude(state=Part.State.RECEIVED).select_related("job"):
        if part.job is not None and part.job.state in Job.OPEN:
            cancel_job(request, project_id, part.job.pk)
            part.part_path.unlink(missing_ok=True)
    return _order_out(Order.objects.prefetch_related("parts__job", "parts__holding").get(pk=found.pk))


# -- map features -------------------------------------------------------------------------------------------


@router.get("/{int:project_id}/places", response={200: list[PlaceOut], 503: Failure})
def places(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """Named places that Waymark knows, in the frame's CRS."""
    project = open_project(request, project_id)
    found = cache.get("depot:places")
    if found is None:
        try:
            found = [
                {"name": feature["properties"]["name"], "at": feature["geometry"]["coordinates"]}
                for feature in client.features("places", None, {})
            ]
        except client.DepotError as error:
            raise HttpError(503, str(error)) from error
        except (KeyError, TypeError) as error:
            raise HttpError(503, "Waymark did not answer as its standard asks.") from error
        cache.set("depot:places", found, _KNOWN_SECONDS)
    turn = Transformer.from_crs("EPSG:4326", parse_crs(project.frame.grid.crs), always_xy=True)
    placed = [{"name": one["name"], **dict(zip("xy", turn.transform(*one["at"]), strict=True))} for one in found]
    return sorted((one for one in placed if np.isfinite([one["x"], one["y"]]).all()), key=lambda one: one["name"])


@router.get("/{int:project_id}/feature-collections", response={200: list[CollectionOut], 503: Failure})
def feature_collections(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """What map features Waymark has."""
    open_project(request, project_id)
    try:
        found = client.feature_collections()
    except client.DepotError as error:
        raise HttpError(503, str(error)) from error
    return [
        {
            "name": one["id"],
            "title": one.get("title", one["id"]),
            "kinds": [kind for kind in one.get("kinds", []) if kind],
        }
        for one in found
    ]


@router.get(
    "/{int:project_id}/feature-collections/{name}/values", response={200: list[ValueOut], 422: Failure, 503: Failure}
)
def feature_values(request: HttpRequest, project_id: int, name: str) -> list[dict[str, Any]]:
    """The kinds and names of a collection in the frame's area: how many features have each pair, the most first."""
    project = open_project(request, project_id)
    if not re.fullmatch(r"[a-z_]{1,40}", name):
        raise InputError(f"There is no collection {name[:40]!r}.")
    frame = project.frame.grid
    box = _turned(frame.crs, "EPSG:4326", list(frame.bounds))
    key = f"depot:values:{name}:{hashlib.sha256(repr(box).encode()).hexdigest()}"
    found: list[dict[str, Any]] | None = cache.get(key)
    if found is None:
        counts: Counter[tuple[str, str]] = Counter()
        try:
            for feature in islice(client.features(name, box, {}), _MOST_COUNTED):
                told = feature["properties"]
                counts[str(told.get("kind") or ""), str(told.get("name") or "")] += 1
        except client.DepotError as error:
            raise HttpError(503, str(error)) from error
        except (KeyError, TypeError, AttributeError) as error:
            raise HttpError(503, "Waymark did not answer as its standard asks.") from error
        found = [{"kind": kind, "name": called, "count": count} for (kind, called), count in counts.most_common()]
        cache.set(key, found, _KNOWN_SECONDS)
    return found


@router.post("/{int:project_id}/features", response={202: AcceptedOut, 422: Failure})
def fetch(request: HttpRequest, project_id: int, body: FetchIn) -> tuple[int, dict[str, Any]]:
    """Fetch map features into the project, as a job."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    frame = project.frame.grid
    bounds = _checked(body.bounds, frame) if body.bounds else list(frame.bounds)
    said = [*body.kinds, *body.names]
    title = " ".join(
        [body.collection.replace("_", " ").capitalize(), *said[:_MOST_SAID], *(["…"] if said[_MOST_SAID:] else [])]
    )
    data = {
        "collection": body.collection,
        "kinds": body.kinds,
        "names": body.names,
        "bbox": _turned(frame.crs, "EPSG:4326", bounds),
        "title": title,
    }
    return 202, {"job": submit(project, "features", f"Fetch {title}", data, person(request).pk)}
