"""Pieces of lines with heights: arrays `(any, 6)` of x, y, z of both ends."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yama.terrain.grid import Bounds, FloatArray, Grid
from yama.terrain.kernels import kernel


def segments_of(lines: Sequence[FloatArray], heights: FloatArray | None = None) -> FloatArray:
    """The pieces of lines `(vertices, 2 or 3)`. heights: one a line; where None the lines have their own."""
    pieces = [np.empty((0, 6))]
    for i, line in enumerate(lines):
        z = line[:, 2] if heights is None else np.full(len(line), heights[i])
        whole = np.column_stack([line[:, :2], z])
        pieces.append(np.column_stack([whole[:-1], whole[1:]]))
    return np.ascontiguousarray(np.concatenate(pieces))


def near(segments: FloatArray, box: Bounds) -> FloatArray:
    """The pieces that can touch a rectangle."""
    x, y = segments[:, [0, 3]], segments[:, [1, 4]]
    keep = (x.max(1) >= box.west) & (x.min(1) <= box.east) & (y.max(1) >= box.south) & (y.min(1) <= box.north)
    return np.ascontiguousarray(segments[keep])


@kernel
def _trace(segments, west, north, width, height, highest, sums, counts):
    rows, cols = sums.shape
    for i in range(segments.shape[0]):
        u = (segments[i, 0] - west) / width
        v = (north - segments[i, 1]) / height
        du = (segments[i, 3] - west) / width - u
        dv = (north - segments[i, 4]) / height - v
        steps = int(4.0 * max(abs(du), abs(dv))) + 1
        for k in range(steps + 1):
            r = int(np.floor(v + dv * k / steps))
            c = int(np.floor(u + du * k / steps))
            if 0 <= r < rows and 0 <= c < cols:
                z = segments[i, 2] + (segments[i, 5] - segments[i, 2]) * k / steps
                sums[r, c] += z
                counts[r, c] += 1
                if not z <= highest[r, c]:
                    highest[r, c] = z


def traced(segments: FloatArray, grid: Grid) -> tuple[FloatArray, FloatArray]:
    """The highest and the mean height of the pieces in each cell they run through, looked at every quarter of a cell along
    them: `(rows, cols)`, NaN where none does."""
    shape = (grid.rows, grid.cols)
    highest, sums, counts = np.full(shape, np.nan), np.zeros(shape), np.zeros(shape, np.int64)
    _trace(near(segments, grid.bounds), grid.west, grid.north, grid.cell_width, grid.cell_height, highest, sums, counts)
    return highest, np.where(counts > 0, sums / np.maximum(counts, 1), np.nan)
