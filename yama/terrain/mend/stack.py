"""A stack as people make it: a log of changes, each of which its maker can undo and do again.

What the stack holds is what the changes say that are not undone, one after the other. Nothing is worked out by
reversing a change, so that any order of undoing and doing again gives what the remaining changes alone would have
given.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any, Literal

from pydantic import ValidationError

from yama.terrain.errors import InputError
from yama.terrain.mend.patches import KeepOut, Patch

Kind = Literal["patch", "keep_out"]
_MODELS: dict[str, type[Patch] | type[KeepOut]] = {"patch": Patch, "keep_out": KeepOut}


@dataclass(frozen=True)
class Said:
    """What a change says of one entry; what is None stays as it was.

    Parameters
    ----------
    kind : {"patch", "keep_out"}, optional
        Said once, by the change that adds the entry.
    content : dict, optional
        The patch or the keep-out, as its model dumps it.
    place : Fraction, optional
        Entries stand in the order of their places.
    gone : bool, optional
        Whether it is removed.
    """

    kind: Kind | None = None
    content: dict[str, Any] | None = None
    place: Fraction | None = None
    gone: bool | None = None

    def to_dict(self) -> dict[str, Any]:
        """As JSON keeps it."""
        told: dict[str, Any] = {"kind": self.kind, "content": self.content, "gone": self.gone}
        told["place"] = None if self.place is None else str(self.place)
        return {name: value for name, value in told.items() if value is not None}

    @classmethod
    def from_dict(cls, told: dict[str, Any]) -> Said:
        """From what `to_dict` gave."""
        place = told.get("place")
        return cls(told.get("kind"), told.get("content"), None if place is None else Fraction(place), told.get("gone"))


@dataclass(frozen=True)
class Change:
    """Something that a person did to a stack, to one entry or several at once.

    Parameters
    ----------
    number : int
        Its place in the log.
    by : int
        Who made it.
    says : dict
        By the entries' names.
    undone : bool
        Whether it was taken back.
    """

    number: int
    by: int
    says: dict[str, Said]
    undone: bool = False


@dataclass
class Entry:
    """A patch or keep-out of a stack. last: the number of the change that spoke of it last."""

    name: str
    kind: Kind
    content: dict[str, Any]
    place: Fraction
    last: int
    by: int
    gone: bool = field(default=False)


def entries_of(changes: Iterable[Change]) -> list[Entry]:
    """What a stack holds, from the first to the last.

    Parameters
    ----------
    changes : iterable of Change
        In the order of their numbers.
    """
    found: dict[str, Entry] = {}
    for change in changes:
        if change.undone:
            continue
        for name, said in change.says.items():
            entry = found.get(name)
            if entry is None:
                if said.kind is None or said.content is None or said.place is None:
                    continue  # the change that added it is undone
                entry = found[name] = Entry(name, said.kind, said.content, said.place, change.number, change.by)
            if said.content is not None:
                entry.content = said.content
            if said.place is not None:
                entry.place = said.place
            if said.gone is not None:
                entry.gone = said.gone
            entry.last, entry.by = change.number, change.by
    return sorted((one for one in found.values() if not one.gone), key=lambda one: (one.place, one.name))


def place_before(entries: Sequence[Entry], before: str | None) -> Fraction:
    """A place between an entry and the one under it; above all where `before` is None or not there.

    A fraction, since between any two of them there is another.
    """
    at = next((i for i, one in enumerate(entries) if one.name == before), len(entries))
    low = entries[at - 1].place if at else None
    high = entries[at].place if at < len(entries) else None
    if low is None:
        return Fraction(0) if high is None else high - 1
    return low + 1 if high is None else (low + high) / 2


def checked(kind: Kind, content: dict[str, Any]) -> dict[str, Any]:
    """A patch or keep-out as its model has it. Raises InputError where it is none."""
    try:
        return _MODELS[kind].model_validate(content).model_dump(mode="json")
    except ValidationError as error:
        first = error.errors()[0]
        where = " ".join(str(part).replace("_", " ") for part in first["loc"] if part != "operator")
        raise InputError(f"{content.get('name') or 'This patch'} cannot be taken: {where}: {first['msg']}.") from error


def undoable(changes: Sequence[Change], by: int) -> Change | None:
    """The change that a person takes back next; None where there is none."""
    return next((one for one in reversed(changes) if one.by == by and not one.undone), None)


def redoable(changes: Sequence[Change], by: int) -> Change | None:
    """The change that a person does again next; None where there is none."""
    last = undoable(changes, by)
    return next(
        (one for one in changes if one.by == by and one.undone and (last is None or one.number > last.number)), None
    )


def meddled(changes: Sequence[Change], change: Change) -> tuple[str, int] | None:
    """The entry of a change of which somebody else spoke since, and who; None where nobody did."""
    for later in changes:
        if later.number > change.number and not later.undone and later.by != change.by:
            for name in change.says:
                if name in later.says:
                    return name, later.by
    return None


def params_of(entries: Sequence[Entry]) -> dict[str, Any]:
    """The parameters of the operation that mends with a stack."""
    return {
        "patches": [one.content for one in entries if one.kind == "patch"],
        "keep_outs": [one.content for one in entries if one.kind == "keep_out"],
    }
