"""Every kind of job, and what does it."""

from __future__ import annotations

from collections.abc import Callable

from yama.service.delivery.work import build
from yama.service.depots.work import fetch_features, fetch_part
from yama.service.jobs.models import Job
from yama.service.jobs.work import Outcome, judge_all, remake, run_operation, take_in
from yama.terrain.progress import Progress

WORK: dict[str, Callable[[Job, Progress], Outcome]] = {
    "take_in": take_in,
    "run": run_operation,
    "remake": remake,
    "judge": judge_all,
    "fetch": fetch_part,
    "features": fetch_features,
    "package": build,
}
