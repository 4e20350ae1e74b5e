"""Jobs of a project: see them, cancel them, put failures aside."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Router, Schema

from yama.service.jobs.models import Job
from yama.service.jobs.register import question_of
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import FindingOut

router = Router(tags=["jobs"])

_LISTED = 50


class QuestionOut(Schema):
    """What a received file does not say and must be known of it. It is answered by taking the file in, under its key and name,
    with what is declared already and what an answer adds. zip: name of the zip that it came in."""

    file_key: str
    name: str
    declared: dict[str, Any]
    findings: list[FindingOut]
    zip: str = ""


class JobOut(Schema):
    """A job. `progress` goes from 0 to 1; `message` says why it failed. question: what was asked when a file was to be taken in,
    while that is not answered."""

    id: UUID
    kind: str
    title: str
    state: str
    progress: float
    tries: int
    message: str
    log: str
    findings: list[dict[str, Any]]
    holding_id: int | None
    seen: bool
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    question: QuestionOut | None

    @staticmethod
    def resolve_question(job: Job) -> dict[str, Any] | None:
        """As the kind of job has it."""
        return question_of(job) if job.state == Job.State.FAILED and not job.seen else None


class AcceptedOut(Schema):
    """What became of a request: a job that was started, or the holding that is there already."""

    job: JobOut | None = None
    holding_id: int | None = None


@router.get("/{int:project_id}/jobs", response=list[JobOut])
def list_jobs(request: HttpRequest, project_id: int) -> Any:
    """The newest jobs, newest first."""
    return open_project(request, project_id).jobs.all()[:_LISTED]


@router.get("/{int:project_id}/jobs/{uuid:job_id}", response=JobOut)
def get_job(request: HttpRequest, project_id: int, job_id: UUID) -> Job:
    """One job."""
    return get_object_or_404(Job, pk=job_id, project=open_project(request, project_id))


@router.post("/{int:project_id}/jobs/{uuid:job_id}/cancel", response=JobOut)
def cancel_job(request: HttpRequest, project_id: int, job_id: UUID) -> Job:
    """Ask a job to stop. A waiting one stops at once, a running one within seconds; an ended one stays as it is."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    job = get_object_or_404(Job, pk=job_id, project=project)
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Cancelled before it began.", ended_at=timezone.now()
    )
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(cancel_requested=True)
    job.refresh_from_db()
    return job


@router.post("/{int:project_id}/jobs/{uuid:job_id}/seen", response=JobOut)
def put_aside(request: HttpRequest, project_id: int, job_id: UUID) -> Job:
    """Put a failed job aside, so that it does not ask for attention any more."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    job = get_object_or_404(Job, pk=job_id, project=project)
    job.seen = True
    job.save(update_fields=["seen"])
    return job
