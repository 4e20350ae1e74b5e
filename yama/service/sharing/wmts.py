"""What other programs read: a WMTS of dressed tiles and the file itself by ranges. The token in the address is all they need.

OGC 07-057r7 (Web Map Tile Service 1.0.0), in its resource-oriented encoding: capabilities and tiles, each at an address. The tile
matrix set is the frame's own grid, so that no cell is resampled for the way. Ranges are those of RFC 9110, one at a time.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from pathlib import Path
from xml.sax.saxutils import escape

from django.core.cache import cache
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.views.decorators.http import require_safe
from pyproj import Transformer

from yama.service.sharing.models import Share
from yama.service.surfaces import keys
from yama.service.surfaces.dressed import DressIn
from yama.terrain.errors import TerrainError
from yama.terrain.grid import Grid, Window, parse_crs
from yama.terrain.relief.picture import view_picture

TILE = 256
_PIXEL = 0.00028  # metres, of the standard's rendering
_SECONDS = 3600
_CHUNK = 1_000_000
_RANGE = re.compile(r"bytes=(\d{0,18})-(\d{0,18})$")


def _share(token: str) -> Share:
    found = Share.objects.select_related("holding__project").filter(token=token, holding__deleted_at=None).first()
    if found is None:
        raise Http404("Nothing is open under this address, or not any more.")
    return found


def _anywhere(response: HttpResponseBase) -> HttpResponseBase:
    """Let pages of other origins read it: whoever has the address may."""
    response["Access-Control-Allow-Origin"] = "*"
    response["Access-Control-Expose-Headers"] = "Content-Range, Accept-Ranges, Content-Length"
    return response


def levels_of(grid: Grid) -> int:
    """How many times the frame's cells are doubled until one tile holds them all."""
    level = 0
    while max(grid.at_level(level).rows, grid.at_level(level).cols) > TILE:
        level += 1
    return level


def capabilities_of(grid: Grid, title: str, base: str) -> str:
    """The capabilities of a surface on a grid. base: the address that ends with the token."""
    crs = parse_crs(grid.crs)
    code = crs.to_epsg()
    named = f"urn:ogc:def:crs:EPSG::{code}" if code else grid.crs
    north_first = crs.axis_info[0].direction == "north"
    corner = (grid.bounds.north, grid.bounds.west) if north_first else (grid.bounds.west, grid.bounds.north)
    per_unit = 111_319.49079327358 if crs.is_geographic else crs.axis_info[0].unit_conversion_factor
    west, south, east, north = Transformer.from_crs(crs, "EPSG:4326", always_xy=True).transform_bounds(*grid.bounds)
    top = levels_of(grid)
    matrices = []
    for level in range(top, -1, -1):
        at = grid.at_level(level)
        matrices.append(
            f"<TileMatrix><ows:Identifier>{top - level}</ows:Identifier>"
            f"<ScaleDenominator>{at.cell_width * per_unit / _PIXEL!r}</ScaleDenominator>"
            f"<TopLeftCorner>{corner[0]!r} {corner[1]!r}</TopLeftCorner><TileWidth>{TILE}</TileWidth><TileHeight>{TILE}</TileHeight>"
            f"<MatrixWidth>{-(-at.cols // TILE)}</MatrixWidth><MatrixHeight>{-(-at.rows // TILE)}</MatrixHeight></TileMatrix>"
        )
    name = escape(title)
    address = escape(base, {'"': "&quot;"})
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<Capabilities xmlns="http://www.opengis.net/wmts/1.0" xmlns:ows="http://www.opengis.net/ows/1.1" '
        'xmlns:xlink="http://www.w3.org/1999/xlink" version="1.0.0">'
        f"<ows:ServiceIdentification><ows:Title>{name}</ows:Title><ows:ServiceType>OGC WMTS</ows:ServiceType>"
        "<ows:ServiceTypeVersion>1.0.0</ows:ServiceTypeVersion></ows:ServiceIdentification>"
        f"<Contents><Layer><ows:Title>{name}</ows:Title>"
        f"<ows:WGS84BoundingBox><ows:LowerCorner>{west!r} {south!r}</ows:LowerCorner>"
        f"<ows:UpperCorner>{east!r} {north!r}</ows:UpperCorner></ows:WGS84BoundingBox>"
        '<ows:Identifier>surface</ows:Identifier><Style isDefault="true"><ows:Identifier>desk</ows:Identifier></Style>'
        "<Format>image/png</Format><TileMatrixSetLink><TileMatrixSet>frame</TileMatrixSet></TileMatrixSetLink>"
        f'<ResourceURL format="image/png" resourceType="tile" template="{address}/tiles/{{TileMatrix}}/{{TileRow}}/{{TileCol}}.png"/>'
        "</Layer><TileMatrixSet><ows:Identifier>frame</ows:Identifier>"
        f"<ows:SupportedCRS>{escape(named)}</ows:SupportedCRS>{''.join(matrices)}</TileMatrixSet></Contents>"
        f'<ServiceMetadataURL xlink:href="{address}/1.0.0/WMTSCapabilities.xml"/></Capabilities>\n'
    )


@require_safe
def capabilities(request: HttpRequest, token: str) -> HttpResponseBase:
    """What is offered under a token, as WMTS capabilities."""
    share = _share(token)
    base = request.build_absolute_uri(f"/open/{token}")
    text = capabilities_of(share.holding.project.frame.grid, share.holding.name, base)
    return _anywhere(HttpResponse(text, content_type="application/xml"))


@require_safe
def tile(_request: HttpRequest, token: str, matrix: int, row: int, col: int) -> HttpResponseBase:
    """A dressed tile of 256 x 256 pixels, clear where the surface is empty."""
    share = _share(token)
    project_frame = share.holding.project.frame
    frame = project_frame.grid
    level = levels_of(frame) - matrix
    at = frame.at_level(max(level, 0))
    if level < 0 or row * TILE >= at.rows or col * TILE >= at.cols:
        raise Http404("There is no such tile.")
    place = f"open:{share.pk}:{zlib.crc32(repr((frame, share.dress)).encode())}:{level}:{row}:{col}"
    png: bytes | None = cache.get(place)
    if png is None:
        try:
            surface = keys.surface_of_holding(share.holding)
            png = view_picture(
                surface,
                at.part(Window(row * TILE, col * TILE, TILE, TILE)),
                DressIn(**share.dress).dress(project_frame.unit),
                clear=True,
            )
        except TerrainError as error:
            return _anywhere(HttpResponse(str(error), status=422, content_type="text/plain"))
        cache.set(place, png, _SECONDS)
    response = HttpResponse(png, content_type="image/png")
    response["Cache-Control"] = "private, max-age=60"  # an address that was closed is soon no longer seen
    return _anywhere(response)


def _read(path: Path, start: int, count: int) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(start)
        while count > 0 and (chunk := file.read(min(_CHUNK, count))):
            count -= len(chunk)
            yield chunk


@require_safe
def cells(request: HttpRequest, token: str) -> HttpResponseBase:
    """The file of a stored surface, whole or the range that is asked for."""
    holding = _share(token).holding
    if holding.live or not holding.cells_path.exists():
        text = f"{holding.name} is live and has no file. Store it first."
        return _anywhere(HttpResponse(text, status=409, content_type="text/plain"))
    path, size = holding.cells_path, holding.cells_path.stat().st_size
    start, end, status = 0, size - 1, 200
    asked = _RANGE.match(request.headers.get("Range", "").replace(" ", ""))
    if asked and any(asked.groups()):
        first, last = asked.groups()
        start = int(first) if first else max(size - int(last), 0)
        end = min(int(last), size - 1) if first and last else size - 1
        status = 206
        if start > end or start >= size:
            refused = HttpResponse(status=416)
            refused["Content-Range"] = f"bytes */{size}"
            return _anywhere(refused)
    count = end - start + 1
    body: HttpResponse | StreamingHttpResponse = (
        HttpResponse(status=status)
        if request.method == "HEAD"
        else StreamingHttpResponse(_read(path, start, count), status=status)
    )
    body["Content-Type"] = "image/tiff; application=geotiff; profile=cloud-optimized"
    body["Content-Length"] = str(count)
    body["Accept-Ranges"] = "bytes"
    if status == 206:
        body["Content-Range"] = f"bytes {start}-{end}/{size}"
    return _anywhere(body)
