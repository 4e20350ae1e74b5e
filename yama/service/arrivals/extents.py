"""Where a file lies before there is a project: looked at, and not kept."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from ninja import Router, Schema
from ninja.errors import HttpError

from yama.service.arrivals.api import TableLookOut, safe_name
from yama.service.projects.frames import ExtentIO
from yama.service.schemas import Failure
from yama.terrain.apart import readers
from yama.terrain.errors import InputError
from yama.terrain.formats.declared import Declared

router = Router(tags=["frames"])

_CHUNK = 1 << 20


class PlacedOut(Schema):
    """Where a file lies; or, of a table that does not say it, the reason, and how it was read, so that its columns can be
    matched."""

    extent: ExtentIO | None = None
    table: TableLookOut | None = None
    reason: str = ""


@router.post("/extent", response={200: PlacedOut, 413: Failure, 422: Failure})
def extent(request: HttpRequest, name: str, declared: str = "", look: bool = False) -> dict[str, Any]:
    """Where a file sent as the request's body lies. Nothing of it is kept. declared: JSON of what is declared about it, as
    `Declared.to_dict` has it. look: a table is only looked at."""
    limit = settings.MAX_UPLOAD_BYTES
    shown = safe_name(name)
    try:
        told = json.loads(declared or "{}")
    except ValueError:
        told = None
    if not isinstance(told, dict):
        raise InputError("What is declared about the file is no JSON object.")
    read = Declared.from_dict(told)
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        path = Path(folder) / "file"
        size = 0
        with path.open("wb") as file:
            while chunk := request.read(_CHUNK):
                size += len(chunk)
                if size > limit:
                    raise HttpError(413, f"{shown} is larger than {limit // 1_000_000} MB, the most that is taken in.")
                file.write(chunk)
        try:
            if not look:
                return {"extent": vars(readers.extent(path, shown, read))}
            reason = ""
        except InputError as error:
            if not readers.glance(path, read, shown).is_asked:
                raise
            reason = str(error)
        facts, _ = readers.table(path, read, shown, "EPSG:4326")
        if not facts.rows:
            raise InputError(reason or f"{shown} holds no rows of numbers.")
        return {"table": {**facts.to_dict(), "file_key": "", "dots": []}, "reason": reason}
