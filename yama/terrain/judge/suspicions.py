"""What errors at places say of a surface: that it stands too high, lies beside, is in feet, or holds trees.

Each is told only where the errors say so beyond chance, with the figure; what must be done about it is somebody's
choice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from yama.terrain.findings import Finding
from yama.terrain.grid import FloatArray
from yama.terrain.judge.intervals import blocks_of
from yama.terrain.judge.places import Places
from yama.terrain.judge.scorecard import FEW, Card, Subject, best_of
from yama.terrain.judge.splits import Split, by_cover
from yama.terrain.median import robust_spread

Cause = Literal["offset", "shift", "feet", "cover", "share", "left_out", "clustered", "few"]

_TURNS = 20
_FAR = 4.685  # robust standard deviations at which the biweight is 0
_SURE = 4.0  # standard errors from which on a shift is more than chance
_FEWEST = 40
_LESS = 0.75  # of the RMSE that is left without the offset, or the shift, at most
_FOOT = 0.3048
_FEET = 0.06  # of that factor by which heights in feet may be off
_HIGH = 20.0  # metres from which on a height says something of a factor
_SOME = 0.1  # of all points that a tile in feet holds at least
_PART = 0.3  # of the NMAD that an offset is at least
_ALIKE = 2.5  # times by which it may differ from cover to cover
_STANDS_OUT = 3.0  # times as large as elsewhere
_TALL = 1.0  # metres from which on a cover stands out
_MANY = 0.2  # of all places
_UNLIKE = 1.5  # times the RMSE elsewhere


@dataclass(frozen=True)
class Suspicion:
    """Something that the errors say of a surface. subject: its number; -1 of all of them. values: figures behind it,
    such as `up` or `east` and `north` in metres."""

    cause: Cause
    subject: int
    finding: Finding
    values: dict[str, Any]


@dataclass(frozen=True)
class Lean:
    """How a surface lies beside and above the places, in metres, and standard errors of the three."""

    east: float
    north: float
    up: float
    errors: tuple[float, float, float]

    @property
    def distance(self) -> float:
        """Metres that it lies beside."""
        return float(np.hypot(self.east, self.north))

    @property
    def direction(self) -> float:
        """Degrees from north."""
        return float(np.degrees(np.arctan2(self.east, self.north)) % 360)


def lean(errors: FloatArray, rises: FloatArray, east: FloatArray, north: FloatArray) -> Lean | None:
    """How a surface lies, from its errors and its own slopes at places: the error of one that lies beside is its rise
    times the way back (C. Nuth and A. Kääb, The Cryosphere 5, 2011), robustly (biweight). None of fewer than 40 places.

    Parameters
    ----------
    errors : ndarray, shape (places,)
        NaN ones do not count.
    rises : ndarray, shape (2, places)
        Of the surface, towards east and north.
    east, north : ndarray, shape (places,)
        In metres, for blocks of ground whose residuals are alike.
    """
    used = np.isfinite(errors) & np.isfinite(rises).all(axis=0)
    if used.sum() < _FEWEST:
        return None
    d = errors[used]
    terms = np.stack([-rises[0, used], -rises[1, used], np.ones(d.size)], axis=1)
    found = np.array([0.0, 0.0, float(np.median(d))])
    for _ in range(_TURNS):
        rest = d - terms @ found
        far = _FAR * max(robust_spread(rest), 1e-6)
        weight = np.where(np.abs(rest) < far, (1 - (rest / far) ** 2) ** 2, 0.0)
        normal = terms.T @ (weight[:, None] * terms)
        if np.linalg.cond(normal) > 1e9:
            return None
        found = np.linalg.solve(normal, terms.T @ (weight * d))
    rest = d - terms @ found
    # what stands in one block of ground errs alike: the sums of blocks vary, not those of places
    block, _ = blocks_of(east[used], north[used])
    scores = np.zeros((int(block.max()) + 1, 3))
    np.add.at(scores, block, terms * (weight * rest)[:, None])
    back = np.linalg.inv(normal)
    spread = np.sqrt(np.diag(back @ (scores.T @ scores) @ back))
    return Lean(
        float(found[0]), float(found[1]), float(found[2]), (float(spread[0]), float(spread[1]), float(spread[2]))
    )


def _rmse(values: FloatArray) -> float:
    return float(np.sqrt(np.nanmean(values**2)))


def _metres(value: float) -> str:
    size = abs(value)
    return f"{size:.2f} m" if size < 10 else f"{size:.1f} m" if size < 100 else f"{size:.0f} m"


def _in_feet(number: int, one: Subject, places: Places) -> Suspicion | None:
    """Heights that are 3.28 times as large as they should be, or as small; everywhere, or in a part such as a tile."""
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = (one.errors + places.heights) / places.heights
    used = np.isfinite(ratio) & (np.abs(places.heights) > _HIGH)
    if used.sum() < FEW:
        return None
    for factor, told in ((1 / _FOOT, "feet, taken as metres"), (_FOOT, "metres, taken as feet")):
        like = used & (np.abs(ratio / factor - 1) < _FEET)
        if like.sum() >= _SOME * used.sum():
            where = "" if like.sum() > 0.9 * used.sum() else f" at {int(like.sum())} of {int(used.sum())} points"
            sentence = f"Heights of {one.name} look like {told}{where}: {factor:.2f} times what they should be."
            why = (
                "Declare its unit again in Gather."
                if not where
                else "Is one of the tiles that it was made of in another unit?"
            )
            finding = Finding("feet", "caution", sentence, why)
            return Suspicion("feet", number, finding, {"factor": factor, "count": int(like.sum())})
    return None


def _out_of_place(number: int, one: Subject, places: Places, covers: Split | None) -> Suspicion | None:
    """A surface that lies beside, or stands above."""
    errors = one.errors
    used = np.isfinite(errors)
    if used.sum() < FEW:
        return None
    east, north = places.in_metres()
    found = lean(errors, one.judged.rises, east, north)
    if found is not None:
        sure = np.maximum(found.errors[:2], 1e-9)
        beside = float(np.hypot(found.east / sure[0], found.north / sure[1]))
        rest = errors - (found.up - found.east * one.judged.rises[0] - found.north * one.judged.rises[1])
        rest = rest - np.nanmedian(rest)
        spread = 1.4826 * float(np.nanmedian(np.abs(rest)))
        apart = errors - np.median(errors[used])
        before = 1.4826 * float(np.nanmedian(np.abs(apart)))
        if beside > _SURE and spread < _LESS * before:
            way = f"{found.direction:.0f}°"
            sentence = f"{one.name} lies about {_metres(found.distance)} towards {way}: its errors swing with the aspect of slopes."
            values = {
                "east": found.east, "north": found.north, "up": found.up, "distance": found.distance,
                "direction": found.direction, "errors": list(found.errors),
            }  # fmt: skip
            return Suspicion(
                "shift", number, Finding("shift", "note", sentence, "It is out of place, not out of height."), values
            )
    return _too_high(number, one, covers)


def _too_high(number: int, one: Subject, covers: Split | None) -> Suspicion | None:
    """A surface that stands higher or lower by the same everywhere, whatever covers the ground."""
    errors = one.errors
    used = np.isfinite(errors)
    up = float(np.median(errors[used]))
    nmad = 1.4826 * float(np.median(np.abs(errors[used] - up)))
    chance = 1.2533 * nmad / np.sqrt(used.sum())  # standard error of a median
    if abs(up) <= max(_SURE * chance, _PART * nmad):
        return None
    by_cover = [errors[(covers.of == each) & used] for each in range(len(covers.names))] if covers is not None else []
    medians = [float(np.median(own)) for own in by_cover if own.size >= FEW // 2]
    if not all(1 / _ALIKE < median / up < _ALIKE for median in medians):
        return None
    way = "higher" if up > 0 else "lower"
    whole, left = _rmse(errors), _rmse(errors - up)
    where = ", whatever covers the ground" if len(medians) > 1 else ""
    shape = " has the shape of the ground and" if left < _LESS * whole else ""
    sentence = f"{one.name}{shape} stands {_metres(up)} {way}{where}."
    why = f"Without that its RMSE falls from {whole:.2f} to {left:.2f} m. Does zero mean the same in it?"
    return Suspicion("offset", number, Finding("offset", "note", sentence, why), {"up": up, "rmse": left})


def _by_cover(number: int, one: Subject, covers: Split) -> Suspicion | None:
    """One cover in which a surface stands higher, and nowhere else."""
    errors = one.errors
    worst: Suspicion | None = None
    for each, name in enumerate(covers.names):
        own = errors[(covers.of == each) & np.isfinite(errors)]
        others = errors[(covers.of != each) & (covers.of >= 0) & np.isfinite(errors)]
        if min(own.size, others.size) < FEW // 2:
            continue
        here, there = float(np.median(own)), float(np.median(others))
        if here - there <= max(_TALL, _STANDS_OUT * abs(there)) or here <= _TALL:
            continue
        if worst is not None and worst.values["here"] >= here:
            continue
        sentence = f"{one.name} stands {_metres(here)} too high in {name}, and {_metres(there)} elsewhere."
        why = "It shows what stands on the ground there, such as crowns of trees, not the ground."
        values = {"class": name, "here": here, "there": there}
        worst = Suspicion("cover", number, Finding("cover", "note", sentence, why), values)
    return worst


def _share_of_cover(subjects: Sequence[Subject], covers: Split) -> Suspicion | None:
    """One cover that holds many of the places, where the best surface errs most."""
    best = subjects[best_of(subjects)]
    known = np.isfinite(best.errors)
    total = int(((covers.of >= 0) & known).sum())
    for each, name in enumerate(covers.names):
        own = best.errors[(covers.of == each) & known]
        others = best.errors[(covers.of != each) & (covers.of >= 0) & known]
        if min(own.size, others.size) < FEW or own.size < _MANY * total or _rmse(own) < _UNLIKE * _rmse(others):
            continue
        sentence = (
            f"{own.size} of {total} points stand in {name}, where {best.name} errs most: "
            f"RMSE {_rmse(own):.2f} m there, {_rmse(others):.2f} m elsewhere."
        )
        why = "One figure of all depends on how many stand there. Split by cover, or weigh each class by its area."
        return Suspicion("share", -1, Finding("share", "caution", sentence, why), {"class": name})
    return None


def _of_all(subjects: Sequence[Subject], card: Card, covers: Split | None) -> list[Suspicion]:
    """What must be known of the places themselves."""
    share = _share_of_cover(subjects, covers) if covers is not None else None
    found = [] if share is None else [share]
    sure = next((row.whole.sure for row in card.rows if row.whole.sure is not None), None)
    if sure is not None and sure.clustered:
        places = f"{sure.blocks} places" if not sure.intervals else f"{sure.blocks} blocks of ground"
        found.append(Suspicion("clustered", -1, Finding(
            "clustered", "caution", f"The points stand in clusters, where errors are alike: they count as {places}.",
            "The figures are less sure than their number says." if sure.intervals else "Nothing says how sure the figures are.",
        ), {}))  # fmt: skip
    most = max((row.whole.figures.count for row in card.rows if row.whole.figures is not None), default=0)
    if 0 < most < FEW:
        found.append(Suspicion("few", -1, Finding(
            "few", "caution", f"There are {most} points with a height to judge by: figures of 95 % need {FEW} at least.",
            "The open standard for positional accuracy asks for 30.",
        ), {}))  # fmt: skip
    for number, row in enumerate(card.rows):
        if row.left_out:
            sentence = f"{row.left_out} of the points went into {row.name}: they are left out of its row."
            found.append(
                Suspicion(
                    "left_out",
                    number,
                    Finding("left_out", "note", sentence, "A surface lies right at its own points."),
                    {},
                )
            )
    return found


def suspicions(subjects: Sequence[Subject], places: Places, card: Card) -> list[Suspicion]:
    """What the errors of a scorecard say, of all of it first, then surface by surface."""
    covers = by_cover(places.covers) if places.covers.size else None
    found = _of_all(subjects, card, covers)
    for number, one in enumerate(subjects):
        said = _in_feet(number, one, places)
        if said is None:
            said = _out_of_place(number, one, places, covers)
        by_class = (
            _by_cover(number, one, covers) if covers is not None and (said is None or said.cause != "feet") else None
        )
        found += [each for each in (said, by_class) if each is not None]
    return found
