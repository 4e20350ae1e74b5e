"""The nursery: a process that has loaded everything a reader needs, and forks a child for each file.

It has one thread, so that forking is safe, and no secrets in its environment. It ends when the line to its owner does.
"""

from __future__ import annotations

import errno
import importlib
import os
import pickle
import resource
import signal
import socket
import sys
import tempfile
import time
import traceback
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from yama.terrain.apart.confine import confine
from yama.terrain.apart.messages import Done, Failed, Share, Task
from yama.terrain.errors import InputError, TerrainError

_TOLD_SECONDS = 0.1
_FILES = 256
_MOST_WRITTEN = 64 << 30


def main() -> None:
    """Load, then fork a child for each line that comes."""
    from yama.terrain.apart.readers import warm
    from yama.terrain.drivers import keep_only_known

    asked = socket.socket(fileno=int(sys.argv[1]))
    keep_only_known()
    warm()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # children are not waited for
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the owner decides when to end
    while True:
        message, lines, _, _ = socket.recv_fds(asked, 1, 1)
        if not message:
            return
        if os.fork() == 0:
            asked.close()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            work(Connection(lines[0]))
            os._exit(0)
        os.close(lines[0])


def work(line: Connection) -> None:
    """Do in this process, a child, what is asked over a line."""
    told = 0.0

    def progress(share: float) -> None:
        nonlocal told
        now = time.monotonic()
        if now - told > _TOLD_SECONDS:
            told = now
            line.send_bytes(pickle.dumps(Share(float(share))))

    try:
        task: Task = pickle.loads(line.recv_bytes())  # from the owner, who is trusted
        line.send_bytes(str(os.getpid()).encode())
        _limit(task)
        function: Any = importlib.import_module(task.module)
        for name in task.function.split("."):
            function = getattr(function, name)
        answer: Done | Failed = Done(function(*task.args, progress=progress))
    except (EOFError, ConnectionError):
        return  # nobody listens any more
    except MemoryError:
        answer = Failed(InputError(f"Reading {task.about} needs more than the {task.memory / 1e6:.0f} MB of memory that a file of its "
                                   "size may take. It is damaged or made to do harm."))  # fmt: skip
    except TerrainError as error:
        answer = Failed(error)
    except Exception as error:  # a form of damage that its reader does not foresee
        traceback.print_exc()  # into the log of whoever asked
        answer = Failed(InputError(_sentence(task.about, error)))
    line.send_bytes(pickle.dumps(answer))


def _sentence(about: str, error: Exception) -> str:
    """What is said of an error that no reader has a sentence for."""
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"The server's disk is full, so nothing of {about} was kept. Make room, then add it again."
    return (
        f"{about} cannot be read: it is damaged, or of a form that is not known here ({type(error).__name__}). "
        "Get it again, or convert it."
    )


def _limit(task: Task) -> None:
    """Take from this process what the task does not need."""
    held = int(Path("/proc/self/statm").read_text().split()[5]) * os.sysconf("SC_PAGE_SIZE")
    for what, most in (
        (resource.RLIMIT_DATA, held + task.memory),
        (resource.RLIMIT_CPU, int(task.seconds) + 3),  # the caller looks too, and says why
        (resource.RLIMIT_NOFILE, _FILES),
        (resource.RLIMIT_FSIZE, _MOST_WRITTEN),
        (resource.RLIMIT_CORE, 0),
    ):
        resource.setrlimit(what, (most, most))
    if task.folder:
        tempfile.tempdir = task.folder
    confine(task.reads, [task.folder] if task.folder else [])


if __name__ == "__main__":
    main()
