"""The answer of a scorecard in a sentence."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yama.terrain.judge.scorecard import FEW, Card, Part


def _le95(part: Part) -> float:
    return part.figures.le95 if part.figures is not None and part.figures.count >= FEW else np.inf


def joined(names: Sequence[str]) -> str:
    """Names as a sentence lists them."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def verdict(card: Card) -> str:
    """Which surface errs least, of all places and class by class, told by the error that 95 % stay within; empty where
    there are too few places to say."""
    rows = [row for row in card.rows if np.isfinite(_le95(row.whole))]
    if not rows:
        return "There are too few points to tell which surface errs least."
    best = min(rows, key=lambda row: _le95(row.whole))
    if len(card.rows) == 1:
        return f"95 % of the errors of {best.name} stay within {_le95(best.whole):.2f} m."
    told = f"{best.name} errs least: 95 % of its errors stay within {_le95(best.whole):.2f} m."
    others: dict[str, list[str]] = {}
    for number, name in enumerate(card.split.names):
        there = [row for row in card.rows if np.isfinite(_le95(row.parts[number]))]
        if not there:
            continue
        own = min(there, key=lambda row: _le95(row.parts[number]))
        if own is not best:
            others.setdefault(own.name, []).append(name)
    more = [f"{name} does better in {joined(classes)}" for name, classes in others.items()]
    return f"{told} {joined(more)}." if more else told
