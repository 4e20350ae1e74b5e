"""`manage.py set_up`: the schema, and the demo project of the island of Sundrel from the demo generator's files."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError
from pyproj import Transformer

from yama.demo import files
from yama.service.accounts.models import OneTimeLink
from yama.service.holdings.models import Holding, upload_path
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.projects.models import Membership, Project
from yama.terrain.frame import Frame
from yama.terrain.recipe import file_key

NAME = "Avel rack railway"
USER = "demo"


def _take_in(project: Project, path: Path, name: str, user: User) -> Holding:
    """Take a file in as an upload would, and give the holding its name."""
    key = file_key(path)
    shutil.copyfile(path, upload_path(project.pk, key))
    job = Job.objects.create(
        project=project, kind="take_in", title=f"Take in {path.name}", request={"name": path.name, "crs": ""},
        created_by=user, key=key,
    )  # fmt: skip
    run_job(str(job.pk))
    job.refresh_from_db()
    if job.holding is None:
        raise CommandError(f"The demo file {path.name} was not taken in: {job.message} {job.log}")
    job.holding.name = name
    job.holding.save(update_fields=["name"])
    return job.holding


def _in_frame(geometry: dict[str, Any], transformer: Transformer) -> dict[str, Any]:
    def turn(node: Any) -> Any:
        if isinstance(node[0], (int, float)):
            x, y = transformer.transform(*node[:2])
            return [round(x, 2), round(y, 2)]
        return [turn(part) for part in node]

    return {"type": geometry["type"], "coordinates": turn(geometry["coordinates"])}


def _features(project: Project, path: Path, frame: Frame, user: User) -> None:
    transformer = Transformer.from_crs("EPSG:4326", frame.grid.crs, always_xy=True)
    collection = json.loads(path.read_text(encoding="utf-8"))
    placed = [
        {**feature, "geometry": _in_frame(feature["geometry"], transformer)} for feature in collection["features"]
    ]
    key = file_key(path)
    shutil.copyfile(path, upload_path(project.pk, key))
    Holding.objects.create(
        project=project, kind=Holding.Kind.FEATURES, name="Sundrel features", key=key, original=path.name,
        facts={"features": placed, "count": len(placed)}, created_by=user,
    )  # fmt: skip


class Command(BaseCommand):
    """Brings the schema up to date, makes the demo where it is missing, prints a one-time token for its user."""

    help = "Bring the schema up to date, make the demo project and print a one-time sign-in token."

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--no-demo", action="store_true", help="only the user and the token")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", interactive=False, verbosity=0)
        user, new = User.objects.get_or_create(username=USER, defaults={"first_name": "Ines", "last_name": "Marr"})
        if new:
            user.set_unusable_password()
            user.save()
        if not options["no_demo"] and not Project.objects.filter(name=NAME, members=user).exists():
            self._make(user)
        self.stdout.write(OneTimeLink.issue(user))

    def _make(self, user: User) -> None:
        frame = files.frame()
        project = Project.objects.create(name=NAME, frame_data=frame.to_dict())
        try:
            paths = files.make(settings.VAR_DIR / "demo")
            Membership.objects.create(project=project, user=user, role=Membership.Role.OWNER)
            _features(project, paths["features"], frame, user)
            project.checkpoints = _take_in(project, paths["checkpoints"], "Checkpoints 2026", user)
            project.save()
            _take_in(project, paths["survey"], "Survey points 2026", user)
            _take_in(project, paths["beacon"], "Beacon 30", user)
            project.jobs.all().delete()  # a new project has done nothing yet
        except BaseException:
            project.delete()  # a demo is whole or absent
            raise
