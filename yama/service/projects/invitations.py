"""Invitations: links by which an owner lets somebody into a project, with an account made on the way where there is none."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth import login
from django.contrib.auth.models import User
from django.db import IntegrityError, transaction
from django.db.models.functions import Lower
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from django.views.decorators.csrf import csrf_protect
from ninja import Field, Router, Schema
from ninja.decorators import decorate_view
from ninja.errors import HttpError

from yama.service.accounts.api import checked_password, count_tries
from yama.service.accounts.people import person
from yama.service.projects.access import open_project
from yama.service.projects.api import Role
from yama.service.projects.models import Invitation, Membership
from yama.service.schemas import Failure

of_project = Router(tags=["projects"])
public = Router(tags=["accounts"])

_DAYS = 7
_MOST_OPEN = 100
_GONE = "This invitation was used, taken back, or is too old. Ask whoever sent it for another."


class InvitationIn(Schema):
    """Invite somebody to a role."""

    role: Role


class InvitationOut(Schema):
    """An invitation that nobody has used yet."""

    id: int
    role: Role
    created_by: str
    expires_at: datetime


class NewInvitationOut(InvitationOut):
    """With the path of the link, which is told this once."""

    path: str


class InvitedOut(Schema):
    """What somebody is invited to, and by whom."""

    project: str
    role: Role
    invited_by: str


class NewPersonIn(Schema):
    """The account of somebody who has none: a user name, the name people know them by, and a password."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[\w.@+-]+$")
    full_name: str = Field("", max_length=100)
    password: str = Field(max_length=200)


class AcceptIn(Schema):
    """Accept an invitation as the person signed in, or as a new one."""

    new: NewPersonIn | None = None


class InvitationAcceptedOut(Schema):
    """The project that is open now."""

    project_id: int


def _told(one: Invitation) -> dict[str, Any]:
    return {"id": one.pk, "role": one.role, "created_by": one.created_by.get_full_name() or one.created_by.get_username(),
            "expires_at": one.expires_at}  # fmt: skip


@of_project.get("/{int:project_id}/invitations", response=list[InvitationOut])
def list_invitations(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """Invitations that can still be used."""
    project = open_project(request, project_id, Membership.Role.OWNER)
    found = Invitation.objects.filter(project=project, expires_at__gt=timezone.now()).select_related("created_by")
    return [_told(one) for one in found.order_by("-pk")]


@of_project.post("/{int:project_id}/invitations", response={201: NewInvitationOut, 409: Failure})
def invite(request: HttpRequest, project_id: int, body: InvitationIn) -> tuple[int, dict[str, Any]]:
    """Make a link that lets one person in within a week."""
    project = open_project(request, project_id, Membership.Role.OWNER)
    Invitation.objects.filter(expires_at__lte=timezone.now()).delete()
    if Invitation.objects.filter(project=project).count() >= _MOST_OPEN:
        raise HttpError(409, f"{_MOST_OPEN} invitations are open. Take some back first.")
    made, token = Invitation.issue(project, body.role, person(request), timedelta(days=_DAYS))
    return 201, {**_told(made), "path": f"/invited/{token}"}


@of_project.delete("/{int:project_id}/invitations/{int:number}", response={204: None})
def take_back(request: HttpRequest, project_id: int, number: int) -> tuple[int, None]:
    """Take an invitation back; its link leads nowhere then."""
    project = open_project(request, project_id, Membership.Role.OWNER)
    get_object_or_404(Invitation, pk=number, project=project).delete()
    return 204, None


def _open(token: str) -> Invitation:
    found = Invitation.find(token)
    if found is None:
        raise HttpError(404, _GONE)
    return found


@public.get("/{token}", response={200: InvitedOut, 404: Failure, 429: Failure}, auth=None)
def look(request: HttpRequest, token: str) -> dict[str, Any]:
    """What a link invites to."""
    count_tries(request, "invitation")
    found = _open(token)
    by = found.created_by
    return {"project": found.project.name, "role": found.role, "invited_by": by.get_full_name() or by.get_username()}


@public.post(
    "/{token}/accept",
    response={200: InvitationAcceptedOut, 401: Failure, 404: Failure, 409: Failure, 422: Failure, 429: Failure},
    auth=None,
)
@decorate_view(csrf_protect)
def accept(request: HttpRequest, token: str, body: AcceptIn) -> dict[str, int]:
    """Come into the project: as the person signed in, or with a new account, which is signed in. A role that is there already is
    never lowered."""
    count_tries(request, "invitation")
    if body.new is None and not request.user.is_authenticated:
        raise HttpError(401, "Sign in first, or make an account here.")
    try:
        with transaction.atomic():
            found = Invitation.find(token, lock=True)
            if found is None:
                raise HttpError(404, _GONE)
            user = _made(body.new) if body.new else person(request)
            ranks = list(Membership.Role.values)
            member, is_new = Membership.objects.get_or_create(
                project_id=found.project_id, user=user, defaults={"role": found.role}
            )
            if not is_new and ranks.index(member.role) < ranks.index(found.role):
                member.role = found.role
                member.save(update_fields=["role"])
            found.delete()
    except IntegrityError as error:
        raise HttpError(409, "Somebody has that user name already. Take another.") from error
    if body.new is not None:
        login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return {"project_id": member.project_id}


def _made(body: NewPersonIn) -> User:
    first, _, last = body.full_name.strip().partition(" ")
    user = User(username=body.name, first_name=first[:150], last_name=last[:150])
    # two names that differ in capitals only would be taken for each other
    if User.objects.annotate(lower=Lower("username")).filter(lower=body.name.lower()).exists():
        raise HttpError(409, "Somebody has that user name already. Take another.")
    user.set_password(checked_password(body.password, user))
    user.save()
    return user
