"""A scorecard that somebody asks for: its surfaces, what they are judged against, and how places are split."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
import numpy.typing as npt
from django.shortcuts import get_object_or_404
from ninja import Field, Schema
from pydantic import StringConstraints

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, POINTS, kind_of
from yama.service.holdings.models import Holding
from yama.service.judging.against import Against, MadeFrom, found, judged_of
from yama.service.projects.models import Project
from yama.terrain.errors import InputError
from yama.terrain.judge.places import Places
from yama.terrain.judge.scorecard import Card, Subject, best_of, scorecard
from yama.terrain.judge.shares import shares_of
from yama.terrain.judge.splits import Split, SplitName, none_of, split_by

_MOST = 40
Column = Annotated[str, StringConstraints(max_length=64)]


class ScorecardIn(Schema):
    """What is judged, against what, and how it is split.

    points or reference: checkpoints, or a surface. removed: whether shift and offset of each against `onto` are taken
    off first, the best of them as delivered where that is null. split, second: by what places are classed; polygons,
    column: for polygons; data: points to which distance is told. shared: count only places at which every surface has
    a height. by_area: weigh each class by the ground that its polygons cover.
    """

    surfaces: list[int] = Field(min_length=1, max_length=_MOST)
    points: int | None = None
    reference: int | None = None
    removed: bool = False
    onto: int | None = None
    split: SplitName = "none"
    second: SplitName = "none"
    polygons: int | None = None
    column: Column = ""
    data: list[int] = Field([], max_length=8)
    shared: bool = False
    by_area: bool = False
    even: bool = False


def _one(project: Project, number: int, kind: Any) -> Holding:
    holding = get_object_or_404(Holding, pk=number, project=project)
    if kind_of(holding) is not kind:
        raise InputError(f"{holding.name} is of another kind than what is asked for here.")
    return holding


def _against(project: Project, body: ScorecardIn) -> Against:
    if (body.points is None) == (body.reference is None):
        raise InputError("Surfaces are judged at checkpoints or against a surface. Choose one of the two.")
    points = _one(project, body.points, POINTS) if body.points is not None else None
    reference = None
    if body.reference is not None:
        reference = get_object_or_404(Holding, pk=body.reference, project=project)
        _refuse_unjudgeable(reference)
    return Against(project, points, reference)


def _refuse_unjudgeable(holding: Holding) -> None:
    if not kind_of(holding).is_judgeable(holding):
        raise InputError(f"{holding.name} has no heights that could be judged. Choose surfaces of heights.")


def _surfaces(project: Project, body: ScorecardIn) -> list[Holding]:
    held = {one.pk: one for one in Holding.objects.filter(pk__in=body.surfaces, project=project)}
    surfaces = [held[number] for number in dict.fromkeys(body.surfaces) if number in held]
    if not surfaces:
        raise InputError("None of these surfaces is in the project any more. Choose others.")
    for one in surfaces:
        _refuse_unjudgeable(one)
    return surfaces


class Asked:
    """A scorecard that somebody asks for, as far as its surfaces are judged."""

    def __init__(self, project: Project, body: ScorecardIn) -> None:
        self.project, self.body = project, body
        self.surfaces = _surfaces(project, body)
        self.delivered = _against(project, body)
        self.places: Places = self.delivered.places()
        self.made_from = MadeFrom(project, self.places)
        told = found(self.delivered, self.surfaces)
        self.waiting = [one.pk for one in self.surfaces if one.pk not in told]
        self.against = self.delivered
        self.onto: Holding | None = None
        if body.removed and not self.waiting:
            self.onto = self._best(told)
            self.against = Against(project, self.delivered.points, self.delivered.reference, self.onto)
            told = found(self.against, self.surfaces)
            self.waiting = [one.pk for one in self.surfaces if one.pk not in told]
        self.told = told
        known = [(one, judged_of(told[one.pk])) for one in self.surfaces if one.pk in told]
        self.judged = [(one, judged) for one, judged in known if judged is not None]
        self.subjects = [Subject(one.name, judged, self._left_out(one)) for one, judged in self.judged]

    def _best(self, told: dict[int, dict[str, Any]]) -> Holding:
        if self.body.onto is not None:
            chosen = get_object_or_404(Holding, pk=self.body.onto, project=self.project)
            _refuse_unjudgeable(chosen)
            return chosen
        if self.delivered.reference is not None:
            return self.delivered.reference
        known = [(one, judged_of(told[one.pk])) for one in self.surfaces]
        there = [(one, judged) for one, judged in known if judged is not None]
        if not there:
            raise InputError("None of these surfaces could be judged, so none says where the others lie.")
        # what is small may be the best all the same: shifts are told where both surfaces are
        return there[best_of([Subject(one.name, judged, self._left_out(one)) for one, judged in there], 0.0)][0]

    def _left_out(self, surface: Holding) -> npt.NDArray[np.bool_] | None:
        return self.made_from.among(surface) if self.delivered.points is not None else None

    @property
    def any(self) -> bool:
        """Whether any surface has a height at any of the places."""
        return any(np.isfinite(one.errors).any() for one in self.subjects)

    def split(self, name: SplitName) -> Split:
        if name == "none" or not self.subjects:
            return none_of(self.places)
        body = self.body
        ground = self.subjects[best_of(self.subjects)].judged
        polygons = [features_of(_one(self.project, body.polygons, FEATURES))] if body.polygons is not None else []
        data = [POINTS.load(_one(self.project, one, POINTS)) for one in body.data]
        return split_by(name, self.places, ground, polygons, body.column, data)

    def shares(self, split: Split) -> dict[str, float] | None:
        """Of the ground, by class; for weighing by area."""
        if not self.body.by_area:
            return None
        if self.body.polygons is None:
            raise InputError("Choose the polygons whose areas the classes are weighed by.")
        features = features_of(_one(self.project, self.body.polygons, FEATURES))
        return shares_of([features], self.body.column, self.project.frame.grid, split.names)

    def card(self) -> Card:
        split = self.split(self.body.split)
        if self.body.second == self.body.split != "none":
            raise InputError("Split by two different things, or by one alone.")
        second = self.split(self.body.second) if self.body.second != "none" else None
        return scorecard(
            self.subjects, self.places, split, second, self.body.shared, self.shares(split), self.body.even
        )
