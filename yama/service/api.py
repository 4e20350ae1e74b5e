"""The API: one router an app, errors as a sentence under `detail`."""

from __future__ import annotations

import errno
from typing import Any

import orjson
from django.conf import settings
from django.core.exceptions import RequestDataTooBig
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import ValidationError
from ninja.parser import Parser
from ninja.security import SessionAuth

from yama.service.accounts.api import router as accounts
from yama.service.arrivals.api import router as arrivals
from yama.service.arrivals.extents import router as extents
from yama.service.delivery.api import router as delivery
from yama.service.depots.map_features import router as map_features
from yama.service.depots.orders import router as orders
from yama.service.depots.products import router as products
from yama.service.draining.api import router as draining
from yama.service.draining.hollows import router as hollows
from yama.service.draining.networks import router as networks
from yama.service.holdings.api import router as holdings
from yama.service.holdings.deleted import router as deleted
from yama.service.holdings.drafts import router as drafts
from yama.service.holdings.files_api import router as holding_files
from yama.service.holdings.frames import router as holding_frames
from yama.service.holdings.map_api import router as holding_maps
from yama.service.images.api import router as images
from yama.service.jobs.api import router as jobs
from yama.service.judging.api import router as judging
from yama.service.judging.brief import router as briefs
from yama.service.judging.card import router as scorecards
from yama.service.judging.explained import router as explained
from yama.service.judging.places import router as worst
from yama.service.judging.slopes import router as slopes
from yama.service.judging.water import router as water
from yama.service.mending.api import router as mending
from yama.service.mending.evidence import router as evidence
from yama.service.projects.api import router as projects
from yama.service.projects.frames import router as frames
from yama.service.projects.invitations import of_project as invitations
from yama.service.projects.invitations import public as invited
from yama.service.runs.api import router as runs
from yama.service.runs.previews import router as previews
from yama.service.sharing.api import router as sharing
from yama.service.tiles.figures import router as figures
from yama.service.tiles.lines import router as lines
from yama.service.tiles.pictures import router as pictures
from yama.service.tiles.readings import router as readings
from yama.service.tiles.tile import router as tiles
from yama.terrain.errors import TerrainError

_CHUNK = 1_000_000
_MOST_TAKEN_IN = 400_000_000


class _Parser(Parser):
    """Reads JSON as its standard has it: no NaN or Infinity, no half characters, and no NUL, which no name or text
    holds."""

    def parse_body(self, request: HttpRequest) -> dict[str, Any]:
        if b"\\u0000" in request.body:
            raise ValueError("NUL")
        read: dict[str, Any] = orjson.loads(request.body)
        return read


api = NinjaAPI(title="Yama", version="1", auth=SessionAuth(), docs_url=None, parser=_Parser())
api.add_router("/accounts", accounts)
api.add_router("/frames", frames)
api.add_router("/frames", extents)
api.add_router("/invitations", invited)
for _router in (
    holding_frames, projects, invitations, judging, briefs, scorecards, worst, water, slopes, explained, draining,
    networks, hollows,
    mending, evidence, runs, previews, holdings, holding_files, holding_maps, pictures, deleted, drafts, arrivals,
    products, orders, map_features, jobs, delivery, sharing, tiles, lines, readings, figures, images,
):  # fmt: skip
    api.add_router("/projects", _router)


@api.exception_handler(TerrainError)
def _terrain_error(request: HttpRequest, error: TerrainError) -> HttpResponse:
    return api.create_response(request, {"detail": str(error)}, status=422)


@api.exception_handler(OSError)
def _disk_error(request: HttpRequest, error: OSError) -> HttpResponse:
    if error.errno not in (errno.ENOSPC, errno.EDQUOT):
        raise error
    said = "The server's disk is full; nothing was changed. Tell whoever looks after it, then try again."
    return api.create_response(request, {"detail": said}, status=507)


@api.exception_handler(RequestDataTooBig)
def _too_big(request: HttpRequest, _error: RequestDataTooBig) -> HttpResponse:
    # who is still sending reads no answer: take in what comes, as far as that is sane
    left = _MOST_TAKEN_IN
    while left > 0 and (chunk := request.read(min(_CHUNK, left))):
        left -= len(chunk)
    most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 1_000_000
    said = f"This request is larger than {most} MB. Send less at once; files go to Add files."
    return api.create_response(request, {"detail": said}, status=413)


@api.exception_handler(ValidationError)
def _validation_error(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first = error.errors[0]
    where = ".".join(str(part) for part in first["loc"][1:]) or "request"
    return api.create_response(request, {"detail": f"{where}: {first['msg']}."}, status=422)
