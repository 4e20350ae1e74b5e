"""Which points judge the surfaces of a project."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.holdings.kinds import POINTS, kind_of
from yama.service.holdings.models import Holding
from yama.service.judging.work import request_judging
from yama.service.projects.access import membership
from yama.service.projects.api import ProjectOut, project_out
from yama.service.projects.models import Membership
from yama.service.schemas import Failure

router = Router(tags=["judging"])


class CheckpointsIn(Schema):
    """Which points judge the surfaces; none where null."""

    holding_id: int | None


@router.put("/{int:project_id}/checkpoints", response={200: ProjectOut, 422: Failure})
def set_checkpoints(request: HttpRequest, project_id: int, body: CheckpointsIn) -> dict[str, Any]:
    """Choose the points that judge every surface of the project; all surfaces are judged again."""
    member = membership(request, project_id, Membership.Role.EDITOR)
    project = member.project
    if body.holding_id is not None:
        holding = get_object_or_404(Holding, pk=body.holding_id, project=project)
        if kind_of(holding) is not POINTS:
            raise HttpError(422, f"{holding.name} holds no points; checkpoints are points with heights.")
        project.checkpoints = holding
    else:
        project.checkpoints = None
    project.save(update_fields=["checkpoints"])
    if project.checkpoints is not None:
        request_judging(project, person(request).pk)
    return project_out(member)
