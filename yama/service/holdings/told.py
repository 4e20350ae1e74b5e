"""A holding as the API tells it."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

import numpy as np
from ninja import Field, Schema

from yama.service.holdings.kinds import kind_of
from yama.service.holdings.kinds.cloud import CloudFacts
from yama.service.holdings.kinds.features import FeaturesFacts
from yama.service.holdings.kinds.image import ImageFacts
from yama.service.holdings.kinds.picture import PictureFacts
from yama.service.holdings.kinds.points import PointsFacts
from yama.service.holdings.kinds.surface import SurfaceFacts
from yama.service.holdings.kinds.table import TableFacts
from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.service.schemas import FindingOut
from yama.terrain import operations
from yama.terrain.grid import turn_between
from yama.terrain.kept import Kept
from yama.terrain.recipe import parted


class AccuracyOut(Schema):
    """Error figures at the project's checkpoints, in height units; null with a reason where there are none."""

    count: int = 0
    unused: int = 0
    mean: float | None = None
    median: float | None = None
    deviation: float | None = None
    rmse: float | None = None
    nmad: float | None = None
    mae: float | None = None
    le68: float | None = None
    le90: float | None = None
    le95: float | None = None
    lowest: float | None = None
    highest: float | None = None
    outliers: int = 0
    reason: str = ""


class RecipeOut(Schema):
    """What made a holding: operation, parameters, and the names of what went in. output: title of what it gave, where that is not the
    first. settings: the parameters for people, each in words."""

    operation: str
    title: str
    output: str
    params: dict[str, Any]
    settings: list[str]
    inputs: dict[str, str]
    input_ids: dict[str, int | list[int]]


class HolesOut(Schema):
    """Empty cells of a surface: how many holes its data surround, their cells, and empty cells outside its data."""

    count: int
    cells: int
    outside: int


class AnyHoldingOut(Schema):
    """What is told of every holding. fixed_by: name of the same upload with more declared about it, where there is one.
    instead_of: the holding it is a newer take of. outdated: what made it is computed otherwise by now. bounds: west, south, east,
    north in the frame's CRS."""

    id: int
    name: str
    key: str
    live: bool
    maker_id: int | None = None
    original: str
    created_at: datetime
    file: dict[str, Any] | None
    declared: dict[str, Any]
    origin: dict[str, Any]
    uploaded: bool
    fixed_by: str
    fixed_by_id: int | None
    instead_of: int | None
    outdated: bool
    bounds: tuple[float, float, float, float] | None
    holes: HolesOut | None
    findings: list[FindingOut]
    recipe: RecipeOut | None
    accuracy: AccuracyOut | None


class SurfaceOut(AnyHoldingOut):
    """A surface."""

    kind: Literal["surface"]
    surface: SurfaceFacts


class PointsOut(AnyHoldingOut):
    """Points."""

    kind: Literal["points"]
    points: PointsFacts


class FeaturesOut(AnyHoldingOut):
    """Lines and polygons."""

    kind: Literal["features"]
    features: FeaturesFacts


class CloudOut(AnyHoldingOut):
    """A point cloud."""

    kind: Literal["cloud"]
    cloud: CloudFacts


class ImageOut(AnyHoldingOut):
    """An image."""

    kind: Literal["image"]
    image: ImageFacts


class PictureHoldingOut(AnyHoldingOut):
    """A picture with a position."""

    kind: Literal["picture"]
    picture: PictureFacts


class TableHoldingOut(AnyHoldingOut):
    """A table of figures."""

    kind: Literal["table"]
    table: TableFacts


HoldingOut = Annotated[
    SurfaceOut | PointsOut | FeaturesOut | CloudOut | ImageOut | PictureHoldingOut | TableHoldingOut,
    Field(discriminator="kind"),
]
"""A thing held in a project, told apart by its kind."""


_settings: Kept[str, list[str]] = Kept(4_000)
"""By key of a step, which says all that they depend on: a list of a thousand edits is not read for every listing."""


def _recipe(holding: Holding, by_key: dict[str, Holding]) -> dict[str, Any] | None:
    step = holding.step
    if step is None:
        return None
    operation = operations.find(step.operation)
    taken = operation.inputs
    params, first = operation.upgraded(step.params)
    output = parted(holding.key)[1] or first
    sources = {role: [by_key.get(key) for key in keys] for role, keys in step.inputs.items()}
    return {
        "operation": step.operation,
        "title": operation.title,
        "output": operation.outputs[output].title if output != operation.first else "",
        "params": params,
        "settings": _settings.get(
            step.key, lambda: operations.parse_params(operation, operation.upgraded(step.params)[0]).in_words()
        ),
        "inputs": {
            role: ", ".join(one.name if one else "no longer here" for one in held) for role, held in sources.items()
        },
        "input_ids": {
            role: [one.pk for one in held if one] if taken[role].many else held[0].pk
            for role, held in sources.items()
            if held and held[0]
        },
    }


def _accuracy(holding: Holding, project: Project) -> dict[str, Any] | None:
    for card in holding.scorecards.all():
        if card.checkpoints_id == project.checkpoints_id:
            return card.figures["all"] if card.figures else {"reason": card.reason}
    return None


def _fixed_by(holding: Holding, by_key: dict[str, Holding]) -> Holding | None:
    """The newest holding of the same upload with more declared about it."""
    if not holding.file_key:
        return None
    more = [
        other for other in by_key.values()
        if other.file_key == holding.file_key and other.pk > holding.pk and holding.declared.items() < other.declared.items()
    ]  # fmt: skip
    return max(more, key=lambda other: other.pk, default=None)


def _bounds(holding: Holding, project: Project) -> tuple[float, ...] | None:
    box = kind_of(holding).box(holding)
    if box is None:
        return None
    crs, bounds = box
    frame = project.frame.grid.crs
    found = bounds if crs == frame else turn_between(crs, frame).transform_bounds(*bounds)
    return tuple(float(value) for value in found) if np.isfinite(found).all() else None


def told(holding: Holding, project: Project, by_key: dict[str, Holding]) -> dict[str, Any]:
    """A holding as `HoldingOut` has it. by_key: all holdings of the project."""
    step = holding.step
    fixed = _fixed_by(holding, by_key)
    return {
        "id": holding.pk,
        "kind": holding.kind,
        "name": holding.name,
        "key": holding.key,
        "live": holding.live,
        "maker_id": holding.created_by_id,
        "original": holding.original,
        "created_at": holding.created_at,
        holding.kind: kind_of(holding).facts(holding, project),
        "file": holding.facts.get("file"),
        "declared": holding.declared,
        "origin": holding.origin,
        "uploaded": bool(holding.file_key),
        "fixed_by": fixed.name if fixed else "",
        "fixed_by_id": fixed.pk if fixed else None,
        "instead_of": by_key[holding.instead_of].pk if holding.instead_of in by_key else None,
        "outdated": step is not None and step.version != operations.find(step.operation).version,
        "bounds": _bounds(holding, project),
        "holes": holding.facts.get("holes"),
        "findings": holding.facts.get("findings", []),
        "recipe": _recipe(holding, by_key),
        "accuracy": _accuracy(holding, project),
    }
