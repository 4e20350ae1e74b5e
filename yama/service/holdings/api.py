"""Holdings of a project: list, rename, delete."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.holdings.deleted import DeletedOut, put_away
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.holdings.told import HoldingOut, told
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure

router = Router(tags=["holdings"])


class RenameIn(Schema):
    """A new name."""

    name: str = Field(min_length=1, max_length=120)


@router.get("/{int:project_id}/holdings", response=list[HoldingOut])
def list_holdings(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """All holdings, newest first."""
    project = open_project(request, project_id)
    held = list(project.holdings.prefetch_related("scorecards"))
    by_key = {holding.key: holding for holding in held}
    return [told(holding, project, by_key) for holding in held]


@router.patch("/{int:project_id}/holdings/{int:holding_id}", response={200: HoldingOut, 409: Failure})
def rename(request: HttpRequest, project_id: int, holding_id: int, body: RenameIn) -> dict[str, Any]:
    """Give a holding another name."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    name = body.name.strip()
    if Holding.objects.filter(project_id=project_id, name=name).exclude(pk=holding.pk).exists():
        raise HttpError(409, f"The project has a holding called {name} already.")
    holding.name = name
    holding.save(update_fields=["name"])
    by_key = {other.key: other for other in holding.project.holdings.all()}
    return told(holding, holding.project, by_key)


@router.delete("/{int:project_id}/holdings/{int:holding_id}", response={200: DeletedOut, 409: Failure})
def delete(request: HttpRequest, project_id: int, holding_id: int, sure: bool = False) -> dict[str, object]:
    """Delete a holding; for a week it can be had back. Refused while a live surface is computed from it or a job uses it, and where
    anything goes with it unless `sure`."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    return put_away(project, holding_id, person(request), sure)
