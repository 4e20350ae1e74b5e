"""Stacks of patches over surfaces: everybody's changes, one after the other."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from yama.service.holdings.models import Holding
from yama.terrain.mend.stack import Change, Said


class Stack(models.Model):
    """The patches that people of a project put over one of its surfaces, which stays as it is.

    version: counts what was done to it, so that whoever looks knows whether anything is new. other: what patches
    replace cells from.
    """

    surface = models.OneToOneField(Holding, on_delete=models.CASCADE, related_name="stack")
    version = models.PositiveIntegerField(default=0)
    other = models.ForeignKey(Holding, null=True, on_delete=models.SET_NULL, related_name="+")

    def __str__(self) -> str:
        return f"patches of {self.surface_id}"


class StackChange(models.Model):
    """Something that was done to a stack.

    number: its place in the log. by: who did it; None for what was put together of the oldest, which nobody takes
    back. title: what it did, in words. says: by entry, as the core's `Said` is kept. crs: of its places, the frame's
    at that time.
    """

    stack = models.ForeignKey(Stack, on_delete=models.CASCADE, related_name="changes")
    number = models.PositiveIntegerField()
    by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    title = models.CharField(max_length=160)
    says: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()
    crs = models.TextField()
    undone = models.BooleanField(default=False)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["stack", "number"], name="one_change_a_number")]
        ordering = ["number"]

    def __str__(self) -> str:
        return f"{self.stack_id}:{self.number}"

    @property
    def change(self) -> Change:
        """As the core has it."""
        says = {name: Said.from_dict(one) for name, one in self.says.items()}
        return Change(self.number, self.by_id or 0, says, self.undone)
