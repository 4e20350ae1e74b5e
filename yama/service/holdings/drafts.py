"""Edits of a holding's features that are not kept yet: a list with a mark, so that each can be undone and done again.

A draft belongs to one person and survives closing the browser. The holding itself never changes: keeping a draft makes
a new holding beside it, with the edits as its recipe.
"""

from __future__ import annotations

import json
from typing import Any

import shapely
from django.db import transaction
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema
from ninja.errors import HttpError
from pydantic import TypeAdapter, ValidationError
from pyproj import Transformer

from yama.service.accounts.people import person
from yama.service.holdings.deleted import find_again
from yama.service.holdings.features import collection, features_of
from yama.service.holdings.kinds import FEATURES
from yama.service.holdings.models import Draft, Holding
from yama.service.jobs.api import AcceptedOut
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.terrain import operations
from yama.terrain.editing import Edit, Edited, snapped, title_of
from yama.terrain.errors import InputError
from yama.terrain.grid import parse_crs
from yama.terrain.recipe import Step

router = Router(tags=["edits"])
_EDIT: TypeAdapter[Any] = TypeAdapter(Edit)
_MOST_EDITS = 5_000
_TRIES = 20


class EditIn(Schema):
    """An edit as the core's `editing` names them, with coordinates in the frame's CRS. snap: metres within which a moved,
    new or drawn vertex takes the place of another feature's nearest vertex, else of the nearest spot on its line."""

    edit: dict[str, Any]
    snap: float = Field(0.0, ge=0, le=10_000)


class DraftOut(Schema):
    """The edits and how many of them count (those behind were undone), and what changed on the map: numbers of features
    that are gone, and those that are new or changed as GeoJSON in the frame's CRS. said: about the last edit."""

    titles: list[str]
    done: int
    gone: list[int]
    changed: dict[str, Any]
    said: list[str]


class KeepIn(Schema):
    """What the edited features will be called."""

    name: str = Field("", max_length=120)


def _holding(request: HttpRequest, project_id: int, holding_id: int) -> Holding:
    project = open_project(request, project_id, Membership.Role.EDITOR)
    holding: Holding = get_object_or_404(Holding, pk=holding_id, project=project)
    FEATURES.require(holding)
    return holding


def _draft(request: HttpRequest, holding: Holding) -> Draft:
    """The person's draft, locked until the transaction ends. It must be there, see `_begun`."""
    return Draft.objects.select_for_update().get(holding=holding, user=person(request))


def _begun(request: HttpRequest, holding: Holding) -> Draft:
    """The person's draft, made where there was none: by one statement of its own, so that two first edits made at once do not
    wait for each other's locks."""
    Draft.objects.bulk_create([Draft(holding=holding, user=person(request))], ignore_conflicts=True)
    return Draft.objects.get(holding=holding, user=person(request))


def _state(holding: Holding, edits: list[dict[str, Any]]) -> Edited:
    return Edited.of(features_of(holding)).apply(_EDIT.validate_python(edit) for edit in edits)


def _answer(holding: Holding, draft: Draft, before: Edited, after: Edited) -> dict[str, Any]:
    changed = [
        number
        for number, geometry in after.geometries.items()
        if number not in before.geometries
        or before.rows[number] != after.rows[number]
        or not (geometry is before.geometries[number] or shapely.equals_exact(geometry, before.geometries[number]))
    ]
    part = Edited(after.crs, after.columns, {n: after.geometries[n] for n in changed}, after.rows, after.next_number)
    return {
        "titles": [title_of(_EDIT.validate_python(edit)) for edit in draft.edits],
        "done": draft.done,
        "gone": [number for number in before.geometries if number not in after.geometries],
        "changed": json.loads(collection(part.features(), sorted(changed), holding.project.frame.grid)),
        "said": after.said,
    }


def _in_own_crs(holding: Holding, edit: dict[str, Any]) -> dict[str, Any]:
    """An edit with its coordinates turned from the frame's CRS to the holding's."""
    frame, own = parse_crs(holding.project.frame.grid.crs), parse_crs(holding.facts["crs"])
    if frame == own:
        return edit
    turn = Transformer.from_crs(frame, own, always_xy=True)
    turned = dict(edit)
    if "x" in edit and "y" in edit:
        turned["x"], turned["y"] = turn.transform(edit["x"], edit["y"])
    if "places" in edit:
        turned["places"] = [list(turn.transform(x, y)) for x, y in edit["places"]]
    return turned


@router.get("/{int:project_id}/holdings/{int:holding_id}/edits", response=DraftOut)
def look(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """The person's draft; what changed is against the untouched holding."""
    holding = _holding(request, project_id, holding_id)
    draft = Draft.objects.filter(holding=holding, user=person(request)).first() or Draft(holding=holding)
    return _answer(holding, draft, _state(holding, []), _state(holding, draft.edits[: draft.done]))


@router.post("/{int:project_id}/holdings/{int:holding_id}/edits", response={200: DraftOut, 409: Failure, 422: Failure})
def add(request: HttpRequest, project_id: int, holding_id: int, body: EditIn) -> dict[str, Any]:
    """Make an edit; edits that were undone before it are forgotten."""
    holding = _holding(request, project_id, holding_id)
    try:
        edit = _EDIT.validate_python(body.edit)
        edit = _EDIT.validate_python(_in_own_crs(holding, edit.model_dump()))
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(f"This is no edit: {'.'.join(map(str, first['loc']))}: {first['msg']}.") from error
    for _ in range(_TRIES):
        draft = _begun(request, holding)
        edits = draft.edits[: draft.done]
        if len(edits) >= _MOST_EDITS:
            raise InputError(f"{_MOST_EDITS} edits are made already. Keep them, and go on with the result.")
        # worked out without holding anybody up, and kept where nothing else was kept meanwhile
        before = _state(holding, edits)
        made = edit.model_copy(deep=True)
        if body.snap and made.kind in ("move_vertex", "add_vertex"):
            ((made.x, made.y),) = snapped(before, [(made.x, made.y)], body.snap, besides=made.feature)
        if body.snap and made.kind == "draw":
            made.places = snapped(before, made.places, body.snap)
        after = Edited(before.crs, before.columns, dict(before.geometries), dict(before.rows), before.next_number)
        after.apply([made])
        with transaction.atomic():
            draft = _draft(request, holding)
            if draft.edits[: draft.done] == edits:
                draft.edits, draft.done = [*edits, made.model_dump(mode="json")], len(edits) + 1
                draft.save()
                return _answer(holding, draft, before, after)
    raise HttpError(409, "Others of your edits were made at the same time. Make this one again.")


def _moved(request: HttpRequest, project_id: int, holding_id: int, step: int) -> dict[str, Any]:
    holding = _holding(request, project_id, holding_id)
    _begun(request, holding)
    with transaction.atomic():
        draft = _draft(request, holding)
        was = draft.done
        draft.done = min(max(was + step, 0), len(draft.edits))
        draft.save()
    before, after = (_state(holding, draft.edits[:done]) for done in (was, draft.done))
    return _answer(holding, draft, before, after)


@router.post("/{int:project_id}/holdings/{int:holding_id}/edits/undo", response=DraftOut)
def undo(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """Take the last edit back; nothing happens where there is none."""
    return _moved(request, project_id, holding_id, -1)


@router.post("/{int:project_id}/holdings/{int:holding_id}/edits/redo", response=DraftOut)
def redo(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """Make again the edit that was undone last."""
    return _moved(request, project_id, holding_id, 1)


@router.delete("/{int:project_id}/holdings/{int:holding_id}/edits", response={204: None})
def drop(request: HttpRequest, project_id: int, holding_id: int) -> tuple[int, None]:
    """Forget the draft."""
    Draft.objects.filter(holding=_holding(request, project_id, holding_id), user=person(request)).delete()
    return 204, None


def end_draft(number: int, step: Step) -> None:
    """Forget a draft whose edits a step has kept now; one that was changed since stays."""
    edits = [_EDIT.validate_python(one) for one in step.params["edits"]]
    with transaction.atomic():
        draft = Draft.objects.select_for_update().filter(pk=number).first()
        if draft is not None and [_EDIT.validate_python(one) for one in draft.edits[: draft.done]] == edits:
            draft.delete()


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/edits/keep",
    response={200: AcceptedOut, 202: AcceptedOut, 409: Failure, 422: Failure},
)
def keep(request: HttpRequest, project_id: int, holding_id: int, body: KeepIn) -> tuple[int, dict[str, Any]]:
    """Make a holding of the edited features, beside the untouched one. The draft ends when that is there."""
    holding = _holding(request, project_id, holding_id)
    draft = Draft.objects.filter(holding=holding, user=person(request)).first()
    if draft is None or not draft.done:
        raise HttpError(409, f"Nothing of {holding.name} is edited yet.")
    operation = operations.find("edit_features")
    params = operations.parse_params(operation, {"edits": draft.edits[: draft.done]})
    step = operations.make_step(operation, params, {"features": holding.key}, holding.project.frame)
    existing = find_again(project_id, step.key)
    if existing is not None:
        end_draft(draft.pk, step)
        return 200, {"holding_id": existing.pk}
    name = body.name.strip() or f"{holding.name} edited"
    request_data = {"step": vars(step), "name": name, "live": False, "draft": draft.pk}
    return 202, {
        "job": submit(holding.project, "run", f"Keep edits: {name}", request_data, person(request).pk, step.key)
    }
