"""Results that are dear to make, shared by the processes of a machine while they run.

A preview is looked at by several processes, and the run that follows by another: what all of them need, such as the solution
of a contour map or the figures of overlaps, is made by the first that asks while the others wait for it.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import pickle
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, TypeVar

from yama.terrain.ending import go_on
from yama.terrain.files import replacing
from yama.terrain.kept import Kept

FOLDER = "YAMA_SHELF"
"""The variable that names the folder; where it is not set, results are kept in this process alone. Whoever starts the
processes empties the folder before, so that no older version's results are met."""

_HERE = 8
_WAIT = 0.05  # seconds
_MOST_BYTES = 1_000_000_000

Thing = TypeVar("Thing")

_here: Kept[str, Any] = Kept(_HERE)


def shared(of: tuple[Any, ...], make: Callable[[], Thing]) -> Thing:
    """What `make` makes, from the shelf where it was made before of the same things.

    Parameters
    ----------
    of : tuple
        All that it is made of, as plain values and arrays: equal pickles are taken for the same.
    make : callable
        Called where nothing of that is on the shelf; other processes wait for it. What it raises is raised here and kept nowhere.
    """
    key = hashlib.sha256(pickle.dumps(of, 5)).hexdigest()[:40]
    found: Thing = _here.get(key, lambda: _from_folder(key, make))
    return found


def _from_folder(key: str, make: Callable[[], Any]) -> Any:
    named = os.environ.get(FOLDER)
    if not named:
        return make()
    folder = Path(named)
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{key}.pickle"
    with (folder / f"{key}.lock").open("w") as lock:
        _wait_for(lock)  # given back by the system should this process die
        if path.exists():
            os.utime(path)
            return pickle.loads(path.read_bytes())
        made = make()
        with replacing(path) as part:
            part.write_bytes(pickle.dumps(made, 5))
    _tidy(folder)
    return made


def _wait_for(lock: IO[str]) -> None:
    """Take the lock once the process that holds it has made its result; given up where this is no longer wanted."""
    while True:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            go_on()
            time.sleep(_WAIT)


def _tidy(folder: Path) -> None:
    """Take away what was used longest ago, down to the size the shelf may have."""
    found = sorted(
        ((path.stat().st_mtime, path.stat().st_size, path) for path in folder.glob("*.pickle")), reverse=True
    )
    held = 0
    for _, size, path in found:
        held += size
        if held > _MOST_BYTES:
            with suppress(FileNotFoundError):  # another process tidied
                path.unlink()
