"""What runs tell the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class RunsConfig(AppConfig):
    """Operations are run by jobs."""

    name = "yama.service.runs"

    def ready(self) -> None:
        from yama.service.jobs.register import register
        from yama.service.runs.running import remake, run_operation

        register("run", run_operation)
        register("remake", remake)
