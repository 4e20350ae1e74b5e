"""What children of the tests are asked to do."""

from __future__ import annotations

import errno
import os
import signal
import socket
import time
from pathlib import Path

import numpy as np

from yama.terrain.errors import InputError


def echo(value, progress):
    return value


def environment(progress):
    return dict(os.environ)


def read(path, progress):
    return Path(path).read_text()


def write(path, progress):
    Path(path).write_text("written")
    return True


def connect(port, progress):
    with socket.socket() as other:
        return other.connect_ex(("127.0.0.1", port))


def steps(progress):
    for step in range(10):
        time.sleep(0.12)
        progress(step / 10)
    return os.getpid()


def busy(progress):
    while True:
        pass


def told_and_busy(path, progress):
    Path(path).write_text(str(os.getpid()))
    busy(progress)


def greedy(progress):
    return [np.ones(10_000_000) for _ in range(100)]


def crash(progress):
    os.kill(os.getpid(), signal.SIGSEGV)


def refuse(progress):
    raise InputError("There is no height in it.")


def broken(progress):
    return 1 / 0


def full(progress):
    raise OSError(errno.ENOSPC, "No space left on device")


def drivers(progress):
    import pyogrio
    import rasterio

    with rasterio.Env() as held:
        return sorted(held.drivers()), sorted(pyogrio.list_drivers())
