"""Work on files from outside, done apart: in a process of its own, within limits, killed when it is not wanted any more.

A file from outside may be damaged or made to do harm: to take all memory, to be read for ever, to crash its reader, to name
other files. So each is read in a fresh process that has no secrets, may open that file and one folder and nothing else, and
may use only as much memory and processor time as an honest file of its size needs. Fresh processes come from a *nursery*
(`nursery.py`), one that has loaded and warmed everything, so that a child costs some hundredths of a second.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import pickle
import signal
import socket
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from yama.terrain.apart.messages import Done, Failed, Share, Task, loads
from yama.terrain.errors import InputError
from yama.terrain.progress import Progress, ignore_progress

_HEARD = 0.1
"""Seconds within which a cancelled call is heard."""
_CLOCK_FACTOR = 5.0
"""Seconds by the clock for one of processor time, where other work has the processors meanwhile."""
_SECRET = ("YAMA_", "DEPOT_", "DJANGO_")
"""Variables of the environment that children do not get, but for those in `_TOLD`."""
_TOLD = ("YAMA_WORKERS", "YAMA_SHELF")
_TICKS = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True)
class Effort:
    """What reading a file may take. seconds: of processor time, all threads together. memory: bytes, beyond what an idle
    child has."""

    seconds: float = 7.0
    memory: int = 600_000_000

    @classmethod
    def of(cls, size: int, cells: int = 0) -> Effort:
        """For a file of `size` bytes that unpacks to `cells` cells or points."""
        workers = len(os.sched_getaffinity(0))
        memory = 500_000_000 + 50_000_000 * workers + 14 * size + min(6 * cells, 1_500_000_000)
        return cls(7.0 + 1.5e-6 * size + 3e-6 * cells, min(memory, _most_memory()))


def _most_memory() -> int:
    return int(0.6 * os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))


def _told() -> dict[str, str]:
    """The environment that children get."""
    return {name: value for name, value in os.environ.items() if not name.startswith(_SECRET) or name in _TOLD}


class _Nursery:
    """The process that children are forked from; started when first needed, and anew if it ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._owner = 0
        self._process: subprocess.Popen[bytes] | None = None
        self._line: socket.socket | None = None

    def child(self) -> Connection:
        """A line to a new child."""
        ours, theirs = socket.socketpair()
        with theirs:
            for last in (False, True):
                with self._lock:
                    line = self._running()
                try:
                    socket.send_fds(line, [b"+"], [theirs.fileno()])
                    break
                except OSError:
                    if last:
                        raise
        return Connection(ours.detach())

    def _running(self) -> socket.socket:
        # a forked process must not share the line of the one it came from
        mine = self._owner == os.getpid()
        if mine and self._process is not None and self._line is not None and self._process.poll() is None:
            return self._line
        self.stop()
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        root = str(Path(__file__).resolve().parents[3])
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "yama.terrain.apart.nursery", str(theirs.fileno())],
                pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, cwd=root, env={**_told(), "PYTHONPATH": root},
            )  # fmt: skip
        self._line, self._owner = ours, os.getpid()
        return ours

    def stop(self) -> None:
        """End the nursery, which its children outlive."""
        if self._line is not None:
            self._line.close()
        if self._process is not None and self._owner == os.getpid():
            self._process.kill()
            self._process.wait()
        self._process = self._line = None


class _Here:
    """Children forked from this very process, which must have one thread: for a command, which reads a few files and ends.
    seconds: that a child is given for compiling kernels, where none are kept."""

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds

    def child(self) -> Connection:
        from yama.terrain.apart.nursery import work
        from yama.terrain.drivers import keep_only_known

        ours, theirs = socket.socketpair()
        sys.stdout.flush()
        sys.stderr.flush()
        if os.fork() == 0:
            try:  # the child must never return into its parent's work
                ours.close()
                for name in set(os.environ) - set(_told()):
                    del os.environ[name]
                keep_only_known()
                work(Connection(theirs.detach()))
            except BaseException:
                traceback.print_exc()
            finally:
                sys.stderr.flush()
                os._exit(0)
        theirs.close()
        return Connection(ours.detach())

    def stop(self) -> None:
        """Nothing: children are killed when they are not wanted any more."""


_COMPILING = 120.0


def from_here(compiled: bool) -> None:
    """From now on fork children from this process, not from a nursery. compiled: whether kernels are kept on disk."""
    global _nursery
    _nursery.stop()
    _nursery = _Here(0.0 if compiled else _COMPILING)


_places = threading.BoundedSemaphore(max(4, len(os.sched_getaffinity(0))))
"""Children of one process at a time: each may take as much memory as its file allows."""
_nursery: _Nursery | _Here = _Nursery()
atexit.register(lambda: _nursery.stop())


def warm() -> None:
    """Have the nursery ready, so that the first file need not wait for it."""
    call(_nothing, effort=Effort(3600.0), about="nothing")


def _nothing(progress: Progress) -> None:
    """What is asked of a nursery to know that it is there."""


def call(
    function: Callable[..., Any],
    *args: Any,
    effort: Effort,
    about: str,
    reads: Sequence[Path] = (),
    folder: Path | None = None,
    progress: Progress = ignore_progress,
) -> Any:
    """`function(*args, progress)` in a process of its own; returns what it returns.

    function: of a module of the core, by whose name the child finds it. about: what people call the file. reads: files
    that the child may read. folder: where it may write, and where its own temporary files go.

    Raises InputError where limits are passed or the child crashes, whatever TerrainError the function raises, and
    whatever `progress` raises, which kills the child.
    """
    while not _places.acquire(timeout=_HEARD):
        progress(0.0)
    try:
        return _asked(function, args, effort, about, reads, folder, progress)
    finally:
        _places.release()


def _asked(
    function: Callable[..., Any], args: tuple[Any, ...], effort: Effort, about: str, reads: Sequence[Path],
    folder: Path | None, progress: Progress,
) -> Any:  # fmt: skip
    line = _nursery.child()
    seconds = effort.seconds + (_nursery.seconds if isinstance(_nursery, _Here) else 0.0)
    pid = 0
    try:
        task = Task(function.__module__, function.__qualname__, args, about, effort.memory, seconds,
                    [str(path.resolve()) for path in reads], str(folder.resolve()) if folder else "")  # fmt: skip
        line.send_bytes(pickle.dumps(task))
        while not line.poll(_HEARD):  # a nursery that has just started loads for some seconds
            progress(0.0)
        pid = int(line.recv_bytes())
        started, share = time.monotonic(), 0.0
        while True:
            if line.poll(_HEARD):
                message = loads(line.recv_bytes())
                if isinstance(message, Done):
                    return message.result
                if isinstance(message, Failed):
                    raise message.error
                share = message.share if isinstance(message, Share) else share
            progress(share)
            took = time.monotonic() - started
            if took > seconds * _CLOCK_FACTOR or _processor_seconds(pid) > seconds:
                raise InputError(
                    f"{about} was given up after {took:.0f} s, since an honest file of its size is read in less. "
                    "It is damaged or made to keep its reader busy. Get it again, or convert it."
                )
    except (EOFError, ConnectionError) as error:
        raise InputError(
            f"{about} cannot be read: its reader ran out of the memory that a file of its size may take, or broke on it. "
            "It is damaged or made to do harm. Get it again, or convert it."
        ) from error
    finally:
        if pid:
            _kill(pid)
        line.close()


def _processor_seconds(pid: int) -> float:
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    except (OSError, IndexError):
        return 0.0  # it has ended, which the line tells next
    return (int(fields[11]) + int(fields[12])) / _TICKS


def _kill(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)
    with contextlib.suppress(ChildProcessError):  # a nursery's child is not ours to wait for
        os.waitpid(pid, 0)
