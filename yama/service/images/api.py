"""Images for the desk: their cells, two of them as a pair, and what a window of them gives."""

from __future__ import annotations

import time
import zlib
from base64 import b64encode
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
from django.core.cache import cache
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from isal import igzip
from ninja import Field, Router, Schema

from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.service.tiles.tile import GUTTER, TILE
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Window, turn_between
from yama.terrain.images import Image
from yama.terrain.later import later
from yama.terrain.operations.image_pair import matching_of, models_of, sensor_of, usual_range
from yama.terrain.pictures import Picture
from yama.terrain.stereo.epipolar import across_parallax, on_plane, plane_of
from yama.terrain.stereo.footprint import footprint
from yama.terrain.stereo.pair import Pair, tried
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import Surface, sample
from yama.terrain.table import Table
from yama.terrain.units import in_unit

cv2 = later("cv2")

router = Router(tags=["images"])

_SECONDS = 3600
_LARGEST_TRY = 512
_FIT = 7
_PLANE = ("lon", "lat", "height", "metres", "turn", "cell", "rows", "cols")
_QUALITY = 88  # of WebP, from 0 to 100


class PairIn(Schema):
    """Two images by holding, with adjusted models and a geoid where there are such."""

    left: int
    right: int
    model: int | None = None
    geoid: int | None = None


class OutlineOut(Schema):
    """The ground that an image shows: a closed ring of x and y in the frame's CRS."""

    ring: list[tuple[float, float]]


class PlaneOut(Schema):
    """The epipolar plane of a pair: longitude and latitude of its first cell, height above the ellipsoid, metres in a
    degree of both, direction of its columns from east towards north in radians, metres a cell, rows and columns.
    across: the largest parallax across its rows, in cells."""

    lon: float
    lat: float
    height: float
    metres: tuple[float, float]
    turn: float
    cell: float
    rows: int
    cols: int
    across: float


class PairOut(Schema):
    """How two images see the ground.

    angle: between their rays, degrees. base_to_height: metres of parallax to a metre of height. cell: of the coarser
    image, metres. height_of_cell: metres of height to a cell of parallax. overlap: shares of each that the other one
    shows. heights: between which ground is looked for, above the ellipsoid. left, right: their models as 96 numbers.
    zero: height of the heights' zero level above the ellipsoid in the middle. frame: coefficients of x and y in the
    frame's CRS over 1, u, v, uu, uv, vv with u = longitude and v = latitude minus those of `middle`.
    """

    angle: float
    base_to_height: float
    cell: float
    height_of_cell: float
    overlap: tuple[float, float]
    heights: tuple[float, float]
    left: list[float]
    right: list[float]
    zero: float
    middle: tuple[float, float]
    frame: tuple[list[float], list[float]]
    plane: PlaneOut


class TryIn(PairIn):
    """A window of the left image to be matched by some settings. minus: key of a surface that is compared."""

    col: float
    row: float
    size: int = Field(256, ge=32, le=_LARGEST_TRY)
    preset: Literal["flat", "hilly", "steep", "built_up", "speckled"] = "hilly"
    smoothness: float = Field(1.0, ge=0.25, le=4)
    likeness: float = Field(0.5, ge=0, le=0.95)
    low: float | None = None
    high: float | None = None
    minus: str | None = Field(None, max_length=80)


class TryOut(Schema):
    """What a window gives: heights and likeness of its cells, row by row, as base64 of little-endian float32, NaN
    where nothing was matched; share that stays empty, lowest, median and highest height, median likeness, median of
    heights minus those of the surface that is compared, seconds that it took."""

    size: int
    heights: str
    likeness: str
    empty: float
    lowest: float | None
    median: float | None
    highest: float | None
    alike: float | None
    minus: float | None
    seconds: float


def _held(project: Project, pk: int, name: str) -> Any:
    holding = get_object_or_404(Holding, pk=pk, project=project, deleted_at=None)
    if holding.kind != name:
        raise InputError(f"{holding.name} is no {name}.")
    return keys.held_by(holding)


def _image(project: Project, pk: int) -> Image:
    found: Image = _held(project, pk, "image")
    return found


def _pair(project: Project, body: PairIn) -> tuple[Pair, ZeroLevel, tuple[float, float]]:
    left, right = _image(project, body.left), _image(project, body.right)
    table: Table | None = None if body.model is None else _held(project, body.model, "table")
    models = None if table is None else models_of(table)
    geoid: Surface | None = None if body.geoid is None else _held(project, body.geoid, "surface")
    pair = Pair.of(left, right)
    pair = Pair(left, right, (sensor_of(left, models), sensor_of(right, models)))
    zero = ZeroLevel(geoid)
    zero.require(left.bounds)
    return pair, zero, usual_range(pair, models)


@router.get("/{int:project_id}/images/{int:holding_id}/tiles/{int:level}/{int:col}/{int:row}", include_in_schema=False)
def tile(request: HttpRequest, project_id: int, holding_id: int, level: int, col: int, row: int) -> HttpResponse:
    """Grey values of an image in its own columns and rows: little-endian float32, 258 x 258, NaN where empty,
    gzipped. Level n has cells of 2**n x 2**n; tiles are 256 cells apart and overlap by one on each side. 204 where
    all are empty."""
    project = open_project(request, project_id)
    image = _image(project, holding_id)
    scale = 2**level if level <= 20 else 0
    if not scale or col * TILE * scale >= image.cols or row * TILE * scale >= image.rows:
        raise Http404
    key = f"image:{project_id}:{holding_id}:{zlib.crc32(str(image.path).encode())}:{level}:{col}:{row}"
    body: bytes | None = cache.get(key)
    if body is None:
        side = TILE + 2 * GUTTER
        cells = image.read(row * TILE - GUTTER, col * TILE - GUTTER, side, side, level)
        body = _packed(cells)
        cache.set(key, body, _SECONDS)
    return _cells(body)


@router.get("/{int:project_id}/images/{int:holding_id}/outline", response={200: OutlineOut, 422: Failure})
def outline(
    request: HttpRequest,
    project_id: int,
    holding_id: int,
    surface: str,
    model: int | None = None,
    geoid: int | None = None,
) -> dict[str, Any]:
    """The ground that an image shows, on a surface by its key; with an adjusted model and a geoid where there are
    such."""
    project = open_project(request, project_id)
    image = _image(project, holding_id)
    ground, _ = keys.surface_of(project.pk, surface)
    zero = ZeroLevel(None if geoid is None else _held(project, geoid, "surface"))
    zero.require(image.bounds)
    models = None if model is None else models_of(_held(project, model, "table"))
    ring = footprint(image, sensor_of(image, models), in_unit(ground, "m"), zero)
    x, y = turn_between("EPSG:4326", project.frame.grid.crs).transform(ring[:, 0], ring[:, 1])
    return {"ring": np.round(np.stack([x, y], axis=1), 2).tolist()}


@router.get(
    "/{int:project_id}/pictures/{int:holding_id}/tiles/{int:level}/{int:col}/{int:row}", include_in_schema=False
)
def picture_tile(
    request: HttpRequest, project_id: int, holding_id: int, level: int, col: int, row: int
) -> HttpResponse:
    """A picture on the frame's grid, as WebP of 258 x 258 pixels with opacity; tiles lie as those of surfaces do. 204
    where there is nothing of it."""
    project = open_project(request, project_id)
    frame = project.frame.grid
    if level > 30 or col * TILE > frame.at_level(level).cols or row * TILE > frame.at_level(level).rows:
        raise Http404
    picture: Picture = _held(project, holding_id, "picture")
    key = f"picture:{project_id}:{holding_id}:{zlib.crc32(repr(frame).encode())}:{level}:{col}:{row}"
    body: bytes | None = cache.get(key)
    if body is None:
        side = TILE + 2 * GUTTER
        pixels = picture.read(frame, Window(row * TILE - GUTTER, col * TILE - GUTTER, side, side), level)
        body = b""
        if pixels[..., 3].any():
            _, coded = cv2.imencode(".webp", pixels[..., [2, 1, 0, 3]], [cv2.IMWRITE_WEBP_QUALITY, _QUALITY])
            body = coded.tobytes()
        cache.set(key, body, _SECONDS)
    response = HttpResponse(body, content_type="image/webp", status=200 if body else 204)
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


@router.post("/{int:project_id}/pairs/look", response={200: PairOut, 422: Failure})
def look(request: HttpRequest, project_id: int, body: PairIn) -> dict[str, Any]:
    """What two images are to each other."""
    project = open_project(request, project_id)
    pair, zero, heights = _pair(project, body)
    seen = pair.geometry((heights[0] + heights[1]) / 2)
    plane = plane_of(seen, (heights[0] + heights[1]) / 2)
    middle = (float(seen.ring[:, 0].mean()), float(seen.ring[:, 1].mean()))
    u, v = np.meshgrid(
        np.linspace(*_reach(seen.ring[:, 0], middle[0])), np.linspace(*_reach(seen.ring[:, 1], middle[1]))
    )
    x, y = turn_between("EPSG:4326", project.frame.grid.crs).transform((u + middle[0]).ravel(), (v + middle[1]).ravel())
    terms = np.stack([np.ones(u.size), *(one.ravel() for one in (u, v, u * u, u * v, v * v))], axis=1)
    frame = tuple(np.linalg.lstsq(terms, np.asarray(one), rcond=None)[0].tolist() for one in (x, y))
    return {
        "angle": seen.angle, "base_to_height": seen.base_to_height, "cell": seen.cell, "height_of_cell": seen.height_of_cell,
        "overlap": seen.overlap, "heights": heights, "left": pair.sensors[0].packed().tolist(),
        "right": pair.sensors[1].packed().tolist(), "zero": float(zero.at([middle[0]], [middle[1]])[0]), "middle": middle,
        "frame": frame,
        "plane": {name: getattr(plane, name) for name in _PLANE}
        | {"across": across_parallax(plane, *pair.sensors, heights)},
    }  # fmt: skip


@router.get(
    "/{int:project_id}/pairs/{int:left}/{int:right}/{side}/{int:level}/{int:col}/{int:row}", include_in_schema=False
)
def plane_tile(
    request: HttpRequest,
    project_id: int,
    left: int,
    right: int,
    side: Literal["left", "right"],
    level: int,
    col: int,
    row: int,
    model: int | None = None,
) -> HttpResponse:
    """Grey values of one image of a pair on its epipolar plane, as tiles of images have them."""
    project = open_project(request, project_id)
    _image(project, left), _image(project, right)  # what is gone is not shown from the cache
    key = f"plane:{project_id}:{left}:{right}:{model}:{side}:{level}:{col}:{row}"
    body: bytes | None = cache.get(key)
    if body is None:
        pair, _, heights = _pair(project, PairIn(left=left, right=right, model=model))
        height = (heights[0] + heights[1]) / 2
        plane = plane_of(pair.geometry(height), height)
        scale = 2**level if level <= 20 else 0
        if not scale or col * TILE * scale >= plane.cols or row * TILE * scale >= plane.rows:
            raise Http404
        part_of_plane = plane.coarser(level).window(row * TILE - GUTTER, col * TILE - GUTTER, *[TILE + 2 * GUTTER] * 2)
        number = ("left", "right").index(side)
        body = _packed(on_plane((pair.left, pair.right)[number], pair.sensors[number], part_of_plane))
        cache.set(key, body, _SECONDS)
    return _cells(body)


def _packed(cells: npt.NDArray[np.float32]) -> bytes:
    """Cells as the desk reads them; nothing where all are empty."""
    return b"" if np.isnan(cells).all() else igzip.compress(cells.astype("<f4").tobytes(), compresslevel=1, mtime=0)


def _cells(body: bytes) -> HttpResponse:
    response = HttpResponse(body, content_type="application/octet-stream", status=200 if body else 204)
    if body:
        response["Content-Encoding"] = "gzip"
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response


def _reach(values: FloatArray, middle: float) -> tuple[float, float, int]:
    return float(values.min()) - middle, float(values.max()) - middle, _FIT


@router.post("/{int:project_id}/pairs/try", response={200: TryOut, 422: Failure})
def try_window(request: HttpRequest, project_id: int, body: TryIn) -> dict[str, Any]:
    """Match a window of the left image, to see what settings do before anything is run."""
    project = open_project(request, project_id)
    pair, zero, heights = _pair(project, body)
    began = time.perf_counter()
    heights = (heights[0] if body.low is None else body.low, heights[1] if body.high is None else body.high)
    if heights[0] >= heights[1]:
        raise InputError("The lowest height must be below the highest.")
    how = matching_of(body.preset, body.smoothness, body.likeness)
    found = tried(pair, zero, (body.col, body.row), body.size, heights, how)
    known = found.height[np.isfinite(found.height)]
    minus = None
    if body.minus and known.size:
        surface, _ = keys.surface_of(project.pk, body.minus)
        there = np.isfinite(found.lon)
        x, y = turn_between("EPSG:4326", surface.grid.crs).transform(found.lon[there], found.lat[there])
        apart = found.height[there] - sample(surface, x, y)
        minus = float(np.nanmedian(apart)) if np.isfinite(apart).any() else None
    return {
        "size": body.size, "heights": _told(found.height), "likeness": _told(found.likeness),
        "empty": 1 - known.size / found.height.size, "lowest": _or_none(known, 2), "median": _or_none(known, 50),
        "highest": _or_none(known, 98), "alike": _or_none(found.likeness[np.isfinite(found.likeness)], 50), "minus": minus,
        "seconds": time.perf_counter() - began,
    }  # fmt: skip


def _told(cells: npt.NDArray[np.float32]) -> str:
    return b64encode(cells.astype("<f4").tobytes()).decode()


def _or_none(values: npt.NDArray[np.float32], percent: float) -> float | None:
    return float(np.percentile(values, percent)) if values.size else None
