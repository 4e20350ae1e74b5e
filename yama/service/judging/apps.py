"""What judging tells the other apps."""

from __future__ import annotations

from django.apps import AppConfig


class JudgingConfig(AppConfig):
    """Surfaces are judged by jobs, and again when the frame's unit changes."""

    name = "yama.service.judging"

    def ready(self) -> None:
        from yama.service.jobs.register import register
        from yama.service.judging.against import judge_at
        from yama.service.judging.briefs import answer_brief
        from yama.service.judging.explained import explain
        from yama.service.judging.work import judge_all, judge_in_another_unit
        from yama.service.projects.hooks import after_frame_changed

        register("judge", judge_all)
        register("judge_at", judge_at)
        register("answer_brief", answer_brief)
        register("explain", explain)
        after_frame_changed(judge_in_another_unit)
