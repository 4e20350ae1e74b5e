"""What a job's work comes to."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from yama.terrain.findings import Finding


@dataclass
class Outcome:
    """What a job leaves.

    Parameters
    ----------
    holding_id : int, optional
        Of the holding it made, the first where it made several.
    made : dict, optional
        What came of it that is no holding, as plain JSON values.
    findings : list of Finding
        What is to be said of it.
    """

    holding_id: int | None = None
    made: dict[str, Any] | None = None
    findings: list[Finding] = field(default_factory=list)


class LaterError(Exception):
    """Raised by a job's work that should be tried again in some seconds; meanwhile its worker does other things."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"again in {seconds:.1f} s")
        self.seconds = seconds
