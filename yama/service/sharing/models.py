"""Surfaces that are open to other programs, each under an address nobody can guess."""

from __future__ import annotations

import secrets
from typing import Any

from django.conf import settings
from django.db import models

from yama.service.holdings.models import Holding


def new_token() -> str:
    """192 bits that are hard to guess, as letters for an address."""
    return secrets.token_urlsafe(24)


class Share(models.Model):
    """A surface that whoever has its token may read, as tiles dressed like `dress` and, where it is stored, as a file. Deleting it
    closes it."""

    holding = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="shares")
    token = models.CharField(max_length=40, unique=True, default=new_token)
    dress: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)

    class Meta:
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return f"{self.holding} is open"


def stops_answering(holding: Holding) -> str:
    """What is lost with a holding that is open to others; empty where it is not."""
    open_to_others = Share.objects.filter(holding=holding).exists()
    return "It is open to others by an address, which stops answering." if open_to_others else ""
