"""What sharing tells the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class SharingConfig(AppConfig):
    """An address stops answering with its holding."""

    name = "yama.service.sharing"

    def ready(self) -> None:
        from yama.service.holdings.deleted import lost_with
        from yama.service.sharing.models import stops_answering

        lost_with(stops_answering)
