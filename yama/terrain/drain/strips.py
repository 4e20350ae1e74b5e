"""Rows of a raster in strips, on all cores."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import each

_ROWS = 256


def over_rows(
    kernel: Callable[..., Any],
    rows: int,
    before: Sequence[Any],
    after: Sequence[Any] = (),
    progress: Progress = ignore_progress,
) -> None:
    """Run a kernel over strips of rows, as `kernel(*before, first, last, *after)`; it must write to its own rows
    alone."""

    def strip(first: int) -> None:
        kernel(*before, first, min(first + _ROWS, rows), *after)

    each(range(0, rows, _ROWS), strip, progress)
