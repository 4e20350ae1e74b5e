"""Findings: what a check can say, as data. Weights are three only: note, caution, stop."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any, Literal

Weight = Literal["note", "caution", "stop"]


@dataclass(frozen=True)
class Mend:
    """One press that does the right thing: a label, and the parameters to set."""

    label: str
    set_params: dict[str, Any]


@dataclass(frozen=True)
class Finding:
    """A checked fact. `sentence` says what and where, `why` why it matters and what to do."""

    code: str
    weight: Weight
    sentence: str
    why: str = ""
    mend: Mend | None = None
    places: list[tuple[float, float]] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return asdict(self)
