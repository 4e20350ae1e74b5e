"""The island's files, made once for all tests of a run."""

from __future__ import annotations

import tempfile
from functools import lru_cache
from pathlib import Path

from yama.demo import files, pair
from yama.demo.terrain import SEED, island

_held = tempfile.TemporaryDirectory(prefix="yama-demo-")  # goes when the run ends


@lru_cache(maxsize=1)
def made() -> dict[str, Path]:
    """Every file but the images by what it is, as `files.make` gives them. Not to be written to."""
    return files.make(Path(_held.name), images=False)


@lru_cache(maxsize=1)
def images() -> tuple[Path, Path]:
    """The image pair. Not to be written to."""
    folder = Path(_held.name) / "images"
    folder.mkdir()
    truth = island()
    left, right = pair.make(truth, files.canopy_of(truth), folder, SEED + 40)
    return left, right
