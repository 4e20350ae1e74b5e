import numpy as np
from django.test import SimpleTestCase

from yama.terrain.grid import Grid
from yama.terrain.judge.without_truth import noises, roughness
from yama.terrain.median import robust_spread
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 448_000.0, 5_438_600.0, 2.0, 2.0, 300, 300)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
RNG = np.random.default_rng(6)


def surface(cells, unit="m"):
    return ArraySurface(np.asarray(cells, np.float32), GRID, unit)


class RoughnessTest(SimpleTestCase):
    def test_a_plane_is_not_rough_and_noise_is_as_rough_as_it_is(self):
        plane = 0.25 * (X - 448_000) + 0.5 * (Y - 5_438_000)
        self.assertAlmostEqual(roughness(surface(plane)), 0, places=4)
        for noise in (0.1, 2.0):
            self.assertAlmostEqual(roughness(surface(plane + RNG.normal(0, noise, X.shape))) / noise, 1, delta=0.03)

    def test_feet_are_metres_and_empty_cells_and_lakes_do_not_count(self):
        cells = RNG.normal(0, 0.5, X.shape)
        self.assertAlmostEqual(roughness(surface(cells / 0.3048, "ft")), roughness(surface(cells)), places=4)
        lake = np.where(X < 448_500, 7.0, cells)
        self.assertAlmostEqual(roughness(surface(lake)), 0.5, delta=0.03)
        self.assertTrue(np.isnan(roughness(surface(np.full(X.shape, np.nan)))))
        self.assertAlmostEqual(roughness(surface(np.full(X.shape, 3.0))), 0)


class NoisesTest(SimpleTestCase):
    def test_three_tell_the_noise_of_each_and_two_do_not(self):
        truth = RNG.normal(0, 40, 5000)
        errors = [truth + RNG.normal(0, one, 5000) for one in (1.0, 1.5, 3.0)]
        for found, noise in zip(noises(errors), (1.0, 1.5, 3.0), strict=True):
            self.assertAlmostEqual(found / noise, 1, delta=0.25)
        self.assertEqual(noises(errors[:2]), [None, None])
        apart = [errors[0], errors[1], np.full(5000, np.nan)]
        self.assertEqual(noises(apart), [None, None, None])

    def test_the_robust_spread_is_that_of_what_is_normal(self):
        values = np.append(RNG.normal(5, 2, 4000), [900.0] * 100)
        self.assertAlmostEqual(robust_spread(values), 2, delta=0.15)
