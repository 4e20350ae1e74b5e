"""What a process may still open: Linux' Landlock, by its system calls (see `landlock(7)`).

Where the kernel has none, nothing happens; drivers and limits still hold.
"""

from __future__ import annotations

import ctypes
import os
import struct
import sys
from collections.abc import Iterable
from pathlib import Path

_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF = 444, 445, 446  # the same on every architecture
_PATH_BENEATH = 1
_NO_NEW_PRIVILEGES = 38  # prctl(2)

_EXECUTE, _WRITE, _READ, _LIST = 1 << 0, 1 << 1, 1 << 2, 1 << 3
_EVERYTHING = {1: (1 << 13) - 1, 2: (1 << 14) - 1, 3: (1 << 15) - 1}
"""All rights over files that each version of the interface knows; later ones add none that matters here."""
_OF_FILES = _EXECUTE | _WRITE | _READ | (1 << 14)
_TCP = 0b11  # bind and connect, from version 4


def version() -> int:
    """Version of the kernel's interface; less than 1 where it has none."""
    return int(ctypes.CDLL(None, use_errno=True).syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), 1))


def confine(reads: Iterable[str], folders: Iterable[str]) -> bool:
    """Let this process read `reads` and what Python and its libraries are, do anything within `folders`, and open nothing
    else, nor connect to anything. Returns whether the kernel can."""
    libc, known = ctypes.CDLL(None, use_errno=True), version()
    if known < 1:
        return False
    everything = _EVERYTHING[min(known, 3)]
    asked = struct.pack("QQ", everything, _TCP) if known >= 4 else struct.pack("Q", everything)
    rules = libc.syscall(_CREATE_RULESET, asked, ctypes.c_size_t(len(asked)), 0)
    if rules < 0:
        return False

    def allow(path: str, rights: int) -> None:
        try:
            held = os.open(path, os.O_PATH | os.O_CLOEXEC)
        except OSError:
            return
        if not Path(path).is_dir():
            rights &= _OF_FILES
        libc.syscall(_ADD_RULE, rules, _PATH_BENEATH, struct.pack("=Qi", rights & everything, held), 0)
        os.close(held)

    package = Path(__file__).resolve().parents[2]
    for path in (sys.prefix, sys.base_prefix, "/usr", "/lib", "/lib64", "/etc/ld.so.cache", "/etc/localtime", str(package),
                 "/proc/self", "/proc/meminfo", "/proc/cpuinfo", "/sys/devices/system/cpu", "/dev/urandom", "/dev/null"):  # fmt: skip
        allow(path, _READ | _LIST | _EXECUTE)
    allow("/dev/null", _WRITE)
    for path in reads:
        allow(path, _READ)
    for path in (*folders, os.environ.get("NUMBA_CACHE_DIR", "")):
        if path:
            allow(path, everything)
    libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    done = libc.syscall(_RESTRICT_SELF, rules, 0) == 0
    os.close(rules)
    return bool(done)
