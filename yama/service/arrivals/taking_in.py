"""Taking files in, as a job: read apart, kept, told what is suspicious beside what is there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yama.service.holdings.deleted import find_again
from yama.service.holdings.kinds import SURFACE, kind_of
from yama.service.holdings.models import Holding, free_name, upload_path, working_folder
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.jobs.queue import submit
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.service.surfaces.keeping import keep
from yama.terrain.apart import readers
from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.files import put_in_place
from yama.terrain.findings import Finding, from_dict
from yama.terrain.formats import raster
from yama.terrain.formats.declared import Declared
from yama.terrain.kinds.surface import CELLS
from yama.terrain.progress import Progress
from yama.terrain.recipe import file_key
from yama.terrain.surface import StoredSurface, Surface


def take_in(job: Job, progress: Progress) -> Outcome:
    """Inspect an upload and make a holding of it; see `api.upload` for what went before.

    Of the upload as declared: the same bytes may be held several times. A zip of several files starts a job for each.
    """
    request = job.request
    name = request["name"]
    path = upload_path(job.project_id, request["file_key"])
    if not path.exists():
        raise InputError(f"{name} is not here any more. Add it again.")
    declared = Declared.from_dict(request.get("declared", {}))
    existing = find_again(job.project_id, job.key)
    if existing is not None:
        return Outcome(existing.pk)
    try:
        seen = readers.glance(path, declared, name)
        with working_folder(job.project_id) as folder:
            if seen.holds_files:
                return _unpack(job, path, folder, progress)
            return _hold(job, path, declared, folder, progress)
    except QuestionError:
        raise  # the file waits for the answer
    except TerrainError:
        forget_upload(job.project_id, request["file_key"], job)  # the person has it and is told what to change
        raise


def forget_upload(project_id: int, key: str, job: Job | None = None) -> None:
    """Drop the bytes of an upload that was refused or is not wanted, unless something in the project is made of them or another
    job is about to."""
    waiting = Job.objects.filter(project_id=project_id, request__file_key=key, state__in=Job.OPEN)
    if job is not None:
        waiting = waiting.exclude(pk=job.pk)
    if not waiting.exists() and not Holding.everything.filter(project_id=project_id, file_key=key).exists():
        upload_path(project_id, key).unlink(missing_ok=True)


def _unpack(job: Job, path: Path, folder: Path, progress: Progress) -> Outcome:
    """A job for each file of a zip that is of a kind that is read; the others are named."""
    name, project = job.request["name"], job.project
    members, left = readers.unpack(path, name, folder, progress)
    for member in members:
        file = file_key(member.path)
        key = member.declared.key(file)
        put_in_place(member.path, upload_path(project.pk, file))
        if find_again(project.pk, key) is None:
            request = {"name": member.name, "file_key": file, "declared": member.declared.to_dict(),
                       "origin": {"zip": name}, "crs": job.request.get("crs", "")}  # fmt: skip
            submit(project, "take_in", f"Take in {request['name']}", request, job.created_by_id, key)
    path.unlink(missing_ok=True)
    if not members:
        raise InputError(f"Nothing in {name} is of a kind that is read. {' '.join(left[:3])}".strip())
    findings = (
        [Finding("left_out", "note", f"{len(left)} files of {name} were left out.", " ".join(left[:5]))] if left else []
    )
    return Outcome(findings=findings)


def _hold(job: Job, path: Path, declared: Declared, folder: Path, progress: Progress) -> Outcome:
    """Read a file into `folder`, move what is kept of it into place, and make its row."""
    request, project = job.request, job.project
    name = request["name"]
    crs = request.get("crs") or project.frame.grid.crs
    holding = Holding(
        project=project, key=job.key, file_key=request["file_key"], declared=declared.to_dict(), original=name,
        name=free_name(project, request.get("title") or Path(name).stem), source_crs=crs, origin=request.get("origin", {}),
        created_by_id=job.created_by_id,
    )  # fmt: skip
    kept = readers.take(path, declared, name, crs, project.frame.grid.crs, folder, progress)
    cells = folder / CELLS
    beside = _beside_others(project, StoredSurface(cells), name, declared) if cells.exists() else []
    return keep(job, holding, kept, folder, beside)


def _beside_others(project: Project, surface: Surface, name: str, declared: Declared) -> list[Finding]:
    """What is suspicious about an arrival beside the frame and the surfaces that are there already."""
    findings = []
    frame = project.frame.grid
    if surface.grid.crs == frame.crs:
        across, down = surface.grid.phase(frame)
        if surface.grid.cell_width == frame.cell_width and max(abs(across), abs(down)) > 0.01:
            findings.append(
                Finding("phase", "note", f"Cells of {name} lie {abs(across):.2f} and {abs(down):.2f} of a cell off the "
                        "frame's.", "Differences against it are made on the frame, by bilinear reading.")
            )  # fmt: skip
    if not declared.unit:
        for other in project.holdings.filter(kind=SURFACE.name).order_by("created_at"):
            if not kind_of(other).is_judgeable(other) or other.live:
                continue
            found = raster.feet_against(surface, keys.surface_of_holding(other), name)
            if found is not None:
                return [*findings, found]
    return findings


def asked(
    file_key: str, name: str, declared: dict[str, Any], findings: list[Finding], zip_name: str = ""
) -> dict[str, Any]:
    """A question as `QuestionOut` has it."""
    told = [finding.to_dict() for finding in findings]
    return {"file_key": file_key, "name": name, "declared": declared, "findings": told, "zip": zip_name}


def question_of(job: Job) -> dict[str, Any] | None:
    """What was asked when a file was to be taken in; None where it failed for another reason."""
    request = job.request
    findings = [from_dict(one) for one in job.findings]
    if not findings or not all(one.answers for one in findings):
        return None
    zip_name = request.get("origin", {}).get("zip", "")
    return asked(request["file_key"], request["name"], request.get("declared", {}), findings, zip_name)
