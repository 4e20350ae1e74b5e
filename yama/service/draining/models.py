"""What a team says of the water of a project: networks that are kept to be compared, and what hollows are."""

from __future__ import annotations

from typing import Any

from django.db import models

from yama.service.projects.models import Project


class KeptNetwork(models.Model):
    """Streams of a surface as they were asked for, kept beside others. content: as `NetworkIn`. against: what they were
    held against then, as `AgainstIn`. mark: the same for the same content."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="networks")
    content: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()
    against: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict)
    mark = models.CharField(max_length=64)
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "mark"], name="one_network")]
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"network {self.pk} of {self.project_id}"


class SaidOfHollow(models.Model):
    """What somebody said a hollow is. x, y: its lowest place when they did, in a CRS. kind: as the core has them."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="hollows")
    x = models.FloatField()
    y = models.FloatField()
    crs = models.TextField()
    kind = models.CharField(max_length=16)
    at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["at", "pk"]

    def __str__(self) -> str:
        return f"{self.kind} at {self.x}, {self.y} in {self.project_id}"
