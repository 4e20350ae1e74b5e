"""Opening surfaces to other programs, and closing them again."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Router, Schema

from yama.service.accounts.people import person
from yama.service.holdings.kinds import SURFACE
from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.service.sharing.models import Share
from yama.service.surfaces.dressed import DressIn

router = Router(tags=["sharing"])


class ShareIn(Schema):
    """A surface to open, and how its tiles are dressed."""

    holding: int
    dress: DressIn


class ShareOut(Schema):
    """An open surface. wmts: address of its capabilities; file: of its cells, empty for a live surface, which has none."""

    id: int
    holding_id: int
    name: str
    wmts: str
    file: str
    created_at: datetime


def _out(share: Share, request: HttpRequest) -> dict[str, Any]:
    base = request.build_absolute_uri(f"/open/{share.token}")
    return {
        "id": share.pk, "holding_id": share.holding_id, "name": share.holding.name,
        "wmts": f"{base}/1.0.0/WMTSCapabilities.xml", "file": "" if share.holding.live else f"{base}/surface.tif",
        "created_at": share.created_at,
    }  # fmt: skip


@router.get("/{int:project_id}/shares", response=list[ShareOut])
def list_shares(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """Surfaces of a project that are open, the newest first."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    return [
        _out(one, request)
        for one in Share.objects.filter(holding__project=project, holding__deleted_at=None).select_related("holding")
    ]


@router.post("/{int:project_id}/shares", response={201: ShareOut, 422: Failure})
def share(request: HttpRequest, project_id: int, body: ShareIn) -> tuple[int, dict[str, Any]]:
    """Open a surface to whoever has the address."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    holding = get_object_or_404(Holding, pk=body.holding, project=project, kind=SURFACE.name)
    body.dress.dress(project.frame.unit)
    made = Share.objects.create(holding=holding, dress=body.dress.model_dump(), created_by=person(request))
    return 201, _out(made, request)


@router.delete("/{int:project_id}/shares/{int:share_id}", response={204: None})
def close(request: HttpRequest, project_id: int, share_id: int) -> tuple[int, None]:
    """Close a surface: its address is no longer one."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    get_object_or_404(Share, pk=share_id, holding__project=project).delete()
    return 204, None
