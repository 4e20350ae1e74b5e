"""The island's files, made once for all tests of a run."""

from __future__ import annotations

import tempfile
from functools import lru_cache
from pathlib import Path

from yama.demo import files

_held = tempfile.TemporaryDirectory(prefix="yama-demo-")  # goes when the run ends


@lru_cache(maxsize=1)
def made() -> dict[str, Path]:
    """Every file by what it is, as `files.make` gives them. Not to be written to."""
    return files.make(Path(_held.name))
