"""Files that appear only when they are whole."""

from __future__ import annotations

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
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
