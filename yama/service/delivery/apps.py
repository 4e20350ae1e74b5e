"""What delivery tells the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class DeliveryConfig(AppConfig):
    """Packages are built by jobs and kept."""

    name = "yama.service.delivery"

    def ready(self) -> None:
        from yama.service.delivery.work import build, packages_of
        from yama.service.jobs import sweeping
        from yama.service.jobs.register import register

        register("package", build)
        sweeping.keep_files(packages_of)
