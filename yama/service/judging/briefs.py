"""The brief of a project, and what its surfaces say to it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, kind_of
from yama.service.holdings.models import Holding
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.judging.against import Against, MadeFrom, found, in_metres, judge, judged_of
from yama.service.judging.models import Answered, ProjectBrief
from yama.service.projects.models import Project
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.judge.brief import Answer, Subject, answer, statement
from yama.terrain.judge.demands import AnyDemand, Brief, OfFeatures
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import digest


def brief_of(project: Project) -> tuple[Brief, int]:
    """What is asked in a project, and which version of it."""
    held = ProjectBrief.objects.filter(project=project).first()
    return (Brief(**held.content), held.version) if held is not None else (Brief(), 0)


def names_of(project: Project) -> dict[int, str]:
    """What features of a project are called, by number."""
    return {one.pk: one.name for one in project.holdings.all() if kind_of(one) is FEATURES}


class Asked:
    """A brief as it is asked of one surface.

    Parameters
    ----------
    surface : Holding
    handed_over_as : str
        The format of a package; empty where there is none yet.
    """

    def __init__(self, surface: Holding, handed_over_as: str = "") -> None:
        if not kind_of(surface).is_judgeable(surface):
            raise InputError(f"{surface.name} has no heights, so a brief asks nothing of it.")
        self.surface = surface
        self.project = surface.project
        self.brief, self.version = brief_of(self.project)
        self._held = {one.pk: one for one in self.project.holdings.all() if kind_of(one) is FEATURES}
        self.names = {number: one.name for number, one in self._held.items()}
        checkpoints = self.project.checkpoints
        self.against = Against(self.project, checkpoints, None) if checkpoints is not None else None
        self._handed_over_as = handed_over_as

    def mark_of(self, demand: AnyDemand) -> str:
        """By what the answer to a demand is kept."""
        held = self._held.get(demand.features) if isinstance(demand, OfFeatures) else None
        return digest(demand.model_dump(), held.key if held else "", self.surface.key)[:48]

    def _subject(self) -> Subject:
        """All that is known of the surface without reading its cells."""
        subject = Subject(in_metres(self.surface), names=self.names, handed_over_as=self._handed_over_as)
        if self.against is None:
            return subject
        places = self.against.places()
        told = found(self.against, [self.surface]).get(self.surface.pk, {})
        left_out = MadeFrom(self.project, places).among(self.surface)
        return replace(subject, places=places, judged=judged_of(told), left_out=left_out)

    def _waits_for_checkpoints(self) -> bool:
        return self.against is not None and self.surface.pk not in found(self.against, [self.surface])

    def answers(self) -> list[Answer | None]:
        """To each demand, None to those for which cells must be read first."""
        if not self.brief.demands:
            return []
        known = {one.demand: one.told for one in Answered.objects.filter(surface=self.surface)}
        subject = self._subject()
        waits = self._waits_for_checkpoints()
        answers: list[Answer | None] = []
        for one in self.brief.demands:
            if isinstance(one, OfFeatures):
                told = known.get(self.mark_of(one))
                answers.append(Answer(**told) if told is not None else None)
            else:
                answers.append(None if one.at_checkpoints and waits else answer(one, subject))
        return answers

    def statement(self) -> list[str]:
        """What may be said of the surface's accuracy."""
        return statement(self._subject(), self.brief.vegetated) if self.against is not None else []

    def work_out(self, progress: Progress = ignore_progress) -> None:
        """Read the cells for all that is not known yet, and keep it."""
        known = set(Answered.objects.filter(surface=self.surface).values_list("demand", flat=True))
        todo = [one for one in self.brief.demands if isinstance(one, OfFeatures) and self.mark_of(one) not in known]
        steps = len(todo) + 1
        # the statement of accuracy needs its errors, whatever is asked
        if self.against is not None and self._waits_for_checkpoints():
            judge(self.surface, self.against, part_of(progress, 0.0, 1 / steps))
        surface = in_metres(self.surface)
        for done, demand in enumerate(todo, start=1):
            held = self._held.get(demand.features)
            features = {demand.features: features_of(held)} if held is not None else {}
            subject = Subject(surface, features=features, names=self.names)
            told = answer(demand, subject, part_of(progress, done / steps, (done + 1) / steps)).to_dict()
            Answered.objects.update_or_create(
                surface=self.surface, demand=self.mark_of(demand), defaults={"told": told}
            )

    def findings(self) -> list[Finding]:
        """A caution for each demand that is not met."""
        told = []
        for demand, one in zip(self.brief.demands, self.answers(), strict=True):
            if one is not None and one.met is False:
                shown = figure_of(one)
                why = f"{'Found: ' + shown + '. ' if shown else ''}{one.told}".strip()
                sentence = f"{self.surface.name} does not meet the brief: {demand.title(self.names)}."
                told.append(Finding("brief", "caution", sentence, why))
        return told


def figure_of(told: Answer) -> str:
    """The figure of an answer with its unit; empty where it has none."""
    if told.figure is None:
        return ""
    if told.unit == "holes":
        many = f"{told.figure:,.0f} holes".replace(",", "\u202f")
        return "no hole" if not told.figure else "1 hole" if told.figure == 1 else many
    return f"{told.figure:.2f} {told.unit}".replace("-", "\u2212")


def answer_brief(job: Job, progress: Progress) -> Outcome:
    """Work out what a surface says to the brief."""
    held = Holding.objects.select_related("project__checkpoints")
    surface = held.filter(pk=job.request["surface"], project_id=job.project_id).first()
    if surface is None:
        raise InputError("The surface is no longer in the project.")
    Asked(surface).work_out(progress)
    return Outcome()


def told_of(demand: AnyDemand, names: dict[int, str]) -> dict[str, Any]:
    """A demand as the desk shows it: its settings and its title."""
    return {"title": demand.title(names), "content": demand.model_dump()}
