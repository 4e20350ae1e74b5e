"""How long work in other threads hears that it is no longer wanted."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import ParamSpec, TypeVar

from yama.terrain.errors import CancelledError
from yama.terrain.progress import Progress

_Given = ParamSpec("_Given")
_Made = TypeVar("_Made")


class _Heard(threading.local):
    ended: threading.Event | None = None
    progress: Progress | None = None
    share: float = 0.0


_heard = _Heard()


def until(ended: threading.Event, work: Callable[_Given, _Made]) -> Callable[_Given, _Made]:
    """Work that gives up once it is no longer wanted.

    Parameters
    ----------
    ended : threading.Event
        Set where it is no longer wanted.
    work : callable
        It calls `go_on` every second or so.

    Returns
    -------
    callable
        Takes what `work` takes. Raises CancelledError where it gave up. For threads of this process.
    """

    def heard(*args: _Given.args, **kwargs: _Given.kwargs) -> _Made:
        _heard.ended = ended
        try:
            go_on()
            return work(*args, **kwargs)
        finally:
            _heard.ended = None

    return heard


@contextmanager
def heard_by(progress: Progress) -> Iterator[None]:
    """Let `progress` hear of what this thread does meanwhile.

    Parameters
    ----------
    progress : callable
        Called by `go_on` and `got_to` with the share that was told last; what it raises ends the work.
    """
    before = _heard.progress, _heard.share
    _heard.progress, _heard.share = progress, 0.0
    try:
        yield
    finally:
        _heard.progress, _heard.share = before


def got_to(share: float) -> None:
    """Tell how much of it is done, 0 to 1, where somebody hears of it, and see whether it is still wanted; see `go_on`."""
    _heard.share = share
    go_on()


def go_on() -> None:
    """Called every second or so by work that takes longer than that for one part. Raises CancelledError once it is no longer
    wanted."""
    if _heard.ended is not None and _heard.ended.is_set():
        raise CancelledError("Cancelled; nothing was kept.")
    if _heard.progress is not None:
        _heard.progress(_heard.share)
