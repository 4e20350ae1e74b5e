"""Tiles of surfaces for the map."""

from __future__ import annotations

import zlib
from typing import Annotated

import numpy as np
from django.core.cache import cache
from django.http import Http404, HttpRequest, HttpResponse
from isal import igzip
from ninja import Router
from pydantic import Field

from yama.service.projects.access import open_project
from yama.service.surfaces import keys
from yama.service.surfaces.cells import tile_bands
from yama.terrain.grid import Window
from yama.terrain.relief.tone import Shade

router = Router(tags=["map"])

TILE = 256
GUTTER = 1
_TILE_SECONDS = 3600
_FINEST = 8


@router.get("/{int:project_id}/tiles/{key}/{int:level}/{int:col}/{int:row}", include_in_schema=False)
def tile(
    request: HttpRequest,
    project_id: int,
    key: str,
    level: int,
    col: int,
    row: int,
    rough: bool = False,
    finer: Annotated[int, Field(ge=1, le=_FINEST)] = 1,
    shade: Shade = "none",
) -> HttpResponse:
    """Cells of a surface on the frame's grid: little-endian float32, 258 x 258, NaN where empty, gzipped.

    A coarse surface (see `cells.tile_bands`) has three numbers a cell: height, gradient east, gradient north.

    Level n has the frame's cells 2**n times as wide. Tiles are 256 cells apart and overlap by one cell on each side.
    204 where all cells are empty. rough: of a slow preview what stands in for it. finer: the frame has so many times as
    many cells along each side. shade: a further number a cell, its tone from -1 to 1.
    """
    project = open_project(request, project_id)
    frame = project.frame.grid.finer(finer)
    if level > 30 or col * TILE > frame.at_level(level).cols or row * TILE > frame.at_level(level).rows:
        raise Http404
    cache_key = f"tile:{project_id}:{key}:{'rough' if rough else ''}:{finer}:{shade}:{zlib.crc32(repr(project.frame).encode())}:{level}:{col}:{row}"
    stand_in = keys.rough_of(project, key) if rough else None
    surface, step = (stand_in, None) if stand_in else keys.surface_of(project_id, key)
    # stored surfaces are as quick to read as the cache
    computed = stand_in is not None or step is not None or shade != "none"
    body: bytes | None = cache.get(cache_key) if computed else None
    if body is None:
        side = TILE + 2 * GUTTER
        window = Window(row * TILE - GUTTER, col * TILE - GUTTER, side, side)
        bands = tile_bands(project, surface, window, level, shade, finer)
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
