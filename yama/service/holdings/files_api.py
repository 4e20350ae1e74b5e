"""What can be taken away of a holding: its cells, lines, rows, the uploaded file, the recipe."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any
from urllib.parse import quote

from django.http import FileResponse, HttpRequest, HttpResponse
from ninja import Router
from ninja.errors import HttpError

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, SURFACE, TABLE
from yama.service.holdings.opened import open_holding
from yama.service.holdings.recipes import recipe_of
from yama.service.schemas import TableOut
from yama.terrain.formats import vector

router = Router(tags=["files"])


@router.get("/{int:project_id}/holdings/{int:holding_id}/geotiff", include_in_schema=False)
def geotiff(request: HttpRequest, project_id: int, holding_id: int) -> Any:
    """A stored surface as a cloud-optimised GeoTIFF."""
    holding = open_holding(request, project_id, holding_id)
    SURFACE.require(holding)
    if holding.live:
        raise HttpError(409, f"{holding.name} is live and has no file. Store it first.")
    return FileResponse(
        holding.cells_path.open("rb"), as_attachment=True, filename=f"{holding.name}.tif", content_type="image/tiff"
    )


@router.get("/{int:project_id}/holdings/{int:holding_id}/geopackage", include_in_schema=False)
def geopackage(request: HttpRequest, project_id: int, holding_id: int) -> Any:
    """Lines or polygons as a GeoPackage, in their own CRS."""
    holding = open_holding(request, project_id, holding_id)
    FEATURES.require(holding)
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
    holding = open_holding(request, project_id, holding_id)
    if not holding.upload_path.exists():
        raise HttpError(404, f"{holding.name} was made here; there is no uploaded file.")
    return FileResponse(holding.upload_path.open("rb"), as_attachment=True, filename=holding.original)


@router.get("/{int:project_id}/holdings/{int:holding_id}/recipe", response=dict[str, Any])
def recipe(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """The recipe back to the files, as `yama cook` reads it."""
    return recipe_of(open_holding(request, project_id, holding_id))


@router.get("/{int:project_id}/holdings/{int:holding_id}/table", response=TableOut)
def table(request: HttpRequest, project_id: int, holding_id: int) -> dict[str, Any]:
    """The columns, rows and facts of a table."""
    holding = open_holding(request, project_id, holding_id)
    TABLE.require(holding)
    return TABLE.load(holding).to_dict()


@router.get("/{int:project_id}/holdings/{int:holding_id}/csv", include_in_schema=False)
def csv(request: HttpRequest, project_id: int, holding_id: int) -> HttpResponse:
    """A table as CSV."""
    holding = open_holding(request, project_id, holding_id)
    TABLE.require(holding)
    response = HttpResponse(TABLE.load(holding).to_csv(), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(holding.name)}.csv"
    return response
