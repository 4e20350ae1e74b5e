"""What somebody asks of a surface, as data: the demands of a brief."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from yama.terrain.errors import InputError

MOST = 40
"""Demands of a brief."""

FigureName = Literal["le95", "le90", "rmse", "nmad", "mean"]
Word = Annotated[str, Field(max_length=64)]
_METRES: dict[str, Any] = {"unit": "m"}
_FORMATS = {"tif": "GeoTIFF", "asc": "ASCII grid", "xyz": "a list of points"}
_SAID = {
    "le95": "95 % of errors{where} within {limit}",
    "le90": "90 % of errors{where} within {limit}",
    "rmse": "RMSE{where} at most {limit}",
    "nmad": "NMAD{where} at most {limit}",
    "mean": "Mean error{where} within {limit}",
}


def metres(value: float) -> str:
    """A length as a demand says it: to the centimetre, and finer only where it has to be."""
    return f"{value:.2f} m" if round(value, 2) == value else f"{value:g} m"


def listed(words: Sequence[str]) -> str:
    """Words as a sentence lists them."""
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


class Demand(BaseModel):
    """One thing that is asked of a surface. Lengths and heights are in metres."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    @abstractmethod
    def title(self, names: Mapping[int, str]) -> str:
        """What is asked, in words. names: of features, by number."""

    @abstractmethod
    def subject(self) -> tuple[Any, ...]:
        """What it speaks of: two demands of one subject contradict each other, or say the same twice."""

    @property
    def at_checkpoints(self) -> bool:
        """Whether it is told from errors at checkpoints."""
        return False


class OfFeatures(Demand):
    """A demand that speaks of features. features: their number; column, value: only those that have it there. label:
    what they are called, where that is not told by these."""

    features: int
    column: Word = ""
    value: Word = ""
    label: Word = ""

    def called(self, names: Mapping[int, str]) -> str:
        """What they are called."""
        own = self.value if self.column else ""
        return self.label or own or names.get(self.features, "what is no longer there")

    def subject(self) -> tuple[Any, ...]:
        return (self.kind, self.features, self.column, self.value)  # type: ignore[attr-defined]


class ErrorWithin(Demand):
    """Errors at checkpoints stay within a limit. covers: only at places that these cover, all where there are none.
    called: a word for them."""

    kind: Literal["error"]
    figure: FigureName = "le95"
    within: float = Field(gt=0, le=10_000, json_schema_extra=_METRES)
    covers: list[Word] = Field([], max_length=40)
    called: Word = ""

    def title(self, names: Mapping[int, str]) -> str:
        where = self.called or (listed(self.covers) if self.covers else "")
        return _SAID[self.figure].format(where=f" in {where}" if where else "", limit=metres(self.within))

    def subject(self) -> tuple[Any, ...]:
        return (self.kind, self.figure, tuple(sorted(self.covers)))

    @property
    def at_checkpoints(self) -> bool:
        return True


class NoHole(OfFeatures):
    """No empty cell within polygons, as far as the surface reaches."""

    kind: Literal["holes"]

    def title(self, names: Mapping[int, str]) -> str:
        return f"No hole inside {self.called(names)}"


class Covered(OfFeatures):
    """Heights all over polygons. share: per cent of their area that has heights at least."""

    kind: Literal["area"]
    share: float = Field(100.0, gt=0, le=100, json_schema_extra={"unit": "%"})

    def title(self, names: Mapping[int, str]) -> str:
        part = "all over" if self.share == 100 else f"on {self.share:g} % of"
        return f"Heights {part} {self.called(names)}"


class LiesLevel(OfFeatures):
    """Water lies level: 95 % of its cells are within a limit of their median."""

    kind: Literal["level"]
    within: float = Field(0.05, gt=0, le=100, json_schema_extra=_METRES)

    def title(self, names: Mapping[int, str]) -> str:
        return f"{self.called(names)} lies level within {metres(self.within)}"


class Falls(OfFeatures):
    """Water falls along its line: it rises nowhere by more than a limit above what lies upstream."""

    kind: Literal["falling"]
    within: float = Field(0.1, ge=0, le=100, json_schema_extra=_METRES)

    def title(self, names: Mapping[int, str]) -> str:
        return f"{self.called(names)} falls, rising by at most {metres(self.within)}"


class Zero(Demand):
    """Heights stand above a zero level. within: of the median error at checkpoints; not asked where null."""

    kind: Literal["datum"]
    datum: str = Field(min_length=1, max_length=120)
    within: float | None = Field(None, gt=0, le=1_000, json_schema_extra=_METRES)

    def title(self, names: Mapping[int, str]) -> str:
        return f"Heights above {self.datum}" + (f", within {metres(self.within)}" if self.within else "")

    def subject(self) -> tuple[Any, ...]:
        return (self.kind,)

    @property
    def at_checkpoints(self) -> bool:
        return self.within is not None


class CellsOf(Demand):
    """Cells are as fine as that, or finer."""

    kind: Literal["cells"]
    size: float = Field(gt=0, le=100_000, json_schema_extra=_METRES)

    def title(self, names: Mapping[int, str]) -> str:
        return f"Cells of {self.size:g} m"

    def subject(self) -> tuple[Any, ...]:
        return (self.kind,)


class HandedOverAs(Demand):
    """The format in which it is handed over, which a package tells."""

    kind: Literal["format"]
    format: Literal["tif", "asc", "xyz"] = "tif"

    def title(self, names: Mapping[int, str]) -> str:
        return f"Handed over as {_FORMATS[self.format]}"

    def subject(self) -> tuple[Any, ...]:
        return (self.kind,)


AnyDemand = Annotated[
    ErrorWithin | NoHole | Covered | LiesLevel | Falls | Zero | CellsOf | HandedOverAs, Field(discriminator="kind")
]


class Brief(BaseModel):
    """What is asked of the surfaces of a piece of work.

    demands: in the order in which they are read. vegetated: which covers of checkpoints are vegetation; the accuracy
    statement tells those from the others.
    """

    model_config = ConfigDict(extra="forbid")

    demands: list[AnyDemand] = Field(default=[], max_length=MOST)
    vegetated: list[Word] = Field(default=[], max_length=40)

    def refuse_contradictions(self, names: Mapping[int, str]) -> None:
        """Raises InputError where two demands speak of the same."""
        seen: dict[tuple[Any, ...], str] = {}
        for one in self.demands:
            subject, title = one.subject(), one.title(names)
            if subject in seen:
                raise InputError(
                    f"Two demands speak of the same: “{seen[subject]}” and “{title}”. Keep one of the two."
                )
            seen[subject] = title
