"""Projects, and who works in them."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from yama.terrain.frame import Frame


class Project(models.Model):
    """A piece of work with one frame. `checkpoints` judge every surface made in it."""

    name = models.CharField(max_length=120)
    frame_data = models.JSONField()
    checkpoints = models.ForeignKey(
        "holdings.Holding", null=True, blank=True, on_delete=models.SET_NULL, related_name="judging"
    )
    created_at = models.DateTimeField(auto_now_add=True)
    members = models.ManyToManyField(settings.AUTH_USER_MODEL, through="Membership", related_name="projects")

    def __str__(self) -> str:
        return self.name

    @property
    def frame(self) -> Frame:
        """The frame as the core knows it."""
        return Frame.from_dict(self.frame_data)


class Membership(models.Model):
    """A person's part in a project."""

    class Role(models.TextChoices):
        """Viewers look, editors make, owners also decide on frame and members."""

        VIEWER = "viewer"
        EDITOR = "editor"
        OWNER = "owner"

    project = models.ForeignKey(Project, on_delete=models.CASCADE)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    role = models.CharField(max_length=8, choices=Role)
    desk = models.JSONField(default=dict, blank=True)
    """What the desk remembers for this person here: slots, view, ramp, open worksheet, unsent settings."""

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "user"], name="one_membership")]
