"""Asking for jobs."""

from __future__ import annotations

import logging
from typing import Any

from django.db import transaction
from kombu.exceptions import OperationalError as BrokerError

from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.projects.models import Project
from yama.terrain.errors import InputError

_log = logging.getLogger(__name__)


def submit(project: Project, kind: str, title: str, request: dict[str, Any], user_id: int | None, key: str = "") -> Job:
    """Put a job into the queue. Where one is open that makes the same key, that one is returned instead.

    Raises InputError where the frame was changed since the job's step was made of it.
    """
    with transaction.atomic():
        held = Project.objects.select_for_update().get(pk=project.pk)  # one submission at a time: keys stay single
        if held.frame_data != project.frame_data:
            raise InputError("The project's frame was changed at the same time. Look at it, then ask again.")
        if key:
            same = Job.objects.filter(project=project, key=key, state__in=Job.OPEN).first()
            if same is not None:
                return same
        job = Job.objects.create(
            project=project, kind=kind, title=title[:200], request=request, created_by_id=user_id, key=key
        )
        transaction.on_commit(lambda: wake(job))
    return job


def wake(job: Job) -> None:
    """Tell a worker. A lost message is made good by the watch, which wakes what stays queued."""
    try:
        run_job.delay(str(job.pk))
    except BrokerError:
        _log.warning("the broker does not answer; job %s waits for the watch", job.pk)


def under_way(project: Project) -> str:
    """Why the frame of a project cannot change now; empty where it can."""
    waiting = list(Job.objects.filter(project=project, state__in=Job.OPEN).values_list("title", flat=True)[:3])
    if not waiting:
        return ""
    return f"Work on this frame is under way ({', '.join(waiting)}). Wait until it is done, or cancel it, then change the frame."
