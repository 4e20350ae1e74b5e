"""Seams: the lines along which one surface gives way to another, found where both agree best.

In an overlap each cell costs what its surfaces differ by. The seam is the cut of a minimum spanning forest rooted in the
cells that are decided (J. Cousty, G. Bertrand, L. Najman and M. Couprie, "Watershed cuts: minimum spanning forests and the
drop of water principle", IEEE PAMI 31, 2009): growing from them along the greatest differences first, regions meet where the
differences are least. So the largest step along a seam is as small as it can be.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Grid, Window
from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.mosaic.rules import Sources, continued, edge_weights

rasterio = later("rasterio")

MOST_CELLS = 1_000_000
"""Cells a seam is sought on; of larger grids a coarser level is taken."""
MOST_SURFACES = 63


@kernel
def _contest(heights, weights, number, bit, masks, closed, low, high, owners):
    """Enter a surface for the cells that no better one holds for certain; deep inside its own edge it holds them itself."""
    for r in range(heights.shape[0]):
        for c in range(heights.shape[1]):
            h = heights[r, c]
            if closed[r, c] or np.isnan(h):
                continue
            if masks[r, c] == 0:
                owners[r, c] = number
                low[r, c] = h
                high[r, c] = h
            else:
                owners[r, c] = -1
                low[r, c] = min(low[r, c], h)
                high[r, c] = max(high[r, c], h)
            masks[r, c] |= bit
            closed[r, c] = weights[r, c] >= 1.0


@kernel
def _grow(masks, cost, bits, owners):
    """From the cells with an owner to those without, over the greatest cost first."""
    rows, cols = owners.shape
    heap = np.empty(4 * rows * cols + 4, np.int64)
    keys = np.empty(4 * rows * cols + 4, np.float64)
    size = 0
    for r in range(rows):
        for c in range(cols):
            if owners[r, c] >= 0:
                size = _spread_from(r, c, masks, cost, bits, owners, heap, keys, size)
    while size > 0:
        code, size = pop(heap, keys, size)
        cell = code // 4
        side = code % 4
        r = cell // cols
        c = cell % cols
        if owners[r, c] >= 0:
            continue
        fr = r + (1 if side == 0 else -1 if side == 1 else 0)
        fc = c + (1 if side == 2 else -1 if side == 3 else 0)
        owners[r, c] = owners[fr, fc]
        size = _spread_from(r, c, masks, cost, bits, owners, heap, keys, size)


@kernel
def _spread_from(r, c, masks, cost, bits, owners, heap, keys, size):
    rows, cols = owners.shape
    own = bits[owners[r, c]]
    for side in range(4):
        # the neighbour that has (r, c) on this side of it
        i = r - (1 if side == 0 else -1 if side == 1 else 0)
        j = c - (1 if side == 2 else -1 if side == 3 else 0)
        if 0 <= i < rows and 0 <= j < cols and owners[i, j] < 0 and masks[i, j] & own:
            size = push(heap, keys, size, (i * cols + j) * 4 + side, -(cost[r, c] + cost[i, j]))
    return size


class Seams:
    """Which surface holds each cell. placed: in order, the better first; the first has its say up to `band` metres from its
    own edge, deeper in it holds every cell. given: areas in the grid's CRS with the number of the surface that holds them
    wherever it has a height, whatever the others say; of areas that overlap the last one counts. Raises InputError for more
    than 63 surfaces."""

    def __init__(
        self,
        placed: Sequence[Any],
        grid: Grid,
        band: float,
        given: Sequence[tuple[int, shapely.Polygon]] = (),
        most: int = MOST_CELLS,
    ) -> None:
        if len(placed) > MOST_SURFACES:
            raise InputError(f"Seams are found between at most {MOST_SURFACES} surfaces, not {len(placed)}. "
                             "Join some of them first.")  # fmt: skip
        self.made_of = (band, [(number, area.wkb) for number, area in given], most)
        self.level = 0
        while grid.at_level(self.level).cell_count > most:
            self.level += 1
        self.grid = grid.at_level(self.level)
        shape = (self.grid.rows, self.grid.cols)
        width = max(band / min(self.grid.metres_per_cell()), 1.0)
        halo = math.ceil(width)
        masks, closed = np.zeros(shape, np.int64), np.zeros(shape, np.bool_)
        low, high = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
        self._owners: Sources = np.full(shape, -1, np.int16)
        bits = np.zeros(max((one.number for one in placed), default=0) + 1, np.int64)
        around = self.grid.whole.grown(halo)
        wanted, filled = {number for number, _ in given}, dict[int, npt.NDArray[np.bool_]]()
        for i, one in enumerate(placed):
            bits[one.number] = 1 << i
            wide = one.read(around, self.level)
            weights = edge_weights(continued(wide, around, self.grid), halo, width)
            heights = np.ascontiguousarray(wide[halo:-halo, halo:-halo])
            _contest(heights, weights, one.number, bits[one.number], masks, closed, low, high, self._owners)
            if one.number in wanted:  # it may be asked for where a better one holds the cells for certain
                filled[one.number] = ~np.isnan(heights)
        for number, area in given:
            if number in filled:
                held = (inside([area], self.grid) > 0) & filled[number]
                self._owners[held] = number
                masks[held] |= bits[number]
        self.cost = (high - low).astype(np.float64)
        first = np.full(shape, -1, np.int16)
        for one in reversed(placed):
            first[masks & bits[one.number] > 0] = one.number
        _grow(masks, self.cost, bits, self._owners)
        left = (self._owners < 0) & (masks > 0)  # cut off from every decided cell
        self._owners[left] = first[left]

    def owners(self, window: Window, level: int) -> Sources:
        """The number of the surface that holds each cell of a window of a level, -1 where none does."""
        rows = (np.arange(window.rows) + window.row) * 2**level
        cols = (np.arange(window.cols) + window.col) * 2**level
        half = 2**level // 2
        own = 2**self.level
        r = np.clip((rows + half) // own, 0, self.grid.rows - 1)
        c = np.clip((cols + half) // own, 0, self.grid.cols - 1)
        found: Sources = self._owners[np.ix_(r, c)]
        return found

    def lines(self) -> list[npt.NDArray[np.float64]]:
        """The seams as lines `(any, 2)` in the grid's CRS, along cell edges; the outer edge is not one."""
        filled = self._owners >= 0
        areas = [
            shapely.geometry.shape(rings)
            for rings, _ in rasterio.features.shapes(
                self._owners, mask=filled, connectivity=4, transform=self.grid.transform
            )
        ]
        tree = shapely.STRtree(areas)
        edges = [
            area.boundary.intersection(areas[j].boundary)
            for i, area in enumerate(areas) for j in tree.query(area) if j > i
        ]  # fmt: skip
        lines = [
            part for edge in edges for part in shapely.get_parts(edge) if part.geom_type in ("LineString", "LinearRing")
        ]
        merged = shapely.get_parts(shapely.line_merge(shapely.multilinestrings(lines))) if lines else []
        return [shapely.get_coordinates(line) for line in merged]
