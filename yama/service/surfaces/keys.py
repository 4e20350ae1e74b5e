"""From a key to the surface behind it: stored files, live recipes, and previews nobody has kept."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from django.http import Http404

from yama.service.holdings.kinds import SURFACE, kind_of
from yama.service.holdings.models import Holding, Preview, find_key, project_dir
from yama.service.projects.models import Project
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.held import Held
from yama.terrain.kept import Kept
from yama.terrain.operations import Results, Task, View, task_of
from yama.terrain.recipe import Step, parted
from yama.terrain.surface import Facets, StoredSurface, Surface
from yama.terrain.table import Table
from yama.terrain.units import in_unit

_QUICK = re.compile(r"quick-[a-z]{1,25}")
_KEY = re.compile(r"[\w-]{1,40}(:[a-z_]{1,24})?")
_HELD = 48

_recent: Kept[tuple[int, str, str], Any] = Kept(_HELD)
"""What was used last, so that a triangulation is not made again for every tile."""


def held_by(holding: Holding) -> Held:
    """What a holding holds, as the core knows it."""
    if holding.live:
        return surface_of_holding(holding)
    if kind_of(holding) is SURFACE:
        return surface_of_holding(holding)
    found: Held = _recent.get((holding.project_id, holding.key, "held"), lambda: kind_of(holding).load(holding))
    return found


def surface_of_holding(holding: Holding) -> Surface:
    """The surface of a holding, from its file where it is stored, else from its recipe."""
    step = holding.step
    if holding.live:
        assert step is not None, "a live holding has a recipe"
        found = _live(holding.project_id, step, parted(holding.key)[1])
    else:
        found = _recent.get((holding.project_id, holding.key, "stored"), lambda: SURFACE.load(holding))
    found.name = product_of(holding)
    return found


def product_of(holding: Holding) -> str:
    """What people call a surface: its name, or for a tile that of the product it is of."""
    tile = holding.origin.get("tile")
    return holding.name.split(f" {tile}")[0] if tile else holding.name


def look_up(project_id: int, what: Holding | str) -> tuple[Held, str]:
    """What a holding holds, or the surface that somebody looks at under a key, with its key. Raises InputError where
    there is no such thing."""
    if isinstance(what, Holding):
        return held_by(what), what.key
    holding = find_key(project_id, what)
    if holding is not None:
        return held_by(holding), what
    step = _preview_of(project_id, what)
    if step is None:
        raise InputError("What this is made from is no longer in the project. Choose it again.")
    return _live(project_id, step, parted(what)[1]), what


def task_for(project_id: int, step: Step) -> tuple[Task, str]:
    """The task of a step, and the output its key names. Raises InputError where an input is gone."""
    return task_of(step, {name: [look_up(project_id, key)[0] for key in keys] for name, keys in step.inputs.items()})


def _results(project_id: int, step: Step, task: Task | None = None) -> tuple[Results, str]:
    """What a step gives, none of it computed yet, and the output its key names. task: the step's, where it is at hand."""

    def make() -> tuple[Results, str]:
        done, first = (task, task.operation.first) if task else task_for(project_id, step)
        return done.run(), first

    found: tuple[Results, str] = _recent.get((project_id, step.key, "results"), make)
    return found


def told_of(project_id: int, step: Step) -> list[tuple[str, Table]]:
    """Tables that a step gives and a report tells, each with its title. Raises InputError where an input is gone."""
    outputs = operations.find(step.operation).outputs
    titles = {name: output.title for name, output in outputs.items() if output.told}
    if not titles:
        return []
    results, _ = _results(project_id, step)
    made = ((title, results[name]) for name, title in titles.items())
    return [(title, table) for title, table in made if isinstance(table, Table)]


def _live(project_id: int, step: Step, output: str) -> Surface:
    results, first = _results(project_id, step)
    return results.surface(output or first)


def _preview_of(project_id: int, key: str) -> Step | None:
    """The step that somebody looks at under a key, or that of another of its outputs."""
    found = Preview.objects.filter(project_id=project_id, key=parted(key)[0]).first()
    return Step.from_dict(found.step) if found else None


def keep_preview(project_id: int, step: Step) -> None:
    """Remember a step under its key, so that tiles of what it gives can be asked for."""
    # one statement: somebody waits for it
    Preview.objects.bulk_create(
        [Preview(project_id=project_id, key=step.key, step=vars(step))],
        update_conflicts=True,
        update_fields=["step", "asked_at"],
    )


def rough_of(project: Project, key: str) -> Surface | None:
    """What stands in for a preview while it is looked at; None where it is quick enough itself, or where the key is that of a
    holding: what is kept is shown as it is."""
    if not _KEY.fullmatch(key) or find_key(project.pk, key) is not None:
        return None
    step = _preview_of(project.pk, key)
    return None if step is None else _rough(project, step, parted(key)[1])


def _rough(project: Project, step: Step, output: str, task: Task | None = None) -> Surface | None:
    def make() -> tuple[Results | None, str]:
        done, first = (task, task.operation.first) if task else task_for(project.pk, step)
        return done.preview(whole_view(project)), first

    results, first = _recent.get((project.pk, step.key, "rough"), make)
    wanted = output or first
    return results.surface(wanted) if results is not None and wanted in results else None


def seen_of(project: Project, step: Step, output: str, task: Task) -> tuple[Surface, bool]:
    """What the map shows of an output before it is kept, and whether that is only nearly what will be made. The task is the step's;
    what it gives is held for the tiles that are asked for next."""
    stand_in = _rough(project, step, output, task)
    if stand_in is not None:
        return stand_in, True
    results, _ = _results(project.pk, step, task)
    return results.surface(output), False


def whole_view(project: Project) -> View:
    """All of a project's frame."""
    return View(project.frame.grid.bounds, 0)


def surface_of(project_id: int, key: str) -> tuple[Surface, Step | None]:
    """The surface of a key in a project, with its step. Raises Http404 where the project has no such surface."""
    if not _KEY.fullmatch(key):
        raise Http404
    holding = find_key(project_id, key)
    if holding is not None:
        if kind_of(holding) is not SURFACE:
            raise Http404
        return surface_of_holding(holding), holding.step
    if _QUICK.fullmatch(key):
        path = quick_look_path(project_id, key)
        if path.exists():
            found: Surface = _recent.get((project_id, key, "stored"), lambda: StoredSurface(path))
            return found, None
    step = _preview_of(project_id, key)
    if step is None:
        raise Http404
    try:
        return _live(project_id, step, parted(key)[1]), step
    except (KeyError, TypeError) as error:
        raise Http404 from error


def shown(project: Project, key: str) -> Surface:
    """The surface of a key as the desk shows it: with heights in the frame's unit, whatever it is stored in; of a
    slow preview what stands in for it. Raises Http404."""
    return in_unit(rough_of(project, key) or surface_of(project.pk, key)[0], project.frame.unit)


def _computed(project_id: int, key: str) -> Surface:
    """The surface of a key, computed from its recipe even where it is stored. Raises Http404, InputError where an input of it is
    gone."""
    surface, step = surface_of(project_id, key)
    return (
        _live(project_id, step, parted(key)[1]) if step is not None and isinstance(surface, StoredSurface) else surface
    )


def facets_of(project_id: int, key: str) -> Facets | None:
    """The facets a surface is made of; None where it is none of facets. Raises Http404 where the project has no such surface,
    InputError where an input of it is gone."""
    return _computed(project_id, key).facets


def source_at(project_id: int, key: str, cell: Window) -> str | None:
    """The name of what a cell of the frame came from; None where it is empty, the surface is not of several, or its inputs are gone.
    Raises Http404 where the project has no such surface."""
    try:
        source = _computed(project_id, key).companions.get("source")
    except InputError:
        return None
    if source is None:
        return None
    value = source.read(cell)[0, 0]
    return next((one.name for one in source.categories if one.value == value), None)


def quick_look_path(project_id: int, key: str) -> Path:
    """Where the quick look at a provider's product lies, once it was fetched; its key is `quick-` and the provider."""
    return project_dir(project_id) / f"{key}.tif"
