"""Heights that tests make, and slow ways to what the kernels tell."""

from __future__ import annotations

import heapq
from collections.abc import Iterator

import numpy as np

from yama.terrain.grid import Grid

CRS = "EPSG:32741"


def grid_of(shape: tuple[int, int], cell: float = 2.0) -> Grid:
    """At the middle of its zone, where a metre is nearly a metre."""
    return Grid(CRS, 500_000.0, 5_436_000.0, cell, cell, *shape)


def heights_of_many_kinds(count: int, seed: int = 3) -> Iterator[np.ndarray]:
    """Small rasters: rough ones and ones with level ground, a third of each with empty cells."""
    rng = np.random.default_rng(seed)
    for number in range(count):
        shape = tuple(rng.integers(1, 14, 2))
        made = rng.integers(0, 6, shape) if number % 2 else rng.random(shape) * 4
        cells = made.astype(np.float32)
        if number % 3 == 0:
            cells[rng.random(shape) < 0.1] = np.nan
        yield cells


def neighbours(r: int, c: int, shape: tuple[int, int]) -> Iterator[tuple[int, int]]:
    for i in range(max(r - 1, 0), min(r + 2, shape[0])):
        for j in range(max(c - 1, 0), min(c + 2, shape[1])):
            if (i, j) != (r, c):
                yield i, j


def filled_slowly(cells: np.ndarray) -> np.ndarray:
    """By a plain priority queue from the rim."""
    filled, queue, seen = cells.copy(), [], np.isnan(cells)
    for r, c in np.argwhere(~np.isnan(cells)):
        around = list(neighbours(r, c, cells.shape))
        rim = r in (0, cells.shape[0] - 1) or c in (0, cells.shape[1] - 1)
        if rim or any(np.isnan(cells[one]) for one in around):
            heapq.heappush(queue, (cells[r, c], r, c))
            seen[r, c] = True
    while queue:
        z, r, c = heapq.heappop(queue)
        for one in neighbours(r, c, cells.shape):
            if not seen[one]:
                seen[one] = True
                filled[one] = max(cells[one], z)
                heapq.heappush(queue, (filled[one], *one))
    return filled
