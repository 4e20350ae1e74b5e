"""What arrivals tell the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class ArrivalsConfig(AppConfig):
    """Files are taken in by jobs."""

    name = "yama.service.arrivals"

    def ready(self) -> None:
        from yama.service.arrivals.taking_in import question_of, take_in
        from yama.service.jobs.register import register

        register("take_in", take_in, question_of)
