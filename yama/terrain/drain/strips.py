"""Rows of a raster in strips: on all cores, or one after the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import each

_ROWS = 256
_AT_ONCE = 4_000_000  # cells between two words of progress


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


def in_turn(
    kernel: Callable[..., Any],
    shape: tuple[int, int],
    before: Sequence[Any],
    after: Sequence[Any] = (),
    progress: Progress = ignore_progress,
) -> int:
    """Run a kernel over strips of rows one after the other, so that progress is told between them; it may write
    anywhere. Returns the sum of what it returns."""
    rows, cols = shape
    step = max(_AT_ONCE // max(cols, 1), 1)
    total = 0
    for first in range(0, rows, step):
        total += int(kernel(*before, first, min(first + step, rows), *after) or 0)
        progress(min(first + step, rows) / rows)
    return total
