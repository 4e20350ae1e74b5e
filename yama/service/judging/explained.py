"""Where a height comes from: the steps behind one place of a surface, down to the files, and what each says there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from uuid import UUID

import numpy as np
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.holdings.kinds import POINTS, SURFACE, kind_of
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.holdings.steps import quantity_of
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.grid import Window, metres_per_unit, turn_between
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mosaic.fill import Filled
from yama.terrain.mosaic.influence import Influence, influences
from yama.terrain.points import Points
from yama.terrain.progress import Progress
from yama.terrain.recipe import Step
from yama.terrain.surface import Over, Surface, sample
from yama.terrain.units import UNITS, in_unit

router = Router(tags=["judging"])

_DEEP = 24
_MOST = 120
_NEAREST = 3
_SAID = 4
_WHOLE, _LITTLE = 0.05, 0.02


class ExplainIn(Schema):
    """A place in frame coordinates."""

    x: float
    y: float


class TraceOut(Schema):
    """A part of the answer.

    depth: 0 for the surface itself, one more for each step back. kind: of what holds it, or "patch". operation: what
    made it, "" for a file. said: its settings in words. height: what its cells say there, in `unit`; the frame's for
    heights; null where it is empty or no surface. change: of a height against that which it was made from. weight: its
    share in the one above. uncertainty: one standard deviation that it has there itself.
    """

    depth: int
    holding: int | None
    name: str
    kind: str
    operation: str
    said: str
    height: float | None
    unit: str
    change: float | None
    weight: float | None
    uncertainty: float | None
    remark: str


class ExplainedOut(Schema):
    """Where the height of a surface at a place comes from."""

    holding: int
    name: str
    x: float
    y: float
    lines: list[TraceOut]


class ExplainingOut(Schema):
    """The job that finds out."""

    job: JobOut


class _Trace:
    """Goes back through the steps behind a surface at one place."""

    def __init__(self, project: Project, x: float, y: float, progress: Progress) -> None:
        self._project, self._x, self._y = project, x, y
        self._unit = project.frame.unit
        self._by_key = {one.key: one for one in project.holdings.all()}
        self._progress = progress
        self.lines: list[dict[str, Any]] = []

    def _place(self, crs: str) -> tuple[float, float]:
        x, y = turn_between(self._project.frame.grid.crs, crs).transform(self._x, self._y)
        return float(x), float(y)

    def _read(self, surface: Surface) -> float | None:
        x, y = self._place(surface.grid.crs)
        found = float(sample(surface, [x], [y])[0])
        return found if np.isfinite(found) else None

    def _height(self, holding: Holding) -> float | None:
        surface = keys.surface_of_holding(holding)
        return self._read(in_unit(surface, self._unit) if surface.unit in UNITS else surface)

    def _unit_of(self, holding: Holding) -> str:
        """Of what its cells say."""
        if kind_of(holding) is not SURFACE:
            return ""
        unit = str(keys.surface_of_holding(holding).unit)
        return self._unit if unit in UNITS else unit

    def _doubt(self, holding: Holding) -> float | None:
        """What its own uncertainty says there."""
        if quantity_of(holding) != "height":
            return None
        surface = keys.surface_of_holding(holding)
        own = surface.companions.get("uncertainty")
        if own is None:
            return None
        found = self._read(own)
        return found * UNITS[surface.unit] / UNITS[self._unit] if found is not None else None

    def follow(self, holding: Holding, depth: int = 0, weight: float | None = None) -> float | None:
        """Tell a holding, and then what it was made from; returns its height."""
        if len(self.lines) >= _MOST or depth > _DEEP:
            return None
        self._progress(min(0.05 + len(self.lines) / _MOST, 0.95))
        is_surface = kind_of(holding) is SURFACE
        is_height = is_surface and quantity_of(holding) == "height"
        line: dict[str, Any] = {
            "depth": depth,
            "holding": holding.pk,
            "name": holding.name,
            "kind": holding.kind,
            "operation": "",
            "said": "",
            "height": self._height(holding) if is_surface else None,
            "unit": self._unit_of(holding),
            "change": None,
            "weight": weight,
            "uncertainty": self._doubt(holding) if is_surface else None,
            "remark": "",
        }
        self.lines.append(line)
        height: float | None = line["height"]
        step = holding.step
        if step is None:
            line["said"] = holding.original
            if kind_of(holding) is POINTS:
                line["remark"] = self._points(POINTS.load(holding))
            return height
        operation = operations.find(step.operation)
        params = operations.parse_params(operation, operation.upgraded(step.params)[0])
        words = params.in_words()
        line["operation"] = operation.title
        line["said"] = ", ".join(words[:_SAID]) + (f" and {len(words) - _SAID} more" if len(words) > _SAID else "")
        # what else a step gives, such as the source of each cell, is no mean of what went in
        parts, line["remark"] = self._within(holding, step, depth) if is_height else ([], "")
        self._inputs(line, step, parts, depth, is_height)
        return height

    def _inputs(
        self, line: dict[str, Any], step: Step, parts: Sequence[Influence], depth: int, is_height: bool
    ) -> None:
        weights = self._weights(step, parts)
        surfaces, far = [], 0
        joined: list[tuple[float, float]] = []
        for key in [one for given in step.inputs.values() for one in given]:
            held = self._by_key.get(key)
            if held is None:
                self.lines.append(_gone(depth + 1))
                continue
            weight = weights.get(key)
            if weights and kind_of(held) is SURFACE and weight is None:
                far += 1  # it has no part in this cell
                continue
            height = self.follow(held, depth + 1, weight)
            if kind_of(held) is SURFACE and quantity_of(held) == "height":
                surfaces.append(height)
                if weight is not None and height is not None:
                    joined.append((weight, height))
        if far:
            many = "One other has no part here" if far == 1 else f"{far} others have no part here"
            line["remark"] = f"{line['remark']} {many}.".strip()
        total = sum(weight for weight, _ in joined)
        if line["height"] is not None and abs(total - 1) < _WHOLE:
            rest = line["height"] - sum(weight * height for weight, height in joined) / total
            if abs(rest) > _LITTLE:
                by = _signed(rest, self._unit)
                told = f"Their mean by share is changed by {by}: levelling, bias and what lies around."
                line["remark"] = f"{line['remark']} {told}".strip()
        if is_height and len(surfaces) == 1 and surfaces[0] is not None and line["height"] is not None:
            line["change"] = line["height"] - surfaces[0]

    def _weights(self, step: Step, parts: Sequence[Influence]) -> dict[str, float]:
        """By key of an input, its weight. Tiles of one source share it: the one that reaches here has it."""
        if not parts:
            return {}
        given = step.inputs.get("surfaces", [])
        groups = step.params.get("groups") or list(range(len(given)))
        found: dict[str, float] = {}
        for part in parts:
            tiles = [key for key, group in zip(given, groups, strict=False) if group == part.source]
            there = [key for key in tiles if key in self._by_key and self._height(self._by_key[key]) is not None]
            for key in (there or tiles)[:1]:
                found[key] = part.weight
        return found

    def _within(self, holding: Holding, step: Step, depth: int) -> tuple[list[Influence], str]:
        """Weights of sources, and what else is known of how the step made this place. Patches become lines."""
        if step.operation not in ("mosaic", "best_of_all", "mend", "fill_voids"):
            return [], ""
        try:
            task, first = keys.task_for(self._project.pk, step)
            made = task.run().surface(first)
        except InputError as error:
            return [], f"How it was made cannot be told any more. {error}"
        x, y = self._place(made.grid.crs)
        if step.operation in ("mosaic", "best_of_all"):
            made.prepare(lambda share: self._progress(min(0.05 + 0.9 * share, 0.95)))
            found = influences(made, x, y)
            return found, self._levelled(step, found)
        if isinstance(patched := _found(made, MendedSurface), MendedSurface):
            row, col = int(np.rint(patched.grid.row_of(y))), int(np.rint(patched.grid.col_of(x)))
            ratio = UNITS.get(patched.unit, 1.0) / UNITS[self._unit]
            for one in patched.touched(Window(row, col, 1, 1)):
                patch = patched.patches[one.number]
                name = patch.name or f"patch {one.number + 1}"
                told = _patch(depth + 1, name, patch.operator.kind, one.before * ratio, one.after * ratio)
                self.lines.append({**told, "unit": self._unit})
            return [], ""
        if isinstance(filled := _found(made, Filled), Filled):
            under = self._read(filled.surface)
            return [], "Empty in what it was made from: filled here." if under is None else "Not filled here."
        return [], ""

    def _levelled(self, step: Step, found: Sequence[Influence]) -> str:
        """By how much sources were raised before they were joined."""
        given = step.inputs.get("surfaces", [])
        if step.params.get("groups"):
            return ""
        told = []
        for one in found:
            held = self._by_key.get(given[one.source]) if one.source < len(given) else None
            own = self._height(held) if held is not None else None
            if held is not None and own is not None and np.isfinite(one.height) and abs(one.height - own) > 0.005:
                told.append(f"{held.name} was levelled by {_signed(one.height - own, self._unit)}")
        return ". ".join(told) + ("." if told else "")

    def _points(self, points: Points) -> str:
        """The points nearest to the place."""
        from scipy.spatial import cKDTree  # heavy, and seldom needed

        x, y = self._place(points.crs)
        across, up = metres_per_unit(points.crs, x, y)
        known = np.isfinite(points.x) & np.isfinite(points.y)
        if not known.any():
            return ""
        tree = cKDTree(np.column_stack([points.x[known] * across, points.y[known] * up]))
        away, which = tree.query([x * across, y * up], k=min(_NEAREST, int(known.sum())))
        heights = points.z[known] * UNITS[points.unit] / UNITS[self._unit]
        told = [
            f"{heights[i]:.2f} {self._unit} at {d:.1f} m"
            for d, i in zip(np.atleast_1d(away), np.atleast_1d(which), strict=True)
        ]
        return f"Nearest points: {', '.join(told)}.".replace("-", "\u2212")


def _signed(value: float, unit: str) -> str:
    return f"{value:+.2f} {unit}".replace("-", "\u2212")


def _gone(depth: int) -> dict[str, Any]:
    told = dict.fromkeys(("holding", "height", "change", "weight", "uncertainty"))
    return {
        "depth": depth,
        "name": "something that was deleted",
        "kind": "",
        "operation": "",
        "said": "",
        "unit": "",
        "remark": "What it said here is not known any more.",
        **told,
    }


def _patch(depth: int, name: str, kind: str, before: float, after: float) -> dict[str, Any]:
    return {
        "depth": depth,
        "holding": None,
        "name": name,
        "kind": "patch",
        "operation": kind,
        "said": "",
        "height": after if np.isfinite(after) else None,
        "change": after - before if np.isfinite(after) and np.isfinite(before) else None,
        "weight": None,
        "uncertainty": None,
        "remark": "" if np.isfinite(before) else "It was empty before.",
    }


def _found(surface: Surface, kind: type[Surface]) -> Surface | None:
    """What of a kind stands below a surface, or is it."""
    below: Any = surface
    while not isinstance(below, kind):
        if not isinstance(below, Over):
            return None
        below = below.surface
    return below


def explain(job: Job, progress: Progress) -> Outcome:
    """Find out where a height comes from."""
    asked = job.request
    holding = Holding.objects.filter(pk=asked["surface"], project_id=job.project_id).first()
    if holding is None:
        raise InputError("The surface is no longer in the project.")
    trace = _Trace(holding.project, asked["x"], asked["y"], progress)
    trace.follow(holding)
    told = {"holding": holding.pk, "name": holding.name, "x": asked["x"], "y": asked["y"]}
    return Outcome(made={**told, "lines": trace.lines})


@router.post("/{int:project_id}/holdings/{int:holding_id}/explain", response={202: ExplainingOut, 422: Failure})
def ask(request: HttpRequest, project_id: int, holding_id: int, body: ExplainIn) -> tuple[int, dict[str, Job]]:
    """Find out where the height of a surface at a place comes from, as a job."""
    holding = open_holding(request, project_id, holding_id, Membership.Role.EDITOR)
    SURFACE.require(holding)
    if not (np.isfinite(body.x) and np.isfinite(body.y)):
        raise InputError("x and y must be numbers.")
    asked = {"surface": holding.pk, "x": body.x, "y": body.y}
    title = f"Where a height of {holding.name} comes from"
    return 202, {"job": submit(holding.project, "explain", title, asked, person(request).pk)}


@router.get("/{int:project_id}/explained/{uuid:job_id}", response={200: ExplainedOut, 404: Failure})
def read(request: HttpRequest, project_id: int, job_id: UUID) -> dict[str, Any]:
    """What a job found out of a height."""
    project = open_project(request, project_id)
    job = get_object_or_404(Job, pk=job_id, project=project, kind="explain")
    if job.made is None:
        raise HttpError(404, "It is not known yet.")
    return job.made
