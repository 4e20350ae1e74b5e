"""Files that appear only when they are whole, and that are on the disk before anybody is told of them."""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PART = ".part"


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A name beside `path` to write to; it becomes `path` when the block ends well and is deleted otherwise.

    The name is new each time, so two writers never share one, and it ends with the suffix of `path` before `.part`.
    """
    part = path.with_name(f"{path.name}.{uuid.uuid4().hex[:8]}{PART}")
    try:
        yield part
        put_in_place(part, path)
    finally:
        part.unlink(missing_ok=True)


def put_in_place(made: Path, path: Path) -> None:
    """Give a whole file its name, on the same file system. When this returns it is on the disk under that name, so that a
    row in the database that speaks of it is true even after the power failed."""
    _flush(made)
    made.replace(path)
    _flush(path.parent)


def _flush(path: Path) -> None:
    held = os.open(path, os.O_RDONLY)
    try:
        os.fsync(held)
    finally:
        os.close(held)
