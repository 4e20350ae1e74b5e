"""The one task that the broker carries: a job's number."""

from __future__ import annotations

from celery import shared_task

from yama.service.jobs.running import perform


@shared_task
def run_job(job_id: str) -> None:
    """Run one job to its end; see `running.perform`."""
    perform(job_id)
