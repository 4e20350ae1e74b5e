"""Mending."""

from __future__ import annotations

from django.apps import AppConfig


class MendingConfig(AppConfig):
    """Patches over surfaces, as people make them."""

    name = "yama.service.mending"
