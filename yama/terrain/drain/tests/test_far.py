"""What leads a long search: bounds below what is true, and ways that cost what they cost without it."""

import heapq

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.drain.directions import COLS, ROWS, apart_on
from yama.terrain.drain.far import SIDE, least_left
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.drain.working_off import _Room, _way_within

SHAPE = (150, 170)


def rough(seed):
    """A wide bowl with hills in it, and a few empty cells where the seed is odd."""
    rng = np.random.default_rng(seed)
    y, x = np.indices(SHAPE)
    cells = np.hypot(x - 85, y - 75) / 3 + np.kron(rng.normal(0, 4, (15, 17)), np.ones((10, 10))) + rng.random(SHAPE)
    if seed % 2:
        cells[40:44, 120:123] = np.nan
    return cells.astype(np.float32)


def truly_left(cells, low):
    """Twin: from each cell what is cut on the way to lower ground or off the surface, found from there back."""
    rows, cols = cells.shape
    padded = np.pad(cells, 1, constant_values=np.nan)
    beside = np.isnan(
        [padded[1 + a : rows + 1 + a, 1 + b : cols + 1 + b] for a, b in zip(ROWS, COLS, strict=True)]
    ).any(0)
    exits = (cells < low) | (beside & ~np.isnan(cells))
    left = np.where(exits, 0.0, np.inf)
    heap = [(0.0, r, c) for r, c in np.argwhere(exits).tolist()]
    while heap:
        spent, r, c = heapq.heappop(heap)
        if spent > left[r, c]:
            continue
        for a, b in zip(ROWS.tolist(), COLS.tolist(), strict=True):
            i, j = r + a, c + b
            # whoever goes from there to here cuts here
            there = spent + max(float(cells[r, c]) - low, 0.0)
            if 0 <= i < rows and 0 <= j < cols and there < left[i, j]:
                left[i, j] = there
                heapq.heappush(heap, (there, i, j))
    return left


class FarTest(SimpleTestCase):
    def test_bounds_are_not_above_what_is_true(self):
        for seed in range(4):
            cells = rough(seed)
            row, col = np.unravel_index(np.nanargmin(cells[60:90, 70:100]), (30, 30))
            row, col = int(row) + 60, int(col) + 70
            true = truly_left(cells, float(cells[row, col]))
            for blocks in (8, 16, 64):
                left = least_left(cells, row, col, blocks)
                north, west = row - blocks // 2 * SIDE, col - blocks // 2 * SIDE
                r, c = np.indices(SHAPE)
                a, b = (r - north) // SIDE, (c - west) // SIDE
                within = (a >= 0) & (a < blocks) & (b >= 0) & (b < blocks) & ~np.isnan(cells)
                told = left[a[within], b[within]]
                self.assertTrue((told <= true[within] + 1e-9).all())

    def test_a_search_that_is_led_finds_as_cheap_a_way_over_fewer_cells(self):
        for seed in range(4):
            cells = rough(seed)
            apart = apart_on(grid_of(SHAPE))
            low = int(np.nanargmin(np.where(np.hypot(*(np.indices(SHAPE) - 75)) < 40, cells, np.nan)))
            row, col = divmod(low, SHAPE[1])
            ways, pops = [], []
            for left in (np.zeros((0, 0)), least_left(cells, row, col, 64)):
                for most in (500, 1_000, 2_000, 4_000, 8_000, 16_000, 25_500):
                    notes, side, cost, back, heap, keys, _, path = _Room(1 << 18, cells.size).arrays
                    end, spent, length = _way_within(
                        cells,
                        low,
                        notes,
                        side,
                        1,
                        cost,
                        back,
                        apart,
                        np.inf,
                        np.inf,
                        np.inf,
                        heap,
                        keys,
                        path,
                        left,
                        most,
                        np.zeros(2, np.int64),
                    )
                    if end != -3:
                        break
                ways.append(spent)
                pops.append(most)
                r, c = np.divmod(path[: np.flatnonzero(path < 0)[0]], SHAPE[1])
                cut = np.maximum(cells[r, c].astype(float) - cells[row, col], 0).sum()
                self.assertAlmostEqual(cut, spent, delta=1e-3 * spent + 1e-3)
            self.assertAlmostEqual(ways[0], ways[1], delta=1e-5 * ways[0] + 1e-4)
            self.assertLessEqual(pops[1], pops[0])
