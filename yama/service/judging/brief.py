"""What is asked of a project's surfaces, and whether one of them is that."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.http import HttpRequest
from ninja import Field, Router, Schema

from yama.service.accounts.people import person
from yama.service.holdings.opened import open_holding
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.judging.briefs import Asked, brief_of, figure_of, names_of, told_of
from yama.service.judging.models import ProjectBrief
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.terrain.errors import InputError
from yama.terrain.grid import turn_between
from yama.terrain.judge.demands import MOST, AnyDemand, Brief, OfFeatures
from yama.terrain.surface import digest

router = Router(tags=["judging"])


class BriefIn(Schema):
    """What is asked. version: of the brief that somebody saw when they changed it. demands: features by the number of
    their holding. vegetated: covers of checkpoints that are vegetation."""

    version: int
    demands: list[AnyDemand] = Field([], max_length=MOST)
    vegetated: list[str] = Field([], max_length=40)


class DemandOut(Schema):
    """A demand in words, and as it is set."""

    title: str
    content: dict[str, Any]


class BriefOut(Schema):
    """What is asked of the surfaces of a project."""

    version: int
    demands: list[DemandOut]
    vegetated: list[str]


class AnswerOut(Schema):
    """What a surface says to a demand. met: null where it cannot be told, which `told` explains. figure, shown: what
    was found, as a number and with its unit. at: where to look, in frame coordinates."""

    met: bool | None
    figure: float | None
    shown: str
    told: str
    at: tuple[float, float] | None


class AnswersOut(Schema):
    """What a surface says to the brief, null to demands for which its cells must be read first. statement: of its
    vertical accuracy."""

    version: int
    answers: list[AnswerOut | None]
    statement: list[str]


class AnsweringOut(Schema):
    """The job that reads the cells; null where all is known."""

    job: JobOut | None


def _told(project: Project) -> dict[str, Any]:
    brief, version = brief_of(project)
    names = names_of(project)
    return {
        "version": version,
        "demands": [told_of(one, names) for one in brief.demands],
        "vegetated": brief.vegetated,
    }


@router.get("/{int:project_id}/brief", response=BriefOut)
def read_brief(request: HttpRequest, project_id: int) -> dict[str, Any]:
    """What is asked of the surfaces of a project."""
    return _told(open_project(request, project_id))


@router.put("/{int:project_id}/brief", response={200: BriefOut, 422: Failure})
def change_brief(request: HttpRequest, project_id: int, body: BriefIn) -> dict[str, Any]:
    """Ask for something else."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    brief, names = Brief(demands=body.demands, vegetated=body.vegetated), names_of(project)
    for one in brief.demands:
        if isinstance(one, OfFeatures) and one.features not in names:
            raise InputError(f"“{one.title(names)}” speaks of features that are not in this project. Choose others.")
    brief.refuse_contradictions(names)
    with transaction.atomic():
        held, _ = ProjectBrief.objects.select_for_update().get_or_create(project=project)
        if held.version != body.version:
            raise InputError("Somebody has changed the brief meanwhile. Look at it as it is now, and change it again.")
        held.content, held.version = brief.model_dump(), held.version + 1
        held.save()
    return _told(project)


@router.get("/{int:project_id}/brief/{int:holding_id}", response={200: AnswersOut, 422: Failure})
def read_answers(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """What a surface says to the brief, as far as it is known."""
    holding = open_holding(request, project_id, holding_id)
    asked = Asked(holding)
    grid = holding.project.frame.grid
    turn = turn_between(holding.facts["grid"]["crs"], grid.crs)
    answers: list[dict[str, Any] | None] = []
    for one in asked.answers():
        if one is None:
            answers.append(None)
            continue
        at = turn.transform(*one.at) if one.at is not None else None
        answers.append({**one.to_dict(), "shown": figure_of(one), "at": at})
    return {"version": asked.version, "answers": answers, "statement": asked.statement()}


@router.post("/{int:project_id}/brief/{int:holding_id}", response={200: AnsweringOut, 202: AnsweringOut, 422: Failure})
def answer(request: HttpRequest, project_id: int, holding_id: int) -> tuple[int, dict[str, Job | None]]:
    """Read the cells of a surface for what is not known yet, as a job."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    asked = Asked(holding)
    if None not in asked.answers():
        return 200, {"job": None}
    key = digest("brief", holding.key, asked.version)[:32]
    title = f"Check {holding.name} against the brief"
    return 202, {
        "job": submit(holding.project, "answer_brief", title, {"surface": holding.pk}, person(request).pk, key)
    }
