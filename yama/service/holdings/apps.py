"""What holdings tell the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class HoldingsConfig(AppConfig):
    """What was made on a frame keeps it; files of holdings are kept, and what was deleted long ago goes."""

    name = "yama.service.holdings"

    def ready(self) -> None:
        from yama.service.holdings import deleted
        from yama.service.jobs import sweeping
        from yama.service.projects.hooks import before_frame_changes

        before_frame_changes(deleted.made_on_frame)
        sweeping.keep_files(deleted.files_of)
        sweeping.forget_by(deleted.clear)
