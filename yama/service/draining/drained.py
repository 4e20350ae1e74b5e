"""Water over surfaces, worked out once as a job and looked at in any way afterwards."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

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
from yama.terrain.drain.conditioning import Limits, Method
from yama.terrain.drain.drainage import Conditioning, Known, drainage, told
from yama.terrain.drain.networks import plain_lines
from yama.terrain.drain.stored import StoredDrainage, keep_drainage, open_drainage
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.clip import polygons_of
from yama.terrain.kept import Kept
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS, in_unit

_MOST_HELD = 8
"""Of a project; those that were not looked at for longest are dropped."""
_open: Kept[Path, StoredDrainage] = Kept(8)


class DrainedIn(Schema):
    """Water over a surface. kept: a holding whose polygons keep the water of hollows. method, most_depth, most_area,
    most_length: what becomes of hollows and up to where, in metres and square metres. sea: the height in metres up to
    which what reaches the rim is sea. burned: a holding whose lines are burned in, with a bed so wide and deep and with
    such banks, in metres. All of it as the operation `condition` has it."""

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
        known = Known(tuple(lakes), tuple(streams))
        return cls(project, holding, known, Conditioning(body.method, limits, body.sea, burning))

    @cached_property
    def surface(self) -> Surface:
        """With heights in metres."""
        found = keys.surface_of_holding(self.holding)
        return in_unit(found, "m") if found.unit in UNITS else found

    @property
    def folder(self) -> Path:
        """Where it is kept."""
        return _folder(self.project) / told(self.surface, self.conditioning, self.known)[:32]

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
        found = drainage(self.surface, self.conditioning, self.known, part_of(progress, 0.1, 0.9))
        keep_drainage(found, self.folder)
        progress(1.0)


def _folder(project: Project) -> Path:
    return project_dir(project.pk) / "drainage"


def _drop_old(project: Project) -> None:
    held = [one for one in _folder(project).iterdir() if (one / "facts.json").exists()]
    held.sort(key=lambda one: (one / "facts.json").stat().st_mtime)
    for one in held[:-_MOST_HELD]:
        shutil.rmtree(one, ignore_errors=True)


def drain(job: Job, progress: Progress) -> Outcome:
    """Work out water over a surface."""
    project = Project.objects.get(pk=job.project_id)
    body = DrainedIn(**job.request)
    if not Holding.objects.filter(pk=body.surface, project=project).exists():
        raise InputError("The surface is no longer in the project.")
    Asked.of(project, body).work_out(progress)
    _drop_old(project)
    return Outcome()


def told_of(found: StoredDrainage) -> dict[str, Any]:
    """What conditioning did, and how streams depend on where they begin."""
    return {name: found.facts[name] for name in ("least", "most", "moved", "left", "filled", "breached", "curve")}
