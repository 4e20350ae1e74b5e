"""What draining tells the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class DrainingConfig(AppConfig):
    """Water over surfaces is worked out by jobs."""

    name = "yama.service.draining"

    def ready(self) -> None:
        from yama.service.draining.drained import drain
        from yama.service.draining.hollows import find_hollows
        from yama.service.jobs.register import register

        register("drain", drain)
        register("find_hollows", find_hollows)
