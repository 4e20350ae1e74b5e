"""What surfaces say at a place and over a view."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from django.http import HttpRequest
from ninja import Field, Query, Router, Schema
from pyproj import Transformer

from yama.service.projects.access import open_project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Window
from yama.terrain.positions import read_position
from yama.terrain.relief.slope import aspect_of, slope_of
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS

router = Router(tags=["map"])

_VIEW_CELLS = 512
_BINS = 64


class ReadingOut(Schema):
    """What one surface says at a cell; null where it is empty. Slope and aspect in degrees. source: for a mosaic
    the name of the surface the cell came from."""

    height: float | None
    slope: float | None
    aspect: float | None
    source: str | None


class ProbeOut(Schema):
    """Readings at the centre of the frame's cell under a position. others: heights of more surfaces, by key."""

    x: float
    y: float
    longitude: float
    latitude: float
    readings: dict[str, ReadingOut]
    others: dict[str, float | None]


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


def _reading(surface: Surface, frame: Frame, row: int, col: int) -> dict[str, float | None]:
    around = fitted(surface, frame.grid).read(Window(row - 1, col - 1, 3, 3))
    here = frame.grid.part(Window(row - 1, col - 1, 3, 3))
    rises = around * np.float32(UNITS.get(surface.unit, 1.0))
    values = (around[1, 1], slope_of(rises, here)[0, 0], aspect_of(rises, here)[0, 0])
    height, slope, aspect = (float(value) if np.isfinite(value) else None for value in values)
    return {"height": height, "slope": slope, "aspect": aspect}


class PositionOut(Schema):
    """A position in the frame's CRS."""

    x: float
    y: float


@router.get("/{int:project_id}/position", response={200: PositionOut, 422: Failure})
def position(request: HttpRequest, project_id: int, text: str) -> dict[str, float]:
    """A position as somebody typed it, in degrees or as east and north; see `positions.read_position`."""
    project = open_project(request, project_id)
    x, y = read_position(text[:200], project.frame.grid)
    return {"x": x, "y": y}


@router.get("/{int:project_id}/probe", response=ProbeOut)
def probe(
    request: HttpRequest,
    project_id: int,
    x: float,
    y: float,
    a: str = "",
    b: str = "",
    others: Annotated[list[str], Query([], max_length=6)] = [],  # noqa: B006 nobody changes it
) -> dict[str, Any]:
    """Heights, slope and aspect at the frame's cell under (x, y) in a and b, and the heights of others. Coarser
    surfaces are read bilinearly there."""
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
            surface = keys.shown(project, key)
            readings[slot] = {
                **_reading(surface, project.frame, row, col),
                "source": keys.source_at(project_id, key, Window(row, col, 1, 1)),
            }
    heights = {key: _reading(keys.shown(project, key), project.frame, row, col)["height"] for key in others}
    cx, cy = float(grid.x_of(col)), float(grid.y_of(row))
    longitude, latitude = Transformer.from_crs(grid.crs, "EPSG:4326", always_xy=True).transform(cx, cy)
    return {"x": cx, "y": cy, "longitude": longitude, "latitude": latitude, "readings": readings, "others": heights}


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
    return {key: _describe(keys.shown(project, key), project.frame, bounds) for key in body.keys}
