"""Judging surfaces at the project's checkpoints, as a job."""

from __future__ import annotations

from yama.service.holdings.kinds import kind_of
from yama.service.holdings.models import Scorecard
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.jobs.queue import submit
from yama.service.projects.models import Project
from yama.service.surfaces.judged import figures_at
from yama.terrain.frame import Frame
from yama.terrain.progress import Progress


def judge_all(job: Job, progress: Progress) -> Outcome:
    """Judge every surface of the project at its checkpoints."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    if project.checkpoints is None:
        return Outcome()
    todo = [holding for holding in project.holdings.all() if kind_of(holding).is_judgeable(holding)]
    for done, holding in enumerate(todo):
        progress(done / len(todo))
        figures = figures_at(holding, project.checkpoints)
        Scorecard.objects.update_or_create(surface=holding, checkpoints=project.checkpoints, defaults=figures)
    return Outcome()


def request_judging(project: Project, user_id: int | None) -> Job:
    """Judge every surface of the project against its checkpoints."""
    return submit(project, "judge", f"Judge all surfaces at {project.checkpoints}", {}, user_id)


def judge_in_another_unit(project: Project, before: Frame, user_id: int | None) -> None:
    """Judge again where the frame's unit of height was another before: errors are in it."""
    if project.checkpoints is not None and project.frame.unit != before.unit:
        request_judging(project, user_id)
