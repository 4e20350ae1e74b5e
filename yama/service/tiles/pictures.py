"""The small pictures of surfaces."""

from __future__ import annotations

import zlib

from django.core.cache import cache
from django.http import HttpRequest, HttpResponse
from ninja import Router
from ninja.errors import HttpError
from pydantic import ValidationError

from yama.service.holdings.kinds import SURFACE, kind_of
from yama.service.holdings.models import Holding
from yama.service.holdings.opened import open_holding
from yama.service.surfaces import keys
from yama.service.surfaces.dressed import DressIn
from yama.terrain.relief.picture import picture as small_picture

router = Router(tags=["map"])

_PICTURE_SECONDS = 3600


def _dressed_picture(holding: Holding, dress: str) -> HttpResponse:
    try:
        look = DressIn.model_validate_json(dress)
    except ValidationError as error:
        raise HttpError(422, "The look of a picture must be JSON with stops, low and high.") from error
    frame = holding.project.frame
    place = f"picture:{holding.pk}:{holding.key}:{zlib.crc32(repr((frame, look)).encode())}"
    png: bytes | None = cache.get(place)
    if png is None:
        png = small_picture(keys.shown(holding.project, holding.key), frame.grid, look.dress(frame.unit))
        cache.set(place, png, _PICTURE_SECONDS)
    response = HttpResponse(png, content_type="image/png")
    response["Cache-Control"] = f"private, max-age={_PICTURE_SECONDS}"
    return response


@router.get("/{int:project_id}/holdings/{int:holding_id}/picture", include_in_schema=False)
def picture(request: HttpRequest, project_id: int, holding_id: int, dress: str = "") -> HttpResponse:
    """The small picture of a surface, as PNG. dress: a look as JSON (`DressIn`); the usual one where there is none."""
    holding = open_holding(request, project_id, holding_id)
    if dress and kind_of(holding) is SURFACE:
        return _dressed_picture(holding, dress)
    if not holding.picture_path.exists():
        raise HttpError(404, "There is no picture of this.")
    response = HttpResponse(holding.picture_path.read_bytes(), content_type="image/png")
    response["Cache-Control"] = "private, max-age=86400, immutable"
    return response
