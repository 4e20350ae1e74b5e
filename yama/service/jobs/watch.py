"""Looking after jobs whose worker was lost, and those nobody was told of."""

from __future__ import annotations

from datetime import timedelta
from functools import partial

from django.conf import settings
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from yama.service.jobs.models import Job
from yama.service.jobs.queue import wake


def look_after_jobs() -> int:
    """Start silent jobs again, once; fail those silent twice; wake what waits unheard. Returns how many it touched."""
    now = timezone.now()
    silent_since = now - timedelta(seconds=settings.JOB_SILENCE_SECONDS)
    touched = 0
    for job in Job.objects.filter(state=Job.State.RUNNING).filter(Q(heard_at__lt=silent_since) | Q(heard_at=None)):
        mine = Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, worker=job.worker, heard_at=job.heard_at)
        if job.cancel_requested:
            touched += mine.update(state=Job.State.CANCELLED, message="Cancelled; nothing was kept.", ended_at=now)
        elif job.tries >= Job.MAX_TRIES:
            touched += mine.update(
                state=Job.State.FAILED,
                ended_at=now,
                message="The program that did this ended twice in the middle, without saying why. Where it was for want of "
                "memory, a larger cell size or a smaller area helps; the server's log may say more.",
            )
        else:
            with transaction.atomic():
                again = mine.update(state=Job.State.QUEUED, worker="", heard_at=now, log="The worker was lost; again.")
                if again:
                    transaction.on_commit(partial(wake, job))
                touched += again
    queued = Job.objects.filter(state=Job.State.QUEUED)
    unheard = Q(not_before=None, created_at__lt=silent_since) & (Q(heard_at__lt=silent_since) | Q(heard_at=None))
    due = Q(not_before__lte=now) & (Q(heard_at__lt=silent_since) | Q(heard_at=None))
    waiting = queued.filter(unheard | due)
    for job in waiting:
        Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(heard_at=now)
        wake(job)
        touched += 1
    return touched
