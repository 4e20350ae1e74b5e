"""The Celery application: it carries job numbers to workers; the job rows in the database are the truth."""

from __future__ import annotations

import os

from celery import Celery

from yama.terrain.allocation import keep_freed_memory

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yama.service.settings")
keep_freed_memory()
app = Celery("yama")
app.config_from_object("django.conf:settings", namespace="CELERY")
app.autodiscover_tasks(["yama.service.jobs"])
