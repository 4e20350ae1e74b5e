"""Findings: what a check can say, as data. Weights are three only: note, caution, stop."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from yama.terrain.errors import InputError, QuestionError

Weight = Literal["note", "caution", "stop"]


@dataclass(frozen=True)
class Fix:
    """One press that does the right thing: a label, and the parameters to set."""

    label: str
    set_params: dict[str, Any]


@dataclass(frozen=True)
class Finding:
    """A checked fact. `sentence` says what and where, `why` why it matters and what to do.

    answers: of what stops only until somebody says what the file does not. Each is one press; a parameter of empty text in it
    is one that the person fills in.
    """

    code: str
    weight: Weight
    sentence: str
    why: str = ""
    fix: Fix | None = None
    places: list[tuple[float, float]] = field(default_factory=list)
    answers: list[Fix] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return asdict(self)


def from_dict(data: dict[str, Any]) -> Finding:
    """The inverse of `Finding.to_dict`."""
    fix = Fix(**data["fix"]) if data.get("fix") else None
    answers = [Fix(**one) for one in data.get("answers", [])]
    return Finding(**{**data, "fix": fix, "answers": answers})


def refuse(findings: list[Finding]) -> None:
    """Raise InputError where a finding is of weight stop: QuestionError where all of those can be answered."""
    stops = [finding for finding in findings if finding.weight == "stop"]
    if not stops:
        return
    sentence = " ".join(f"{finding.sentence} {finding.why}".strip() for finding in stops)
    raise QuestionError(sentence, stops) if all(one.answers for one in stops) else InputError(sentence)
