"""Water over surfaces, worked out once as a job and looked at in any way afterwards."""

from __future__ import annotations

import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import shapely
from django.shortcuts import get_object_or_404
from ninja import Field, Schema

from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, kind_of
from yama.service.holdings.models import Holding, project_dir
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.projects.models import Project
from yama.service.surfaces import keys
from yama.terrain.drain.burning import Burning
from yama.terrain.drain.catchments import Catchments, Outlet, catchments
from yama.terrain.drain.drainage import Conditioning, Known, places_in, told, water_over
from yama.terrain.drain.networks import plain_lines
from yama.terrain.drain.stored import StoredDrainage, keep_drainage, open_drainage
from yama.terrain.drain.streams import Heads, Streams
from yama.terrain.drain.working_off import Limits, Method
from yama.terrain.errors import InputError
from yama.terrain.features import Features, turned
from yama.terrain.fit.clip import polygons_of
from yama.terrain.kept import Kept
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS, in_unit

HECTARE = 10_000.0
_MOST_HELD = 12
_MOST_BYTES = 20_000_000_000
"""Of a project; those that were not looked at for longest are dropped, but never the last one."""
_open: Kept[Path, StoredDrainage] = Kept(12)


class DrainedIn(Schema):
    """Water over a surface. kept: a holding whose polygons keep the water of hollows. method, most_depth, most_area,
    most_length: what becomes of hollows and up to where, in metres and square metres. sea: the height in metres up to
    which what reaches the rim is sea. burned: a holding whose lines are burned in, with a bed so wide and deep and with
    such banks, in metres. waters_at: places in frame coordinates whose hollows keep their water. All of it as the
    operation `condition` has it."""

    surface: int
    kept: int | None = None
    method: Method = "lesser"
    most_depth: float | None = Field(None, gt=0, le=10_000)
    most_area: float | None = Field(None, gt=0, le=1e12)
    most_length: float | None = Field(None, gt=0, le=1e6)
    sea: float | None = Field(None, ge=-20_000, le=20_000)
    burned: int | None = None
    bed_width: float = Field(4.0, gt=0, le=1_000)
    bed_depth: float = Field(1.0, ge=0, le=100)
    bed_bank: float = Field(4.0, ge=0, le=1_000)
    waters_at: list[tuple[float, float]] = Field([], max_length=200)


class NetworkIn(DrainedIn):
    """Which streams. begins_at: hectares that drain through a cell; the nearest that is known is taken. minimum_length:
    metres; shorter ones between a head and a junction are left out. heads: as the
    operation `streams` has it. over_level: whether the stretches over level ground are among them."""

    begins_at: float = Field(5.0, gt=0, le=1e8)
    heads: Heads = "area"
    minimum_length: float = Field(0.0, ge=0, le=1e6)
    over_level: bool = True


class OutletIn(Schema):
    """A place in frame coordinates, and its name."""

    x: float
    y: float
    name: str = Field("", max_length=120)


def network_of(found: StoredDrainage, body: NetworkIn, above: Sequence[Outlet] | None = None) -> tuple[Streams, float]:
    """The streams that are asked for, above outlets alone where these are given; and the square metres at which they
    begin."""
    area = min(max(body.begins_at * HECTARE, found.facts["least"]), found.facts["most"])
    cells = None if above is None else [one.cell for one in above]
    return found.channels.streams(area, body.minimum_length, body.over_level, body.heads, cells), area


def place_of(found: StoredDrainage, x: float, y: float, crs: str) -> tuple[float, float]:
    """A place of a CRS in that of what was found."""
    at = turned(shapely.Point(x, y), crs, found.grid.crs)
    return float(at.x), float(at.y)


def outlet_of(found: StoredDrainage, asked: OutletIn, snap: float, crs: str) -> Outlet:
    """An outlet that is given in a CRS, moved to where most ground drains. Raises InputError where none does."""
    return found.outlet(*place_of(found, asked.x, asked.y, crs), snap, asked.name)


def catchment_of(found: StoredDrainage, asked: OutletIn, snap: float, crs: str) -> Catchments:
    """The catchment of an outlet that is given in a CRS. Raises InputError where there is none."""
    return catchments(found.to, found.grid, [outlet_of(found, asked, snap, crs)])


def lines_or_areas(project: Project, number: int) -> Features:
    """The features of a holding. Raises Http404, or InputError where it has none."""
    holding = get_object_or_404(Holding, pk=number, project=project)
    if kind_of(holding) is not FEATURES:
        raise InputError(f"{holding.name} holds no lines or polygons. Choose rivers or lakes.")
    return features_of(holding)


@dataclass(frozen=True)
class Asked:
    """Water over a surface of a project, as somebody asks for it."""

    project: Project
    holding: Holding
    known: Known
    conditioning: Conditioning

    @classmethod
    def of(cls, project: Project, body: DrainedIn) -> Asked:
        """As asked for. Raises Http404, or InputError where it is no surface of heights."""
        holding = get_object_or_404(Holding, pk=body.surface, project=project)
        if not kind_of(holding).is_judgeable(holding):
            raise InputError(f"{holding.name} has no heights that water could run over. Choose a surface of heights.")
        crs = holding.facts["grid"]["crs"]
        lakes = polygons_of([lines_or_areas(project, body.kept)], crs) if body.kept is not None else []
        if body.kept is not None and not lakes:
            raise InputError("What is to keep its water holds no polygons. Choose lakes.")
        streams = plain_lines([lines_or_areas(project, body.burned)], crs) if body.burned is not None else []
        if body.burned is not None and not streams:
            raise InputError("What is to be burned in holds no lines. Choose rivers.")
        burning = Burning(body.bed_width, body.bed_depth, body.bed_bank) if streams else None
        limits = Limits(body.most_depth, body.most_area, body.most_length)
        waters = places_in(body.waters_at, project.frame.grid.crs, crs)
        known = Known(tuple(lakes), tuple(streams), waters)
        return cls(project, holding, known, Conditioning(body.method, limits, body.sea, burning))

    @cached_property
    def surface(self) -> Surface:
        """With heights in metres."""
        found = keys.surface_of_holding(self.holding)
        return in_unit(found, "m") if found.unit in UNITS else found

    @property
    def folder(self) -> Path:
        """Where it is kept."""
        return folder_of(self.project) / told(self.surface, self.conditioning, self.known)[:32]

    def found(self) -> StoredDrainage | None:
        """What is known; None where it was not worked out yet."""
        folder = self.folder
        try:
            os.utime(folder / "facts.json")  # looked at just now
            return _open.get(folder, lambda: open_drainage(folder))
        except FileNotFoundError:  # nobody asked for it yet, or it was dropped
            return None

    def work_out(self, progress: Progress) -> None:
        """Work it out and keep it."""
        self.surface.prepare(part_of(progress, 0.0, 0.1))
        found = water_over(self.surface, self.conditioning, self.known, progress=part_of(progress, 0.1, 0.9))
        keep_drainage(found, self.folder)
        progress(1.0)


def folder_of(project: Project) -> Path:
    """Where all that was worked out about water is kept."""
    return project_dir(project.pk) / "drainage"


def drop_old(folder: Path, name: str) -> None:
    """Drop what is kept in folders with a file of this name, but for what was looked at last."""
    held = [one for one in folder.iterdir() if (one / name).exists()]
    held.sort(key=lambda one: (one / name).stat().st_mtime, reverse=True)
    size = 0
    for number, one in enumerate(held):
        size += sum(path.stat().st_size for path in one.iterdir())
        if number >= _MOST_HELD or (number > 0 and size > _MOST_BYTES):
            shutil.rmtree(one, ignore_errors=True)


def drain(job: Job, progress: Progress) -> Outcome:
    """Work out water over a surface."""
    project = Project.objects.get(pk=job.project_id)
    body = DrainedIn(**job.request)
    if not Holding.objects.filter(pk=body.surface, project=project).exists():
        raise InputError("The surface is no longer in the project.")
    Asked.of(project, body).work_out(progress)
    drop_old(folder_of(project), "facts.json")
    return Outcome()


def told_of(found: StoredDrainage) -> dict[str, Any]:
    """What conditioning did, and how streams depend on where they begin."""
    names = ("least", "most", "moved", "left", "filled", "breached", "missed", "curve")
    return {name: found.facts[name] for name in names}
