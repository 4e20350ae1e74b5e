"""`manage.py set_up`: the schema, and the demo project of the island of Sundrel from the demo generator's files."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError

from yama.demo import files
from yama.service.accounts.models import OneTimeLink
from yama.service.holdings.models import Holding, upload_path
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.judging.models import ProjectBrief
from yama.service.projects.models import Membership, Project
from yama.terrain.judge.demands import Brief
from yama.terrain.recipe import file_key

NAME = "Avel rack railway"
USER = "demo"
BACKDROP = {
    "coast": "Coast",
    "water": "Lakes",
    "rivers": "Rivers",
    "boundary": "Boundary",
    "places": "Place names",
}
"""What a new demo project shows under everything else; the rest waits in `var/demo` to be dropped in or ordered."""


def brief(numbers: dict[str, int]) -> dict[str, Any]:
    """What the demo project asks of its surfaces. numbers: of its holdings, by name."""
    area = {"features": numbers["Boundary"], "column": "kind", "value": "project area", "label": "the project area"}
    river = {"features": numbers["Rivers"], "column": "kind", "value": "river", "label": "The Avel"}
    demands = [
        {"kind": "error", "within": 0.5, "covers": ["grass", "rock", "town"], "called": "open ground"},
        {"kind": "error", "within": 1.5, "covers": ["wood"]},
        {"kind": "holes", **area},
        {"kind": "level", "features": numbers["Lakes"], "label": "Lantern Water", "within": 0.05},
        {"kind": "falling", **river, "within": 0.2},
        {"kind": "datum", "datum": files.VERTICAL_DATUM, "within": 0.1},
        {"kind": "cells", "size": 2},
        {"kind": "format", "format": "tif"},
    ]
    return Brief.model_validate({"demands": demands, "vegetated": ["wood"]}).model_dump()


def _take_in(project: Project, path: Path, name: str, user: User) -> Holding:
    """Take a file in as an upload would, and give the holding its name."""
    key = file_key(path)
    shutil.copyfile(path, upload_path(project.pk, key))
    job = Job.objects.create(
        project=project, kind="take_in", title=f"Take in {path.name}", created_by=user, key=key,
        request={"name": path.name, "file_key": key, "title": name},
    )  # fmt: skip
    run_job(str(job.pk))
    job.refresh_from_db()
    if job.holding is None:
        raise CommandError(f"The demo file {path.name} was not taken in: {job.message} {job.log}")
    return job.holding


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
            for name, title in BACKDROP.items():
                _take_in(project, paths[name], title, user)
            project.checkpoints = _take_in(project, paths["checkpoints"], "Checkpoints 2026", user)
            project.save()
            _take_in(project, paths["survey"], "Survey points 2026", user)
            _take_in(project, paths["beacon"], "Beacon 30", user)
            numbers = {one.name: one.pk for one in project.holdings.all()}
            ProjectBrief.objects.create(project=project, version=1, content=brief(numbers))
            project.jobs.all().delete()  # a new project has done nothing yet
        except BaseException:
            project.delete()  # a demo is whole or absent
            raise
