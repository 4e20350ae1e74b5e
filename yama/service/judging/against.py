"""What surfaces are judged against, and judging them there as a job."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.service.holdings.kinds import POINTS, TABLE, kind_of
from yama.service.holdings.models import Holding
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.judging.models import Judgement
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.terrain.ending import heard_by
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.judge.coregistration import coregistration
from yama.terrain.judge.places import Judged, Places, at_points, judged_at, spread_over
from yama.terrain.judge.without_truth import roughness
from yama.terrain.kept import Kept
from yama.terrain.operations.shift import compared_on, facts_of
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import Surface, digest
from yama.terrain.units import UNITS, in_unit

_places: Kept[str, Places] = Kept(8)
"""By key: reading a reference at twenty thousand places takes a moment."""


@dataclass(frozen=True)
class Against:
    """Points, or a surface at places spread over the frame; and the surface of which the judged ones are put right
    first."""

    project: Project
    points: Holding | None
    reference: Holding | None
    onto: Holding | None = None

    @property
    def key(self) -> str:
        """By what a judgement is kept."""
        if self.points is not None:
            told = f"points {self.points.key}"
        else:
            assert self.reference is not None, "points or a surface"
            told = f"surface {self.reference.key} {digest(self.project.frame.grid.to_dict())[:12]}"
        return f"{told} onto {self.onto.key}" if self.onto is not None else told

    def places(self) -> Places:
        """The places. Raises InputError where there are none."""
        frame = self.project.frame
        if self.points is not None:
            points = POINTS.load(self.points)
            return _places.get(f"{self.key} {frame.grid.crs}", lambda: at_points(points, frame.grid.crs))
        assert self.reference is not None, "points or a surface"
        surface = keys.surface_of_holding(self.reference)
        return _places.get(self.key, lambda: spread_over(surface, frame.grid))


class MadeFrom:
    """What surfaces of a project were made from, as far as that says how they are judged."""

    def __init__(self, project: Project, places: Places) -> None:
        self._by_key = {one.key: one for one in project.holdings.all()}
        self._places = places
        self._among: dict[str, npt.NDArray[np.bool_]] = {}

    def _below(self, surface: Holding) -> Iterator[Holding]:
        """Each holding that went into a surface, however many steps back."""
        seen: set[str] = set()
        below = [surface]
        while below:
            step = below.pop().step
            for key in [one for each in (step.inputs.values() if step else ()) for one in each]:
                held = self._by_key.get(key)
                if held is not None and key not in seen:
                    seen.add(key)
                    below.append(held)
                    yield held

    def among(self, surface: Holding) -> npt.NDArray[np.bool_] | None:
        """At which places a surface was made of the points: there it cannot be judged. None where of no points at
        all."""
        left: npt.NDArray[np.bool_] | None = None
        for held in self._below(surface):
            if kind_of(held) is POINTS:
                if held.key not in self._among:
                    self._among[held.key] = self._places.among(POINTS.load(held))
                left = self._among[held.key] if left is None else left | self._among[held.key]
        return left

    def parallax(self, surface: Holding) -> dict[str, Any] | None:
        """By how far rays of the image pair miss each other from which a surface was matched, as its adjusted models
        tell; None where of no such pair."""
        for held in self._below(surface):
            if kind_of(held) is TABLE:
                facts = TABLE.load(held).facts
                if {"rms", "used", "metres_per_cell"} <= set(facts):
                    height = facts["rms"] * facts["metres_per_cell"]
                    return {"cells": facts["rms"], "ties": facts["used"], "height": height}
        return None


def found(against: Against, surfaces: list[Holding]) -> dict[int, dict[str, Any]]:
    """What is known already, by number of the surface."""
    rows = Judgement.objects.filter(surface__in=surfaces, places=against.key)
    return {row.surface_id: row.told for row in rows}


def shifts_of(against: Against, surfaces: list[Holding]) -> list[tuple[Holding, str, dict[str, Any]]]:
    """The shifts that were found for surfaces before they were judged at the same places: the surface, what it was
    held against, and the shift as the operation tells it; the last one of each."""
    begin = f"{against.key} onto "
    names = {one.key: one.name for one in against.project.holdings.all()}
    last: dict[int, tuple[Holding, str, dict[str, Any]]] = {}
    for row in Judgement.objects.filter(surface__in=surfaces, places__startswith=begin).order_by("pk"):
        onto = names.get(row.places.removeprefix(begin))
        if onto is not None and row.told.get("moved"):
            last[row.surface_id] = (row.surface, onto, row.told["moved"])
    return [last[one.pk] for one in surfaces if one.pk in last]


def in_metres(holding: Holding) -> Surface:
    """A surface with its heights in metres."""
    surface = keys.surface_of_holding(holding)
    return in_unit(surface, "m") if surface.unit in UNITS else surface


def _judge(holding: Holding, against: Against, progress: Progress) -> dict[str, Any]:
    surface = in_metres(holding)
    moved: dict[str, Any] | None = None
    reason = ""
    if against.onto is not None and against.onto.pk != holding.pk:
        frame = Frame(against.project.frame.grid, "m", against.project.frame.vertical_datum)
        reference = in_metres(against.onto)
        try:
            shift = coregistration(surface, reference, on=compared_on(surface, reference, frame), progress=progress)
            surface, moved = shift.put_right(surface), facts_of(shift, frame)
        except InputError as error:
            reason = str(error)
    with heard_by(progress):  # a surface that is computed as it is read may take long
        told = judged_at(surface, against.places()).to_dict()
        rough = roughness(surface)
    return {**told, "moved": moved, "not_moved": reason, "roughness": rough if np.isfinite(rough) else None}


def judge(holding: Holding, against: Against, progress: Progress) -> None:
    """Judge a surface at places, put right before where that is asked, and keep what it says."""
    try:
        told = _judge(holding, against, progress)
    except InputError as error:
        told = {"reason": str(error)}
    Judgement.objects.update_or_create(surface=holding, places=against.key, defaults={"told": told})


def judge_at(job: Job, progress: Progress) -> Outcome:
    """Judge surfaces where nobody has yet."""
    project = Project.objects.get(pk=job.project_id)
    asked = job.request

    def held(name: str) -> Holding | None:
        return Holding.objects.filter(pk=asked[name], project=project).first() if asked[name] else None

    against = Against(project, held("points"), held("reference"), held("onto"))
    if against.points is None and against.reference is None:
        raise InputError("What the surfaces were to be judged against is no longer in the project.")
    surfaces = list(Holding.objects.filter(pk__in=asked["surfaces"], project=project))
    known = found(against, surfaces)
    todo = [one for one in surfaces if one.pk not in known]
    for done, holding in enumerate(todo):
        part = part_of(progress, done / len(todo), (done + 1) / len(todo))
        part(0.0)
        judge(holding, against, part)
    return Outcome()


def judged_of(told: dict[str, Any]) -> Judged | None:
    """A judgement as the core has it; None where there is none."""
    return Judged.from_dict(told) if "errors" in told else None
