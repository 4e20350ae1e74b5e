"""Lines that the map draws in a view before they are kept: those an operation would give, and the sides of facets."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import shapely
from django.http import HttpRequest
from ninja import Field, Router, Schema

from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.runs.asked import RunIn, prepare
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value, parts_of
from yama.terrain.grid import Bounds
from yama.terrain.operations import View
from yama.terrain.relief.graticule import Kind, graticule

router = Router(tags=["map"])

_MOST_EDGES = 30_000
_MOST_VERTICES = 600_000
_LINE_CELLS = 1_000
_UNSEEN = 0.2  # of a cell: bends that no screen shows


class LinesIn(Schema):
    """Lines as an operation would make them, to look at in a view; bounds in frame coordinates. output: the first of lines where not
    given."""

    run: RunIn
    output: str = Field("", max_length=60)
    bounds: tuple[float, float, float, float]


class LineOut(Schema):
    """A line or ring: the figure that stands along it, in the unit of its column; whether it is an index line; and x, y, x, y of its
    vertices."""

    figure: float | None
    index: bool
    places: list[float]


@router.post("/{int:project_id}/lines", response={200: list[LineOut], 422: Failure})
def view_lines(request: HttpRequest, project_id: int, body: LinesIn) -> list[dict[str, Any]]:
    """The lines of a view, rough ones of the cells it shows. Empty where a finding of weight stop stands in the way."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    task, _ = prepare(project, body.run)
    of_lines = [
        name for name, output in task.outputs.items() if output.kind == "features" and body.output in ("", name)
    ]
    if not of_lines or task.operation.previews == "none":
        raise InputError(f"Of {task.operation.title.lower()} no lines can be seen before it is run.")
    frame, bounds = project.frame.grid, Bounds(*body.bounds)
    if not all(np.isfinite(bounds)):
        raise InputError("The area must be four numbers: west, south, east, north.")
    if task.is_stopped:
        return []
    level = 0
    window = frame.window_over(bounds).clipped(frame.rows, frame.cols)
    while max(window.rows, window.cols) > _LINE_CELLS:
        level += 1
        at = frame.at_level(level)
        window = at.window_over(bounds).clipped(at.rows, at.cols)
    if window.rows < 2 or window.cols < 2:
        return []
    found = task.preview(View(bounds, level)) or task.run()
    made = found[of_lines[0]]
    assert isinstance(made, Features)
    seen = shapely.intersects(made.geometries, shapely.box(*bounds))
    made = made.kept(seen)
    if made.vertices > _MOST_VERTICES:
        raise InputError("There are too many lines in this view to draw. Take a wider interval, or look closer.")
    shapes = shapely.simplify(made.geometries, _UNSEEN * frame.at_level(level).cell_width, preserve_topology=False)
    nothing: list[Value] = [None] * len(made)
    figures = made.attributes[next(iter(made.units))] if made.units else nothing
    return [
        {"figure": figure, "index": kind == "index", "places": part[:, :2].round(2).ravel().tolist()}
        for figure, kind, shape in zip(figures, made.attributes.get("kind", nothing), shapes, strict=True)
        for part in parts_of(shape)
    ]


class FacetsOut(Schema):
    """Sides of facets in a view, in frame coordinates: those of sloping ones, of level ones, and of ones left out for a side
    that is too long. count: how many there are; no sides where they are more than can be shown. Null: not of facets."""

    count: int | None
    sloping: list[tuple[float, float, float, float]] = []
    level: list[tuple[float, float, float, float]] = []
    left_out: list[tuple[float, float, float, float]] = []


@router.get("/{int:project_id}/facets/{key}", response={200: FacetsOut, 422: Failure})
def facets(
    request: HttpRequest, project_id: int, key: str, west: float, south: float, east: float, north: float
) -> dict[str, Any]:
    """The facets of a triangulated surface within a view."""
    open_project(request, project_id)
    found = keys.facets_of(project_id, key)
    if found is None:
        return {"count": None}
    edges, kinds, count = found.edges(Bounds(west, south, east, north), _MOST_EDGES)
    rounded = np.round(edges, 2)
    each = {name: rounded[kinds == kind].tolist() for kind, name in enumerate(("sloping", "level", "left_out"))}
    return {"count": count, **each}


class GraticuleOut(Schema):
    """A line of equal coordinates in a view: which coordinate stays the same, its figure in words, and x, y, x, y of its
    vertices in frame coordinates."""

    axis: Literal["x", "y"]
    text: str
    places: list[float]


@router.get("/{int:project_id}/graticule", response={200: list[GraticuleOut], 422: Failure})
def graticule_in_view(
    request: HttpRequest, project_id: int, kind: Kind, west: float, south: float, east: float, north: float
) -> list[dict[str, Any]]:
    """Lines of equal coordinates of the frame, or of longitude and latitude, within a view."""
    project = open_project(request, project_id)
    lines = graticule(project.frame.grid.crs, Bounds(west, south, east, north), kind)
    return [{"axis": line.axis, "text": line.text, "places": line.places.ravel().tolist()} for line in lines]
