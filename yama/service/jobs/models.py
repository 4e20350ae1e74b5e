"""Jobs: long work asked for by a person. The row is the truth about a job; the broker only wakes a worker."""

from __future__ import annotations

import uuid
from typing import Any

from django.conf import settings
from django.db import models

from yama.service.projects.models import Project


class Job(models.Model):
    """One piece of work.

    kind: which registered function does it, on `request`. key: of the holding it will make; two jobs never make
    the same one at once. worker: token of the try that holds the job; a try that lost it cannot finish it.
    """

    class State(models.TextChoices):
        """Where a job stands."""

        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    OPEN = (State.QUEUED, State.RUNNING)
    MAX_TRIES = 2

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=200)
    key = models.CharField(max_length=64, blank=True)
    request: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    tries = models.PositiveSmallIntegerField(default=0)
    worker = models.CharField(max_length=32, blank=True)
    heard_at = models.DateTimeField(null=True)
    not_before = models.DateTimeField(null=True)
    """A queued job waits until then for something outside."""
    cancel_requested = models.BooleanField(default=False)
    message = models.TextField(blank=True)
    """For a failed job: what happened and what to do."""
    log = models.TextField(blank=True)
    findings = models.JSONField(default=list)
    made: models.JSONField[dict[str, Any] | None, dict[str, Any] | None] = models.JSONField(null=True)
    """What came of it that is no holding, such as the file of a package."""
    holding = models.ForeignKey("holdings.Holding", null=True, on_delete=models.SET_NULL, related_name="+")
    seen = models.BooleanField(default=False)
    """Whether the person has put a failure aside."""
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-created_at"]
        indexes = [models.Index(fields=["state", "heard_at"]), models.Index(fields=["project", "created_at"])]
