"""The sea: ground at or below a level that reaches the rim of a surface. Water ends in it."""

from __future__ import annotations

import numpy as np

from yama.terrain.kernels import kernel
from yama.terrain.surface import Heights

_ROUGH = 1.0  # metres between the lowest and the highest cell of a sea
_ALIKE = 0.2  # of the rim's cells that lie so
_FEW = 12  # cells of a rim that say nothing


@kernel
def _drown(cells, level, stack):
    """Empty the cells at or below a level that hang together with the rim."""
    rows, cols = cells.shape
    size = 0
    for r in range(rows):
        for c in range(cols):
            if (r == 0 or c == 0 or r == rows - 1 or c == cols - 1) and cells[r, c] <= level:
                cells[r, c] = np.nan
                stack[size] = r * cols + c
                size += 1
    while size > 0:
        size -= 1
        r = stack[size] // cols
        c = stack[size] % cols
        for i in range(max(r - 1, 0), min(r + 2, rows)):
            for j in range(max(c - 1, 0), min(c + 2, cols)):
                if cells[i, j] <= level:
                    cells[i, j] = np.nan
                    stack[size] = i * cols + j
                    size += 1


def without_sea(cells: Heights, level: float) -> Heights:
    """Heights without the sea: cells at or below a level, in metres, that hang together with the rim become empty."""
    left = cells.copy()
    # as heights are held, so that what is as high as the level is sea
    _drown(left, np.float32(level), np.empty(cells.size, np.int64))
    return left


def sea_of(cells: Heights) -> float | None:
    """The height up to which so many of the rim's cells lie alike that they are probably a sea's; None where none
    do."""
    rim = np.concatenate([cells[0], cells[-1], cells[:, 0], cells[:, -1]])
    rim = np.sort(rim[~np.isnan(rim)].astype(np.float64))
    if rim.size < _FEW:
        return None
    # of all stretches as high as a sea is rough, the one that holds most
    last = np.searchsorted(rim, rim + _ROUGH, side="right")
    most = int(np.argmax(last - np.arange(rim.size)))
    if last[most] - most < _ALIKE * rim.size:
        return None
    return float(np.ceil(rim[last[most] - 1] * 10 - 1e-6) / 10)
