"""What is done to a stack: changes, undoing them, doing them again, with what others did meanwhile kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any
from uuid import uuid4

import shapely
from django.contrib.auth.models import User
from django.db import transaction
from ninja.errors import HttpError

from yama.service.holdings.models import Holding, find_key
from yama.service.mending.models import Stack, StackChange
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.mend.patches import MOST, KeepOut, Patch
from yama.terrain.mend.stack import (
    Change,
    Entry,
    Kind,
    Said,
    entries_of,
    meddled,
    place_before,
    redoable,
    undoable,
)
from yama.terrain.operations.mend import MendParams

_LONGEST = 4_000
_PUT_TOGETHER = 2_000
"""A log of more changes than the first is shortened by so many, which nobody can take back any more."""


def stack_of(holding: Holding) -> Stack:
    """The stack over a surface; made where there is none, by a statement of its own so that two first ones do not
    collide."""
    found = Stack.objects.filter(surface=holding).first()
    if found is None:
        Stack.objects.bulk_create([Stack(surface=holding)], ignore_conflicts=True)
        found = Stack.objects.get(surface=holding)
    return found


def changes_of(stack: Stack) -> list[Change]:
    """The log, with all places in the frame's CRS of now."""
    frame = stack.surface.project.frame.grid
    return [_turned(row, frame) for row in stack.changes.all()]


def _turned(row: StackChange, frame: Grid) -> Change:
    change = row.change
    if row.crs == frame.crs:
        return change
    says: dict[str, Said] = {}
    for name, said in change.says.items():
        content = said.content
        if content is not None:
            drawn = (Patch if "operator" in content else KeepOut).model_validate(content)
            content = drawn.turned(row.crs, frame).model_dump(mode="json")
        says[name] = replace(said, content=content)
    return replace(change, says=says)


def called(entry: Entry) -> str:
    """What people call an entry."""
    return entry.content.get("name") or ("the keep-out" if entry.kind == "keep_out" else "the patch")


@dataclass(frozen=True)
class Asked:
    """What somebody asks to be done to one entry.

    Parameters
    ----------
    name : str
        The entry's; a new one where no entry has it.
    kind : {"patch", "keep_out"}
    content : dict, optional
        As `checked` gives it.
    before : str, optional
        The entry that it shall stand before; last where it is "".
    gone : bool
    seen : int, optional
        The number of the change that spoke of the entry last when the person looked.
    """

    name: str
    kind: Kind
    content: dict[str, Any] | None = None
    before: str | None = None
    gone: bool = False
    seen: int | None = None


def say(stack: Stack, person: User, asked: Sequence[Asked]) -> list[str]:
    """Do something to a stack; returns what is to be told about it.

    What somebody else changed meanwhile is not overwritten: both versions are kept, the person's own beside it and
    switched off.

    Raises
    ------
    HttpError
        409 where what shall be removed was changed meanwhile.
    """
    said: list[str] = []
    with transaction.atomic():
        stack = Stack.objects.select_for_update().get(pk=stack.pk)
        stack.changes.filter(by=person, undone=True).delete()  # a new change ends what could be done again
        changes = changes_of(stack)
        entries = entries_of(changes)
        there = {one.name: one for one in entries}
        ever = {name for change in changes for name in change.says}
        titles: list[str] = []
        says: dict[str, Said] = {}
        for one in asked:
            entry = there.get(one.name)
            late = entry is not None and one.seen is not None and entry.last != one.seen
            if entry is None and one.name in ever:
                if one.content is None:
                    raise HttpError(409, "That patch was removed meanwhile. Look at the list as it is now.")
                kept = _beside(one, one.content, None, entries, says)
                said.append(f"{kept} was removed meanwhile. Yours is kept as a new one, switched off.")
                titles.append(f"keep {kept}")
            elif entry is None:
                if one.content is None:
                    raise InputError("A new patch needs its outline and its operator.")
                if len(entries) >= MOST:
                    raise InputError(f"The surface has {MOST} patches already. Store it, and go on from there.")
                new = place_before(entries, one.before)
                says[one.name] = Said(one.kind, one.content, new)
                titles.append(f"draw {one.content.get('name') or 'a patch'}")
                if one.kind == "keep_out" and not one.content["real"]:
                    said += _go_on(one.content, entries, says, stack.surface.project.frame.grid)
                # the next new one stands after it
                at = next((i for i, other in enumerate(entries) if other.place > new), len(entries))
                entries.insert(at, Entry(one.name, one.kind, one.content, new, stack.version + 1, person.pk))
            elif one.gone:
                if late:
                    who = _name_of(entry.by)
                    raise HttpError(
                        409, f"{who} changed {called(entry)} since you looked. Look at it again before you remove it."
                    )
                says[one.name] = Said(gone=True)
                titles.append(f"remove {called(entry)}")
            elif one.content is not None and late and entry.content != one.content:
                kept = _beside(one, one.content, entry, entries, says)
                said.append(
                    f"{_name_of(entry.by)} changed {called(entry)} meanwhile. Both are kept: yours stands after it as "
                    f"{kept}, switched off."
                )
                titles.append(f"keep {kept}")
            else:
                rest = [other for other in entries if other.name != one.name]
                place = None if one.before is None else place_before(rest, one.before)
                says[one.name] = Said(content=one.content, place=place)
                titles.append(_title(entry, one))
        if says:
            _write(stack, person, says, titles)
    return said


def _area(drawn: Patch | KeepOut, frame: Grid) -> shapely.Polygon | None:
    """What a patch or keep-out covers; None where its outline is none, which is told where it is shown."""
    try:
        return drawn.outline(frame)
    except InputError:
        return None


def _go_on(keep_out: dict[str, Any], entries: list[Entry], says: dict[str, Said], frame: Grid) -> list[str]:
    """Let patches that are there before a keep-out is drawn change it as they did: it keeps the surface as it is
    now."""
    area = _area(KeepOut.model_validate(keep_out), frame)
    said = []
    for entry in entries:
        if entry.kind == "keep_out" or entry.content["over_keep_outs"] or entry.name in says:
            continue
        own = _area(Patch.model_validate(entry.content), frame)
        if own is not None and area is not None and own.intersects(area):
            says[entry.name] = Said(content=entry.content | {"over_keep_outs": True})
            said.append(f"{called(entry)} was there before the keep-out, and goes on changing it.")
    return said


def take_back(stack: Stack, person: User, kept: Holding) -> None:
    """Let a stack be as it was when a mended surface was kept, as one change that can be undone.

    Raises
    ------
    InputError
        Where the surface was not made by mending the one under the stack.
    """
    step = kept.step
    if step is None or step.operation != "mend" or step.inputs["surface"] != [stack.surface.key]:
        raise InputError(
            f"{kept.name} was not made by mending {stack.surface.name}, so that it holds no patches for it."
        )
    operation = operations.find(step.operation)
    params = operations.parse_params(operation, operation.upgraded(step.params)[0])
    if not isinstance(params, MendParams):
        raise TypeError(f"{step.operation} has parameters of mend")
    frame = stack.surface.project.frame.grid
    crs = Frame.from_dict(step.frame).grid.crs if step.frame else frame.crs
    with transaction.atomic():
        stack = Stack.objects.select_for_update().get(pk=stack.pk)
        stack.changes.filter(by=person, undone=True).delete()
        says = {one.name: Said(gone=True) for one in entries_of(changes_of(stack))}
        drawn: list[tuple[Kind, Patch | KeepOut]] = [("patch", one) for one in params.patches]
        drawn += [("keep_out", one) for one in params.keep_outs]
        for place, (kind, one) in enumerate(drawn):
            content = one.turned(crs, frame).model_dump(mode="json")
            says[uuid4().hex[:12]] = Said(kind, content, Fraction(place))
        other = next(iter(step.inputs.get("other", [])), None)
        stack.other = None if other is None else find_key(stack.surface.project_id, other)
        _write(stack, person, says, [f"take back the patches of {kept.name}"])


def _beside(
    one: Asked, content: dict[str, Any], entry: Entry | None, entries: list[Entry], says: dict[str, Said]
) -> str:
    """Keep somebody's version as an entry of its own, after the one that it is a version of; returns what it is
    called."""
    name = f"{content.get('name') or 'Patch'}, second version"[:120]
    off = {"on": False} if one.kind == "patch" else {}
    after = entries.index(entry) + 1 if entry is not None else len(entries)
    before = entries[after].name if after < len(entries) else None
    says[uuid4().hex[:12]] = Said(one.kind, content | {"name": name} | off, place_before(entries, before))
    return name


def _title(entry: Entry, one: Asked) -> str:
    name = called(entry)
    if one.content is None:
        return f"move {name}"
    was = entry.content
    changed = {key for key in one.content if one.content[key] != was.get(key)}
    if changed == {"on"}:
        return f"switch {name} {'on' if one.content['on'] else 'off'}"
    if changed == {"name"}:
        return f"rename {name}"
    if changed and changed <= {"ring", "line", "width"}:
        return f"redraw {name}"
    return f"change {name}"


def _write(stack: Stack, person: User, says: dict[str, Said], titles: list[str]) -> None:
    title = titles[0] if len(titles) == 1 else f"{titles[0]} and {len(titles) - 1} more"
    last = stack.changes.order_by("-number").values_list("number", flat=True).first() or 0
    stack.changes.create(
        number=max(last, stack.version) + 1,
        by=person,
        title=title[:160],
        says={name: one.to_dict() for name, one in says.items()},
        crs=stack.surface.project.frame.grid.crs,
    )
    stack.version = max(last, stack.version) + 1
    stack.save()
    if stack.changes.count() > _LONGEST:
        _shorten(stack)


def _shorten(stack: Stack) -> None:
    """Put the oldest changes together into one."""
    rows = list(stack.changes.all()[:_PUT_TOGETHER])
    frame = stack.surface.project.frame.grid
    together = entries_of(_turned(row, frame) for row in rows)
    last = rows[-1]
    stack.changes.filter(number__lte=last.number).delete()
    stack.changes.create(
        number=last.number,
        by=None,
        title="earlier changes",
        crs=frame.crs,
        says={one.name: Said(one.kind, one.content, one.place).to_dict() for one in together},
    )


def move(stack: Stack, person: User, again: bool) -> list[str]:
    """Take back the person's last change, or do again the one taken back last; nothing happens where there is none.

    Raises
    ------
    HttpError
        409 where somebody else has changed the same since.
    """
    with transaction.atomic():
        stack = Stack.objects.select_for_update().get(pk=stack.pk)
        changes = changes_of(stack)
        change = (redoable if again else undoable)(changes, person.pk)
        if change is None:
            return []
        meddler = meddled(changes, change)
        if meddler is not None:
            entry = next((one for one in entries_of(changes) if one.name == meddler[0]), None)
            what = called(entry) if entry else "the same patch"
            raise HttpError(
                409,
                f"{_name_of(meddler[1])} has changed {what} since, so that your change cannot be "
                f"{'done again' if again else 'undone'} "
                "without losing theirs. Change the patch instead.",
            )
        stack.changes.filter(number=change.number).update(undone=not again)
        stack.version += 1
        stack.save()
    return []


def choose_other(stack: Stack, other: Holding | None) -> None:
    """Choose the surface that patches replace cells from."""
    with transaction.atomic():
        stack = Stack.objects.select_for_update().get(pk=stack.pk)
        stack.other = other
        stack.version += 1
        stack.save()


def _name_of(person: int) -> str:
    return User.objects.filter(pk=person).values_list("username", flat=True).first() or "Somebody"
