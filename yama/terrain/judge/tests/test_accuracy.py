"""Accuracy figures against their definitions."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.judge.accuracy import accuracy, figures_of
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 0, 100, 1.0, 1.0, 100, 100)


class FiguresTest(SimpleTestCase):
    def test_small_sample_by_hand(self):
        found = figures_of(np.array([1.0, -1.0, 2.0, 0.0, np.nan]))
        self.assertEqual((found.count, found.unused), (4, 1))
        self.assertAlmostEqual(found.mean, 0.5)
        self.assertAlmostEqual(found.rmse, np.sqrt(6 / 4))
        self.assertAlmostEqual(found.median, 0.5)
        self.assertAlmostEqual(found.nmad, 1.4826 * 1.0)
        self.assertEqual((found.lowest, found.highest), (-1.0, 2.0))

    def test_normal_errors_give_nmad_rmse_and_le90_of_the_normal_law(self):
        errors = np.random.default_rng(1).normal(0, 2, 200_000)
        found = figures_of(errors)
        self.assertAlmostEqual(found.rmse, 2.0, places=1)
        self.assertAlmostEqual(found.nmad, 2.0, places=1)
        self.assertAlmostEqual(found.le90, 2 * 1.6449, places=1)
        self.assertAlmostEqual(found.le95, 2 * 1.9600, places=1)
        self.assertAlmostEqual(found.le68, 2 * 1.0006, places=1)  # of a normal distribution its standard deviation
        self.assertAlmostEqual(found.mae, 2 * (2 / np.pi) ** 0.5, places=1)

    def test_outliers_are_seen_and_do_not_move_nmad(self):
        errors = np.append(np.random.default_rng(2).normal(0, 1, 1000), [40.0] * 5)
        found = figures_of(errors)
        self.assertGreaterEqual(found.outliers, 5)
        self.assertLess(found.nmad, 1.1)
        self.assertGreater(found.rmse, 2.5)

    def test_no_error_at_all_is_a_sentence(self):
        with self.assertRaisesMessage(InputError, "No checkpoint lies on a filled cell"):
            figures_of(np.array([np.nan, np.nan]))


class AccuracyTest(SimpleTestCase):
    def points(self, crs="EPSG:32741", unit="m"):
        rng = np.random.default_rng(3)
        x, y = rng.uniform(5, 95, (2, 50))
        codes = np.where(x > 50, "wood", "grass")
        return Points(crs, x, y, {"z": x * 0.5}, codes, "z", unit)

    def test_a_surface_half_a_metre_high(self):
        xs, _ = GRID.centres(GRID.whole)
        surface = ArraySurface(np.tile(xs * 0.5 + 0.5, (100, 1)), GRID)
        found = accuracy(surface, self.points())
        self.assertAlmostEqual(found.all.mean, 0.5, places=4)
        self.assertAlmostEqual(found.all.nmad, 0.0, places=4)
        self.assertEqual(set(found.by_code), {"wood", "grass"})
        self.assertEqual(set(found.sure_by_code), {"wood", "grass"})
        low, high = found.to_dict()["sure"]["intervals"]["mean"]
        self.assertTrue(0.49 < low <= high < 0.51)
        self.assertEqual(sum(figures.count for figures in found.by_code.values()), 50)
        self.assertEqual(len(found.errors), 50)

    def test_checkpoints_in_another_unit(self):
        xs, _ = GRID.centres(GRID.whole)
        heights = np.tile(xs * 0.5 * 0.3048 + 2.0, (100, 1))
        found = accuracy(ArraySurface(heights, GRID), self.points(unit="ft"))
        self.assertAlmostEqual(found.all.mean, 2.0, places=3)

    def test_what_has_no_heights_is_not_judged(self):
        with self.assertRaisesMessage(InputError, "no heights"):
            accuracy(ArraySurface(np.zeros((100, 100)), GRID, "°"), self.points())
