"""Running operations, as jobs: what a step gives is kept, each output as a holding of its own."""

from __future__ import annotations

from dataclasses import dataclass, replace

from yama.service.holdings.deleted import find_again
from yama.service.holdings.drafts import end_draft
from yama.service.holdings.features import keep_features
from yama.service.holdings.holes import keep_holes
from yama.service.holdings.kinds import TABLE, kind_of
from yama.service.holdings.kinds.surface import facts_of
from yama.service.holdings.models import Holding, free_name, working_folder
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.surfaces import keys
from yama.service.surfaces.keeping import keep, keep_surface
from yama.terrain import kinds, operations
from yama.terrain.apart import readers
from yama.terrain.cloud import NewCloud
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.files import put_in_place
from yama.terrain.findings import Finding
from yama.terrain.formats.declared import Declared
from yama.terrain.operations import Result
from yama.terrain.progress import Progress
from yama.terrain.recipe import Step, below, file_key, part_key, parted, with_instead
from yama.terrain.surface import StoredSurface, Surface, statistics, store
from yama.terrain.table import Table
from yama.terrain.voids import holes_of


@dataclass
class Asked:
    """How the outputs of a step are to be kept.

    Parameters
    ----------
    name : str
        Of the first; the others are called after it.
    live : bool
        Of surfaces the recipe alone is kept.
    outputs : list of str, optional
        Those to make; the ones always made where not given.
    instead_of : str
        Key of the holding that the first is a newer take of.
    """

    name: str
    live: bool = False
    outputs: list[str] | None = None
    instead_of: str = ""


def run_operation(job: Job, progress: Progress) -> Outcome:
    """Run an operation and keep what it gives, stored or live."""
    request = job.request
    step = Step.from_dict(request["step"])
    asked = Asked(request["name"], request["live"], request.get("outputs"), request.get("instead_of", ""))
    outcome = _run(job, step, asked, progress)
    if "draft" in request:
        end_draft(request["draft"], step)
    return outcome


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
        output = parted(key)[1]
        asked = Asked(old.name, old.live, [output] if output else None, key)
        made = _run(job, step, asked, lambda part, done=done: progress((done + part) / len(todo)))  # type: ignore[misc]
        instead[key] = f"{step.key}:{output}" if output else step.key
        last = made.holding_id
        findings += [replace(one, sentence=f"{old.name}: {one.sentence}") for one in made.findings]
    return Outcome(last, findings=findings)


def _run(job: Job, step: Step, asked: Asked, progress: Progress) -> Outcome:
    """Make those of the outputs that are not there yet, and keep each."""
    project = job.project
    task, first = keys.task_for(project.pk, step)
    # a step of before operations had several outputs was run for one
    wanted = asked.outputs or (task.chosen() if first == task.operation.first else [first])
    there = {name: find_again(project.pk, part_key(step.key, name, first)) for name in wanted}
    todo = [name for name, one in there.items() if one is None or (one.live and not asked.live)]
    if not todo:
        held = there[wanted[0]]
        return Outcome(held.pk if held else None)
    share = 1 / (len(todo) + 1)
    results = task.run(lambda part: progress(share * part))
    outcome = Outcome(findings=[*task.findings])
    for done, name in enumerate(todo, start=1):
        output, existing = task.outputs[name], there[name]
        called = asked.name if name == wanted[0] else f"{asked.name}, {output.title.lower()}"
        holding = existing or Holding(
            project=project, key=part_key(step.key, name, first), kind=output.kind, recipe=vars(step),
            name=free_name(project, called), created_by_id=job.created_by_id,
            instead_of=asked.instead_of if name == wanted[0] else "",
        )  # fmt: skip
        part = _part(progress, done * share, share)
        made = _keep(job, holding, results[name], asked.live, task.findings, part)
        outcome.holding_id = outcome.holding_id or made.holding_id
        outcome.findings += [one for one in made.findings if one not in outcome.findings]
    return outcome


def _part(progress: Progress, start: float, share: float) -> Progress:
    """The progress of a part of the work, which begins at `start` and is `share` of it."""
    return lambda done: progress(start + share * done)


def _keep(
    job: Job, holding: Holding, result: Result, live: bool, findings: list[Finding], progress: Progress
) -> Outcome:
    """Keep one output. findings: about what it was made of."""
    if isinstance(result, Features):
        keep_features(holding, result, {}, findings)
        return Outcome(holding.pk)
    if isinstance(result, Table):
        TABLE.keep_made(holding, result, findings)
        return Outcome(holding.pk)
    if isinstance(result, NewCloud):
        return _keep_cloud(job, holding, result, progress)
    return _keep_surface(job, holding, result, live, findings, progress)


def _keep_surface(
    job: Job, holding: Holding, result: Surface, live: bool, findings: list[Finding], progress: Progress
) -> Outcome:
    holding.live = live
    surface = result
    if live:
        found = statistics(result, progress)
    else:
        found = store(result, holding.cells_path, progress, tags={"RECIPE": holding.key})
        surface = StoredSurface(holding.cells_path)
    if found.empty == found.cells:
        holding.cells_path.unlink(missing_ok=True)
        raise InputError("Every cell came out empty: no input reaches the frame's cells. Check area and reach limit.")
    holding.facts = facts_of(result, found, [*findings, *result.findings])
    if not result.encoding.is_usual:
        holding.facts["encoding"] = vars(result.encoding)
    if not live and kind_of(holding).is_judgeable(holding):
        keep_holes(holding, holes_of(surface))
    return keep_surface(job, holding, surface)


def _keep_cloud(job: Job, holding: Holding, made: NewCloud, progress: Progress) -> Outcome:
    """Write a cloud that an operation gives, and take it in as if it had been added."""
    with working_folder(holding.project_id) as folder:
        path = folder / "made.laz"
        kinds.write(made, path, lambda share: progress(0.7 * share))
        holding.file_key = file_key(path)
        put_in_place(path, holding.upload_path)
        declared = Declared(crs=made.crs, unit=made.unit)
        holding.declared, holding.original = declared.to_dict(), f"{holding.name}.laz"
        kept = readers.take(
            holding.upload_path, declared, holding.original, "", holding.project.frame.grid.crs, folder,
            lambda share: progress(0.7 + 0.3 * share),
        )  # fmt: skip
        return keep(job, holding, kept, folder)
