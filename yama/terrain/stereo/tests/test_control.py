"""Surfaces are brought to points whose heights are known, though trees stand over most of them."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.stereo.control import offset

ROWS, COLS, CELL = 300, 320, 4.0


def ground(x, y):
    """Heights at metres from the upper left corner."""
    return 100 + 30 * np.sin(x / 160) + 22 * np.cos(y / 130) + 0.04 * x


class OffsetTest(SimpleTestCase):
    def setUp(self):
        self.rng = np.random.default_rng(8)
        y, x = np.mgrid[:ROWS, :COLS] * CELL
        # what is seen lies 3.2 m too far east, 1.9 m too far south and 6 m too low
        self.surface = (ground(x - 3.2, y - 1.9) - 6.0).astype(np.float32)
        self.col, self.row = self.rng.uniform(10, COLS - 10, 900), self.rng.uniform(10, ROWS - 10, 900)
        self.z = ground(self.col * CELL, self.row * CELL)

    def found(self, surface, z=None, **only):
        n = only.get("first", self.z.size)
        return offset(surface, (CELL, CELL), self.col[:n], self.row[:n], (self.z if z is None else z)[:n])

    def test_a_moved_surface_is_moved_back(self):
        by = self.found(self.surface)
        np.testing.assert_allclose([by.east, by.north, by.up], [-3.2, 1.9, 6.0], atol=0.06)
        self.assertTrue(by.placed)

    def test_trees_over_most_of_the_points_do_not_lift_the_ground(self):
        wood = np.sin(np.arange(COLS) / 23)[None, :] * np.cos(np.arange(ROWS) / 19)[:, None] > -0.15  # over half of it
        self.assertGreater(wood.mean(), 0.55)
        covered = self.surface + np.where(
            wood, self.rng.uniform(5, 14, wood.shape), self.rng.normal(0, 0.3, wood.shape)
        )
        by = self.found(covered.astype(np.float32))
        np.testing.assert_allclose([by.east, by.north, by.up], [-3.2, 1.9, 6.0], atol=0.5)
        self.assertLess(abs(by.up - 6.0), 0.25)

    def test_a_few_points_tell_the_height_only(self):
        by = self.found(self.surface, first=8)
        self.assertFalse(by.placed)
        self.assertEqual((by.east, by.north), (0.0, 0.0))
        self.assertLess(abs(by.up - 6.0), 1.2)

    def test_flat_ground_tells_no_place(self):
        by = self.found(np.full((ROWS, COLS), 90.0, np.float32), np.full(self.z.size, 92.5))
        self.assertFalse(by.placed)
        self.assertAlmostEqual(by.up, 2.5, places=3)

    def test_points_beside_the_surface_say_nothing(self):
        self.assertIsNone(offset(self.surface, (CELL, CELL), self.col + 5000, self.row, self.z))
