"""Networks that are kept beside each other, and the figures of each."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Router, Schema

from yama.service.draining.api import StreamOrderOut
from yama.service.draining.drained import Asked, NetworkIn
from yama.service.draining.figures import AgainstIn, NetworkFiguresIn, figures_of
from yama.service.draining.models import KeptNetwork
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.terrain.errors import InputError
from yama.terrain.surface import digest

router = Router(tags=["draining"])

_MOST = 30


class KeptNetworkOut(Schema):
    """Streams that are kept beside others, as they were asked for."""

    id: int
    content: NetworkIn


class KeepNetworkIn(NetworkIn):
    """What is kept. against: what it is held against, in a report too."""

    against: AgainstIn | None = None


class NetworkFiguresOut(Schema):
    """What is told of a network; known as of streams. count, length: of all streams, in metres. density: kilometres of
    them on a square kilometre of the surface's ground. unsure_length: metres over level ground. found, own_near, mean:
    as of likeness; null where there is no reference. catchment: square kilometres; null where no outlet is given, or
    where it has none, which `reason` explains."""

    known: bool
    begins_at: float = 0.0
    count: int = 0
    length: float = 0.0
    density: float = 0.0
    unsure_length: float = 0.0
    orders: list[StreamOrderOut] = []
    found: float | None = None
    own_near: float | None = None
    mean: float | None = None
    catchment: float | None = None
    reason: str = ""


@router.get("/{int:project_id}/drainage/networks", response=list[KeptNetworkOut])
def list_networks(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """The networks that are kept, from the first to the last."""
    project = open_project(request, project_id)
    return [_told(one) for one in KeptNetwork.objects.filter(project=project)]


@router.post("/{int:project_id}/drainage/networks", response={200: KeptNetworkOut, 422: Failure})
def keep_network(request: HttpRequest, project_id: int, body: KeepNetworkIn) -> dict[str, Any]:
    """Keep a network beside the others; of one that is kept already only what it is held against changes."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    Asked.of(project, body)  # what cannot be asked for is not kept
    content, against = body.model_dump(exclude={"against"}), body.against.model_dump() if body.against else {}
    mark = digest("network", content)[:64]
    held = KeptNetwork.objects.filter(project=project)
    if not held.filter(mark=mark).exists() and held.count() >= _MOST:
        raise InputError(f"{_MOST} networks are kept. Remove one before you keep another.")
    values = {"content": content, "against": against}
    return _told(KeptNetwork.objects.update_or_create(project=project, mark=mark, defaults=values)[0])


@router.delete("/{int:project_id}/drainage/networks/{int:network_id}", response={204: None})
def remove_network(request: HttpRequest, project_id: int, network_id: int) -> tuple[int, None]:
    """Keep a network no longer. What was made of it stays."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    get_object_or_404(KeptNetwork, pk=network_id, project=project).delete()
    return 204, None


def _told(one: KeptNetwork) -> dict[str, Any]:
    return {"id": one.pk, "content": one.content}


@router.post("/{int:project_id}/drainage/figures", response={200: NetworkFiguresOut, 422: Failure})
def read_figures(request: HttpRequest, project_id: int, body: NetworkFiguresIn) -> dict[str, Any]:
    """Figures of a network."""
    project = open_project(request, project_id)
    return figures_of(Asked.of(project, body), body) or {"known": False}
