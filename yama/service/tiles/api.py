"""What the map asks for: tiles, previews, the probe, and figures of the view."""

from __future__ import annotations

import time
import zlib
from base64 import b64encode
from typing import Any, Literal

import contourpy
import numpy as np
import shapely
from django.core.cache import cache
from django.http import Http404, HttpRequest, HttpResponse
from isal import igzip
from ninja import Field, Router, Schema
from pyproj import Transformer

from yama.service.accounts.api import Failure
from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.tiles import surfaces
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import fitted
from yama.terrain.formats import Held
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid, Window
from yama.terrain.operations.contours import features_of, lines_of
from yama.terrain.recipe import Step
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import span_of, view_picture
from yama.terrain.relief.slope import aspect_of, slope_of
from yama.terrain.relief.tone import Shade
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS

router = Router(tags=["map"])

TILE = 256
GUTTER = 1
_MOST_EDGES = 30_000
_OUTLINE_CELLS = 360
_SMALLEST_RING = 20
_TIMED_CELLS = 128  # along each side
_LONG = 0.03  # seconds
_VIEW_CELLS = 512
_CONTOUR_CELLS = 1_000
_UNSEEN = 0.2  # of a cell: bends that no screen shows
_BINS = 64
_TILE_SECONDS = 3600


class MendOut(Schema):
    """A button beside a finding: pressing it sets these parameters."""

    label: str
    set_params: dict[str, Any]


class FindingOut(Schema):
    """A checked fact with its weight."""

    code: str
    weight: Literal["note", "caution", "stop"]
    sentence: str
    why: str
    mend: MendOut | None
    places: list[tuple[float, float]]
    answers: list[MendOut] = []


class RunIn(Schema):
    """An operation with its parameters; `inputs` are holdings by role, several where the role takes many."""

    operation: str = Field(max_length=60)
    params: dict[str, Any] = {}
    inputs: dict[str, int | list[int]]


class PreviewOut(Schema):
    """A preview. `key` is null where a finding of weight stop stands in the way.

    outline: rings of x, y around the filled cells. coarse: its tiles carry gradients. cells: how many a run makes. seconds: how long it may take here,
    from the time the outline took. figures: of an operation that gives them in no time. filled: share of cells that are not empty.
    rough: whether the map shows what only nearly stands for the result.
    """

    key: str | None
    quantity: str
    findings: list[FindingOut]
    outline: list[list[tuple[float, float]]]
    cells: int
    cell_size: float
    coarse: bool
    seconds: float
    filled: float
    rough: bool
    holding_id: int | None
    figures: dict[str, Any] | None


class ReadingOut(Schema):
    """What one surface says at a cell; null where it is empty. Slope and aspect in degrees. source: for a mosaic the name of
    the surface the cell came from."""

    height: float | None
    slope: float | None
    aspect: float | None
    source: str | None


class ProbeOut(Schema):
    """Readings at the centre of the frame's cell under a position."""

    x: float
    y: float
    longitude: float
    latitude: float
    readings: dict[str, ReadingOut]


class ViewIn(Schema):
    """An area in frame coordinates (all of the frame where null), and the surfaces to describe in it."""

    keys: list[str] = Field(max_length=6)
    bounds: tuple[float, float, float, float] | None = None


class ViewOut(Schema):
    """Figures of one surface over a view, from at most 512 x 512 cells of it. Null heights where all is empty.

    counts: how many of the cells read lie in each of 64 equal steps from `first` to `last`, which leave out one in a
    thousand at either end, so that a few blunders do not flatten the rest.
    """

    low: float | None
    high: float | None
    low2: float | None
    high98: float | None
    mean: float | None
    empty: float
    first: float
    last: float
    counts: list[int]
    cell: float


class RoleOut(Schema):
    """One thing an operation takes."""

    kind: Literal["points", "surface", "cloud", "features"]
    title: str
    many: bool
    optional: bool


class OperationOut(Schema):
    """An operation; `params` is the JSON Schema of its parameters, with units."""

    name: str
    title: str
    stage: str
    summary: str
    version: int
    produces: Literal["surface", "features", "cloud", "figures"]
    quantity: str
    inputs: dict[str, RoleOut]
    params: dict[str, Any]


# -- tiles ------------------------------------------------------------------------------------------------


@router.get("/{int:project_id}/tiles/{key}/{int:level}/{int:col}/{int:row}", include_in_schema=False)
def tile(
    request: HttpRequest,
    project_id: int,
    key: str,
    level: int,
    col: int,
    row: int,
    rough: bool = False,
    shade: Shade = "none",
) -> HttpResponse:
    """Cells of a surface on the frame's grid: little-endian float32, 258 x 258, NaN where empty, gzipped.

    A coarse surface (see `surfaces.tile_bands`) has three numbers a cell: height, gradient east, gradient north.

    Level n has the frame's cells 2**n times as wide. Tiles are 256 cells apart and overlap by one cell on each side.
    204 where all cells are empty. rough: of a slow preview what stands in for it. shade: a further number a cell, its tone from -1
    to 1.
    """
    project = open_project(request, project_id)
    frame = project.frame.grid
    if level > 30 or col * TILE > frame.at_level(level).cols or row * TILE > frame.at_level(level).rows:
        raise Http404
    cache_key = f"tile:{project_id}:{key}:{'rough' if rough else ''}:{shade}:{zlib.crc32(repr(project.frame).encode())}:{level}:{col}:{row}"
    stand_in = surfaces.rough_of(project_id, key) if rough else None
    surface, step = (stand_in, None) if stand_in else surfaces.surface_of(project_id, key)
    # stored surfaces are as quick to read as the cache
    computed = stand_in is not None or step is not None or shade != "none"
    body: bytes | None = cache.get(cache_key) if computed else None
    if body is None:
        side = TILE + 2 * GUTTER
        window = Window(row * TILE - GUTTER, col * TILE - GUTTER, side, side)
        bands = surfaces.tile_bands(project, surface, window, level, shade)
        empty = bool(np.isnan(bands[0]).all())
        cells = np.stack(bands, axis=-1).astype("<f4")
        body = b"" if empty else igzip.compress(cells.tobytes(), compresslevel=1, mtime=0)
        if computed:
            cache.set(cache_key, body, _TILE_SECONDS)
    response = HttpResponse(body, content_type="application/octet-stream", status=200 if body else 204)
    if body:
        response["Content-Encoding"] = "gzip"
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


@router.get("/operations", response=list[OperationOut])
def list_operations(request: HttpRequest) -> list[dict[str, Any]]:
    """All operations with their parameters."""
    return [operations.describe(operation) for operation in operations.catalogue().values()]


# -- previews ---------------------------------------------------------------------------------------------


def prepare(project: Project, body: RunIn) -> tuple[operations.Task, Step, list[Finding]]:
    """Task, step and findings of a request. Raises Http404, InputError."""
    operation = operations.find(body.operation)
    params = operations.parse_params(operation, body.params)
    held: dict[str, Held | list[Held]] = {}
    keys: dict[str, str | list[str]] = {}
    for name, given in body.inputs.items():
        numbers = given if isinstance(given, list) else [given]
        found = Holding.objects.filter(project=project).in_bulk(numbers)
        if len(found) != len(set(numbers)):
            raise InputError(f"{operation.title}: a holding chosen as {name} is not in this project.")
        held[name] = [surfaces.held_by(found[number]) for number in dict.fromkeys(numbers)]
        keys[name] = [found[number].key for number in dict.fromkeys(numbers)]
    taken = operations.take_inputs(operation, held)
    step = operations.make_step(operation, params, keys, project.frame)
    task = operations.Task(operation, taken, params, project.frame)
    return task, step, task.check()


def _timed(surface: Surface, side: int) -> tuple[float, int]:
    """Seconds of computing that cells in the middle of a surface take, and how many of them are not empty, or all where they all are."""
    own = surface.grid
    part = Window(own.rows // 2, own.cols // 2, side, side).clipped(own.rows, own.cols)
    began = time.thread_time()
    filled = int(np.count_nonzero(np.isfinite(surface.read(part))))
    return time.thread_time() - began, filled or max(part.rows * part.cols, 1)


def _outline(surface: Surface, frame: Grid) -> tuple[list[list[tuple[float, float]]], float, float, float]:
    """Rings around the filled cells but for specks, the share filled, seconds spent on each cell looked at, and seconds
    spent once, before any cell could be. Of a stand-in the seconds are those of what it stands for."""
    level = 0
    while max(frame.at_level(level).rows, frame.at_level(level).cols) > _OUTLINE_CELLS:
        level += 1
    view = fitted(surface, frame, "nearest")
    grid = frame.at_level(level)
    started = time.perf_counter()
    own = surface.grid
    told, exact = surface.seconds, surfaces.exact_of(surface)
    if told is None and exact is None:
        for eighth in (1, 3, 5, 7):  # what is prepared for a part of the surface is prepared now
            surface.read(Window(own.rows * eighth // 8, own.cols // 2, 1, 1))
    ready = time.perf_counter()
    heights = view.read(grid.whole.grown(1), level)
    seconds = 0.0 if surface.by_parts else (time.perf_counter() - ready) / heights.size
    if told is not None:
        seconds = told / own.cell_count
    elif exact is not None:
        _timed(exact, 1)  # what is loaded or prepared once
        took, cells = _timed(exact, _TIMED_CELLS // 4)
        if took < _LONG:
            took, cells = _timed(exact, _TIMED_CELLS // 2)
        seconds = took / cells * float(np.isfinite(heights).mean())  # empty cells take next to nothing
    elif not surface.by_parts and level:
        # wide cells of many surfaces cost more than its own do
        took, cells = _timed(surface, _TIMED_CELLS)
        seconds = min(seconds, took / cells)
    filled = np.isfinite(heights)
    rings = []
    lines: Any = contourpy.contour_generator(z=filled.astype(np.float32)).lines(0.5)
    for ring in lines:
        if len(ring) < _SMALLEST_RING:
            continue
        x, y = grid.x_of(ring[:, 0] - 1), grid.y_of(ring[:, 1] - 1)
        rings.append([(round(float(a), 1), round(float(b), 1)) for a, b in zip(x, y, strict=True)])
    return rings, float(filled[1:-1, 1:-1].mean()), seconds, ready - started


@router.post("/{int:project_id}/previews", response={200: PreviewOut, 422: Failure})
def preview(request: HttpRequest, project_id: int, body: RunIn) -> dict[str, Any]:
    """Check an operation and make its result viewable without keeping it."""
    project = open_project(request, project_id)
    task, step, findings = prepare(project, body)
    operation, params = task.operation, task.params
    grid = project.frame.grid
    cell_size = getattr(params, "cell_size", None)
    if cell_size:
        grid = project.frame.with_cell_size(cell_size).grid
    existing = Holding.objects.filter(project=project, key=step.key).first()
    result: dict[str, Any] = {
        "key": None, "quantity": operation.quantity_of(params), "findings": [finding.to_dict() for finding in findings],
        "outline": [], "cells": grid.cell_count, "cell_size": grid.cell_width, "coarse": False, "seconds": 0.0, "filled": 0.0, "rough": False,
        "holding_id": existing.pk if existing else None, "figures": None,
    }  # fmt: skip
    stopped = any(finding.weight == "stop" for finding in findings)
    if operation.quick and not stopped:
        result["figures"] = task.run()
    if operation.produces != "surface" or stopped:
        return result
    surfaces.keep_preview(project_id, step)
    stand_in = surfaces.rough_of(project_id, step.key)
    surface = stand_in or surfaces.surface_of(project_id, step.key)[0]
    outline, filled, seconds, once = _outline(surface, project.frame.grid)
    # two cores compute; writing and compressing a cell takes about as long as computing a cheap one
    result.update(
        key=step.key,
        outline=outline,
        filled=filled,
        rough=stand_in is not None,
        coarse=surfaces.is_coarse(project.frame.grid, surface.grid),
        cells=surface.grid.cell_count,
        cell_size=surface.grid.cell_width,
        seconds=surface.grid.cell_count * (seconds / 2 + 1.2e-7 * filled) + 0.5 + once,
    )
    return result


class PicturesIn(Schema):
    """Runs to look at side by side in one small area, in frame coordinates, each `width` x `height` pixels."""

    runs: list[RunIn] = Field(max_length=16)
    bounds: tuple[float, float, float, float]
    width: int = Field(ge=16, le=400)
    height: int = Field(ge=16, le=400)


class PictureOut(Schema):
    """A PNG in base64; null where a finding of weight stop, which is told, stands in the way."""

    png: str | None
    said: str = ""


@router.post("/{int:project_id}/pictures", response={200: list[PictureOut], 422: Failure})
def pictures(request: HttpRequest, project_id: int, body: PicturesIn) -> list[dict[str, Any]]:
    """What runs would make of one small area. All heights are coloured over the range of the first."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    frame, bounds = project.frame.grid, Bounds(*body.bounds)
    cell = (bounds.east - bounds.west) / body.width
    if not (all(np.isfinite(bounds)) and cell > 0):
        raise InputError("The area must be four numbers: west, south, east, north.")
    top = (bounds.north + bounds.south + cell * body.height) / 2
    grid = Grid(frame.crs, bounds.west, top, cell, cell, body.height, body.width)
    drawn: list[dict[str, Any]] = []
    span: tuple[float, float] | None = None
    for run in body.runs:
        task, _, findings = prepare(project, run)
        operation, params = task.operation, task.params
        stop = next((one.sentence for one in findings if one.weight == "stop"), "")
        if stop or operation.produces != "surface":
            drawn.append({"png": None, "said": stop or f"{operation.title} makes no surface."})
            continue
        surface: Surface = task.run()
        quantity = operation.quantity_of(params)
        span = span or (span_of(surface, grid) if quantity == "height" else None)
        png = view_picture(surface, grid, Dress.usual(quantity, span if quantity == "height" else None))
        drawn.append({"png": b64encode(png).decode()})
    return drawn


class ContoursIn(Schema):
    """Contours as `contours` would make them, to look at in a view; bounds in frame coordinates."""

    run: RunIn
    bounds: tuple[float, float, float, float]


class ContourOut(Schema):
    """A line: its height in the unit asked for, whether it is an index line, and x, y, x, y of its vertices."""

    height: float
    index: bool
    places: list[float]


@router.post("/{int:project_id}/contours", response={200: list[ContourOut], 422: Failure})
def view_contours(request: HttpRequest, project_id: int, body: ContoursIn) -> list[dict[str, Any]]:
    """The contours of a view, of the cells it shows. Empty where a finding of weight stop stands in the way."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    task, _, findings = prepare(project, body.run)
    params, inputs = task.params, task.inputs
    if task.operation.name != "contours":
        raise InputError("Only contours are drawn like this.")
    frame, bounds = project.frame.grid, Bounds(*body.bounds)
    if not all(np.isfinite(bounds)):
        raise InputError("The area must be four numbers: west, south, east, north.")
    if any(one.weight == "stop" for one in findings):
        return []
    level = 0
    window = frame.window_over(bounds).clipped(frame.rows, frame.cols)
    while max(window.rows, window.cols) > _CONTOUR_CELLS:
        level += 1
        at = frame.at_level(level)
        window = at.window_over(bounds).clipped(at.rows, at.cols)
    if window.rows < 2 or window.cols < 2:
        return []
    given = inputs["surface"]
    assert isinstance(given, Surface)
    surface = operations.base.within_area(given, inputs)
    part = frame.at_level(level).part(window)
    # shortness is of whole lines, which a view cuts
    drawn = params.model_copy(update={"shortest": 0.0})
    lines = lines_of(fitted(surface, part), drawn)
    if lines.x.size > _MOST_EDGES * 20:
        raise InputError("There are too many contours in this view to draw. Take a wider interval, or look closer.")
    found = features_of(lines, params, part)
    shapes = shapely.simplify(found.geometries, _UNSEEN * part.cell_width, preserve_topology=False)
    return [
        {"height": height, "index": kind == "index", "places": shapely.get_coordinates(shape).round(2).ravel().tolist()}
        for height, kind, shape in zip(found.attributes["height"], found.attributes["kind"], shapes, strict=True)
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
    found = surfaces.facets_of(project_id, key)
    if found is None:
        return {"count": None}
    edges, kinds, count = found.edges(Bounds(west, south, east, north), _MOST_EDGES)
    rounded = np.round(edges, 2)
    each = {name: rounded[kinds == kind].tolist() for kind, name in enumerate(("sloping", "level", "left_out"))}
    return {"count": count, **each}


# -- readings ---------------------------------------------------------------------------------------------


def _reading(surface: Surface, frame: Frame, row: int, col: int) -> dict[str, float | None]:
    around = fitted(surface, frame.grid).read(Window(row - 1, col - 1, 3, 3))
    here = frame.grid.part(Window(row - 1, col - 1, 3, 3))
    rises = around * np.float32(UNITS.get(surface.unit, 1.0))
    values = (around[1, 1], slope_of(rises, here)[0, 0], aspect_of(rises, here)[0, 0])
    height, slope, aspect = (float(value) if np.isfinite(value) else None for value in values)
    return {"height": height, "slope": slope, "aspect": aspect}


@router.get("/{int:project_id}/probe", response=ProbeOut)
def probe(request: HttpRequest, project_id: int, x: float, y: float, a: str = "", b: str = "") -> dict[str, Any]:
    """Heights, slope and aspect at the frame's cell under (x, y). Coarser surfaces are read bilinearly there."""
    project = open_project(request, project_id)
    grid = project.frame.grid
    col, row = float(grid.col_of(x)), float(grid.row_of(y))
    if not (np.isfinite(col) and np.isfinite(row)):
        raise InputError("x and y must be numbers.")
    limit = 10 * max(grid.rows, grid.cols)
    row, col = int(np.clip(round(row), -limit, limit)), int(np.clip(round(col), -limit, limit))
    readings: dict[str, dict[str, Any]] = {}
    for slot, key in (("a", a), ("b", b)):
        if key:
            surface = surfaces.shown(project, key)
            readings[slot] = {
                **_reading(surface, project.frame, row, col),
                "source": surfaces.source_at(project_id, key, Window(row, col, 1, 1)),
            }
    cx, cy = float(grid.x_of(col)), float(grid.y_of(row))
    longitude, latitude = Transformer.from_crs(grid.crs, "EPSG:4326", always_xy=True).transform(cx, cy)
    return {"x": cx, "y": cy, "longitude": longitude, "latitude": latitude, "readings": readings}


def _describe(surface: Surface, frame: Frame, bounds: Bounds) -> dict[str, Any]:
    grid = frame.grid
    level = 0
    window = grid.window_over(bounds).clipped(grid.rows, grid.cols)
    while max(window.rows, window.cols) > _VIEW_CELLS:
        level += 1
        at = grid.at_level(level)
        window = at.window_over(bounds).clipped(at.rows, at.cols)
    at = grid.at_level(level)
    result: dict[str, Any] = dict.fromkeys(("low", "high", "low2", "high98", "mean"))
    result.update(empty=1.0, first=0.0, last=1.0, counts=[0] * _BINS, cell=at.cell_width)
    if not (window.rows and window.cols):
        return result
    heights = fitted(surface, grid, "nearest").read(window, level)
    filled = heights[np.isfinite(heights)]
    result["empty"] = 1.0 - filled.size / heights.size
    if filled.size:
        low, high = float(filled.min()), float(filled.max())
        first, low2, high98, last = (float(value) for value in np.quantile(filled, (0.001, 0.02, 0.98, 0.999)))
        last = max(last, first + 1e-6)
        counts, _ = np.histogram(filled.astype(np.float64), bins=_BINS, range=(first, last))
        result.update(
            low=low, high=high, low2=low2, high98=high98, mean=float(filled.mean(dtype=np.float64)),
            first=first, last=last, counts=counts.tolist(),
        )  # fmt: skip
    return result


@router.post("/{int:project_id}/views", response=dict[str, ViewOut])
def view_figures(request: HttpRequest, project_id: int, body: ViewIn) -> dict[str, Any]:
    """Histogram and quantiles of surfaces over an area, by key."""
    project = open_project(request, project_id)
    bounds = Bounds(*body.bounds) if body.bounds else project.frame.grid.bounds
    if not all(np.isfinite(bounds)):
        raise InputError("The area must be four numbers: west, south, east, north.")
    return {key: _describe(surfaces.shown(project, key), project.frame, bounds) for key in body.keys}
