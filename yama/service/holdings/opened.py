"""A holding that somebody asks for."""

from __future__ import annotations

from django.http import HttpRequest
from django.shortcuts import get_object_or_404

from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership


def open_holding(request: HttpRequest, project_id: int, holding_id: int, role: str = Membership.Role.VIEWER) -> Holding:
    """A holding of a project in which the person has at least that role. Raises Http404, HttpError."""
    project = open_project(request, project_id, role)
    holding: Holding = get_object_or_404(Holding, pk=holding_id, project=project)
    return holding
