"""What each kind of job does. A function takes the job and a progress, and returns what came of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from django.db import transaction

from yama.service.holdings.models import Holding, Scorecard, find_key, free_name, upload_path
from yama.service.jobs.models import Job
from yama.service.projects.models import Project
from yama.service.tiles import surfaces
from yama.terrain import formats, operations
from yama.terrain.errors import InputError
from yama.terrain.files import replacing
from yama.terrain.findings import Finding
from yama.terrain.formats import delimited
from yama.terrain.frame import Frame
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.points import Points
from yama.terrain.recipe import Step
from yama.terrain.relief.picture import picture
from yama.terrain.surface import Progress, Statistics, StoredSurface, Surface, statistics, store


@dataclass
class Outcome:
    """What a job leaves: a holding, or none, and findings."""

    holding_id: int | None = None
    findings: list[Finding] = field(default_factory=list)


def points_facts(points: Points, findings: list[Finding]) -> dict[str, Any]:
    """What the desk needs to know of points."""
    return {
        "count": len(points),
        "codes": points.code_counts(),
        "fields": list(points.fields),
        "height_field": points.height_field,
        "unit": points.unit,
        "crs": points.crs,
        "bounds": list(points.bounds),
        "findings": [finding.to_dict() for finding in findings],
    }


def surface_facts(surface: Surface, found: Statistics, findings: list[Finding]) -> dict[str, Any]:
    """What the desk needs to know of a surface."""
    return {
        "grid": surface.grid.to_dict(),
        "statistics": found.to_dict(),
        "unit": surface.unit,
        "vertical_datum": surface.vertical_datum,
        "findings": [finding.to_dict() for finding in findings],
    }


def draw_picture(surface: Surface, frame: Frame, path: Path, quantity: str = "height") -> None:
    """Write the small picture of a surface."""
    ramp = {"difference": "Seesaw", "slope": "Steep", "aspect": "Kiln", "brightness": "Slate"}.get(
        quantity, "Foreshore"
    )
    with replacing(path) as part:
        part.write_bytes(picture(surface, frame.grid, ramp=ramp))


def judge(holding: Holding, checkpoints: Holding) -> None:
    """Write the scorecard of a surface at checkpoints. Only heights can be judged."""
    surface, points = surfaces.surface_of_holding(holding), surfaces.points_of(checkpoints)
    try:
        values: dict[str, Any] = {"figures": accuracy(surface, points).to_dict(), "reason": ""}
    except InputError as error:
        values = {"figures": None, "reason": str(error)}
    Scorecard.objects.update_or_create(surface=holding, checkpoints=checkpoints, defaults=values)


def is_judgeable(holding: Holding) -> bool:
    """Whether the holding is a surface of heights."""
    return holding.kind == Holding.Kind.SURFACE and surfaces.quantity_of(holding.step) == "height"


def _keep_surface(job: Job, holding: Holding, surface: Surface) -> Outcome:
    """Picture, row and scorecard of a surface whose cells are in place."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    draw_picture(surface, project.frame, holding.picture_path, surfaces.quantity_of(holding.step))
    with transaction.atomic():
        holding.save()
        if project.checkpoints is not None and is_judgeable(holding):
            judge(holding, project.checkpoints)
    return Outcome(holding.pk, [Finding(**finding) for finding in holding.facts["findings"]])


def take_in(job: Job, progress: Progress) -> Outcome:
    """Inspect an upload and make a holding of it; see `holdings.api.upload` for what went before."""
    request = job.request
    project = job.project
    path = upload_path(project.pk, job.key)
    name = request["name"]
    if not path.exists():
        raise InputError(f"{name} is not here any more. Add it again.")
    crs = request.get("crs") or project.frame.grid.crs
    holding = Holding(
        project=project, key=job.key, original=name, name=free_name(project, Path(name).stem),
        source_crs=crs, created_by_id=job.created_by_id,
    )  # fmt: skip
    try:
        facts = formats.inspect(path, crs, name=name)
        stops = [finding for finding in facts.findings if finding.weight == "stop"]
        if stops:
            raise InputError(" ".join(f"{finding.sentence} {finding.why}".strip() for finding in stops))
        if isinstance(facts, delimited.TableFacts):
            holding.kind = Holding.Kind.POINTS
            points = delimited.read(path, facts.crs, facts.layout)
            holding.facts = points_facts(points, facts.findings)
            with replacing(holding.points_path) as part:
                points.save(part)
            holding.save()
            return Outcome(holding.pk, facts.findings)
        holding.kind = Holding.Kind.SURFACE
        source = StoredSurface(path, name=name)
        found = store(source, holding.cells_path, progress)
        if found.empty == found.cells:
            holding.cells_path.unlink(missing_ok=True)
            raise InputError(f"Every cell of {name} is empty; there is nothing to hold.")
        surface = StoredSurface(holding.cells_path)
        holding.facts = surface_facts(surface, found, facts.findings)
        return _keep_surface(job, holding, surface)
    except InputError:
        path.unlink(missing_ok=True)  # not kept: the person has it and is told what to change
        raise


def run_operation(job: Job, progress: Progress) -> Outcome:
    """Run an operation and keep what it makes, stored or live."""
    request, project = job.request, job.project
    step = Step.from_dict(request["step"])
    existing = find_key(project.pk, job.key)
    if existing is not None and (request["live"] or not existing.live):
        return Outcome(existing.pk)
    operation = operations.find(step.operation)
    frame = Frame.from_dict(step.frame or {})
    params = operations.parse_params(operation, step.params)
    inputs = surfaces.inputs_of(project.pk, step)
    findings = operation.check(inputs, params, frame)
    surface = operation.run(inputs, params, frame)
    holding = existing or Holding(
        project=project, key=job.key, kind=Holding.Kind.SURFACE, recipe=vars(step),
        name=free_name(project, request["name"]), created_by_id=job.created_by_id,
    )  # fmt: skip
    holding.live = request["live"]
    if holding.live:
        found = statistics(surface, progress)
    else:
        found = store(surface, holding.cells_path, progress, tags={"RECIPE": job.key})
        surface = StoredSurface(holding.cells_path)
    if found.empty == found.cells:
        holding.cells_path.unlink(missing_ok=True)
        raise InputError("Every cell came out empty: no input reaches the frame's cells. Check area and reach limit.")
    holding.facts = surface_facts(surface, found, findings)
    return _keep_surface(job, holding, surface)


def judge_all(job: Job, progress: Progress) -> Outcome:
    """Judge every surface of the project at its checkpoints."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    if project.checkpoints is None:
        return Outcome()
    todo = [holding for holding in project.holdings.all() if is_judgeable(holding)]
    for done, holding in enumerate(todo):
        progress(done / len(todo))
        judge(holding, project.checkpoints)
    return Outcome()


WORK: dict[str, Callable[[Job, Progress], Outcome]] = {
    "take_in": take_in,
    "run": run_operation,
    "judge": judge_all,
}
