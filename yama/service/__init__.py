"""The service: a Django project around the core."""

from yama.service.celery import app as celery_app

__all__ = ["celery_app"]
