"""The scorecard of a project: many surfaces at the same places, split as somebody asks."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema

from yama.service.accounts.people import person
from yama.service.holdings.models import Holding
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.judging.asked import Asked, ScorecardIn
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure, FindingOut
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.grid import FloatArray
from yama.terrain.judge.scorecard import FEW, Card, Part, best_of
from yama.terrain.judge.splits import Split, by_cover, none_of
from yama.terrain.judge.suspicions import suspicions
from yama.terrain.judge.verdict import verdict
from yama.terrain.judge.without_truth import noises
from yama.terrain.surface import digest
from yama.terrain.units import UNITS

router = Router(tags=["judging"])

_LISTED = 10_000
_SHOWN = (
    "count",
    "unused",
    "mean",
    "median",
    "deviation",
    "rmse",
    "nmad",
    "mae",
    "le68",
    "le90",
    "le95",
    "lowest",
    "highest",
    "outliers",
)
_LENGTHS = _SHOWN[2:-1]


class FiguresOut(Schema):
    """Error figures in the frame's unit of height, and the intervals in which the true ones lie 95 of 100 times, by
    name; empty where nothing says how sure they are."""

    count: int
    unused: int
    mean: float
    median: float
    deviation: float
    rmse: float
    nmad: float
    mae: float
    le68: float
    le90: float
    le95: float
    lowest: float
    highest: float
    outliers: int
    sure: dict[str, tuple[float, float]]
    few: bool


class MovedOut(Schema):
    """The shift that was taken off, in metres, and the curve of difference over slope against aspect; as the operation
    `shift` tells it."""

    east: float
    north: float
    up: float
    errors: list[float]
    distance: float
    direction: float
    aspect: list[float]
    swing: list[float | None]
    swing_after: list[float | None]
    dots: list[tuple[float, float]]
    dots_after: list[tuple[float, float]]


class ParallaxOut(Schema):
    """By how far the rays of an image pair miss each other at their tie points once its models are adjusted, the root
    mean square: in cells, and in the frame's unit of height by what a cell of parallax is worth."""

    cells: float
    ties: int
    height: float


class RowOut(Schema):
    """A surface on the scorecard. whole is null with a reason where it could not be judged. shape: density of its
    errors at even steps along the axis. moved: what was taken off, not_moved why nothing could be. roughness, noise:
    what is told without known heights, in the frame's unit; null where that cannot be. parallax: where it was matched
    from an image pair."""

    id: int
    name: str
    reason: str
    whole: FiguresOut | None
    parts: list[FiguresOut | None]
    crossed: list[list[FiguresOut | None]]
    left_out: int
    shape: list[float]
    moved: MovedOut | None
    not_moved: str
    roughness: float | None
    noise: float | None
    parallax: ParallaxOut | None


class SplitOut(Schema):
    """By what places are split: classes and their counts."""

    title: str
    names: list[str]
    counts: list[int]


class SuspicionOut(Schema):
    """Something that the errors say: of a surface, or of all where that is null. values: figures behind it, in
    metres."""

    cause: str
    surface: int | None
    finding: FindingOut
    values: dict[str, Any]


class ScorecardOut(Schema):
    """The scorecard. waiting: surfaces that were not judged at these places yet. onto: against which shifts were taken
    off. ground: whose slopes and aspects places have. reach, knee: of the axis, in the frame's unit, knee 0 where it is
    even."""

    waiting: list[int]
    sentence: str
    places: int
    shared: int
    onto: int | None
    ground: int | None
    covers: list[str]
    reach: float
    knee: float
    split: SplitOut
    second: SplitOut | None
    rows: list[RowOut]
    findings: list[SuspicionOut]


class JudgingOut(Schema):
    """The job that judges what is not judged yet; null where all is."""

    job: JobOut | None


class PartIn(ScorecardIn):
    """Whose places are asked for: a surface, and the number of a class of the split, or of both; all where null.
    outliers: only those farther than three NMAD from the median."""

    surface: int
    part: int | None = None
    second_part: int | None = None
    outliers: bool = False


class PlacesOut(Schema):
    """Places and their errors in the frame's unit, worst first. number: of the checkpoint, from 1."""

    places: list[tuple[float, float, float]]
    numbers: list[int]
    total: int


def _figures(part: Part, unit: float) -> dict[str, Any] | None:
    if part.figures is None:
        return None
    told: dict[str, Any] = {name: getattr(part.figures, name) for name in _SHOWN}
    for name in _LENGTHS:
        told[name] /= unit
    sure = part.sure.intervals if part.sure is not None else {}
    told["sure"] = {name: (low / unit, high / unit) for name, (low, high) in sure.items()}
    told["few"] = part.figures.count < FEW
    return told


def _split(split: Split) -> dict[str, Any]:
    return {"title": split.title, "names": list(split.names), "counts": split.counts}


def _parallax(asked: Asked, surface: Holding, unit: float) -> dict[str, Any] | None:
    told = asked.made_from.parallax(surface)
    return None if told is None else {**told, "height": told["height"] / unit}


def _rows(asked: Asked, card: Card | None, unit: float) -> list[dict[str, Any]]:
    judged = {one.pk: row for (one, _), row in zip(asked.judged, card.rows, strict=True)} if card is not None else {}
    noise = dict(
        zip([one.pk for one, _ in asked.judged], noises([each.errors for each in asked.subjects]), strict=True)
    )
    rows = []
    for one in asked.surfaces:
        told = asked.told.get(one.pk, {})
        row = judged.get(one.pk)
        rows.append({
            "id": one.pk,
            "name": one.name,
            "reason": told.get("reason", ""),
            "whole": _figures(row.whole, unit) if row else None,
            "parts": [_figures(part, unit) for part in row.parts] if row else [],
            "crossed": [[_figures(part, unit) for part in parts] for parts in row.crossed] if row else [],
            "left_out": row.left_out if row else 0,
            "shape": row.shape.round(4).tolist() if row else [],
            "moved": told.get("moved"),
            "not_moved": told.get("not_moved", ""),
            "roughness": None if told.get("roughness") is None else told["roughness"] / unit,
            "noise": own / unit if (own := noise.get(one.pk)) is not None else None,
            "parallax": _parallax(asked, one, unit),
        })  # fmt: skip
    return rows


def _worse_reference(asked: Asked) -> list[dict[str, Any]]:
    """A reference that does worse at the project's checkpoints than what is judged against it."""
    reference = asked.delivered.reference
    if reference is None or asked.project.checkpoints_id is None:
        return []

    def rmse(holding: Holding) -> float | None:
        card = holding.scorecards.filter(checkpoints_id=asked.project.checkpoints_id).first()
        return card.figures["all"]["rmse"] if card is not None and card.figures else None

    own = rmse(reference)
    told = []
    for one in asked.surfaces:
        other = rmse(one)
        if own is not None and other is not None and other < own and one.pk != reference.pk:
            sentence = f"At checkpoints {one.name} errs less than {reference.name}, against which it is judged here."
            why = "What is called its error is more likely that of the other. Judge against the better one."
            told.append(
                {
                    "cause": "reference",
                    "surface": one.pk,
                    "finding": Finding("reference", "caution", sentence, why).to_dict(),
                    "values": {},
                }
            )
    return told


@router.post("/{int:project_id}/scorecard/judge", response={200: JudgingOut, 202: JudgingOut, 422: Failure})
def judge_surfaces(request: HttpRequest, project_id: int, body: ScorecardIn) -> tuple[int, dict[str, Job | None]]:
    """Judge the surfaces of a scorecard that were not judged at its places yet, as a job."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    asked = Asked(project, body)
    if not asked.waiting:
        return 200, {"job": None}
    held = {
        "points": body.points, "reference": body.reference,
        "onto": asked.onto.pk if asked.onto is not None else None, "surfaces": asked.waiting,
    }  # fmt: skip
    many = "a surface" if len(asked.waiting) == 1 else f"{len(asked.waiting)} surfaces"
    title = f"Judge {many}" + (" without their shifts" if asked.onto is not None else "")
    key = digest(asked.against.key, sorted(body.surfaces))[:32]
    return 202, {"job": submit(project, "judge_at", title, held, person(request).pk, key)}


@router.post("/{int:project_id}/scorecard", response={200: ScorecardOut, 422: Failure})
def read_scorecard(request: HttpRequest, project_id: int, body: ScorecardIn) -> dict[str, Any]:
    """The scorecard of surfaces, as far as they were judged at its places."""
    project = open_project(request, project_id)
    asked = Asked(project, body)
    unit = UNITS[project.frame.unit]
    # while some wait, the others may have no height at any of the places
    card = asked.card() if asked.subjects and (not asked.waiting or asked.any) else None
    told: list[dict[str, Any]] = []
    if card is not None:
        for one in suspicions(asked.subjects, asked.places, card):
            surface = asked.judged[one.subject][0].pk if one.subject >= 0 else None
            told.append(
                {"cause": one.cause, "surface": surface, "finding": one.finding.to_dict(), "values": one.values}
            )
    return {
        "waiting": asked.waiting,
        "sentence": verdict(card) if card is not None else "",
        "places": len(asked.places),
        "shared": card.shared if card is not None else 0,
        "onto": asked.onto.pk if asked.onto is not None else None,
        "ground": asked.judged[best_of(asked.subjects)][0].pk if card is not None else None,
        "covers": list(by_cover(asked.places.covers).names) if asked.places.covers.size else [],
        "reach": card.axis.reach / unit if card is not None else 1.0,
        "knee": card.axis.knee / unit if card is not None else 0.0,
        "split": _split(card.split if card is not None else none_of(asked.places)),
        "second": _split(card.second) if card is not None and card.second is not None else None,
        "rows": _rows(asked, card, unit),
        "findings": [*told, *_worse_reference(asked)],
    }


@router.post("/{int:project_id}/scorecard/places", response={200: PlacesOut, 422: Failure})
def read_places(request: HttpRequest, project_id: int, body: PartIn) -> dict[str, Any]:
    """The places of a part of a row, with their errors, worst first."""
    project = open_project(request, project_id)
    asked = Asked(project, body)
    number = next((i for i, (one, _) in enumerate(asked.judged) if one.pk == body.surface), None)
    if number is None:
        raise InputError("This surface is not on the scorecard, or not judged yet.")
    card = asked.card()
    errors: FloatArray = card.errors[number]
    chosen = np.isfinite(errors)
    if body.part is not None:
        chosen &= card.split.of == body.part
    if body.second_part is not None and card.second is not None:
        chosen &= card.second.of == body.second_part
    if body.outliers:
        far = np.zeros(errors.size, np.bool_)
        far[card.rows[number].outliers] = True
        chosen &= far
    order = np.flatnonzero(chosen)
    order = order[np.argsort(-np.abs(errors[order]), kind="stable")]
    unit = UNITS[project.frame.unit]
    listed = order[:_LISTED]
    return {
        "places": [
            (float(asked.places.x[i]), float(asked.places.y[i]), float(errors[i] / unit)) for i in listed.tolist()
        ],
        "numbers": [i + 1 for i in listed.tolist()],
        "total": int(order.size),
    }
