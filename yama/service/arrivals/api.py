"""Files come in: streamed to the store, looked at, taken in; declared anew where a finding asks for it."""

from __future__ import annotations

import hashlib
import uuid
from pathlib import PurePosixPath
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.arrivals.taking_in import asked, forget_upload
from yama.service.holdings.deleted import find_again
from yama.service.holdings.models import Holding, project_dir, upload_path
from yama.service.jobs.api import AcceptedOut, QuestionOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure, FindingOut
from yama.terrain.apart import readers
from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.files import PART, put_in_place
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import parse_crs

router = Router(tags=["uploads"])

_CHUNK = 1 << 20


class LayoutOut(Schema):
    """How a table is read. Columns count from 0; confidence is by role, 0 to 1."""

    separator: str
    decimal: str
    header: bool
    columns: list[str]
    x: int | None
    y: int | None
    z: int | None
    code: int | None
    encoding: str
    thousands: str
    confidence: dict[str, float]


class TableLookOut(Schema):
    """A table before it is taken in: its layout as guessed or declared, first rows, a sample of its places.

    dots: x, y in the frame's CRS of at most some thousands of its points; crs: what its coordinates are taken for.
    """

    file_key: str
    name: str
    layout: LayoutOut
    first_rows: list[list[str]]
    rows: int
    crs: str
    findings: list[FindingOut]
    dots: list[tuple[float, float]]


class ReceivedOut(AcceptedOut):
    """What became of an upload: a job that takes it in, the holding that is there already, a table to look at, or a question
    that must be answered first."""

    table: TableLookOut | None = None
    question: QuestionOut | None = None


class DeclaredIn(Schema):
    """What is declared about a file, as `Declared.to_dict` has it."""

    declared: dict[str, Any] = {}


class TakeIn(DeclaredIn):
    """A received file to be taken in, under the name it was given."""

    name: str = Field(min_length=1, max_length=160)


def safe_name(name: str) -> str:
    """The last part of whatever somebody calls a file, without control characters."""
    last = PurePosixPath(name.replace("\\", "/")).name
    cleaned = "".join(letter for letter in last if letter.isprintable()).strip()
    return cleaned[-120:] or "upload"


def _receive(request: HttpRequest, project_id: int, name: str) -> str:
    """Stream the body to the store under the hash of its bytes; returns that key."""
    limit = settings.MAX_UPLOAD_BYTES
    too_large = HttpError(413, f"{name} is larger than {limit // 1_000_000} MB, the most that is taken in.")
    if int(request.META.get("CONTENT_LENGTH") or 0) > limit:
        raise too_large
    folder = project_dir(project_id)
    part = folder / f"{uuid.uuid4().hex}.upload{PART}"
    digest = hashlib.sha256()
    size = 0
    try:
        with part.open("wb") as file:
            while chunk := request.read(_CHUNK):
                size += len(chunk)
                if size > limit:
                    raise too_large
                digest.update(chunk)
                file.write(chunk)
        key = digest.hexdigest()[:32]
        put_in_place(part, folder / f"{key}.upload")
        return key
    finally:
        part.unlink(missing_ok=True)


@router.post("/{int:project_id}/uploads", response={200: ReceivedOut, 202: ReceivedOut, 413: Failure, 422: Failure})
def upload(request: HttpRequest, project_id: int, name: str, crs: str = "", look: bool = False) -> Any:
    """Take in a file sent as the request's body. `crs` is used where the file does not say its own.

    The bytes are kept untouched; a job inspects them and makes the holding. The same bytes again give the holding
    that is there already. look: a table is not taken in yet but shown, see `take`.
    """
    project = open_project(request, project_id, Membership.Role.EDITOR)
    if crs:
        parse_crs(crs)
    shown = safe_name(name)
    key = _receive(request, project_id, shown)
    existing = find_again(project_id, key)
    if existing is not None:
        return 200, {"holding_id": existing.pk}
    path = upload_path(project_id, key)
    declared = Declared(crs=crs)
    try:
        seen = readers.glance(path, declared, shown)
        # a table's CRS cannot be in the file, so naming one is no declaration against it
        if look and seen.is_asked:
            return 200, {"table": _table(project, key, shown, declared)}
        declared = declared if seen.lacks_crs else Declared()
    except QuestionError as question:
        return 200, {"question": asked(key, shown, declared.to_dict(), question.findings)}
    except TerrainError:
        forget_upload(project.pk, key)
        raise
    request_data = {"name": shown, "file_key": key, "declared": declared.to_dict(), "crs": crs}
    job = submit(project, "take_in", f"Take in {shown}", request_data, person(request).pk, declared.key(key))
    return 202, {"job": job}


def _table(project: Project, key: str, name: str, declared: Declared) -> dict[str, Any]:
    facts, dots = readers.table(upload_path(project.pk, key), declared, name, project.frame.grid.crs)
    return {**facts.to_dict(), "file_key": key, "dots": dots}


def _received(request: HttpRequest, project_id: int, file_key: str) -> Project:
    project = open_project(request, project_id, Membership.Role.EDITOR)
    if not (len(file_key) == 32 and file_key.isalnum() and upload_path(project_id, file_key).exists()):
        raise HttpError(404, "That file is not here any more. Add it again.")
    return project


@router.post("/{int:project_id}/uploads/{file_key}/look", response={200: TableLookOut, 422: Failure})
def look_again(request: HttpRequest, project_id: int, file_key: str, body: TakeIn) -> dict[str, Any]:
    """A received table, read as declared: what would come of it."""
    project = _received(request, project_id, file_key)
    name = safe_name(body.name)
    if not readers.glance(upload_path(project_id, file_key), name=name).is_asked:
        raise InputError(f"{name} is not a table; there are no columns to match.")
    return _table(project, file_key, name, Declared.from_dict(body.declared))


@router.post("/{int:project_id}/uploads/{file_key}/take", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure})
def take(request: HttpRequest, project_id: int, file_key: str, body: TakeIn) -> tuple[int, dict[str, Any]]:
    """Take in a received file as declared."""
    project = _received(request, project_id, file_key)
    questions = Job.objects.filter(project=project, kind="take_in", state=Job.State.FAILED, request__file_key=file_key)
    before = questions.first()
    more = {
        name: value for name, value in (before.request if before else {}).items() if name in ("origin", "crs", "title")
    }
    answer = _take(request, project, file_key, safe_name(body.name), Declared.from_dict(body.declared), more)
    questions.update(seen=True)
    return answer


def _take(
    request: HttpRequest, project: Project, file_key: str, name: str, declared: Declared, more: dict[str, Any]
) -> tuple[int, dict[str, Any]]:
    key = declared.key(file_key)
    existing = find_again(project.pk, key)
    if existing is not None:
        return 200, {"holding_id": existing.pk}
    request_data = {"name": name, "file_key": file_key, "declared": declared.to_dict(), **more}
    return 202, {"job": submit(project, "take_in", f"Take in {name}", request_data, person(request).pk, key)}


@router.post(
    "/{int:project_id}/holdings/{int:holding_id}/declare", response={200: AcceptedOut, 202: AcceptedOut, 422: Failure}
)
def declare(request: HttpRequest, project_id: int, holding_id: int, body: DeclaredIn) -> tuple[int, dict[str, Any]]:
    """Take the same upload in once more with something else declared: a new holding; the one there stays as it is."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    holding = get_object_or_404(Holding, pk=holding_id, project=project)
    if not holding.file_key:
        raise InputError(f"{holding.name} was made here; nothing can be declared about it. Change its recipe.")
    if not holding.upload_path.exists():
        raise InputError(f"The file {holding.original} is not here any more. Add it again.")
    declared = Declared.from_dict(holding.declared).also(body.declared)
    more = {
        "crs": holding.source_crs,
        "origin": holding.origin,
        "title": f"{holding.name}, {_said(body.declared)}"[:110],
    }
    return _take(request, project, holding.file_key, holding.original, declared, more)


def _said(change: dict[str, Any]) -> str:
    """What was declared, for a name."""
    units = {"ft": "from feet", "us-ft": "from US survey feet", "m": "in metres"}
    said = []
    for name, value in change.items():
        if name == "nodata":
            said.append(f"{value:g} empty" if isinstance(value, (int, float)) else "no value empty")
        elif name == "unit":
            said.append(units.get(value, "other unit"))
        elif name == "rpc":
            said.append("other coefficients")
        elif name == "vertical_datum":
            said.append(f"zero at {value}")
        elif name in ("crs", "layer", "tile"):
            said.append(str(value))
        elif name == "band":
            said.append(f"band {value}")
        elif name == "height":
            said.append(f"heights {value}")
        else:
            said.append(
                {
                    "swap": "exchanged",
                    "leave_out": "without strays",
                    "grid": "as surface",
                    "within": "without strays",
                    "coded": "decoded",
                    "place": "placed",
                }.get(name, "other columns")
            )
    return ", ".join(said) or "again"
