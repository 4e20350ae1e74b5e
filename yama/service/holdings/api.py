"""Holdings of a project: list, add by upload or by running an operation, rename, store, take away, delete."""

from __future__ import annotations

import tempfile
import zlib
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from django.core.cache import cache
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema
from ninja.errors import HttpError
from pydantic import ValidationError
from pyproj import Transformer

from yama.service.accounts.api import Failure
from yama.service.accounts.people import person
from yama.service.holdings.deleted import DeletedOut, find_again, put_away
from yama.service.holdings.features import features_of, geojson
from yama.service.holdings.holes import holes_geojson
from yama.service.holdings.models import Holding
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.tiles import surfaces
from yama.service.tiles.api import FindingOut, RunIn, prepare
from yama.service.tiles.dressed import DressIn
from yama.terrain import operations, overview
from yama.terrain.errors import InputError
from yama.terrain.formats import vector
from yama.terrain.formats.las import CLASSES
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.recipe import below, export, source
from yama.terrain.relief.picture import picture as small_picture

_PICTURE_SECONDS = 3600

router = Router(tags=["holdings"])


class StatisticsOut(Schema):
    """Over all cells of a surface; heights are null where every cell is empty."""

    cells: int
    empty: int
    lowest: float | None
    highest: float | None
    mean: float | None
    deviation: float | None


class AccuracyOut(Schema):
    """Error figures at the project's checkpoints, in height units; null with a reason where there are none."""

    count: int = 0
    unused: int = 0
    mean: float | None = None
    median: float | None = None
    deviation: float | None = None
    rmse: float | None = None
    nmad: float | None = None
    mae: float | None = None
    le68: float | None = None
    le90: float | None = None
    le95: float | None = None
    lowest: float | None = None
    highest: float | None = None
    outliers: int = 0
    reason: str = ""


class SurfaceFacts(Schema):
    """Of a surface. `cell_size` is in metres on the ground; a `coarse` one's tiles carry gradients."""

    cell_size: float
    rows: int
    cols: int
    crs: str
    unit: str
    vertical_datum: str
    statistics: StatisticsOut
    quantity: str
    coarse: bool
    on_frame: bool


class PointsFacts(Schema):
    """Of points: how many, how many of each code, number columns."""

    count: int
    codes: dict[str, int]
    fields: list[str]
    height_field: str
    unit: str
    crs: str


class CloudFacts(Schema):
    """Of a point cloud. classes and returns: number of points by number. spacing: mean distance of neighbours in metres."""

    count: int
    crs: str
    version: str
    unit: str
    classes: dict[str, int]
    class_names: dict[str, str]
    returns: dict[str, int]
    lowest: float
    highest: float
    spacing: float
    density: float
    strips: int


class FeaturesFacts(Schema):
    """Of features: how many of each geometry, and the columns of their table with what they hold."""

    counts: dict[str, int]
    vertices: int
    attributes: dict[str, str]
    crs: str
    layer: str
    layers: list[str]


class ImageFacts(Schema):
    """Of an image. bits: that its values need; ground_size: metres of ground to a cell; footprint: ring of x, y on the
    ground in the frame's CRS; heights: that its model is meant for."""

    rows: int
    cols: int
    bands: int
    cell_type: str
    lowest: float
    highest: float
    bits: int
    empty: float
    ground_size: float
    heights: tuple[float, float]
    footprint: list[tuple[float, float]]


class RecipeOut(Schema):
    """What made a holding, for reading: operation, settings, and the names of what went in."""

    operation: str
    title: str
    params: dict[str, Any]
    inputs: dict[str, str]
    input_ids: dict[str, int | list[int]]


class HolesOut(Schema):
    """Empty cells of a surface: how many holes its data surround, their cells, and empty cells outside its data."""

    count: int
    cells: int
    outside: int


class HoldingOut(Schema):
    """A thing held in a project. mended_by: name of the same upload with more declared about it, where there is one.
    instead_of: the holding it is a newer take of. outdated: what made it is computed otherwise by now. bounds: west, south, east,
    north in the frame's CRS."""

    id: int
    kind: Literal["surface", "points", "features", "cloud", "image"]
    name: str
    key: str
    live: bool
    original: str
    created_at: datetime
    surface: SurfaceFacts | None
    points: PointsFacts | None
    cloud: CloudFacts | None
    features: FeaturesFacts | None
    image: ImageFacts | None
    file: dict[str, Any] | None
    declared: dict[str, Any]
    origin: dict[str, Any]
    uploaded: bool
    mended_by: str
    instead_of: int | None
    outdated: bool
    bounds: tuple[float, float, float, float] | None
    holes: HolesOut | None
    findings: list[FindingOut]
    recipe: RecipeOut | None
    accuracy: AccuracyOut | None


class RenameIn(Schema):
    """A new name."""

    name: str = Field(min_length=1, max_length=120)


class MakeIn(RunIn):
    """Run an operation; `live` keeps the recipe only. instead_of: the holding that the result is a newer take of."""

    name: str = Field("", max_length=120)
    live: bool = False
    instead_of: int | None = None


class AcceptedOut(Schema):
    """What became of a request: a job that was started, or the holding that is there already."""

    job: JobOut | None = None
    holding_id: int | None = None


def _surface_facts(holding: Holding, project: Project) -> dict[str, Any] | None:
    if holding.kind != Holding.Kind.SURFACE:
        return None
    grid = Grid.from_dict(holding.facts["grid"])
    width, height = grid.metres_per_cell()
    return {
        "cell_size": (width * height) ** 0.5,
        "rows": grid.rows,
        "cols": grid.cols,
        "crs": grid.crs,
        "unit": holding.facts["unit"],
        "vertical_datum": holding.facts["vertical_datum"],
        "statistics": holding.facts["statistics"],
        "quantity": surfaces.quantity_of(holding.step),
        "coarse": surfaces.is_coarse(project.frame.grid, grid),
        "on_frame": grid.is_in_step_with(project.frame.grid),
    }


def _recipe(holding: Holding, by_key: dict[str, Holding]) -> dict[str, Any] | None:
    step = holding.step
    if step is None:
        return None
    taken = operations.find(step.operation).inputs
    sources = {role: [by_key.get(key) for key in keys] for role, keys in step.inputs.items()}
    return {
        "operation": step.operation,
        "title": operations.find(step.operation).title,
        "params": step.params,
        "inputs": {
            role: ", ".join(one.name if one else "no longer here" for one in held) for role, held in sources.items()
        },
        "input_ids": {
            role: [one.pk for one in held if one] if taken[role].many else held[0].pk
            for role, held in sources.items()
            if held and held[0]
        },
    }


def _accuracy(holding: Holding, project: Project) -> dict[str, Any] | None:
    for card in holding.scorecards.all():
        if card.checkpoints_id == project.checkpoints_id:
            return card.figures["all"] if card.figures else {"reason": card.reason}
    return None


def _mended_by(holding: Holding, by_key: dict[str, Holding]) -> str:
    if not holding.file_key:
        return ""
    more = (other for other in by_key.values() if other.file_key == holding.file_key and other.pk > holding.pk)
    return next((other.name for other in more if holding.declared.items() < other.declared.items()), "")


@lru_cache(maxsize=64)
def _turn(source: str, target: str) -> Transformer:
    return Transformer.from_crs(parse_crs(source), parse_crs(target), always_xy=True)


def _bounds(holding: Holding, project: Project) -> tuple[float, ...] | None:
    facts = holding.facts
    if holding.kind == Holding.Kind.SURFACE:
        grid = Grid.from_dict(facts["grid"])
        crs, box = grid.crs, tuple(grid.bounds)
    else:
        crs, box = facts["crs"], tuple(facts["bounds"])
    frame = project.frame.grid.crs
    found = box if crs == frame else _turn(crs, frame).transform_bounds(box[0], box[1], box[2], box[3])
    return tuple(float(value) for value in found) if np.isfinite(found).all() else None


def _image_facts(holding: Holding, project: Project) -> dict[str, Any] | None:
    if holding.kind != Holding.Kind.IMAGE:
        return None
    turn = _turn(holding.facts["crs"], project.frame.grid.crs)
    places = [turn.transform(x, y) for x, y in holding.facts["footprint"]]
    ring = [(round(x, 2), round(y, 2)) for x, y in places if np.isfinite((x, y)).all()]
    return {**holding.facts, "footprint": ring}


def _class_names(holding: Holding) -> dict[str, str]:
    return {code: CLASSES.get(int(code), f"class {code}") for code in holding.facts["classes"]}


def _out(holding: Holding, project: Project, by_key: dict[str, Holding]) -> dict[str, Any]:
    return {
        "id": holding.pk,
        "kind": holding.kind,
        "name": holding.name,
        "key": holding.key,
        "live": holding.live,
        "original": holding.original,
        "created_at": holding.created_at,
        "surface": _surface_facts(holding, project),
        "points": holding.facts if holding.kind == Holding.Kind.POINTS else None,
        "cloud": {**holding.facts, "class_names": _class_names(holding)}
        if holding.kind == Holding.Kind.CLOUD
        else None,
        "features": holding.facts if holding.kind == Holding.Kind.FEATURES else None,
        "image": _image_facts(holding, project),
        "file": holding.facts.get("file"),
        "declared": holding.declared,
        "origin": holding.origin,
        "uploaded": bool(holding.file_key),
        "mended_by": _mended_by(holding, by_key),
        "instead_of": by_key[holding.instead_of].pk if holding.instead_of in by_key else None,
        "outdated": holding.step is not None
        and holding.step.version != operations.find(holding.step.operation).version,
        "bounds": _bounds(holding, project),
        "holes": holding.facts.get("holes"),
        "findings": holding.facts.get("findings", []),
        "recipe": _recipe(holding, by_key),
        "accuracy": _accuracy(holding, project),
    }


def _get(request: HttpRequest, project_id: int, holding_id: int, role: str = Membership.Role.VIEWER) -> Holding:
    project = open_project(request, project_id, role)
    holding: Holding = get_object_or_404(Holding, pk=holding_id, project=project)
    return holding


@router.get("/{int:project_id}/holdings", response=list[HoldingOut])
def list_holdings(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """All holdings, newest first."""
    project = open_project(request, project_id)
    held = list(project.holdings.prefetch_related("scorecards"))
    by_key = {holding.key: holding for holding in held}
    return [_out(holding, project, by_key) for holding in held]


# -- making ----------------------------------------------------------------------------------------------


@router.post("/{int:project_id}/runs", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure})
def run(request: HttpRequest, project_id: int, body: MakeIn) -> tuple[int, dict[str, Any]]:
    """Run an operation as a job. Where the same recipe was run before, that holding is returned, or for figures that job."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    task, step, findings = prepare(project, body)
    operation, params = task.operation, task.params
    if getattr(params, "cell_size", None):
        project.frame.with_cell_size(params.cell_size)  # an impossible grid is refused now, not in the job
    for finding in findings:
        if finding.weight == "stop":
            raise InputError(f"{finding.sentence} {finding.why}".strip())
    if operation.produces == "figures":
        known = project.jobs.filter(key=step.key, figures__isnull=False).first()
        if known is not None:
            return 200, {"job": known}
    existing = find_again(project_id, step.key)
    if existing is not None and (body.live or not existing.live):
        return 200, {"holding_id": existing.pk}
    name = body.name.strip() or operation.title
    title = name if name.startswith(operation.title) else f"{operation.title}: {name}"
    request_data: dict[str, Any] = {"step": vars(step), "name": name, "live": body.live}
    if body.instead_of is not None:
        older = get_object_or_404(Holding, pk=body.instead_of, project=project)
        request_data["instead_of"] = older.key if older.key != step.key else ""
    return 202, {"job": submit(project, "run", title, request_data, person(request).pk, step.key)}


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/store", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure}
)
def store_live(request: HttpRequest, project_id: int, holding_id: int) -> tuple[int, dict[str, Any]]:
    """Turn a live surface into a file with its own cells."""
    holding = _get(request, project_id, holding_id, Membership.Role.EDITOR)
    if not holding.live:
        return 200, {"holding_id": holding.pk}
    request_data = {"step": holding.recipe, "name": holding.name, "live": False}
    return 202, {
        "job": submit(holding.project, "run", f"Store {holding.name}", request_data, person(request).pk, holding.key)
    }


class RemakeIn(Schema):
    """The holding to take instead."""

    instead: int


@router.post("/{int:project_id}/holdings/{int:holding_id}/remake", response={202: JobOut, 422: Failure})
def remake(request: HttpRequest, project_id: int, holding_id: int, body: RemakeIn) -> tuple[int, Job]:
    """Make everything that was made from a holding again from another, beside what is there, as a job."""
    holding = _get(request, project_id, holding_id, Membership.Role.EDITOR)
    other = get_object_or_404(Holding, pk=body.instead, project_id=project_id)
    if other.pk == holding.pk:
        raise InputError("It is made from that already. Choose another to take instead.")
    if other.kind != holding.kind:
        raise InputError(
            f"{other.name} is of another kind than {holding.name}, so nothing can be made from it instead."
        )
    steps = {one.key: one.step for one in holding.project.holdings.all() if one.step is not None}
    listed = below(holding.key, steps)
    if not listed:
        raise InputError(f"Nothing here was made from {holding.name}.")
    if other.key in listed:
        raise InputError(f"{other.name} was made from {holding.name} itself.")
    title = f"Remake {len(listed)} from {other.name}"
    asked = {"key": holding.key, "instead": other.key}
    return 202, submit(holding.project, "remake", title, asked, person(request).pk)


# -- one holding ------------------------------------------------------------------------------------------


@router.patch("/{int:project_id}/holdings/{int:holding_id}", response={200: HoldingOut, 409: Failure})
def rename(request: HttpRequest, project_id: int, holding_id: int, body: RenameIn) -> dict[str, Any]:
    """Give a holding another name."""
    holding = _get(request, project_id, holding_id, Membership.Role.EDITOR)
    name = body.name.strip()
    if Holding.objects.filter(project_id=project_id, name=name).exclude(pk=holding.pk).exists():
        raise HttpError(409, f"The project has a holding called {name} already.")
    holding.name = name
    holding.save(update_fields=["name"])
    by_key = {other.key: other for other in holding.project.holdings.all()}
    return _out(holding, holding.project, by_key)


@router.delete("/{int:project_id}/holdings/{int:holding_id}", response={200: DeletedOut, 409: Failure})
def delete(request: HttpRequest, project_id: int, holding_id: int, sure: bool = False) -> dict[str, object]:
    """Delete a holding; for a week it can be had back. Refused while a live surface is computed from it or a job uses it, and where
    anything goes with it unless `sure`."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    return put_away(project, holding_id, person(request), sure)


@router.get("/{int:project_id}/holdings/{int:holding_id}/accuracy", response=dict[str, Any])
def accuracy_report(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """Figures at the checkpoints: all, by code, and every error as x, y, error."""
    holding = _get(request, project_id, holding_id)
    card = holding.scorecards.filter(checkpoints_id=holding.project.checkpoints_id).first()
    if card is None:
        return {"reason": "Not judged: the project has no checkpoints, or this is not a surface of heights."}
    return card.figures or {"reason": card.reason}


def _dressed_picture(holding: Holding, dress: str) -> HttpResponse:
    try:
        look = DressIn.model_validate_json(dress)
    except ValidationError as error:
        raise HttpError(422, "The look of a picture must be JSON with stops, low and high.") from error
    frame = holding.project.frame
    place = f"picture:{holding.pk}:{holding.key}:{zlib.crc32(repr((frame, look)).encode())}"
    png: bytes | None = cache.get(place)
    if png is None:
        png = small_picture(surfaces.shown(holding.project, holding.key), frame.grid, look.dress(frame.unit))
        cache.set(place, png, _PICTURE_SECONDS)
    response = HttpResponse(png, content_type="image/png")
    response["Cache-Control"] = f"private, max-age={_PICTURE_SECONDS}"
    return response


@router.get("/{int:project_id}/holdings/{int:holding_id}/picture", include_in_schema=False)
def picture(request: HttpRequest, project_id: int, holding_id: int, dress: str = "") -> HttpResponse:
    """The small picture of a surface, as PNG. dress: a look as JSON (`DressIn`); the usual one where there is none."""
    holding = _get(request, project_id, holding_id)
    if dress and holding.kind == Holding.Kind.SURFACE:
        return _dressed_picture(holding, dress)
    if not holding.picture_path.exists():
        raise HttpError(404, "There is no picture of this.")
    response = HttpResponse(holding.picture_path.read_bytes(), content_type="image/png")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


@router.get("/{int:project_id}/holdings/{int:holding_id}/geotiff", include_in_schema=False)
def geotiff(request: HttpRequest, project_id: int, holding_id: int) -> Any:
    """A stored surface as a cloud-optimised GeoTIFF."""
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.SURFACE:
        raise HttpError(422, f"{holding.name} is not a surface.")
    if holding.live:
        raise HttpError(409, f"{holding.name} is live and has no file. Store it first.")
    return FileResponse(
        holding.cells_path.open("rb"), as_attachment=True, filename=f"{holding.name}.tif", content_type="image/tiff"
    )


@router.get("/{int:project_id}/holdings/{int:holding_id}/geopackage", include_in_schema=False)
def geopackage(request: HttpRequest, project_id: int, holding_id: int) -> Any:
    """Lines or polygons as a GeoPackage, in their own CRS."""
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.FEATURES:
        raise HttpError(422, f"{holding.name} holds no lines or polygons.")
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        path = Path(folder) / "features.gpkg"
        vector.write(features_of(holding), path, layer=holding.name)
        file = path.open("rb")  # stays readable until it is sent; its name is gone by then
    return FileResponse(
        file, as_attachment=True, filename=f"{holding.name}.gpkg", content_type="application/geopackage+sqlite3"
    )


@router.get("/{int:project_id}/holdings/{int:holding_id}/original", include_in_schema=False)
def original(request: HttpRequest, project_id: int, holding_id: int) -> Any:
    """The uploaded file, byte for byte."""
    holding = _get(request, project_id, holding_id)
    if not holding.upload_path.exists():
        raise HttpError(404, f"{holding.name} was made here; there is no uploaded file.")
    return FileResponse(holding.upload_path.open("rb"), as_attachment=True, filename=holding.original)


@router.get("/{int:project_id}/holdings/{int:holding_id}/recipe", response=dict[str, Any])
def recipe(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """The recipe back to the files, as `yama cook` reads it."""
    return recipe_of(_get(request, project_id, holding_id))


def recipe_of(holding: Holding) -> dict[str, Any]:
    """The recipe of a holding back to the files. Refused where one of them is gone."""
    by_key = {other.key: other for other in holding.project.holdings.all()}
    steps, files, todo = {}, {}, [holding.key]
    while todo:
        key = todo.pop()
        if key in steps or key in files:
            continue
        held = by_key.get(key)
        if held is None:
            raise HttpError(409, "Something this was made from is no longer in the project.")
        if held.step is None:
            files[key] = source(held.original, held.file_key, held.declared, held.source_crs)
        else:
            steps[key] = held.step
            todo += [source for keys in held.step.inputs.values() for source in keys]
    return export(holding.key, steps, files)


@router.get("/{int:project_id}/holdings/{int:holding_id}/points", include_in_schema=False)
def points(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """Points in the frame's CRS, for the map: float64 x, float64 y, float32 height, uint16 code, each `(count,)`.

    Codes are numbered as the holding lists them. Points that the frame's CRS cannot express are left out.
    """
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.POINTS:
        raise HttpError(422, f"{holding.name} holds no points.")
    held = surfaces.points_of(holding).in_crs(holding.project.frame.grid.crs)
    held = held.kept(np.isfinite(held.x) & np.isfinite(held.y))
    numbers = {code: number for number, code in enumerate(holding.facts["codes"])}
    codes = np.array([numbers[code] for code in held.codes] or np.zeros(len(held)), "<u2")
    heights = held.z if held.height_field in held.fields else np.full(len(held), np.nan)
    parts = (held.x.astype("<f8"), held.y.astype("<f8"), heights.astype("<f4"), codes)
    response = HttpResponse(b"".join(part.tobytes() for part in parts), content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


@router.get("/{int:project_id}/holdings/{int:holding_id}/features", response=dict[str, Any])
def features(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """Map features as GeoJSON with coordinates in the frame's CRS; a feature's id is its number in the holding."""
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.FEATURES:
        raise HttpError(422, f"{holding.name} holds no features.")
    return HttpResponse(geojson(holding), content_type="application/geo+json")


@router.get("/{int:project_id}/holdings/{int:holding_id}/holes", response=dict[str, Any])
def holes(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """The largest holes of a surface as GeoJSON polygons in the frame's CRS, with `cells` and `area` in square metres."""
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.SURFACE:
        raise HttpError(422, f"{holding.name} is not a surface.")
    return HttpResponse(holes_geojson(holding), content_type="application/geo+json")


@router.get("/{int:project_id}/holdings/{int:holding_id}/cloud", response=dict[str, Any])
def cloud(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """A cloud's overview for the map: corner and size in the frame's CRS, and its squares as level, column, row, first
    point, number of points."""
    return overview.index_of(_cloud(request, project_id, holding_id).overview_path)[0]


@router.get("/{int:project_id}/holdings/{int:holding_id}/cloud/{int:number}", include_in_schema=False)
def cloud_node(request: HttpRequest, project_id: int, holding_id: int, number: int) -> HttpResponse:
    """The points of one square of a cloud's overview, as `overview.RECORD`."""
    data = overview.node_bytes(_cloud(request, project_id, holding_id).overview_path, number)
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


def _cloud(request: HttpRequest, project_id: int, holding_id: int) -> Holding:
    holding = _get(request, project_id, holding_id)
    if holding.kind != Holding.Kind.CLOUD:
        raise HttpError(422, f"{holding.name} is not a point cloud.")
    return holding
