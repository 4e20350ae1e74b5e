"""A frame proposed for what a project holds."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from django.http import HttpRequest
from ninja import Router
from pyproj import Transformer

from yama.service.holdings.kinds import kind_of
from yama.service.projects.access import open_project
from yama.service.projects.frames import ProposalOut, proposal
from yama.service.schemas import Failure
from yama.terrain.frame import Extent
from yama.terrain.grid import parse_crs

router = Router(tags=["frames"])

_BOUNDARY_SHARE = 0.1


@router.get("/{int:project_id}/frame/proposal", response={200: ProposalOut, 422: Failure})
def propose_from_holdings(request: HttpRequest, project_id: int) -> dict[str, Any]:
    """A frame for what the project holds of its own files."""
    project = open_project(request, project_id)
    # what was ordered covers more than is wanted
    own = [
        one for one in project.holdings.filter(recipe__isnull=True).exclude(file_key="") if not one.origin.get("depot")
    ]
    extents = [kind_of(one).extent(one) for one in own]
    return proposal(_meant(extents, project.frame.grid.crs))


def _meant(extents: list[Extent], crs: str) -> list[Extent]:
    """The extents, with polygons much smaller than the other sources taken for lakes or plots rather than for a boundary."""
    boxes = [
        Transformer.from_crs(parse_crs(one.crs), parse_crs(crs), always_xy=True).transform_bounds(*one.bounds)
        for one in extents
    ]
    areas = [(box[2] - box[0]) * (box[3] - box[1]) for box in boxes]
    found = []
    for i, one in enumerate(extents):
        others = [area for j, area in enumerate(areas) if j != i and math.isfinite(area)]
        found.append(replace(one, boundary=one.boundary and areas[i] >= _BOUNDARY_SHARE * max(others, default=0.0)))
    return found
