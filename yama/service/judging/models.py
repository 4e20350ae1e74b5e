"""What surfaces say at places: read from their cells once, however often a scorecard is looked at."""

from __future__ import annotations

from typing import Any

from django.db import models

from yama.service.holdings.models import Holding


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
