"""What surfaces say at places and to demands: read from their cells once, however often it is looked at."""

from __future__ import annotations

from typing import Any

from django.db import models

from yama.service.holdings.models import Holding
from yama.service.projects.models import Project


class Judgement(models.Model):
    """What a surface says at places.

    places: which places, and how the surface was put right before, as `Against.key`. told: the core's `Judged` with
    the shift that was removed, or a reason why there is none.
    """

    surface = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="judgements")
    places = models.CharField(max_length=160)
    told: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["surface", "places"], name="one_judgement")]

    def __str__(self) -> str:
        return f"{self.surface_id} at {self.places}"


class ProjectBrief(models.Model):
    """What is asked of the surfaces of a project. content: as the core's `Brief`, features by the number of their
    holding. version: counts changes, so that nobody overwrites what they have not seen."""

    project = models.OneToOneField(Project, on_delete=models.CASCADE, related_name="brief")
    version = models.PositiveIntegerField(default=0)
    content: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict)

    def __str__(self) -> str:
        return f"brief of {self.project_id}"


class Answered(models.Model):
    """What a surface says to a demand that takes a look at many cells. demand: which, as `briefs.mark_of`. told: as the
    core's `Answer`."""

    surface = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="answers")
    demand = models.CharField(max_length=64)
    told: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["surface", "demand"], name="one_answer")]

    def __str__(self) -> str:
        return f"{self.surface_id} to {self.demand}"
