"""Where A and B differ most, with pictures."""

from __future__ import annotations

from base64 import b64encode
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES
from yama.service.holdings.models import Holding
from yama.service.projects.access import open_project
from yama.service.projects.models import Project
from yama.service.schemas import Failure
from yama.service.surfaces import keys
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.reproject import difference, fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid, metres_per_unit, turn_between
from yama.terrain.judge.worst import TITLES, Worst, WorstPlace, worst_places
from yama.terrain.kept import Kept
from yama.terrain.operations.shift import compared_on
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import span_of, view_picture
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS, in_unit

router = Router(tags=["judging"])

_MOST_CELLS = 72_000_000  # of the coarser surface; more belong in a run
_PICTURE = 76
_AROUND = 1.5
_TOLD = 40

_found: Kept[tuple[Any, ...], tuple[Worst, str]] = Kept(24)


class WorstIn(Schema):
    """Two surfaces by key, and where: a view in frame coordinates, or all over where null. cover: land cover, told
    apart by column; named: points with names. first, count: which of the places are told with pictures."""

    a: str = Field(max_length=80)
    b: str = Field(max_length=80)
    bounds: tuple[float, float, float, float] | None = None
    cover: int | None = None
    column: str = Field("kind", max_length=64)
    named: int | None = None
    first: int = Field(0, ge=0)
    count: int = Field(5, ge=1, le=20)


class WorstPlaceOut(Schema):
    """A place where A and B differ. mean, lowest, highest: A minus B in the frame's unit. ring: its outline in frame
    coordinates. png_a, png_b, png_minus: pictures in base64 of the ground around it, as wide and high as `side` in the
    frame's CRS, whose corner in the north-west is `corner`; reach: at which A minus B has its full colour. which: in
    which of the two the cause is suspected."""

    number: int
    x: float
    y: float
    ring: list[tuple[float, float]]
    area: float
    volume: float
    mean: float
    lowest: float
    highest: float
    slope: float
    cover: str
    near: str
    cause: Literal["trees", "buildings", "shift", "water", "filled", "smoothed", "change"]
    title: str
    which: Literal["first", "second", "both"]
    corner: tuple[float, float]
    side: tuple[float, float]
    reach: float
    png_a: str
    png_b: str
    png_minus: str


class WorstOut(Schema):
    """How many places there are, their volume in m³, and those that were asked for. median: of A minus B all over,
    against which places are told, in the frame's unit."""

    count: int
    told: int
    volume: float
    median: float
    cell: float
    places: list[WorstPlaceOut]


def _features(project: Project, number: int | None) -> list[Features]:
    if number is None:
        return []
    held = get_object_or_404(Holding, pk=number, project=project)
    FEATURES.require(held)
    return [features_of(held)]


@router.post("/{int:project_id}/worst-places", response={200: WorstOut, 422: Failure})
def read_worst_places(request: HttpRequest, project_id: int, body: WorstIn) -> dict[str, Any]:
    """Where two surfaces differ most, in a view or all over, with the likely cause of each place."""
    project = open_project(request, project_id)
    first, second = (in_unit(_heights(project_id, key), "m") for key in (body.a, body.b))
    worst, crs = _found.get(
        (
            project_id,
            first.fingerprint,
            second.fingerprint,
            body.bounds,
            body.cover,
            body.column,
            body.named,
            project.frame_data["unit"],
        ),
        lambda: _find(project, first, second, body),
    )
    listed = list(enumerate(worst.places, start=1))[body.first : body.first + body.count]
    unit = UNITS[project.frame.unit]
    return {
        "count": worst.count,
        "told": len(worst.places),
        "volume": worst.volume,
        "median": worst.median / unit,
        "cell": worst.cell,
        "places": [_told(number, one, crs, first, second, project.frame) for number, one in listed],
    }


def _heights(project_id: int, key: str) -> Surface:
    surface = keys.surface_of(project_id, key)[0]
    if surface.unit not in UNITS:
        raise InputError(f"{surface.name or 'A surface'} is in {surface.unit}: places are told of heights only.")
    return surface


def _find(project: Project, first: Surface, second: Surface, body: WorstIn) -> tuple[Worst, str]:
    frame = project.frame
    on = compared_on(first, second, Frame(frame.grid, "m", frame.vertical_datum))
    if body.bounds is not None:
        if not all(np.isfinite(body.bounds)):
            raise InputError("The view must be four numbers: west, south, east, north.")
        crs = frame.grid.crs
        bounds = Bounds(*body.bounds)
        turned = bounds if crs == on.crs else Bounds(*turn_between(crs, on.crs).transform_bounds(*bounds))
        window = on.window_over(turned).clipped(on.rows, on.cols)
        if window.rows <= 0 or window.cols <= 0:
            raise InputError("Neither surface has cells in this view.")
        on = on.part(window)
    elif on.cell_count > _MOST_CELLS:
        raise InputError(
            f"These surfaces have {on.cell_count / 1e6:.0f} million cells. Look in a view, or run Worst places as a job."
        )
    found = worst_places(
        first, second, on, _TOLD, _features(project, body.cover), body.column, _features(project, body.named)
    )
    return found, on.crs


def _told(number: int, one: WorstPlace, crs: str, first: Surface, second: Surface, frame: Frame) -> dict[str, Any]:
    turn = turn_between(crs, frame.grid.crs)
    ring = [turn.transform(*place) for place in one.ring]
    x, y = (np.array(values, np.float64) for values in zip(*ring, strict=True))
    middle = (float(x.min() + x.max()) / 2, float(y.min() + y.max()) / 2)
    across, up = metres_per_unit(frame.grid.crs, *middle)
    metres = max(float(np.ptp(x)) * across, float(np.ptp(y)) * up, 12 * max(first.grid.metres_per_cell()))
    wide, high = metres * _AROUND / across, metres * _AROUND / up
    corner = (middle[0] - wide / 2, middle[1] + high / 2)
    view = Grid(frame.grid.crs, *corner, wide / _PICTURE, high / _PICTURE, _PICTURE, _PICTURE)
    spans = [span for span in (span_of(surface, view) for surface in (first, second)) if span is not None]
    span = (min(low for low, _ in spans), max(high for _, high in spans)) if spans else None
    minus = difference(fitted(first, view), fitted(second, view), view)
    apart = minus.read(view.whole)
    reach = float(np.nanquantile(np.abs(apart), 0.98)) if np.isfinite(apart).any() else 1.0
    unit = UNITS[frame.unit]
    return {
        **{name: getattr(one, name) for name in ("area", "volume", "slope", "cover", "near", "cause", "which")},
        **{name: getattr(one, name) / unit for name in ("mean", "lowest", "highest")},
        "number": number,
        "title": TITLES[one.cause],
        "x": float(turn.transform(one.x, one.y)[0]),
        "y": float(turn.transform(one.x, one.y)[1]),
        "ring": ring,
        "corner": corner,
        "side": (wide, high),
        "reach": reach / unit,
        "png_a": _png(view_picture(first, view, Dress.usual("height", span))),
        "png_b": _png(view_picture(second, view, Dress.usual("height", span))),
        "png_minus": _png(view_picture(minus, view, Dress.usual("difference", (-reach, reach)))),
    }


def _png(picture: bytes) -> str:
    return b64encode(picture).decode()
