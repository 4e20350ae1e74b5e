"""How long work in other threads hears that it is no longer wanted."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import ParamSpec, TypeVar

from yama.terrain.errors import CancelledError

_Given = ParamSpec("_Given")
_Made = TypeVar("_Made")


class _Heard(threading.local):
    ended: threading.Event | None = None


_heard = _Heard()


def until(ended: threading.Event, work: Callable[_Given, _Made]) -> Callable[_Given, _Made]:
    """The work, which gives up at its next `go_on` once `ended` is set. For threads of this process."""

    def heard(*args: _Given.args, **kwargs: _Given.kwargs) -> _Made:
        _heard.ended = ended
        try:
            go_on()
            return work(*args, **kwargs)
        finally:
            _heard.ended = None

    return heard


def go_on() -> None:
    """Called every second or so by work that takes longer than that for one part. Raises CancelledError once it is no longer
    wanted."""
    if _heard.ended is not None and _heard.ended.is_set():
        raise CancelledError("Cancelled; nothing was kept.")
