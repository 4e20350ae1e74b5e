"""Packages: what speaks against one, building it as a job, those there are, and taking one away."""

from __future__ import annotations

import zipfile
from datetime import datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema
from ninja.errors import HttpError

from yama.service.accounts.people import person
from yama.service.delivery import contents
from yama.service.delivery.contents import Wanted
from yama.service.delivery.work import forget, package_path
from yama.service.holdings.kinds import SURFACE, kind_of
from yama.service.holdings.models import Holding
from yama.service.jobs.api import JobOut
from yama.service.jobs.models import Job
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership, Project
from yama.service.schemas import Failure, FindingOut
from yama.service.surfaces.dressed import DressIn
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats.cell_types import steps_for

router = Router(tags=["packages"])


class WantedIn(Schema):
    """What the files of a package are written as. step: of whole numbers, in the height unit; 0 takes one that fits.
    cut: cells a side of the GeoTIFFs that a surface is cut into; 0 leaves it whole. pictures: whether each surface is there as a PNG
    with world file too. classes: of points in clouds that are kept; all where it is null."""

    surfaces_as: Literal["tif", "asc", "xyz"] = "tif"
    cell_type: Literal["stored", "float32", "int32", "int16", "uint16"] = "stored"
    step: float = Field(default=0.0, ge=0, le=1e6)
    nan: bool = True
    features_as: Literal["gpkg", "shp", "geojson", "kml", "dxf"] = "gpkg"
    points_as: Literal["csv", "xlsx"] = "csv"
    cut: int = Field(default=0, ge=0, le=100_000)
    pictures: bool = False
    classes: list[Annotated[int, Field(ge=0, le=255)]] | None = Field(default=None, max_length=256)


class PackageIn(Schema):
    """A package: its name, what goes in, and how. looks: how the report's maps are dressed, by what cells say; as usual where
    not given."""

    name: str = Field(min_length=1, max_length=120)
    holdings: list[int] = Field(min_length=1, max_length=300)
    wanted: WantedIn = WantedIn()
    report: bool = True
    looks: dict[str, DressIn] = {}
    note: str = Field("", max_length=4_000)


class FileOut(Schema):
    """A holding and the name of its file. step: the finest step its range leaves to whole numbers of the type asked for."""

    holding_id: int
    file: str
    step: float | None


class CheckOut(Schema):
    """What speaks against a package, and the files that would be in it."""

    findings: list[FindingOut]
    members: list[FileOut]


class PackageOut(Schema):
    """A package that is here."""

    id: UUID
    name: str
    file: str
    bytes: int
    count: int
    report: bool
    made: datetime


def _chosen(project: Project, body: PackageIn) -> tuple[list[Holding], Wanted, list[Finding]]:
    numbers = list(dict.fromkeys(body.holdings))
    found = project.holdings.in_bulk(numbers)
    if len(found) != len(numbers):
        raise InputError("Something that was chosen is not in this project. Choose again.")
    holdings, wanted = [found[number] for number in numbers], Wanted(**body.wanted.dict())
    findings = contents.together(holdings, project)
    for one in holdings:
        findings += contents.about(one, wanted, project)
    return holdings, wanted, findings


@router.post("/{int:project_id}/packages/check", response={200: CheckOut, 422: Failure})
def check(request: HttpRequest, project_id: int, body: PackageIn) -> dict[str, Any]:
    """Look at a package before it is built."""
    project = open_project(request, project_id)
    holdings, wanted, findings = _chosen(project, body)
    names = contents.file_names(holdings, wanted)
    return {
        "findings": [one.to_dict() for one in findings],
        "members": [
            {
                "holding_id": one.pk,
                "file": names[one.pk],
                "step": (
                    steps_for(contents.statistics_of(one), wanted.cell_type)
                    if kind_of(one) is SURFACE and wanted.cell_type != "stored"
                    else None
                ),
            }
            for one in holdings
        ],
    }


@router.post("/{int:project_id}/packages", response={202: JobOut, 422: Failure})
def build(request: HttpRequest, project_id: int, body: PackageIn) -> tuple[int, Job]:
    """Build a package as a job."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    holdings, wanted, findings = _chosen(project, body)
    for finding in findings:
        if finding.weight == "stop":
            raise InputError(f"{finding.sentence} {finding.why}".strip())
    asked = {"name": body.name.strip() or "Package", "holdings": [one.pk for one in holdings], "wanted": vars(wanted),
             "report": body.report, "note": body.note,
             "looks": {quantity: look.model_dump() for quantity, look in body.looks.items() if look.dress(project.frame.unit)}}  # fmt: skip
    return 202, submit(project, "package", f"Package: {asked['name']}", asked, person(request).pk)


def _packages(project: Project) -> list[Job]:
    made = project.jobs.filter(kind="package", state=Job.State.DONE)
    return [job for job in made if package_path(job).exists()]


@router.get("/{int:project_id}/packages", response=list[PackageOut])
def list_packages(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """Packages that are here, the newest first."""
    project = open_project(request, project_id)
    return [
        {"id": job.pk, "name": job.request["name"], "file": job.made["file"], "bytes": job.made["bytes"],
         "count": len(job.made["members"]),
         "report": any(one["name"] == "report.html" for one in job.made["members"]), "made": job.ended_at}
        for job in _packages(project) if job.made
    ]  # fmt: skip


def _get(project: Project, job_id: UUID) -> Job:
    job = get_object_or_404(Job, pk=job_id, project=project, kind="package")
    if job.made is None or not package_path(job).exists():
        raise HttpError(404, "There is no such package any more.")
    return job


@router.get("/{int:project_id}/packages/{uuid:job_id}/file", include_in_schema=False)
def download(request: HttpRequest, project_id: int, job_id: UUID) -> Any:
    """A package as a zip."""
    job = _get(open_project(request, project_id), job_id)
    return FileResponse(
        package_path(job).open("rb"),
        as_attachment=True,
        filename=(job.made or {})["file"],
        content_type="application/zip",
    )


@router.get("/{int:project_id}/packages/{uuid:job_id}/report", include_in_schema=False)
def read_report(request: HttpRequest, project_id: int, job_id: UUID) -> HttpResponse:
    """The report of a package, as a page."""
    job = _get(open_project(request, project_id), job_id)
    with zipfile.ZipFile(package_path(job)) as archive:
        if "report.html" not in archive.namelist():
            raise HttpError(404, "This package has no report.")
        response = HttpResponse(archive.read("report.html"), content_type="text/html; charset=utf-8")
    response["Content-Security-Policy"] = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; font-src data:"
    return response


@router.delete("/{int:project_id}/packages/{uuid:job_id}", response={204: None})
def remove(request: HttpRequest, project_id: int, job_id: UUID) -> tuple[int, None]:
    """Delete a package. What it was made from stays."""
    forget(_get(open_project(request, project_id, Membership.Role.EDITOR), job_id))
    return 204, None
