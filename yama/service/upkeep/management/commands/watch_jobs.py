"""`manage.py watch_jobs`: looks after jobs whose worker was lost, and after files nobody finished."""

from __future__ import annotations

import logging
import time
from typing import Any

from django.core.management.base import BaseCommand
from django.db import InterfaceError, OperationalError, close_old_connections

from yama.service.jobs.sweeping import sweep
from yama.service.jobs.watch import look_after_jobs

_log = logging.getLogger(__name__)
_EVERY_SECONDS = 1.0
_SWEEP_SECONDS = 3_600.0


class Command(BaseCommand):
    """Runs until it is stopped."""

    help = "Start jobs again whose worker was lost."

    def handle(self, *args: Any, **options: Any) -> None:
        swept = -_SWEEP_SECONDS
        while True:
            try:
                look_after_jobs()
                if time.monotonic() - swept > _SWEEP_SECONDS:
                    swept = time.monotonic()
                    sweep()
            except (OperationalError, InterfaceError):
                _log.warning("the database did not answer; trying again")
            close_old_connections()
            time.sleep(_EVERY_SECONDS)
