"""Folders for what is too large for memory while work lasts, which do not outlast it."""

from __future__ import annotations

import fcntl
import itertools
import os
import shutil
import tempfile
import weakref
from contextlib import suppress
from pathlib import Path
from typing import IO

_LOCK = "yama-scratch.lock"  # a name that no other folder has, for what has one may be removed


class Scratch:
    """A folder for temporary files, removed when nothing refers to this any more.

    The process holds a lock on it as long as it lives. What a killed process has left is removed when the next folder
    of the same name is made.

    Parameters
    ----------
    name : str
        The beginning of the folder's name.
    parent : Path, optional
        Where it is made; the system's folder for temporary files if not given.
    """

    def __init__(self, name: str, parent: Path | None = None) -> None:
        parent = parent or Path(tempfile.gettempdir())
        _clear(name, parent)
        self.path = Path(tempfile.mkdtemp(prefix=name, dir=parent))
        # the lock is held before it has the name that others look for
        held = (self.path / "new").open("w")
        fcntl.flock(held, fcntl.LOCK_EX)
        (self.path / "new").rename(self.path / _LOCK)
        self._numbers = itertools.count()
        self._end = weakref.finalize(self, _remove, self.path, held, os.getpid())

    def new(self, name: str) -> Path:
        """A path in it that was not given before; its name ends with this one."""
        return self.path / f"{next(self._numbers)}-{name}"

    def __enter__(self) -> Path:
        return self.path

    def __exit__(self, *_: object) -> None:
        self.remove()

    def remove(self) -> None:
        """Remove it now."""
        self._end()


def _remove(folder: Path, held: IO[str], owner: int) -> None:
    if os.getpid() == owner:  # a process that was forked from it has this too
        shutil.rmtree(folder, ignore_errors=True)
    held.close()


def _clear(name: str, parent: Path) -> None:
    """Remove folders whose process has died."""
    for folder in parent.glob(f"{name}*"):
        # one without a lock is just being made; one of somebody else is not ours to remove
        with suppress(OSError), (folder / _LOCK).open("r") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            shutil.rmtree(folder, ignore_errors=True)
