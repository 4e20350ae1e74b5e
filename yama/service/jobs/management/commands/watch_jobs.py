"""`manage.py watch_jobs`: looks after jobs whose worker was lost, and after files nobody finished."""

from __future__ import annotations

import logging
import time
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import OperationalError, close_old_connections

from yama.service.holdings.models import Holding
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import look_after_jobs

_log = logging.getLogger(__name__)
_EVERY_SECONDS = 1.0
_PART_LIFETIME = 86_400.0


def sweep_parts() -> int:
    """Delete half-written files that no one has touched for a day."""
    swept = 0
    for path in settings.STORE_DIR.glob("*/*.part"):
        try:
            if time.time() - path.stat().st_mtime > _PART_LIFETIME:
                path.unlink()
                swept += 1
        except FileNotFoundError:  # its job finished it meanwhile
            continue
    return swept


def sweep_uploads() -> int:
    """Delete files that were sent more than a day ago and never taken in, such as a table whose columns nobody accepted."""
    swept = 0
    for path in settings.STORE_DIR.glob("*/*.upload"):
        project, key = path.parent.name, path.stem
        if not project.isdigit() or time.time() - path.stat().st_mtime < _PART_LIFETIME:
            continue
        held = Holding.objects.filter(project_id=int(project), file_key=key).exists()
        if not held and not Job.objects.filter(project_id=int(project), state__in=Job.OPEN).exists():
            path.unlink(missing_ok=True)
            swept += 1
    return swept


class Command(BaseCommand):
    """Runs until it is stopped."""

    help = "Start jobs again whose worker was lost."

    def handle(self, *args: Any, **options: Any) -> None:
        sweep_parts()
        sweep_uploads()
        while True:
            try:
                look_after_jobs()
            except OperationalError:
                _log.warning("the database did not answer; trying again")
            close_old_connections()
            time.sleep(_EVERY_SECONDS)
