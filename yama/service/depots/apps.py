"""What depots tell the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class DepotsConfig(AppConfig):
    """Orders are fetched by jobs; parts that are still fetched are kept."""

    name = "yama.service.depots"

    def ready(self) -> None:
        from yama.service.depots.models import parts_of
        from yama.service.depots.work import fetch_features, fetch_part
        from yama.service.jobs import sweeping
        from yama.service.jobs.register import register

        register("fetch", fetch_part)
        register("features", fetch_features)
        sweeping.keep_files(parts_of)
