"""Projects, and who works in them."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models
from django.utils import timezone

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


class Invitation(models.Model):
    """A link that lets one person into a project. Only its hash is kept; it is deleted when it is used."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="invitations")
    role = models.CharField(max_length=8, choices=Membership.Role)
    digest = models.CharField(max_length=64, unique=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    expires_at = models.DateTimeField()

    @classmethod
    def issue(cls, project: Project, role: str, by: User, lifetime: timedelta) -> tuple[Invitation, str]:
        """A new invitation and its token, which is seen this once."""
        token = secrets.token_urlsafe(24)
        made = cls.objects.create(
            project=project, role=role, digest=_digest(token), created_by=by, expires_at=timezone.now() + lifetime
        )
        return made, token

    @classmethod
    def find(cls, token: str, lock: bool = False) -> Invitation | None:
        """The invitation of a token; None where it is unknown or too old. lock: for as long as the transaction lasts."""
        rows = cls.objects.select_for_update() if lock else cls.objects.select_related("project", "created_by")
        return rows.filter(digest=_digest(token), expires_at__gt=timezone.now()).first()


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
