"""How long work tells how far it is."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[float], None]
"""Called with the share done, 0 to 1. It may raise CancelledError to stop the work."""


def ignore_progress(_share: float) -> None:
    """The progress of work nobody watches."""


def part_of(progress: Progress, begin: float, end: float) -> Progress:
    """The progress of a part of some work, which begins and ends at shares of all of it."""
    return lambda share: progress(begin + (end - begin) * share)
