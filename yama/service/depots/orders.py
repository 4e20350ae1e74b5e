"""Orders of tiles and cut-outs: placed, watched while they come in, cancelled."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from django.db import transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.depots import client
from yama.service.depots.areas import checked, turned
from yama.service.depots.models import Order, Part
from yama.service.depots.products import finest_cell, known, newest_parts
from yama.service.jobs.api import cancel_job
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid

router = Router(tags=["depots"])

_MOST_PARTS = 400


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


def _said(product: dict[str, Any]) -> dict[str, Any]:
    """What a provider says of a product that its files do not."""
    return {"datum": product["datum"] or "", "year": product.get("year"), "licence": product.get("licence")}


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
    provider, product = known(body.depot)
    if body.kind == "cut_out":
        return 202, _order_cut_out(request, project, product, body)
    if not body.tiles:
        raise InputError("Choose at least one tile.")
    frame = project.frame.grid
    around = turned(frame.crs, "EPSG:4326", _grown(frame))
    try:
        items = {item["id"]: item for item in client.search(provider, product["product"], around)}
    except client.DepotError as error:
        raise HttpError(503, str(error)) from error
    strange = [name for name in body.tiles if name not in items]
    if strange:
        raise InputError(f"{product['title']} has no tile {', '.join(strange[:5])} near the frame.")
    standing = newest_parts(project, body.depot)
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
            request=_said(product), created_by=person(request),
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
    own = turned(project.frame.grid.crs, product["crs"], checked(body.bounds, project.frame.grid))
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
            request={"bounds": own, "cell_size": cell, **_said(product)}, created_by=person(request),
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
