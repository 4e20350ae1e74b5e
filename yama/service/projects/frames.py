"""Proposing a frame before there is a project, and looking up CRSs."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

from django.http import HttpRequest
from ninja import Field, Router, Schema
from pyproj import Transformer
from pyproj.aoi import AreaOfInterest
from pyproj.database import query_crs_info
from pyproj.enums import PJType

from yama.service.schemas import Failure
from yama.terrain.frame import Extent, propose, utm_zone
from yama.terrain.grid import Bounds, metres_per_unit, parse_crs

router = Router(tags=["frames"])

_FOUND = 12


class ExtentIO(Schema):
    """Where a source lies: bounds (west, south, east, north) in its CRS; see the core's `Extent`."""

    name: str = Field(max_length=160)
    crs: str = Field(max_length=4000)
    bounds: tuple[float, float, float, float]
    spacing: float = Field(0.0, ge=0)
    cell: float = Field(0.0, ge=0)
    boundary: bool = False


class ProposeIn(Schema):
    """Sources of a frame, and a cell size where one is wanted."""

    extents: list[ExtentIO] = Field(max_length=200)
    cell_size: float | None = Field(None, gt=0)


class ProposalOut(Schema):
    """A proposed frame with the reasons for CRS, area and cell size."""

    crs: str
    crs_title: str
    cell_size: float
    west: float
    south: float
    east: float
    north: float
    rows: int
    cols: int
    reasons: list[str]


class CrsOut(Schema):
    """A CRS of the EPSG register. bounds: its area of use in degrees, west, south, east, north. unit: of its axes."""

    code: str
    name: str
    area: str
    bounds: tuple[float, float, float, float] | None
    unit: str
    projected: bool


class UseIn(Schema):
    """A CRS, and an area in its units."""

    crs: str = Field(max_length=4000)
    area: tuple[float, float, float, float] | None = None


class UseOut(Schema):
    """What a CRS is meant for. bounds: its area of use in degrees; unit: of its axes. place: middle of the area asked about
    in degrees. inside: whether all of that area lies within the bounds; null where either is not known. stretch: metres of the CRS
    to one on the ground at that place, and `instead` a CRS in which they are the same; null where it is one to 0.1 %, or the
    CRS is in degrees."""

    name: str
    unit: str
    area: str
    bounds: tuple[float, float, float, float] | None
    place: tuple[float, float] | None
    inside: bool | None
    stretch: float | None = None
    instead: str | None = None


def _extent(given: ExtentIO) -> Extent:
    parse_crs(given.crs)
    return Extent(given.name, given.crs, Bounds(*given.bounds), given.spacing, given.cell, given.boundary)


def proposal(extents: list[Extent], cell_size: float | None = None) -> dict[str, Any]:
    """A frame proposed for extents, as `ProposalOut` has it."""
    found = propose(extents, cell_size)
    grid = found.frame.grid
    return {
        "crs": grid.crs, "crs_title": parse_crs(grid.crs).name, "cell_size": grid.cell_width, **grid.bounds._asdict(),
        "rows": grid.rows, "cols": grid.cols, "reasons": list(found.reasons),
    }  # fmt: skip


@router.post("/propose", response={200: ProposalOut, 422: Failure})
def propose_frame(request: HttpRequest, body: ProposeIn) -> dict[str, Any]:
    """A frame for these sources."""
    return proposal([_extent(one) for one in body.extents], body.cell_size)


@router.post("/use", response={200: UseOut, 422: Failure})
def area_of_use(request: HttpRequest, body: UseIn) -> dict[str, Any]:
    """Where a CRS is meant to be used, and whether an area lies there."""
    crs = parse_crs(body.crs)
    found: dict[str, Any] = {
        "name": crs.name, "unit": crs.axis_info[0].unit_name if crs.axis_info else "", "area": "", "bounds": None,
        "place": None, "inside": None,
    }  # fmt: skip
    use = crs.area_of_use
    if use:
        found |= {"area": use.name or "", "bounds": (use.west, use.south, use.east, use.north)}
    if body.area:
        west, south, east, north = body.area
        turn = Transformer.from_crs(crs, "EPSG:4326", always_xy=True)
        places = [turn.transform(x, y) for x, y in ((west, south), (east, south), (west, north), (east, north))]
        middle = turn.transform((west + east) / 2, (south + north) / 2)
        if all(math.isfinite(value) for place in (*places, middle) for value in place):
            found["place"] = middle
            _say_stretch(found, body.crs, ((west + east) / 2, (south + north) / 2), middle)
            if use:
                bounds = found["bounds"]
                found["inside"] = all(_holds(bounds, AreaOfInterest(x, y, x, y)) for x, y in places)
        else:
            found["inside"] = False
    return found


def _say_stretch(found: dict[str, Any], crs: str, place: tuple[float, float], degrees: tuple[float, float]) -> None:
    """How far lengths of a projected CRS are from those of the ground, and a zone in which they are true."""
    known = parse_crs(crs)
    if known.is_geographic or not -80 <= degrees[1] <= 84:
        return
    unit = float(known.axis_info[0].unit_conversion_factor)
    across, up = metres_per_unit(crs, *place)
    if (across, up) != (unit, unit):
        found |= {"stretch": unit / math.sqrt(across * up), "instead": utm_zone(*degrees)}


@lru_cache(maxsize=1)
def _register() -> list[dict[str, Any]]:
    """Horizontal CRSs of the EPSG register that are in use."""
    kinds = [PJType.PROJECTED_CRS, PJType.GEOGRAPHIC_2D_CRS]
    found = []
    for info in query_crs_info(auth_name="EPSG", pj_types=kinds, allow_deprecated=False):
        area = info.area_of_use
        found.append(
            {
                "code": f"EPSG:{info.code}", "name": info.name, "area": area.name if area else "",
                "bounds": (area.west, area.south, area.east, area.north) if area else None,
                "projected": info.type == PJType.PROJECTED_CRS,
                "words": f"epsg:{info.code} {info.code} {info.name} {area.name if area else ''}".lower(),
            }
        )  # fmt: skip
    return found


@router.get("/crs", response=list[CrsOut])
def search_crs(request: HttpRequest, q: str = "", longitude: float | None = None, latitude: float | None = None) -> Any:
    """CRSs by words of name or area, by code, or by a place they are meant for; the nearest match first."""
    words = q.lower().split()
    found = [one for one in _register() if all(word in one["words"] for word in words)]
    if longitude is not None and latitude is not None:
        at = AreaOfInterest(longitude, latitude, longitude, latitude)
        found = [one for one in found if one["bounds"] and _holds(one["bounds"], at)]

    def rank(one: dict[str, Any]) -> tuple[bool, bool, float, int]:
        box = one["bounds"]
        size = ((box[2] - box[0]) % 360 or 360) * (box[3] - box[1]) if box else 1e9
        return (
            one["code"].split(":")[1] != q.strip().removeprefix("EPSG:"),
            not one["projected"],
            size,
            len(one["name"]),
        )

    best = sorted(found, key=rank)[:_FOUND]
    return [{**one, "unit": parse_crs(one["code"]).axis_info[0].unit_name} for one in best]


def _holds(box: tuple[float, float, float, float], at: AreaOfInterest) -> bool:
    west, south, east, north = box
    across = (
        west <= at.west_lon_degree <= east if west <= east else at.west_lon_degree >= west or at.west_lon_degree <= east
    )
    return across and south <= at.south_lat_degree <= north
