"""Sinks: cells from which no way leads down and out, found by flooding inwards from the edge.

R. Barnes, C. Lehman and D. Mulla, "Priority-flood: an optimal depression-filling and watershed-labeling algorithm for
digital elevation models", Computers & Geosciences 62 (2014).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.later import later

ndimage = later("scipy.ndimage")


@kernel
def _flood(heights, filled, towards):
    rows, cols = heights.shape
    seen = np.zeros((rows, cols), np.bool_)
    heap = np.empty(rows * cols, np.int64)
    keys = np.empty(rows * cols, np.float64)
    size = 0
    for r in range(rows):
        for c in range(cols):
            filled[r, c] = heights[r, c]
            towards[r, c] = -1
            if np.isnan(heights[r, c]):
                seen[r, c] = True
                continue
            edge = r == 0 or c == 0 or r == rows - 1 or c == cols - 1
            for i in range(max(r - 1, 0), min(r + 2, rows)):
                for j in range(max(c - 1, 0), min(c + 2, cols)):
                    edge = edge or np.isnan(heights[i, j])
            if edge:
                seen[r, c] = True
                size = push(heap, keys, size, r * cols + c, heights[r, c])
    while size > 0:
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell % cols
        for i in range(max(r - 1, 0), min(r + 2, rows)):
            for j in range(max(c - 1, 0), min(c + 2, cols)):
                if not seen[i, j]:
                    seen[i, j] = True
                    towards[i, j] = cell
                    filled[i, j] = max(heights[i, j], filled[r, c])
                    size = push(heap, keys, size, i * cols + j, filled[i, j])


def flood(heights: npt.NDArray[np.float64]) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """Heights with every sink filled to its brim, and for each cell the one (counted along rows) by which water that filled
    it would leave; -1 at the edge.

    heights: `(rows, cols)`; the array's edge and cells beside NaN are where water may leave.
    """
    filled, towards = np.empty(heights.shape), np.empty(heights.shape, np.int64)
    _flood(np.ascontiguousarray(heights, np.float64), filled, towards)
    return filled, towards


@dataclass(frozen=True)
class Sink:
    """A closed hollow. row, col: its lowest cell. depth: from there to its brim. cells: how many it floods."""

    row: int
    col: int
    depth: float
    cells: int


def sinks(heights: npt.NDArray[np.float64], filled: npt.NDArray[np.float64], least: float) -> list[Sink]:
    """The hollows of at least that depth between heights and `flood`'s, the deepest first."""
    depth = np.nan_to_num(filled - heights)
    labels, count = ndimage.label(depth > 0, np.ones((3, 3)))
    if not count:
        return []
    numbers = np.arange(1, count + 1)
    places = ndimage.maximum_position(depth, labels, numbers)
    sizes = np.bincount(labels.ravel(), minlength=count + 1)[1:]
    found = [
        Sink(int(r), int(c), float(depth[r, c]), int(size))
        for (r, c), size in zip(places, sizes, strict=True)
        if depth[r, c] >= least
    ]
    return sorted(found, key=lambda sink: -sink.depth)
