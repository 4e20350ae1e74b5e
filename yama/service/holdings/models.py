"""Holdings: anything held in a project. Rows are here; arrays and uploads are files named by key."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, get_args

from django.conf import settings
from django.db import models

from yama.service.projects.models import Project
from yama.terrain.kinds import KindName
from yama.terrain.recipe import Step


class _Present(models.Manager["Holding"]):
    """Holdings that were not deleted."""

    def get_queryset(self) -> models.QuerySet[Holding]:
        return super().get_queryset().filter(deleted_at=None)


class Holding(models.Model):
    """Anything held in a project.

    deleted_at: since when it waits to be gone for good, see `deleted`; `objects` has only those that do not, `everything` all.
    was_checkpoints: that it judged the project's surfaces until then.

    key: hash of what made it (for an upload its bytes and what is declared about them, its recipe otherwise), with the name of the
    output behind it where it is not the step's first; the same key is the same holding. recipe: the step that made it, None for uploads. live: computed on sight, so it has no
    file of cells. declared: what was said about an upload that it does not say itself, as `Declared.to_dict`.
    facts: what is known of its contents: for surfaces `grid`, `statistics`, `unit`, `vertical_datum`; for points
    `count`, `codes`, `fields`, `height_field`, `bounds`; for clouds and features what their inspection gives; for all
    `findings`.
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="holdings")
    kind = models.CharField(max_length=10, choices=[(name, name.capitalize()) for name in get_args(KindName)])
    name = models.CharField(max_length=120)
    key = models.CharField(max_length=64)
    recipe = models.JSONField(null=True, blank=True)
    live = models.BooleanField(default=False)
    original = models.CharField(max_length=160, blank=True)
    """Name of the uploaded file as it was given, for people; the bytes lie at `upload_path`."""
    file_key = models.CharField(max_length=32, blank=True, db_index=True)
    """Hash of the uploaded bytes; several holdings may be of one upload, differently declared."""
    declared: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict, blank=True)
    origin: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict, blank=True)
    """Where an upload came from when nobody dropped it: depot, product and tile, or the zip it was in."""
    instead_of = models.CharField(max_length=32, blank=True)
    """Key of the holding that this is a newer take of; what was made from that one is out of date."""
    source_crs = models.TextField(blank=True)
    """CRS that the technician gave for an upload that did not say its own."""
    facts = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    deleted_at = models.DateTimeField(null=True, blank=True, db_index=True)
    deleted_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    was_checkpoints = models.BooleanField(default=False)

    objects = _Present()
    everything: models.Manager[Holding] = models.Manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="one_holding_a_key")]
        ordering = ["-created_at", "-id"]

    def __str__(self) -> str:
        return self.name

    @property
    def step(self) -> Step | None:
        """The recipe's step."""
        return Step.from_dict(self.recipe) if self.recipe else None

    @property
    def cells_path(self) -> Path:
        """Where a stored surface's cells are."""
        return project_dir(self.project_id) / f"{self.key}.tif"

    @property
    def table_path(self) -> Path:
        """Where a table is kept."""
        return project_dir(self.project_id) / f"{self.key}.table.json"

    @property
    def points_path(self) -> Path:
        """Where points are kept for work."""
        return project_dir(self.project_id) / f"{self.key}.npz"

    @property
    def upload_path(self) -> Path:
        """Where the uploaded bytes are, untouched."""
        return upload_path(self.project_id, self.file_key)

    @property
    def overview_path(self) -> Path:
        """Where a cloud's overview for the map is."""
        return project_dir(self.project_id) / f"{self.key}.cloud"

    @property
    def image_path(self) -> Path:
        """Where an image or a picture is kept with its coarser levels."""
        return project_dir(self.project_id) / f"{self.key}.image.tif"

    @property
    def holes_path(self) -> Path:
        """The shapes of a stored surface's holes, where it has any."""
        return project_dir(self.project_id) / f"{self.key}.holes"

    @property
    def picture_path(self) -> Path:
        """The small picture of a surface."""
        return project_dir(self.project_id) / f"{self.key}.png"

    @property
    def files(self) -> list[Path]:
        """Where files of it may be, but its upload."""
        return [
            self.cells_path, self.points_path, self.overview_path, self.holes_path, self.picture_path, self.table_path,
            self.image_path,
        ]  # fmt: skip

    def dependants(self) -> list[Holding]:
        """Live holdings of the project that are computed from this one."""
        live = Holding.objects.filter(project_id=self.project_id, live=True).exclude(pk=self.pk)
        return [other for other in live if other.step and any(self.key in keys for keys in other.step.inputs.values())]

    def remove_files(self) -> None:
        """Delete the files of a holding whose row is gone; the upload only where no other holding is of it."""
        for path in self.files:
            path.unlink(missing_ok=True)
        if self.file_key and not Holding.everything.filter(project_id=self.project_id, file_key=self.file_key).exists():
            self.upload_path.unlink(missing_ok=True)


class Feature(models.Model):
    """One line, polygon or plain point of a holding, in the holding's own CRS.

    geometry: well-known binary. west to north: its bounding box.
    """

    holding = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="features")
    number = models.PositiveIntegerField()
    geometry = models.BinaryField()
    west = models.FloatField()
    south = models.FloatField()
    east = models.FloatField()
    north = models.FloatField()
    attributes: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["holding", "number"], name="one_feature_a_number")]
        ordering = ["number"]

    def __str__(self) -> str:
        return f"{self.holding_id}:{self.number}"


class Preview(models.Model):
    """A step whose result was looked at and not kept. Tiles of it can be asked for under its key; rows that nobody has asked for in 90
    days are deleted."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="previews")
    key = models.CharField(max_length=32)
    step: models.JSONField[dict[str, Any], dict[str, Any]] = models.JSONField()
    asked_at = models.DateTimeField(auto_now=True, db_index=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="one_preview_a_key")]

    def __str__(self) -> str:
        return self.key


class Draft(models.Model):
    """Edits that a person makes on features and has not kept yet.

    edits: as the core's `editing` has them, in the features' CRS. done: how many of them count; the rest were undone.
    """

    holding = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="drafts")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    edits: models.JSONField[list[dict[str, Any]], list[dict[str, Any]]] = models.JSONField(default=list)
    done = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["holding", "user"], name="one_draft_a_person")]

    def __str__(self) -> str:
        return f"{self.holding_id} by {self.user_id}"


class Scorecard(models.Model):
    """Accuracy of a surface against checkpoints: the core's figures, or the reason why there are none."""

    surface = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="scorecards")
    checkpoints = models.ForeignKey(Holding, on_delete=models.CASCADE, related_name="+")
    figures = models.JSONField(null=True)
    reason = models.TextField(blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["surface", "checkpoints"], name="one_scorecard")]


def project_dir(project_id: int) -> Path:
    """The folder of a project's files; made where it is missing."""
    path: Path = settings.STORE_DIR / str(project_id)
    path.mkdir(parents=True, exist_ok=True)
    return path


WORKING = "work-"
"""How folders begin in which a job makes what it will keep."""


@contextmanager
def working_folder(project_id: int) -> Iterator[Path]:
    """A folder beside a project's files for what is not whole yet; deleted afterwards. What becomes of one whose worker was
    lost is the sweep's."""
    with tempfile.TemporaryDirectory(dir=project_dir(project_id), prefix=WORKING) as folder:
        yield Path(folder)


def upload_path(project_id: int, key: str) -> Path:
    """Where an upload of that key lies."""
    return project_dir(project_id) / f"{key}.upload"


def find_key(project_id: int, key: str) -> Holding | None:
    """The project's holding of that key."""
    return Holding.objects.filter(project_id=project_id, key=key).first()


def free_name(project: Project, wanted: str) -> str:
    """`wanted`, or with a number behind it where the project has that name already."""
    taken: set[Any] = set(Holding.objects.filter(project=project).values_list("name", flat=True))
    name, number = wanted[:110], 2
    while name in taken:
        name = f"{wanted[:110]} {number}"
        number += 1
    return name
