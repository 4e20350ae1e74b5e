"""How the process's memory is asked of the system.

Blocks of cells are arrays of one to some megabytes, made and dropped all the time. The C library gives each of these
back to the system at once and then takes it anew, page by page, which takes as long as simple work on them.
"""

from __future__ import annotations

import ctypes

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3  # numbers of mallopt(3)
_LARGEST_KEPT = 32 << 20
_KEPT = 128 << 20


def keep_freed_memory() -> bool:
    """Let this process keep up to 128 MB of freed memory for its next arrays; those above 32 MB are given back as before.

    Returns whether the C library can; where not, nothing changes but speed.
    """
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is None:
        return False
    return bool(mallopt(_MMAP_THRESHOLD, _LARGEST_KEPT) and mallopt(_TRIM_THRESHOLD, _KEPT))
