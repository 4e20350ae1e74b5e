"""Orders at depots, and their parts: one file each."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models

from yama.service.holdings.models import Holding, project_dir
from yama.service.jobs.models import Job
from yama.service.projects.models import Project


class Order(models.Model):
    """What somebody ordered of one product: whole tiles, or one cut-out of `request` (bounds, cell_size). `request` also
    has what zero means in the product (datum)."""

    class Kind(models.TextChoices):
        """How it comes."""

        TILES = "tiles"
        CUT_OUT = "cut_out"

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="orders")
    depot = models.CharField(max_length=30)
    product = models.CharField(max_length=60)
    title = models.CharField(max_length=120)
    kind = models.CharField(max_length=8, choices=Kind)
    request: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return f"{self.title} for {self.project}"


class Part(models.Model):
    """One file of an order. received: bytes so far. tries: deliveries that were damaged or broke off. note: what is the
    matter now. link: where a cut-out's job is at its provider."""

    class State(models.TextChoices):
        """Where it stands; a part whose job ended otherwise is failed or cancelled, see `standing`."""

        WAITING = "waiting"
        MAKING = "making"
        ARRIVING = "arriving"
        TAKING_IN = "taking in"
        RECEIVED = "received"

    MAX_TRIES = 5

    order = models.ForeignKey(Order, on_delete=models.CASCADE, related_name="parts")
    name = models.CharField(max_length=60)
    href = models.TextField()
    link = models.TextField(blank=True)
    size = models.BigIntegerField(default=0)
    sha256 = models.CharField(max_length=64, blank=True)
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    received = models.BigIntegerField(default=0)
    tries = models.PositiveSmallIntegerField(default=0)
    note = models.TextField(blank=True)
    try_at = models.DateTimeField(null=True)
    job = models.ForeignKey(Job, null=True, on_delete=models.SET_NULL, related_name="+")
    holding = models.ForeignKey(Holding, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @property
    def standing(self) -> str:
        """The state as a person sees it."""
        if self.state != self.State.RECEIVED and self.job is not None and self.job.state in ("failed", "cancelled"):
            return str(self.job.state)
        return self.state

    @property
    def part_path(self) -> Path:
        """Where what came so far lies."""
        return project_dir(self.order.project_id) / f"order-{self.pk}.fetch.part"


def parts_of(project_id: int) -> set[Path]:
    """Where parts of a project's orders lie that are still fetched."""
    return {part.part_path for part in Part.objects.filter(order__project_id=project_id, holding=None)}
