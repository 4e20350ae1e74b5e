"""How a job is run: claimed in the database, heard of while it runs, ended once.

A worker claims a job by setting its state and a token of its own; every later write asks for that token, so a try
that was given up for dead cannot end a job that runs again elsewhere. While the work runs, a thread notes twice a
second that the job is alive and looks whether it was cancelled. `watch_jobs` starts a silent job again, once.
"""

from __future__ import annotations

import logging
import threading
import time
import traceback
import uuid
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.db import InterfaceError, OperationalError, connection
from django.db.models import F, Q
from django.utils import timezone

from yama.service.jobs.models import Job
from yama.service.jobs.outcome import LaterError, Outcome
from yama.service.jobs.register import kind_of
from yama.terrain.errors import CancelledError, QuestionError, TerrainError

_log = logging.getLogger(__name__)

_BEAT_SECONDS = 0.5
_PATIENCE = 60.0
"""Seconds that a database may be away without a job being lost."""


class Running:
    """A claimed job while it runs. `progress` is handed to the core; it raises CancelledError when asked to."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._share = 0.0
        self._ended = threading.Event()
        self._cancelled = threading.Event()
        self._thread = threading.Thread(target=self._beat, name=f"beat-{job.pk}", daemon=True)

    def __enter__(self) -> Running:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ended.set()
        self._thread.join()

    def progress(self, share: float) -> None:
        """Note how far the work is, 0 to 1."""
        self._share = share
        if self._cancelled.is_set():
            raise CancelledError("Cancelled; nothing was kept.")

    def _beat(self) -> None:
        held = Job.objects.filter(pk=self._job.pk, worker=self._job.worker, state=Job.State.RUNNING)
        try:
            while not self._ended.wait(_BEAT_SECONDS):
                try:
                    row = held.values_list("cancel_requested", flat=True).first()
                    if row is None or row:  # cancelled, or given to another worker
                        self._cancelled.set()
                    held.update(heard_at=timezone.now(), progress=self._share)
                except Exception:  # the database may be away for a moment; silence is dealt with by the watch
                    _log.exception("could not note that job %s is alive", self._job.pk)
                    connection.close()  # a broken connection would stay so; the next one is new
        finally:
            connection.close()


def claim(job_id: str) -> Job | None:
    """Take a queued job for this worker; None where it is not waiting (any more)."""
    token = uuid.uuid4().hex
    now = timezone.now()
    due = Q(not_before=None) | Q(not_before__lte=now)
    taken = Job.objects.filter(due, pk=job_id, state=Job.State.QUEUED).update(
        state=Job.State.RUNNING, worker=token, tries=F("tries") + 1, heard_at=now, started_at=now, progress=0.0
    )
    return Job.objects.select_related("project").get(pk=job_id) if taken else None


def _end(job: Job, state: str, message: str = "", outcome: Outcome | None = None, log: str = "") -> None:
    """End a job, unless another worker has it by now."""
    values: dict[str, Any] = {"state": state, "message": message, "ended_at": timezone.now(), "log": log}
    if state == Job.State.DONE:
        values["progress"] = 1.0
    if outcome is not None:
        values["findings"] = [finding.to_dict() for finding in outcome.findings]
        values["holding_id"] = outcome.holding_id
        values["made"] = outcome.made
    _insist(lambda: Job.objects.filter(pk=job.pk, worker=job.worker, state=Job.State.RUNNING).update(**values))


def _insist(write: Callable[[], object]) -> None:
    """Write to a database that may be away for a while: what a job came to must not be lost with a connection."""
    until = time.monotonic() + _PATIENCE
    while True:
        try:
            write()
            return
        except (OperationalError, InterfaceError):
            if time.monotonic() > until:
                raise
            _log.warning("the database does not answer; trying again")
            connection.close()
            time.sleep(_BEAT_SECONDS)


def _postpone(job: Job, seconds: float, tries: int = 0) -> None:
    """Put a job back into the queue for later; the watch wakes it. Waiting does not count as a try."""
    now = timezone.now()
    Job.objects.filter(pk=job.pk, worker=job.worker, state=Job.State.RUNNING).update(
        state=Job.State.QUEUED, worker="", tries=tries, heard_at=None, not_before=now + timedelta(seconds=seconds)
    )
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED, cancel_requested=True).update(
        state=Job.State.CANCELLED, message="Cancelled; nothing was kept.", ended_at=now
    )


def perform(job_id: str) -> None:
    """Run one job to its end. Never raises: what went wrong is written into the job."""
    job = claim(job_id)
    if job is None:
        return
    with Running(job) as running:
        try:
            outcome = kind_of(job).work(job, running.progress)
        except LaterError as later:
            _insist(lambda later=later: _postpone(job, later.seconds))  # type: ignore[misc]
        except (OperationalError, InterfaceError) as error:
            connection.close()
            if job.tries < Job.MAX_TRIES:  # what it was about to write is made again
                _insist(lambda: _postpone(job, 1.0, job.tries))
            else:
                _end(job, Job.State.FAILED, "The database went away while this was done, twice. Nothing was changed; try again "
                     "when it answers.", log=f"{error}\n{traceback.format_exc()}")  # fmt: skip
        except CancelledError as stopped:
            _end(job, Job.State.CANCELLED, str(stopped))
        except QuestionError as question:
            _end(job, Job.State.FAILED, str(question), Outcome(findings=question.findings))
        except TerrainError as error:
            _end(job, Job.State.FAILED, str(error))
        except MemoryError:
            _end(job, Job.State.FAILED, "There was not enough memory. Use a larger cell size or a smaller area.")
        except OSError as error:
            _end(job, Job.State.FAILED, f"A file could not be written or read: {error.strerror or error}.",
                 log=traceback.format_exc())  # fmt: skip
        except Exception as error:
            _log.exception("job %s failed", job.pk)
            _end(job, Job.State.FAILED, f"Something inside Yama failed ({type(error).__name__}); nothing was changed. "
                 "The job's log says where.", log=traceback.format_exc())  # fmt: skip
        else:
            _end(job, Job.State.DONE, outcome=outcome)
