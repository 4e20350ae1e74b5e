"""Sinks against a slow twin: every cell rises to the least brim on any way out."""

from __future__ import annotations

import unittest

import numpy as np

from yama.terrain.drain.sinks import flood, sinks


def slow_fill(heights: np.ndarray) -> np.ndarray:
    """Lower everything that was flooded until nothing changes (O. Planchon and F. Darboux, Catena 46, 2001)."""
    rows, cols = heights.shape
    filled = np.where(np.isnan(heights), np.nan, np.inf)
    for r in range(rows):
        for c in range(cols):
            around = heights[max(r - 1, 0) : r + 2, max(c - 1, 0) : c + 2]
            if r in (0, rows - 1) or c in (0, cols - 1) or np.isnan(around).any():
                filled[r, c] = heights[r, c]
    while True:
        before = filled.copy()
        for r in range(rows):
            for c in range(cols):
                if not np.isnan(heights[r, c]):
                    lowest = np.nanmin(filled[max(r - 1, 0) : r + 2, max(c - 1, 0) : c + 2])
                    filled[r, c] = min(filled[r, c], max(heights[r, c], lowest))
        if np.array_equal(before, filled, equal_nan=True):
            return filled


class FloodTest(unittest.TestCase):
    def test_is_the_slow_twin(self) -> None:
        rng = np.random.default_rng(6)
        for _ in range(12):
            heights = rng.integers(0, 12, (14, 17)).astype(np.float64)
            heights[rng.random(heights.shape) < 0.05] = np.nan
            filled, _ = flood(heights)
            np.testing.assert_array_equal(filled, slow_fill(heights))

    def test_the_way_out_never_leaves_the_flood(self) -> None:
        heights = np.random.default_rng(7).random((30, 30))
        filled, towards = flood(heights)
        for cell in range(900):
            at, steps = cell, 0
            while towards.flat[at] >= 0:
                self.assertLessEqual(filled.flat[towards.flat[at]], filled.flat[at])
                at, steps = int(towards.flat[at]), steps + 1
                self.assertLess(steps, 900)
            r, c = divmod(at, 30)
            self.assertTrue(r in (0, 29) or c in (0, 29))

    def test_sinks_are_counted_with_depth_and_size(self) -> None:
        heights = np.full((20, 30), 10.0)
        heights[4:7, 4:7] = 7.0
        heights[5, 5] = 6.0
        heights[12, 20:22] = 9.5
        found = sinks(heights, flood(heights)[0], 0.1)
        self.assertEqual(
            [(sink.row, sink.col, sink.depth, sink.cells) for sink in found], [(5, 5, 4.0, 9), (12, 20, 0.5, 2)]
        )
        self.assertEqual(len(sinks(heights, flood(heights)[0], 1.0)), 1)
        self.assertEqual(sinks(np.zeros((5, 5)), np.zeros((5, 5)), 0.1), [])
