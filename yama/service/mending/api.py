"""Patches over a surface: what there is, and changing it together with others."""

from __future__ import annotations

from typing import Any, Literal

from django.contrib.auth.models import User
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema

from yama.service.accounts.people import person
from yama.service.holdings.kinds import SURFACE
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.mending.log import Asked, changes_of, choose_other, move, say, stack_of, take_back
from yama.service.mending.models import Stack
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.grid import turn_between
from yama.terrain.mend.outlines import grown, merged, offset, split, squared
from yama.terrain.mend.patches import Places
from yama.terrain.mend.stack import checked, entries_of, redoable, undoable
from yama.terrain.units import in_unit

router = Router(tags=["patches"])


class EntryOut(Schema):
    """A patch or a keep-out. content: as the operation `mend` takes it, with places in the frame's CRS. last: the
    change that spoke of it last; it is sent with a change, so that nothing of others is overwritten."""

    name: str
    kind: Literal["patch", "keep_out"]
    content: dict[str, Any]
    last: int
    by: str
    at: str


class StackOut(Schema):
    """Patches and keep-outs, from the first to the last; None where nothing is new since the version that was asked
    about. undo, redo: what the person's last change was, and what can be done again; empty where there is none. said:
    about what was just done."""

    version: int
    entries: list[EntryOut] | None
    other: int | None
    undo: str
    redo: str
    said: list[str] = []


class SaysIn(Schema):
    """Something to do to an entry: give it a content, put it before another ("" is last), or remove it."""

    name: str = Field(min_length=1, max_length=40, pattern=r"^[\w-]+$")
    kind: Literal["patch", "keep_out"] = "patch"
    content: dict[str, Any] | None = None
    before: str | None = None
    gone: bool = False
    seen: int | None = None


class ChangeIn(Schema):
    """A change to one entry, or to several that belong together."""

    says: list[SaysIn] = Field(min_length=1, max_length=10_000)


class OtherIn(Schema):
    """The surface that patches replace cells from; null is none."""

    other: int | None


class KeptIn(Schema):
    """A mended surface that was kept."""

    kept: int


class ShapeIn(Schema):
    """Outlines to be changed as a whole, with places in the frame's CRS.

    square: the first becomes a rectangle. offset: its rim is moved by so many `metres`. split: it is cut along
    `line`. merge: all of them become one. grow: around the place x, y on the surface of `key` (the untouched one
    where there is none), as far as heights stay within `height` metres of the place's and the ground is no steeper
    than `slope` degrees.
    """

    how: Literal["square", "offset", "split", "merge", "grow"]
    rings: list[Places] = Field([], max_length=1000)
    metres: float = Field(0.0, ge=-10_000, le=10_000)
    line: Places = []
    x: float = 0.0
    y: float = 0.0
    height: float = Field(1.0, ge=0, le=10_000)
    slope: float = Field(10.0, ge=0, le=90)
    key: str = Field("", max_length=80)


class ShapeOut(Schema):
    """The outlines that were made."""

    rings: list[list[tuple[float, float]]]


def _open(request: HttpRequest, project_id: int, holding_id: int) -> Stack:
    """The stack that an editor changes."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    SURFACE.require(holding)
    return stack_of(holding)


def _answer(request: HttpRequest, stack: Stack, said: list[str], since: int | None = None) -> dict[str, Any]:
    if stack.pk is None:  # nothing was ever put over it
        return {"version": 0, "entries": [], "other": None, "undo": "", "redo": "", "said": said}
    # the version is read before the changes: whoever misses something asks again
    stack = Stack.objects.select_related("surface__project").get(pk=stack.pk)
    if since == stack.version:
        return {"version": since, "entries": None, "other": stack.other_id, "undo": "", "redo": "", "said": said}
    rows = {row.number: row for row in stack.changes.defer("says")}
    changes = changes_of(stack)
    names = dict(User.objects.filter(pk__in={change.by for change in changes}).values_list("pk", "username"))
    mine = person(request).pk
    back, again = undoable(changes, mine), redoable(changes, mine)
    return {
        "version": stack.version,
        "entries": [
            {
                "name": one.name,
                "kind": one.kind,
                "content": one.content,
                "last": one.last,
                "by": names.get(one.by, ""),
                "at": rows[one.last].at.isoformat(timespec="seconds") if one.last in rows else "",
            }
            for one in entries_of(changes)
        ],
        "other": stack.other_id,
        "undo": rows[back.number].title if back and back.number in rows else "",
        "redo": rows[again.number].title if again and again.number in rows else "",
        "said": said,
    }


@router.get("/{int:project_id}/holdings/{int:holding_id}/patches", response={200: StackOut, 422: Failure})
def look(request: HttpRequest, project_id: int, holding_id: int, since: int | None = None) -> dict[str, Any]:
    """The patches over a surface, everybody's. since: a version; entries are sent only where there is a later one."""
    holding = open_holding(request, project_id, holding_id)
    SURFACE.require(holding)
    return _answer(request, Stack.objects.filter(surface=holding).first() or Stack(surface=holding), [], since)


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/patches", response={200: StackOut, 409: Failure, 422: Failure}
)
def change(request: HttpRequest, project_id: int, holding_id: int, body: ChangeIn) -> dict[str, Any]:
    """Add, change, move or remove patches and keep-outs. What somebody else changed meanwhile is kept beside it."""
    stack = _open(request, project_id, holding_id)
    asked = [
        Asked(
            name=one.name,
            kind=one.kind,
            content=None if one.content is None else checked(one.kind, one.content),
            before=one.before,
            gone=one.gone,
            seen=one.seen,
        )
        for one in body.says
    ]
    return _answer(request, stack, say(stack, person(request), asked))


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/patches/undo", response={200: StackOut, 409: Failure, 422: Failure}
)
def undo(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """Take back the person's last change; nothing happens where there is none."""
    stack = _open(request, project_id, holding_id)
    return _answer(request, stack, move(stack, person(request), again=False))


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/patches/redo", response={200: StackOut, 409: Failure, 422: Failure}
)
def redo(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """Do again what the person took back last."""
    stack = _open(request, project_id, holding_id)
    return _answer(request, stack, move(stack, person(request), again=True))


@router.post("/{int:project_id}/holdings/{int:holding_id}/patches/shape", response={200: ShapeOut, 422: Failure})
def shape(request: HttpRequest, project_id: int, holding_id: int, body: ShapeIn) -> dict[str, Any]:
    """Change outlines as a whole. Nothing is kept."""
    holding = open_holding(request, project_id, holding_id)
    SURFACE.require(holding)
    frame = holding.project.frame.grid
    if body.how == "grow":
        surface = in_unit(keys.surface_of(project_id, body.key or holding.key)[0], "m")
        turn = turn_between(frame.crs, surface.grid.crs)
        x, y = turn.transform(body.x, body.y)
        ring = grown(surface, float(x), float(y), body.height, body.slope)
        back = turn_between(surface.grid.crs, frame.crs)
        return {"rings": [[back.transform(*place) for place in ring]]}
    if not body.rings:
        raise InputError("There is no outline to change.")
    if body.how == "split":
        return {"rings": split(body.rings[0], body.line)}
    if body.how == "merge":
        return {"rings": [merged(body.rings)]}
    made = squared(body.rings[0], frame) if body.how == "square" else offset(body.rings[0], body.metres, frame)
    return {"rings": [made]}


@router.post("/{int:project_id}/holdings/{int:holding_id}/patches/kept", response={200: StackOut, 422: Failure})
def take_kept(request: HttpRequest, project_id: int, holding_id: int, body: KeptIn) -> dict[str, Any]:
    """Let the patches be those with which a mended surface was kept."""
    stack = _open(request, project_id, holding_id)
    take_back(stack, person(request), get_object_or_404(Holding, pk=body.kept, project_id=project_id))
    return _answer(request, stack, [])


@router.put("/{int:project_id}/holdings/{int:holding_id}/patches/other", response={200: StackOut, 422: Failure})
def set_other(request: HttpRequest, project_id: int, holding_id: int, body: OtherIn) -> dict[str, Any]:
    """Choose the surface that patches replace cells from."""
    stack = _open(request, project_id, holding_id)
    other = None
    if body.other is not None:
        other = get_object_or_404(Holding, pk=body.other, project_id=project_id)
        SURFACE.require(other)
    choose_other(stack, other)
    return _answer(request, stack, [])
