"""What each kind of job does. A function takes the job and a progress, and returns what came of it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from django.db import transaction

from yama.service.holdings.deleted import find_again
from yama.service.holdings.features import keep_features
from yama.service.holdings.holes import keep_holes
from yama.service.holdings.models import (
    Holding,
    Scorecard,
    free_name,
    upload_path,
    working_folder,
)
from yama.service.jobs.models import Job
from yama.service.projects.models import Project
from yama.service.tiles import surfaces
from yama.terrain import formats, operations
from yama.terrain.apart import readers
from yama.terrain.cloud import Reclassified
from yama.terrain.errors import InputError, QuestionError, TerrainError
from yama.terrain.features import Features
from yama.terrain.files import put_in_place, replacing
from yama.terrain.findings import Finding
from yama.terrain.formats import raster
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.operations.base import Quantity
from yama.terrain.progress import Progress
from yama.terrain.recipe import Step, below, file_key, with_instead
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import picture
from yama.terrain.surface import Statistics, StoredSurface, Surface, statistics, store
from yama.terrain.units import in_unit
from yama.terrain.voids import holes_of


@dataclass
class Outcome:
    """What a job leaves: a holding, figures, or none of them, and findings."""

    holding_id: int | None = None
    figures: dict[str, Any] | None = None
    findings: list[Finding] = field(default_factory=list)


def surface_facts(surface: Surface, found: Statistics, findings: list[Finding]) -> dict[str, Any]:
    """What the desk needs to know of a surface."""
    return {
        "grid": surface.grid.to_dict(),
        "statistics": found.to_dict(),
        "unit": surface.unit,
        "vertical_datum": surface.vertical_datum,
        "findings": [finding.to_dict() for finding in findings],
    }


def draw_picture(surface: Surface, frame: Frame, path: Path, quantity: Quantity = "height") -> None:
    """Write the small picture of a surface."""
    with replacing(path) as part:
        part.write_bytes(picture(surface, frame.grid, Dress.usual(quantity)))


def figures_at(holding: Holding, checkpoints: Holding) -> dict[str, Any]:
    """How a surface does at checkpoints, in the frame's unit, as a scorecard has it. Only heights can be judged."""
    surface = in_unit(surfaces.surface_of_holding(holding), holding.project.frame.unit)
    try:
        return {"figures": accuracy(surface, surfaces.points_of(checkpoints)).to_dict(), "reason": ""}
    except InputError as error:
        return {"figures": None, "reason": str(error)}


def is_judgeable(holding: Holding) -> bool:
    """Whether the holding is a surface of heights."""
    return holding.kind == Holding.Kind.SURFACE and surfaces.quantity_of(holding.step) == "height"


def _keep_surface(job: Job, holding: Holding, surface: Surface) -> Outcome:
    """Picture, row and scorecard of a surface whose cells and facts are in place: the row last, when all else is there."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    draw_picture(surface, project.frame, holding.picture_path, surfaces.quantity_of(holding.step))
    checkpoints = project.checkpoints if is_judgeable(holding) else None
    figures = figures_at(holding, checkpoints) if checkpoints is not None else {}
    with transaction.atomic():
        holding.save()
        if checkpoints is not None:
            Scorecard.objects.update_or_create(surface=holding, checkpoints=checkpoints, defaults=figures)
    return Outcome(holding.pk, findings=[Finding(**finding) for finding in holding.facts["findings"]])


def take_in(job: Job, progress: Progress) -> Outcome:
    """Inspect an upload and make a holding of it; see `holdings.api.upload` for what went before.

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
            if seen.family == "archive":
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
    from yama.service.jobs.queue import submit

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
    taken = readers.take(path, declared, name, crs, project.frame.grid.crs, folder, progress)
    return _keep(job, holding, taken, folder)


def _keep(job: Job, holding: Holding, taken: readers.Taken, folder: Path) -> Outcome:
    holding.kind = taken.kind
    if taken.features is not None:
        keep_features(holding, taken.features, taken.facts, taken.findings)
        return Outcome(holding.pk, findings=taken.findings)
    holding.facts = taken.facts
    if taken.statistics is not None:
        put_in_place(folder / readers.CELLS, holding.cells_path)
        surface = StoredSurface(holding.cells_path)
        beside = _beside_others(job.project, surface, holding.original, Declared.from_dict(holding.declared))
        holding.facts = surface_facts(surface, taken.statistics, [*taken.findings, *beside])
        if taken.file:
            keep_holes(holding, taken.holes)
            holding.facts["file"] = taken.file
        return _keep_surface(job, holding, surface)
    for made, place in ((readers.POINTS, holding.points_path), (readers.OVERVIEW, holding.overview_path)):
        if (folder / made).exists():
            put_in_place(folder / made, place)
    holding.save()
    return Outcome(holding.pk, findings=taken.findings)


def _keep_cloud(job: Job, holding: Holding, made: Reclassified, findings: list[Finding], progress: Progress) -> Outcome:
    """Write a cloud an operation makes, and take it in as if it had been added."""
    with working_folder(holding.project_id) as folder:
        path = folder / "made.laz"
        formats.write(made, path, lambda share: progress(0.7 * share))
        holding.file_key = file_key(path)
        put_in_place(path, holding.upload_path)
        declared = Declared(crs=made.cloud.crs, unit=made.cloud.unit)
        holding.declared, holding.original = declared.to_dict(), f"{holding.name}.laz"
        taken = readers.take(
            holding.upload_path, declared, holding.original, "", holding.project.frame.grid.crs, folder,
            lambda share: progress(0.7 + 0.3 * share),
        )  # fmt: skip
        outcome = _keep(job, holding, taken, folder)
    return Outcome(outcome.holding_id, findings=[*findings, *outcome.findings])


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
        for other in project.holdings.filter(kind=Holding.Kind.SURFACE).order_by("created_at"):
            if not is_judgeable(other) or other.live:
                continue
            found = raster.feet_against(surface, surfaces.surface_of_holding(other), name)
            if found is not None:
                return [*findings, found]
    return findings


def run_operation(job: Job, progress: Progress) -> Outcome:
    """Run an operation and keep what it makes, stored or live."""
    return _run(job, Step.from_dict(job.request["step"]), job.key, job.request, progress)


def remake(job: Job, progress: Progress) -> Outcome:
    """Make everything below a holding again from another, beside what is there; the findings are those of all of it."""
    request, project = job.request, job.project
    held = {one.key: one for one in project.holdings.all()}
    instead: dict[str, str] = {request["key"]: request["instead"]}
    if not set(instead) | set(instead.values()) <= set(held):
        raise InputError("What was to be taken instead is no longer in the project. Choose again.")
    steps = {one.key: one.step for one in held.values() if one.step is not None}
    todo = below(request["key"], steps)
    findings: list[Finding] = []
    last: int | None = None
    for done, key in enumerate(todo):
        old = held[key]
        step = with_instead(steps[key], instead, operations.find(steps[key].operation).version)
        asked = {"name": old.name, "live": old.live, "instead_of": key}
        made = _run(job, step, step.key, asked, lambda part, done=done: progress((done + part) / len(todo)))  # type: ignore[misc]
        instead[key] = step.key
        last = made.holding_id
        findings += [replace(one, sentence=f"{old.name}: {one.sentence}") for one in made.findings]
    return Outcome(last, findings=findings)


def _run(job: Job, step: Step, key: str, request: dict[str, Any], progress: Progress) -> Outcome:
    project = job.project
    existing = find_again(project.pk, key)
    if existing is not None and (request["live"] or not existing.live):
        return Outcome(existing.pk)
    operation = operations.find(step.operation)
    frame = Frame.from_dict(step.frame or {})
    params = operations.parse_params(operation, step.params)
    inputs = surfaces.inputs_of(project.pk, step)
    task = operations.Task(operation, inputs, params, frame)
    findings = task.check()
    if operation.produces == "figures":
        return Outcome(figures=task.figures(progress), findings=findings)
    result = task.make(progress)
    holding = existing or Holding(
        project=project, key=key, kind=Holding.Kind.SURFACE, recipe=vars(step),
        name=free_name(project, request["name"]), created_by_id=job.created_by_id, instead_of=request.get("instead_of", ""),
    )  # fmt: skip
    if isinstance(result, Features):
        keep_features(holding, result, {}, findings)
        if "draft" in request:
            from yama.service.holdings.drafts import end_draft

            end_draft(request["draft"], step.params["edits"])
        return Outcome(holding.pk, findings=findings)
    if isinstance(result, Reclassified):
        return _keep_cloud(job, holding, result, findings, progress)
    surface: Surface = result
    holding.live = request["live"]
    if holding.live:
        found = statistics(surface, progress)
    else:
        found = store(surface, holding.cells_path, progress, tags={"RECIPE": key})
        surface = StoredSurface(holding.cells_path)
    if found.empty == found.cells:
        holding.cells_path.unlink(missing_ok=True)
        raise InputError("Every cell came out empty: no input reaches the frame's cells. Check area and reach limit.")
    holding.facts = surface_facts(surface, found, [*findings, *task.found(result)])
    if not result.encoding.is_usual:
        holding.facts["encoding"] = vars(result.encoding)
    if not holding.live and operation.quantity_of(params) == "height":
        keep_holes(holding, holes_of(surface))
    return _keep_surface(job, holding, surface)


def judge_all(job: Job, progress: Progress) -> Outcome:
    """Judge every surface of the project at its checkpoints."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    if project.checkpoints is None:
        return Outcome()
    todo = [holding for holding in project.holdings.all() if is_judgeable(holding)]
    for done, holding in enumerate(todo):
        progress(done / len(todo))
        figures = figures_at(holding, project.checkpoints)
        Scorecard.objects.update_or_create(surface=holding, checkpoints=project.checkpoints, defaults=figures)
    return Outcome()
