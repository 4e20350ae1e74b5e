"""Who may do what: the one check that every endpoint of a project begins with."""

from __future__ import annotations

from django.http import Http404, HttpRequest
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.projects.models import Membership, Project

_RANK = {Membership.Role.VIEWER: 0, Membership.Role.EDITOR: 1, Membership.Role.OWNER: 2}
_NEEDS = {Membership.Role.EDITOR: "Only editors and owners of this project can do that.",
          Membership.Role.OWNER: "Only an owner of this project can do that."}  # fmt: skip


def membership(request: HttpRequest, project_id: int, role: str = Membership.Role.VIEWER) -> Membership:
    """The signed-in person's membership. 404 for outsiders, who cannot tell that the project exists; 403 for
    members whose role does not reach."""
    found = Membership.objects.select_related("project").filter(project_id=project_id, user=person(request)).first()
    if found is None:
        raise Http404
    if _RANK[Membership.Role(found.role)] < _RANK[Membership.Role(role)]:
        raise HttpError(403, _NEEDS[Membership.Role(role)])
    return found


def open_project(request: HttpRequest, project_id: int, role: str = Membership.Role.VIEWER) -> Project:
    """The project, where the signed-in person has at least `role` in it; see `membership`."""
    return membership(request, project_id, role).project
