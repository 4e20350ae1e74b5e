import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.judge.uncertainty import fitted_model, of_differences


class ErrorModelTest(SimpleTestCase):
    def test_the_parts_that_made_the_errors_are_found_again(self):
        rng = np.random.default_rng(1)
        slopes = rng.uniform(0, 0.8, 6000)
        classes = rng.integers(0, 2, 6000)
        sigma = np.sqrt(np.where(classes == 0, 0.3, 1.2) ** 2 + (2.0 * slopes) ** 2)
        errors = rng.normal(0, 1, 6000) * sigma + np.where(classes == 0, 0.1, 4.0)
        model = fitted_model(errors, slopes, classes, ("grass", "wood"))
        np.testing.assert_allclose(model.floor[:2], [0.3, 1.2], rtol=0.25)
        self.assertAlmostEqual(model.per_rise, 2.0, delta=0.2)
        np.testing.assert_allclose(model.bias[:2], [0.1, 4.0], atol=0.15)
        self.assertAlmostEqual(model.within, 0.90, delta=0.01)

    def test_its_own_uncertainty_is_taken_as_many_times_as_it_should_be(self):
        rng = np.random.default_rng(2)
        own = rng.uniform(0.1, 2.0, 5000)
        model = fitted_model(rng.normal(0, 1, 5000) * own * 1.5, np.zeros(5000), own=own)
        self.assertAlmostEqual(model.own, 1.5, delta=0.15)
        variance = model.variance(np.zeros(3), own=np.array([0.5, 1.0, np.nan]))
        self.assertTrue(variance[1] > variance[0] > variance[2])

    def test_few_blunders_do_not_decide(self):
        rng = np.random.default_rng(3)
        errors = rng.normal(0, 0.5, 400)
        errors[:12] = 60.0
        model = fitted_model(errors, rng.uniform(0, 0.3, 400))
        self.assertLess(float(np.sqrt(model.variance(np.array([0.1])))[0]), 1.0)

    def test_intervals_hold_nine_tenths_of_errors_that_were_not_known(self):
        rng = np.random.default_rng(4)
        held = []
        for _ in range(60):
            slopes = rng.uniform(0, 0.8, 1150)
            errors = rng.standard_t(5, 1150) * np.sqrt(0.4**2 + (1.5 * slopes) ** 2)
            model = fitted_model(errors[:150], slopes[:150])
            sigma = np.sqrt(model.variance(slopes[150:]))
            held.append((np.abs(errors[150:] - model.mean()) < 1.6449 * sigma).mean())
        self.assertTrue(0.87 < float(np.mean(held)) < 0.93, np.mean(held))

    def test_too_few_are_said(self):
        with self.assertRaisesRegex(InputError, "19 errors are known"):
            fitted_model(np.zeros(19), np.zeros(19))

    def test_a_class_of_few_errors_is_as_all_ground(self):
        rng = np.random.default_rng(5)
        classes = np.where(np.arange(300) < 4, 1, 0)
        model = fitted_model(rng.normal(1.0, 0.5, 300), np.zeros(300), classes, ("grass", "rock"))
        self.assertAlmostEqual(model.floor[1], model.floor[0], delta=0.1)
        self.assertAlmostEqual(model.bias[1], 1.0, delta=0.15)


class OfDifferencesTest(SimpleTestCase):
    def test_noise_of_three_and_more_is_told_apart(self):
        rng = np.random.default_rng(6)
        for sigmas in ([0.2, 1.0, 3.0], [0.5, 0.5, 2.0, 4.0]):
            noise = rng.normal(0, 1, (len(sigmas), 200_000)) * np.array(sigmas)[:, None]
            spreads = np.array([[np.std(a - b) for b in noise] for a in noise])
            found = of_differences(spreads)
            np.testing.assert_allclose(found[1:], sigmas[1:], rtol=0.05)
            self.assertAlmostEqual(found[0], sigmas[0], delta=0.25)

    def test_two_are_too_few(self):
        with self.assertRaisesRegex(InputError, "Three surfaces"):
            of_differences(np.ones((2, 2)))
        apart = np.full((3, 3), np.nan)
        apart[0, 1] = 1.0
        with self.assertRaisesRegex(InputError, "Three surfaces"):
            of_differences(apart)
