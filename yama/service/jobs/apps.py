"""What jobs tell the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class JobsConfig(AppConfig):
    """Open jobs keep a project's frame as it is."""

    name = "yama.service.jobs"

    def ready(self) -> None:
        from yama.service.jobs.queue import under_way
        from yama.service.projects.hooks import before_frame_changes

        before_frame_changes(under_way)
