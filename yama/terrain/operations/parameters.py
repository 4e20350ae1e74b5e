"""Parameters of operations: their base, and fields that say what their numbers are in.

A person types lengths and heights in metres. What an operation computes with depends on the frame, whose coordinates may be in feet or
degrees and whose heights in feet. A field says which it is, and `Task` converts it, once, before the operation runs; `check` sees what
was typed, so that its sentences say it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, ClassVar, Literal, TypeVar, get_args

from pydantic import BaseModel, ConfigDict
from pydantic.fields import FieldInfo

from yama.terrain.frame import Frame
from yama.terrain.units import UNITS

Becomes = Literal["as typed", "crs length", "height", "squared height"]


@dataclass(frozen=True)
class Unit:
    """What a parameter's number is in when it is typed, and what it becomes."""

    symbol: str
    becomes: Becomes = "as typed"


@dataclass(frozen=True, eq=False)
class Titles:
    """What people call the values of a choice.

    Parameters
    ----------
    of : mapping of str to str
        By value, as text.
    hints : mapping of str to str
        One line on each, where a word is not enough.
    """

    of: Mapping[str, str]
    hints: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Unset:
    """What a parameter means where it is not given: the value that is then taken, or a word for it."""

    means: str


@dataclass(frozen=True)
class OnlyWith:
    """A parameter that has a meaning only where another one has one of these values."""

    other: str
    values: tuple[str | bool, ...]


Metres = Annotated[float, Unit("m", "crs length")]
"""A length over the ground, typed in metres; `run` gets it in units of the frame's CRS, by their size at the frame's middle."""
GroundMetres = Annotated[float, Unit("m")]
"""A length over the ground in metres, for what measures the ground itself, row by row."""
CellSize = Annotated[float, Unit("m"), Unset("the frame's")]
"""The side of a cell, as the frame counts it."""
HeightMetres = Annotated[float, Unit("m", "height")]
"""A height or difference of heights, typed in metres; `run` gets it in the unit in which the operation works."""
SquaredHeightMetres = Annotated[float, Unit("m²", "squared height")]
"""A variance of heights, typed in square metres."""
UNIT_TITLES = Titles({"m": "metres", "ft": "international feet", "us-ft": "US survey feet"})
"""Units of height, as people call them."""
UNTOLD = "untold"
"""In a field's annotation: it says how inputs are arranged, which nobody reads."""
_SHORT = 8

Degrees = Annotated[float, Unit("°")]
Percent = Annotated[float, Unit("%")]


M = TypeVar("M")


def _marks_in(annotation: Any, kind: type[M]) -> list[M]:
    """The marks of a kind that stand anywhere in an annotation, such as in `Metres | None`."""
    if isinstance(annotation, kind):
        return [annotation]
    return [found for part in get_args(annotation) for found in _marks_in(part, kind)]


def _marks(info: FieldInfo, kind: type[M]) -> list[M]:
    """The marks of a kind that a field has, its own before those of its type."""
    return [one for one in info.metadata if isinstance(one, kind)] + _marks_in(info.annotation, kind)


def title_of(name: str, info: FieldInfo) -> str:
    """What people call a parameter."""
    text = info.title or name.replace("_", " ")
    return text[0].upper() + text[1:]


class Params(BaseModel):
    """Base of all parameters: unknown names are refused, numbers must be finite."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    @classmethod
    def units(cls) -> dict[str, Unit]:
        """The units of the parameters that have one, by name."""
        return {name: units[0] for name, info in cls.model_fields.items() if (units := _marks(info, Unit))}

    @classmethod
    def fitting(cls, values: Mapping[str, Any]) -> type[Params]:
        """The class that checks values."""
        return cls

    @classmethod
    def unknown(cls, name: str) -> str:
        """The sentence that refuses a parameter which these have not."""
        return f"There is no parameter '{name}'. There are: {', '.join(cls.model_fields) or 'none'}."

    def told(self) -> dict[str, Any]:
        """Plain JSON values of those that are not left at their defaults, as recipes have them."""
        return self.model_dump(exclude_defaults=True, mode="json")

    def in_words(self) -> list[str]:
        """What is set otherwise than by default, for people: each parameter by its title, or its name, with value and unit."""
        units, said = type(self).units(), []
        for name, value in self.told().items():
            info = type(self).model_fields[name]
            if UNTOLD in info.metadata or value is None:
                continue
            titles = {key: title for one in _marks(info, Titles) for key, title in one.of.items()}
            unit = f"\u202f{units[name].symbol}" if name in units else ""
            said.append(f"{title_of(name, info)}: {_in_words(value, titles)}{unit}")
        return said

    @classmethod
    def described(cls) -> dict[str, Any]:
        """The JSON Schema of the parameters, with what a form needs besides.

        Each has its `title`. Where there are such, it also has its `unit`, the `titles` and `hints` of its values, what it
        means where it is not given (`unset`), and the values that other parameters must have for it to mean anything
        (`only_with`).
        """
        schema = cls.model_json_schema()
        for name, info in cls.model_fields.items():
            told = schema["properties"][name]
            told["title"] = title_of(name, info)
            for unit in _marks(info, Unit)[:1]:
                told["unit"] = unit.symbol
            for titles in _marks(info, Titles)[:1]:
                told["titles"] = dict(titles.of)
                if titles.hints:
                    told["hints"] = dict(titles.hints)
            for unset in _marks(info, Unset)[:1]:
                told["unset"] = unset.means
            for only in _marks(info, OnlyWith):
                told.setdefault("only_with", {})[only.other] = list(only.values)
        return schema


def _in_words(value: Any, titles: Mapping[str, str]) -> str:
    """A value for people: by its title where it has one; names without underscores; short lists in full, long ones and
    those of objects by how many there are."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        plain = all(isinstance(one, (str, int, float)) for one in value)
        return ", ".join(_in_words(one, titles) for one in value) if plain and len(value) <= _SHORT else str(len(value))
    if str(value) in titles:
        return titles[str(value)]
    if isinstance(value, str):
        return value.replace("_", " ")
    return f"{value:.12g}" if isinstance(value, (int, float)) else "given"


P = TypeVar("P", bound=Params)


class Choice(Params):
    """Parameters of which one says which others there are: a union of variants, told apart by that one.

    The base holds what all variants share; each variant is a subclass that narrows the telling parameter to its own value.

    Attributes
    ----------
    told_by : str
        The name of the telling parameter.
    variants : dict
        The variant of each of its values; the first is the one that is meant where nothing is said.
    """

    told_by: ClassVar[str] = "method"
    variants: ClassVar[dict[str, type[Choice]]] = {}

    @classmethod
    def fitting(cls, values: Mapping[str, Any]) -> type[Params]:
        """The variant that values are meant for; the base, which refuses them, where there is none."""
        if not cls.variants:
            return cls
        return cls.variants.get(str(values.get(cls.told_by, next(iter(cls.variants)))), cls)

    def told(self) -> dict[str, Any]:
        """With the telling parameter, but in the variant that is meant where nothing is said."""
        own = getattr(self, self.told_by)
        found = super().told()
        return found if own == next(iter(self.variants)) else {self.told_by: own, **found}

    @classmethod
    def unknown(cls, name: str) -> str:
        """With the variants that have the parameter."""
        having = [key for key, variant in cls.variants.items() if name in variant.model_fields]
        if not having:
            return super().unknown(name)
        own = next(key for key, variant in cls.variants.items() if variant is cls)
        return f"The {cls.told_by} {own} has no parameter '{name}'. Those that have it: {', '.join(having)}."

    @classmethod
    def without_others(cls, values: Mapping[str, Any]) -> dict[str, Any]:
        """The values that the variant they are meant for has: one that a variant did not use was ignored once."""
        known = cls.fitting(values).model_fields
        every = {name for variant in cls.variants.values() for name in variant.model_fields}
        return {name: value for name, value in values.items() if name in known or name not in every}

    @classmethod
    def described(cls) -> dict[str, Any]:
        """The parameters of all variants in one JSON Schema. One that not every variant has means something only with
        those that have it."""
        if not cls.variants:
            return super().described()
        merged: dict[str, Any] = {**super().described(), "oneOf": []}
        for name, variant in cls.variants.items():
            own = super(Choice, variant).described()
            merged["oneOf"].append({"properties": {cls.told_by: {"const": name}}, "required": [cls.told_by]})
            merged.setdefault("$defs", {}).update(own.get("$defs", {}))
            for parameter, schema in own["properties"].items():
                if parameter not in cls.model_fields:
                    held = merged["properties"].setdefault(parameter, schema)
                    held.setdefault("only_with", {}).setdefault(cls.told_by, []).append(name)
        return merged


class NoParams(Params):
    """Nothing to set."""


def converted(params: P, frame: Frame) -> P:
    """The parameters with their lengths and heights as an operation computes with them; see the fields above.

    Parameters
    ----------
    params : Params
        As they were typed.
    frame : Frame
        Its CRS, and the unit of height in which the operation works.
    """
    changed: dict[str, float] = {}
    across, up = frame.grid.metres_per_unit()
    lengths = {
        "crs length": (across * up) ** 0.5,
        "height": UNITS[frame.unit],
        "squared height": UNITS[frame.unit] ** 2,
    }
    for name, unit in type(params).units().items():
        value = getattr(params, name)
        if unit.becomes != "as typed" and value is not None and lengths[unit.becomes] != 1.0:
            changed[name] = value / lengths[unit.becomes]
    return params.model_copy(update=changed) if changed else params
