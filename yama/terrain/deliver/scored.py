"""The scorecard as a report prints it: a row a surface, with the shape of its errors on one axis."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from yama.terrain.findings import Finding
from yama.terrain.judge.places import Places
from yama.terrain.judge.scorecard import FEW, Axis, Card, Part, Subject, scorecard
from yama.terrain.judge.splits import by_cover, none_of
from yama.terrain.judge.suspicions import suspicions
from yama.terrain.judge.verdict import verdict
from yama.terrain.units import UNITS

WIDE, HIGH = 120, 20
SWING_WIDE, SWING_HIGH = 230, 64
_SWING_LEFT = 6.0
_MARKS = (0.01, 0.1, 1.0, 10.0, 100.0)


@dataclass(frozen=True)
class Mark:
    """A figure on the axis: where it stands, and in words."""

    at: float
    text: str


@dataclass(frozen=True)
class Scored:
    """A surface's row. handed_over: whether it is in the package. outline: of the shape of its errors, as a path.
    middle, bar: where its mean stands, and its median less and plus NMAD. figures, between: in the frame's unit, None
    where nothing is known. parts: the error that 95 % stay within, class by class, and whether few places say so."""

    name: str
    handed_over: bool
    outline: str
    middle: float
    bar: tuple[float, float]
    count: int
    mean: float
    nmad: float
    rmse: float
    le95: float
    between: tuple[float, float] | None
    parts: list[tuple[float, bool] | None]


@dataclass(frozen=True)
class Lying:
    """Where a surface lies against another, with the plot that says so.

    name, onto: of both. distance, error, up: in metres; direction: degrees from north. reach: metres that the plot
    goes up and down. curve: the cosine, as points of a line; dots: differences over the tangent of the slope, by
    aspect.
    """

    name: str
    onto: str
    distance: float
    error: float
    direction: float
    up: float
    reach: float
    curve: str
    dots: list[tuple[float, float]]


def lying(name: str, onto: str, moved: Mapping[str, Any]) -> Lying:
    """Where a surface lies, by the shift that was found for it, as the operation `shift` tells it (Nuth and Kääb,
    The Cryosphere 5, 2011)."""
    distance, direction = float(moved["distance"]), float(moved["direction"])
    medians = [abs(one) for one in moved["swing"] if one is not None]
    reach = max([distance * 1.4, *medians, 0.1])

    def at(aspect: float, metres: float) -> tuple[float, float]:
        across = _SWING_LEFT + aspect / 360 * (SWING_WIDE - 2 * _SWING_LEFT)
        return round(across, 1), round(SWING_HIGH / 2 - metres / reach * (SWING_HIGH / 2 - 3), 1)

    curve = [at(one, distance * math.cos(math.radians(direction - one))) for one in range(0, 361, 5)]
    dots = [at(aspect, metres) for aspect, metres in moved["dots"] if abs(metres) <= reach]
    error = math.hypot(*moved["errors"][:2])
    points = " ".join(f"{x},{y}" for x, y in curve)
    return Lying(name, onto, distance, error, direction, float(moved["up"]), reach, points, dots)


@dataclass(frozen=True)
class ScoredCard:
    """All rows, the one that errs least first; classes with their counts; figures along the axis; what errors say;
    where surfaces lie, as far as somebody asked."""

    sentence: str
    points: int
    rows: list[Scored]
    classes: list[tuple[str, int]]
    marks: list[Mark]
    findings: list[Finding]
    lying: list[Lying]


def _at(axis: Axis, error: float) -> float:
    return round((float(axis.place(np.array([error]))[0]) + 1) / 2 * WIDE, 2)


def _part(part: Part, unit: float) -> tuple[float, bool] | None:
    return None if part.figures is None else (part.figures.le95 / unit, part.figures.count < FEW)


def scored(
    subjects: Sequence[Subject],
    places: Places,
    handed_over: Sequence[bool],
    unit: str = "m",
    lie: Sequence[Lying] = (),
) -> ScoredCard | None:
    """The scorecard of surfaces at checkpoints.

    Parameters
    ----------
    subjects : sequence of Subject
    places : Places
    handed_over : sequence of bool
        Which of them are in the package.
    unit : str
        In which figures are printed.
    lie : sequence of Lying
        Where surfaces lie, as far as that is known.

    Returns
    -------
    ScoredCard, optional
        None where no surface has a height at any of the places.
    """
    there = [number for number, one in enumerate(subjects) if np.isfinite(one.errors).any()]
    if not there:
        return None
    kept = [subjects[number] for number in there]
    split = by_cover(places.covers) if places.covers.size else none_of(places)
    card: Card = scorecard(kept, places, split, None)
    metres = UNITS[unit]
    rows = []
    for number, row in zip(there, card.rows, strict=True):
        figures = row.whole.figures
        if figures is None:
            continue
        steps = np.linspace(0, WIDE, row.shape.size)
        tops = HIGH - 4 - row.shape * (HIGH - 5)
        outline = " ".join(f"{x:.1f},{y:.1f}" for x, y in zip(steps, tops, strict=True))
        interval = row.whole.sure.intervals.get("le95") if row.whole.sure is not None else None
        rows.append(
            Scored(
                name=row.name,
                handed_over=handed_over[number],
                outline=f"0,{HIGH - 4} {outline} {WIDE},{HIGH - 4}",
                middle=_at(card.axis, figures.mean),
                bar=(_at(card.axis, figures.median - figures.nmad), _at(card.axis, figures.median + figures.nmad)),
                count=figures.count,
                mean=figures.mean / metres,
                nmad=figures.nmad / metres,
                rmse=figures.rmse / metres,
                le95=figures.le95 / metres,
                between=None if interval is None else (interval[0] / metres, interval[1] / metres),
                parts=[_part(part, metres) for part in row.parts],
            )
        )
    rows.sort(key=lambda one: one.le95)
    marks = [Mark(_at(card.axis, 0.0), "0")]
    for value in _MARKS:
        at = _at(card.axis, value * metres)
        if value * metres < card.axis.reach and at - marks[-1].at > WIDE / 7:
            marks.append(Mark(at, f"{value:g}"))
            marks.insert(0, Mark(_at(card.axis, -value * metres), f"\u2212{value:g}"))
    return ScoredCard(
        verdict(card),
        len(places),
        rows,
        list(zip(card.split.names, card.split.counts, strict=True)),
        marks,
        [one.finding for one in suspicions(kept, places, card)],
        list(lie),
    )
