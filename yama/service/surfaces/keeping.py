"""Keeping what was made or taken in: files into place, then the row, with picture and scorecard where it is a surface."""

from __future__ import annotations

from pathlib import Path

from django.db import transaction

from yama.service.holdings.kinds import FEATURES, SURFACE, kind_of
from yama.service.holdings.models import Holding, Scorecard
from yama.service.holdings.steps import quantity_of
from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.service.projects.models import Project
from yama.service.surfaces.judged import figures_at
from yama.terrain.files import replacing
from yama.terrain.findings import Finding, from_dict
from yama.terrain.frame import Frame
from yama.terrain.kinds import Kept
from yama.terrain.quantities import Quantity
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import picture
from yama.terrain.surface import Surface


def draw_picture(surface: Surface, frame: Frame, path: Path, quantity: Quantity = "height") -> None:
    """Write the small picture of a surface."""
    with replacing(path) as part:
        part.write_bytes(picture(surface, frame.grid, Dress.usual(quantity)))


def keep_surface(job: Job, holding: Holding, surface: Surface) -> Outcome:
    """Picture, row and scorecard of a surface whose cells and facts are in place: the row last, when all else is there."""
    project = Project.objects.select_related("checkpoints").get(pk=job.project_id)
    draw_picture(surface, project.frame, holding.picture_path, quantity_of(holding))
    checkpoints = project.checkpoints if kind_of(holding).is_judgeable(holding) else None
    figures = figures_at(holding, checkpoints) if checkpoints is not None else {}
    with transaction.atomic():
        holding.save()
        if checkpoints is not None:
            Scorecard.objects.update_or_create(surface=holding, checkpoints=checkpoints, defaults=figures)
    return Outcome(holding.pk, findings=[from_dict(one) for one in holding.facts["findings"]])


def keep(job: Job, holding: Holding, kept: Kept, folder: Path, more: list[Finding] | None = None) -> Outcome:
    """Keep what was read of a file. more: findings about it beside other things."""
    holding.kind = kept.kind
    kept.findings += more or []
    kind = kind_of(holding)
    kind.keep(holding, kept, folder)
    if kind is SURFACE:
        return keep_surface(job, holding, SURFACE.load(holding))
    if kind is not FEATURES:
        holding.save()
    return Outcome(holding.pk, findings=kept.findings)
