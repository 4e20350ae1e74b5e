"""Kinds of job: each app names its own when it starts. The queue itself knows none."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from yama.service.jobs.models import Job
from yama.service.jobs.outcome import Outcome
from yama.terrain.progress import Progress

Work = Callable[[Job, Progress], Outcome]
Question = Callable[[Job], dict[str, Any] | None]


@dataclass(frozen=True)
class Kind:
    """What does a kind of job, and what it asks of a person where it failed for want of an answer."""

    work: Work
    question: Question


_KINDS: dict[str, Kind] = {}


def _asks_nothing(_job: Job) -> None:
    return None


def register(kind: str, work: Work, question: Question = _asks_nothing) -> None:
    """Let `work` do jobs of a kind. Called by an app's `ready`."""
    _KINDS[kind] = Kind(work, question)


def kind_of(job: Job) -> Kind:
    """The kind of a job. Raises KeyError where no app does such jobs."""
    return _KINDS[job.kind]


def question_of(job: Job) -> dict[str, Any] | None:
    """What a failed job asked for want of an answer; None where it asks nothing, or no app does such jobs any more."""
    kind = _KINDS.get(job.kind)
    return kind.question(job) if kind else None
