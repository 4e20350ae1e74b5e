"""From a key to the surface or points behind it: stored files, live recipes, and previews nobody has kept."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
from django.core.cache import cache
from django.http import Http404

from yama.service.holdings.features import features_of
from yama.service.holdings.models import Holding, find_key, project_dir
from yama.service.projects.models import Project
from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.fit.reproject import fitted
from yama.terrain.formats import Held, image, las
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.rough import Sparse
from yama.terrain.interpolate.triangulation import Facets
from yama.terrain.kept import Kept
from yama.terrain.operations.base import Quantity
from yama.terrain.points import Points
from yama.terrain.recipe import Step
from yama.terrain.relief.slope import gradient, gradients_of
from yama.terrain.relief.tone import REACH, Shade, tone, tone_of
from yama.terrain.surface import Heights, StoredSurface, Surface
from yama.terrain.units import UNITS, in_unit

_QUICK = re.compile(r"quick-[a-z]{1,25}")
_KEY = re.compile(r"[\w-]{1,64}")
_HELD = 48
_COARSE = 3.0
_PREVIEW_SECONDS = 6 * 3600


_recent: Kept[tuple[int, str, str], Any] = Kept(_HELD)
"""The surfaces and points used last, so that a triangulation is not made again for every tile."""


def points_of(holding: Holding) -> Points:
    """The points of a holding."""
    found: Points = _recent.get((holding.project_id, holding.key, "points"), lambda: Points.load(holding.points_path))
    return found


def surface_of_holding(holding: Holding) -> Surface:
    """The surface of a holding, from its file where it is stored, else from its recipe."""
    if not holding.live:
        path = holding.cells_path
        found: Surface = _recent.get((holding.project_id, holding.key, "stored"), lambda: StoredSurface(path))
        return found
    step = holding.step
    assert step is not None, "a live holding has a recipe"
    return _live(holding.project_id, step)


def _task_of(project_id: int, step: Step) -> operations.Task:
    operation = operations.find(step.operation)
    params = operations.parse_params(operation, step.params)
    return operations.Task(operation, inputs_of(project_id, step), params, Frame.from_dict(step.frame or {}))


def _live(project_id: int, step: Step) -> Surface:
    found: Surface = _recent.get((project_id, step.key, "live"), lambda: _task_of(project_id, step).run())
    return found


def rough_of(project_id: int, key: str) -> Surface | None:
    """What stands in for a preview while it is looked at; None where it is quick enough itself, or where the key is that of a
    holding: what is kept is shown as it is."""
    if not _KEY.fullmatch(key) or find_key(project_id, key) is not None:
        return None
    data = cache.get(f"preview:{project_id}:{key}")
    if data is None:
        return None
    step = Step.from_dict(data)
    found: Surface | None = _recent.get((project_id, key, "rough"), lambda: _task_of(project_id, step).rough())
    return found


def held_by(holding: Holding) -> Held:
    """What a holding holds, as the core knows it."""
    if holding.kind == Holding.Kind.POINTS:
        return points_of(holding)
    if holding.kind == Holding.Kind.SURFACE:
        return surface_of_holding(holding)
    if holding.kind == Holding.Kind.CLOUD:
        return las.read(holding.upload_path, Declared.from_dict(holding.declared), holding.original)
    if holding.kind == Holding.Kind.IMAGE:
        return image.read(holding.upload_path, Declared.from_dict(holding.declared), holding.original)
    return features_of(holding)


def exact_of(surface: Surface) -> Surface | None:
    """What a stand-in stands for; None where a surface is none."""
    found: Surface | None = surface
    while found is not None and not isinstance(found, Sparse):
        found = getattr(found, "surface", None)
    return found.exact if found is not None else None


def inputs_of(project_id: int, step: Step) -> dict[str, Held | list[Held]]:
    """The inputs a step names, as its operation takes them. Raises InputError where one is gone."""
    inputs: dict[str, Held | list[Held]] = {}
    for name, keys in step.inputs.items():
        holdings = [find_key(project_id, key) for key in keys]
        if any(holding is None for holding in holdings):
            raise InputError(f"An input of this ({name}) is no longer in the project. Choose it again.")
        inputs[name] = [held_by(holding) for holding in holdings if holding]
    return operations.take_inputs(operations.find(step.operation), inputs)


def keep_preview(project_id: int, step: Step) -> None:
    """Remember a recipe under its key for some hours, so that its tiles can be asked for."""
    cache.set(f"preview:{project_id}:{step.key}", vars(step), _PREVIEW_SECONDS)


def surface_of(project_id: int, key: str) -> tuple[Surface, Step | None]:
    """The surface of a key in a project, with its step. Raises Http404 where the project has no such surface."""
    if not _KEY.fullmatch(key):
        raise Http404
    holding = find_key(project_id, key)
    if holding is not None and holding.kind == Holding.Kind.SURFACE:
        return surface_of_holding(holding), holding.step
    if _QUICK.fullmatch(key):
        path = quick_look_path(project_id, key)
        if path.exists():
            found: Surface = _recent.get((project_id, key, "stored"), lambda: StoredSurface(path))
            return found, None
    data = cache.get(f"preview:{project_id}:{key}")
    if data is None:
        raise Http404
    step = Step.from_dict(data)
    return _live(project_id, step), step


def shown(project: Project, key: str) -> Surface:
    """The surface of a key as the desk shows it: with heights in the frame's unit, whatever it is stored in; of a
    slow preview what stands in for it. Raises Http404."""
    return in_unit(rough_of(project.pk, key) or surface_of(project.pk, key)[0], project.frame.unit)


def facets_of(project_id: int, key: str) -> Facets | None:
    """The facets a surface is made of, from its recipe; None where it is none of facets. Raises Http404 where the project has
    no such surface, InputError where an input of it is gone."""
    surface, step = surface_of(project_id, key)
    if step is not None and isinstance(surface, StoredSurface):
        surface = _live(project_id, step)
    while not isinstance(surface, Facets):
        below = getattr(surface, "surface", None)
        if not isinstance(below, Surface):
            return None
        surface = below
    return surface


def source_at(project_id: int, key: str, cell: Window) -> str | None:
    """The name of the holding that a cell of the frame came from in a mosaic; None where it is empty, the surface is no mosaic,
    or its inputs are gone. Raises Http404 where the project has no such surface."""
    surface, step = surface_of(project_id, key)
    if step is None or "surfaces" not in step.inputs:
        return None
    try:
        found: Any = _live(project_id, step) if isinstance(surface, StoredSurface) else surface
    except InputError:
        return None
    while not hasattr(found, "sources"):
        found = getattr(found, "surface", None)
        if found is None:
            return None
    number = int(found.sources(cell)[0, 0])
    if number < 0:
        return None
    groups = step.params.get("groups") or list(range(len(step.inputs["surfaces"])))
    holding = find_key(project_id, step.inputs["surfaces"][groups.index(number)])
    if holding is None:
        return None
    tile = holding.origin.get("tile")
    many = groups.count(number) > 1 and tile
    return str(holding.name.split(f" {tile}")[0] if many else holding.name)


def quick_look_path(project_id: int, key: str) -> Path:
    """Where the quick look at a provider's product lies, once it was fetched; its key is `quick-` and the provider."""
    return project_dir(project_id) / f"{key}.tif"


def quantity_of(step: Step | None) -> Quantity:
    """What a surface's cells say."""
    if step is None:
        return "height"
    operation = operations.find(step.operation)
    return operation.quantity_of(operations.parse_params(operation, step.params))


def is_coarse(frame: Grid, grid: Grid) -> bool:
    """Whether a surface's own cells are so much larger than the frame's that they are shown as they are."""
    return min(grid.metres_per_cell()) > _COARSE * min(frame.metres_per_cell())


def tile_bands(project: Project, surface: Surface, window: Window, level: int, shade: Shade = "none") -> list[Heights]:
    """What the map draws a window of a level from: heights on the frame's grid.

    Heights are in the frame's unit. A coarse surface brings its gradients towards east and north as well, taken on its own cells, so that each of
    these is one flat patch of one shade. Where the view is too wide for that it is read smoothly instead. With a shade its tone from -1 to 1
    comes last.
    """
    frame = project.frame.grid
    surface = in_unit(surface, project.frame.unit)
    metres = np.float32(UNITS.get(surface.unit, 1.0))
    at = frame.at_level(level)
    coarse = is_coarse(frame, surface.grid)
    if coarse and is_coarse(at, surface.grid):
        layers = [surface, gradient(surface, 0), gradient(surface, 1)]
        if shade != "none":
            layers.append(tone(surface, shade))
        heights, east, north, *tones = (fitted(layer, frame, "nearest").read(window, level) for layer in layers)
        east, north = east / metres, north / metres  # as the heights, which the map turns into metres for its light
    else:
        halo = REACH if shade != "none" else int(coarse)
        around = fitted(surface, frame).read(window.grown(halo), level)
        heights = around[halo : halo + window.rows, halo : halo + window.cols]
        tones = (
            [tone_of(around * metres, at.part(window.grown(halo)), shade, frame.ground())] if shade != "none" else []
        )
        if coarse:
            ring = slice(halo - 1, 1 - halo or None)
            east, north = gradients_of(around[ring, ring], at.part(window.grown(1)), frame.ground())
    # finer than any eye tells shades apart, and a third of the bytes
    slopes = [np.round(slope * 256) / np.float32(256) for slope in (east, north)] if coarse else []
    return [heights, *slopes, *(np.round(one * 128) / np.float32(128) for one in tones)]
