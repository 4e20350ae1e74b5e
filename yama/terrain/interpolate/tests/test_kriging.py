"""Kriging against the textbook's system of equations, and variograms against what made the heights."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.interpolate.kriging import (
    MODELS,
    Variogram,
    empirical,
    fit,
    kriged,
    kriged_at,
)
from yama.terrain.interpolate.tests.test_surfaces_from_points import GRID, scattered


def by_equations(x, y, z, px, py, variogram, k, mean=None):
    """Twin: kriging's system of equations, solved whole, bordered where no mean is given. A nugget is noise of the points."""
    angle = np.radians(variogram.direction)

    def distance(dx, dy):
        along = dx * np.sin(angle) + dy * np.cos(angle)
        across = (dx * np.cos(angle) - dy * np.sin(angle)) / variogram.ratio
        return np.hypot(along, across)

    def covariance(far):
        return variogram.sill - Variogram(variogram.model, 0.0, variogram.sill, variogram.range).at(far).reshape(
            far.shape
        )

    order = np.argsort(distance(x - px, y - py), kind="stable")[:k]
    a, b, c = x[order], y[order], z[order]
    n = len(order)
    left = np.ones((n + 1, n + 1))
    left[:n, :n] = covariance(distance(a[:, None] - a, b[:, None] - b)) + (
        variogram.nugget + 1e-9 * variogram.sill
    ) * np.eye(n)
    left[n, n] = 0
    if mean is not None:
        right = covariance(distance(a - px, b - py))
        weights = np.linalg.solve(left[:n, :n], right)
        return float(mean + weights @ (c - mean)), float(variogram.sill - weights @ right)
    right = np.append(covariance(distance(a - px, b - py)), 1.0)
    weights = np.linalg.solve(left, right)
    return float(weights[:n] @ c), float(variogram.sill - weights @ right)


class KrigingTest(SimpleTestCase):
    def test_equal_to_the_system_of_equations(self):
        x, y, z = scattered(200)
        rng = np.random.default_rng(9)
        qx, qy = rng.uniform(448_000, 448_160, 40), rng.uniform(5_437_880, 5_438_000, 40)
        for model in MODELS:
            for nugget, direction, ratio in ((0.0, 0.0, 1.0), (3.0, 0.0, 1.0), (1.0, 30.0, 0.4)):
                variogram = Variogram(model, nugget, 200.0, 60.0, direction, ratio)
                heights, variances = kriged_at(x, y, z, qx, qy, variogram, 12)
                for i in range(40):
                    wanted = by_equations(x, y, z, qx[i], qy[i], variogram, 12)
                    with self.subTest(model, nugget=nugget, ratio=ratio):
                        self.assertAlmostEqual(float(heights[i]), wanted[0], delta=2e-3)
                        self.assertAlmostEqual(float(variances[i]), wanted[1], delta=2e-3)

    def test_simple_kriging_is_equal_to_its_equations_and_goes_back_to_the_mean(self):
        x, y, z = scattered(200)
        rng = np.random.default_rng(9)
        qx, qy = rng.uniform(448_000, 448_160, 40), rng.uniform(5_437_880, 5_438_000, 40)
        for nugget in (0.0, 3.0):
            variogram = Variogram("spherical", nugget, 200.0, 60.0)
            heights, variances = kriged_at(x, y, z, qx, qy, variogram, 12, mean=31.0)
            for i in range(40):
                wanted = by_equations(x, y, z, qx[i], qy[i], variogram, 12, 31.0)
                self.assertAlmostEqual(float(heights[i]), wanted[0], delta=2e-3)
                self.assertAlmostEqual(float(variances[i]), wanted[1], delta=2e-3)
        far, doubt = kriged_at(x, y, z, np.array([449_000.0]), np.array([5_439_000.0]), variogram, 12, mean=31.0)
        self.assertAlmostEqual(float(far[0]), 31.0, places=6)
        self.assertAlmostEqual(float(doubt[0]), 200.0, places=6)

    def test_the_error_from_a_measurement_holds_the_nugget(self):
        x, y, z = scattered(200)
        variogram = Variogram("spherical", 3.0, 200.0, 60.0)
        of_surface, of_measurement = (
            kriged(x, y, z, GRID, variogram, deviation=True, with_nugget=chosen).read_all().astype(float)
            for chosen in (False, True)
        )
        np.testing.assert_allclose(of_measurement**2, of_surface**2 + 3.0, rtol=1e-5)

    def test_without_a_nugget_it_passes_through_the_points_and_is_sure_there(self):
        x, y, z = scattered(150)
        heights, variances = kriged_at(x, y, z, x, y, Variogram("exponential", 0.0, 150.0, 50.0))
        np.testing.assert_allclose(heights, z, atol=1e-3)
        self.assertLess(variances.max(), 1e-3)
        smoothed, doubts = kriged_at(x, y, z, x, y, Variogram("exponential", 5.0, 150.0, 50.0))
        self.assertGreater(np.abs(smoothed - z).mean(), 0.1)
        self.assertGreater(doubts.min(), 0.1)

    def test_equal_heights_give_that_height_everywhere(self):
        x, y, z = scattered(80)
        for model in MODELS:
            found = kriged(x, y, np.full_like(z, 7.25), GRID, Variogram(model, 0.5, 10.0, 30.0)).read_all()
            np.testing.assert_allclose(found, 7.25, atol=1e-4)

    def test_cells_and_places_agree_in_any_window(self):
        x, y, z = scattered(300)
        variogram = Variogram("spherical", 1.0, 180.0, 70.0)
        surface = kriged(x, y, z, GRID, variogram, reach=5.0)
        whole = surface.read_all()
        self.assertTrue(0.05 < np.isnan(whole).mean() < 0.9)
        np.testing.assert_array_equal(surface.read(Window(11, 7, 20, 30)), whole[11:31, 7:37])
        xs, ys = GRID.centres(GRID.whole)
        rows, cols = np.nonzero(np.isfinite(whole))
        heights, variances = kriged_at(x, y, z, xs[cols], ys[rows], variogram)
        np.testing.assert_allclose(whole[rows, cols], heights, atol=2e-4)
        doubt = kriged(x, y, z, GRID, variogram, reach=5.0, deviation=True).read_all()
        np.testing.assert_allclose(doubt[rows, cols], np.sqrt(variances), atol=1e-3)

    def test_it_tells_its_own_error(self):
        """Heights drawn with a variogram: the errors of predictions are as large as kriging says they are."""
        rng = np.random.default_rng(12)
        x, y = rng.uniform(0, 400, (2, 700))
        variogram = Variogram("exponential", 0.0, 40.0, 120.0)
        far = np.hypot(x[:, None] - x, y[:, None] - y)
        covariance = 40.0 - variogram.at(far)
        z = np.linalg.cholesky(covariance + 1e-8 * np.eye(700)) @ rng.normal(size=700)
        given = np.arange(700) < 500
        heights, variances = kriged_at(x[given], y[given], z[given], x[~given], y[~given], variogram, 24)
        scaled = (heights - z[~given]) / np.sqrt(variances)
        self.assertTrue(0.85 < scaled.std() < 1.15)

    def test_impossible_settings_are_refused(self):
        x, y, z = scattered(30)
        for numbers in (("spherical", -1, 1, 1), ("spherical", 0, 0, 1), ("spherical", 0, 1, 0), ("round", 0, 1, 1)):
            with self.subTest(numbers), self.assertRaises(InputError):
                Variogram(*numbers)
        with self.assertRaisesRegex(InputError, "neighbours"):
            kriged(x, y, z, GRID, Variogram("spherical", 0, 1, 1), neighbours=1)


class VariogramTest(SimpleTestCase):
    def test_it_starts_at_the_nugget_and_ends_at_the_sill(self):
        for model in MODELS:
            variogram = Variogram(model, 2.0, 8.0, 100.0)
            self.assertEqual(float(variogram.at(0)[0]), 0.0)
            self.assertAlmostEqual(float(variogram.at(1e-6)[0]), 2.0, places=4)
            self.assertAlmostEqual(float(variogram.at(100)[0]), 10.0 if model == "spherical" else 9.6, places=2)
            self.assertAlmostEqual(float(variogram.at(1000)[0]), 10.0, places=6)

    def test_pairs_are_counted_as_a_plain_loop_counts_them(self):
        x, y, z = scattered(60)
        found = empirical(x, y, z, classes=6, farthest=90.0)
        sums, counts = np.zeros(6), np.zeros(6, int)
        for i in range(60):
            for j in range(i):
                far = np.hypot(x[i] - x[j], y[i] - y[j])
                if far < 90:
                    sums[int(far / 15)] += (z[i] - z[j]) ** 2 / 2
                    counts[int(far / 15)] += 1
        np.testing.assert_array_equal(found.pairs, counts)
        np.testing.assert_allclose(found.values, sums / counts)

    def test_fitting_finds_the_model_that_made_the_values(self):
        x, y, z = scattered(400)
        found = empirical(x, y, z)
        for model in MODELS:
            made = Variogram(model, 1.5, 30.0, 45.0)
            again = fit(type(found)(found.distances, made.at(found.distances), found.pairs), model)
            for name in ("nugget", "sill", "range"):
                self.assertAlmostEqual(getattr(again, name) / getattr(made, name), 1.0, delta=0.02)

    def test_many_points_are_thinned_and_the_answer_stays(self):
        rng = np.random.default_rng(7)
        x, y = rng.uniform(0, 2000, (2, 9000))
        z = 30 * np.sin(x / 90) + 20 * np.cos(y / 70)
        thinned, fewer = empirical(x, y, z), empirical(x[:2400], y[:2400], z[:2400], farthest=900)
        self.assertLess(thinned.pairs.sum(), 3_100_000)
        np.testing.assert_array_equal(thinned.values, empirical(x, y, z).values)
        self.assertAlmostEqual(thinned.values[-1] / fewer.values[-1], 1.0, delta=0.1)

    def test_too_few_points(self):
        with self.assertRaisesRegex(InputError, "ten points"):
            empirical(*(np.arange(5.0),) * 3)
