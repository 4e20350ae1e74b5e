"""What was deleted is kept for a week, and can be had back whole.

A deleted holding keeps its row and its files, and nobody sees it: it is not listed, not computed from, not open to others. The same
file added again, or the same recipe run again, brings it back.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from django.contrib.auth.models import User
from django.db import transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Router, Schema
from ninja.errors import HttpError

from yama.service.holdings.models import Draft, Holding, Preview, free_name, upload_path
from yama.service.jobs.models import Job
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.errors import InputError

router = Router(tags=["deleted"])

KEPT = timedelta(days=7)
_PREVIEWED = timedelta(days=90)

Loss = Callable[[Holding], str]
_losses: list[Loss] = []


def lost_with(loss: Loss) -> None:
    """Let `loss` say what goes with a holding that is deleted; empty where nothing does. Called by an app's `ready`."""
    _losses.append(loss)


class UsesOut(Schema):
    """What depends on a holding. blocked: why it cannot be deleted now; loses: what goes with it, or waits for it to come back."""

    blocked: list[str]
    loses: list[str]


class DeletedOut(Schema):
    """A deleted holding, and until when it can be had back."""

    id: int
    name: str
    kind: str
    deleted_at: datetime
    deleted_by: str
    until: datetime


class RestoredOut(Schema):
    """The holdings that are back: the one asked for last, before it what it is computed from."""

    ids: list[int]
    names: list[str]


def _names(found: list[Holding]) -> str:
    listed = ", ".join(one.name for one in found[:3])
    return f"{listed} and {len(found) - 3} more" if len(found) > 3 else listed


def _is_used_by(holding: Holding, job: Job) -> bool:
    """Whether a job works on a holding, as far as its request tells."""
    if job.kind in ("judge", "remake"):
        return True
    return holding.pk in job.request.get("holdings", []) or holding.key in json.dumps(job.request)


def uses_of(holding: Holding) -> UsesOut:
    """What depends on a holding, in sentences."""
    blocked, loses = [], []
    live = holding.dependants()
    if live:
        blocked.append(
            f"{_names(live)} {'is' if len(live) == 1 else 'are'} computed from it. Store or delete that first."
        )
    blocked += [
        f"{job.title} is under way and may use it. Wait until it ends, or cancel it."
        for job in Job.objects.filter(project_id=holding.project_id, state__in=Job.OPEN)
        if _is_used_by(holding, job)
    ]
    if holding.project.checkpoints_id == holding.pk:
        loses.append("It is the project's checkpoints: surfaces are not judged any more.")
    made = [
        one for one in Holding.objects.filter(project_id=holding.project_id, live=False).exclude(recipe=None)
        if one.step and any(holding.key in keys for keys in one.step.inputs.values())
    ]  # fmt: skip
    if made:
        loses.append(
            f"{_names(made)} {'was' if len(made) == 1 else 'were'} made from it and cannot be made again without it."
        )
    loses += [said for more in _losses if (said := more(holding))]
    editing = list(Draft.objects.filter(holding=holding, done__gt=0).select_related("user"))
    if editing:
        loses.append(f"Edits of {', '.join(one.user.get_username() for one in editing)} on it are not kept yet.")
    return UsesOut(blocked=blocked, loses=loses)


def _told(holding: Holding) -> dict[str, object]:
    at = holding.deleted_at or timezone.now()
    by = holding.deleted_by.get_username() if holding.deleted_by else ""
    return {
        "id": holding.pk,
        "name": holding.name,
        "kind": holding.kind,
        "deleted_at": at,
        "deleted_by": by,
        "until": at + KEPT,
    }


@router.get("/{int:project_id}/holdings/{int:holding_id}/uses", response=UsesOut)
def uses(request: HttpRequest, project_id: int, holding_id: int) -> UsesOut:
    """What depends on a holding: asked before it is deleted."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    return uses_of(get_object_or_404(Holding, pk=holding_id, project=project))


def put_away(project: Project, holding_id: int, user: User, sure: bool) -> dict[str, object]:
    """Delete a holding so that it can be had back, see `holdings.api.delete`."""
    with transaction.atomic():
        Project.objects.select_for_update().get(pk=project.pk)  # no job may be asked for meanwhile
        holding = get_object_or_404(Holding, pk=holding_id, project=project)
        found = uses_of(holding)
        if found.blocked:
            raise HttpError(409, found.blocked[0])
        if found.loses and not sure:
            raise HttpError(409, " ".join(found.loses))
        holding.deleted_at, holding.deleted_by = timezone.now(), user
        holding.was_checkpoints = project.checkpoints_id == holding.pk
        holding.save(update_fields=["deleted_at", "deleted_by", "was_checkpoints"])
        if holding.was_checkpoints:
            Project.objects.filter(pk=project.pk).update(checkpoints=None)
    return _told(holding)


@router.get("/{int:project_id}/deleted", response=list[DeletedOut])
def list_deleted(request: HttpRequest, project_id: int) -> list[dict[str, object]]:
    """What was deleted in the last week, the newest first."""
    project = open_project(request, project_id)
    held = Holding.everything.filter(project=project).exclude(deleted_at=None).select_related("deleted_by")
    return [_told(holding) for holding in held.order_by("-deleted_at")]


@router.post("/{int:project_id}/deleted/{int:holding_id}/restore", response={200: RestoredOut, 422: Failure})
def restore(request: HttpRequest, project_id: int, holding_id: int) -> RestoredOut:
    """Bring a deleted holding back, with what it is computed from where that was deleted too."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    holding = get_object_or_404(Holding.everything.exclude(deleted_at=None), pk=holding_id, project=project)
    back = bring_back(holding)
    return RestoredOut(ids=[one.pk for one in back], names=[one.name for one in back])


def bring_back(holding: Holding) -> list[Holding]:
    """Undo deleting; returns what is back, what it is computed from before it.

    Raises InputError where it was made on another frame than the project has by now, or lacks what it is computed from.
    """
    step = holding.step
    if step is not None and step.frame != holding.project.frame_data:
        raise InputError(f"{holding.name} was made on another frame than the project has now, so it cannot come back. "
                         "Run it again from its recipe.")  # fmt: skip
    back: list[Holding] = []
    with transaction.atomic():
        if holding.live and step is not None:
            for key in {key for keys in step.inputs.values() for key in keys}:
                source = Holding.everything.filter(project_id=holding.project_id, key=key).first()
                if source is None:
                    raise InputError(f"What {holding.name} is computed from is gone for good, so it cannot come back.")
                if source.deleted_at is not None:
                    back += bring_back(source)
        holding.name = free_name(holding.project, holding.name)
        holding.deleted_at, holding.deleted_by = None, None
        if holding.was_checkpoints:
            Project.objects.filter(pk=holding.project_id, checkpoints=None).update(checkpoints=holding)
        holding.was_checkpoints = False
        holding.save(update_fields=["name", "deleted_at", "deleted_by", "was_checkpoints"])
    return [*back, holding]


def find_again(project_id: int, key: str) -> Holding | None:
    """The project's holding of that key; where it was deleted it is brought back, since it is wanted again."""
    found = Holding.everything.filter(project_id=project_id, key=key).first()
    if found is not None and found.deleted_at is not None:
        bring_back(found)
    return found


def clear() -> list[str]:
    """Delete for good what was deleted a week ago, and previews nobody looked at for a season; returns their names."""
    Preview.objects.filter(asked_at__lt=timezone.now() - _PREVIEWED).delete()
    gone = []
    for holding in Holding.everything.filter(deleted_at__lt=timezone.now() - KEPT):
        gone.append(f"{holding.name}, deleted a week ago")
        holding.delete()
        holding.remove_files()
    return gone


def files_of(project_id: int) -> set[Path]:
    """Every file of a project that a holding or an open job speaks of. Holdings count until a week after they were deleted."""
    known: set[Path] = set()
    for holding in Holding.everything.filter(project_id=project_id):
        known |= set(holding.files)
        if holding.file_key:
            known.add(holding.upload_path)
    for job in Job.objects.filter(project_id=project_id, state__in=Job.OPEN):
        if job.request.get("file_key"):
            known.add(upload_path(project_id, job.request["file_key"]))
    return known


def made_on_frame(project: Project) -> str:
    """Why the frame of a project cannot change; empty where it can."""
    made = Holding.objects.filter(project=project).exclude(recipe=None).count()
    if not made:
        return ""
    return f"{made} holdings were made on this frame. Make a new project for another frame, or delete them first."
