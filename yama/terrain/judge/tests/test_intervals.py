"""Intervals of error figures: as a slow twin has them, and as sure as they say."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.judge.accuracy import figures_of
from yama.terrain.judge.intervals import _NAMES, _QUANTILES, _by_size, _resampled, blocks_of, sureness


class KernelTest(SimpleTestCase):
    def test_a_draw_is_the_figures_of_what_was_drawn(self):
        rng = np.random.default_rng(2)
        for count in (9, 40, 151):
            errors = np.sort(rng.standard_t(3, count))
            weights = rng.poisson(1.0, (20, count)).astype(float)
            found = np.empty((20, 7))
            _resampled(errors, np.ones(count), *_by_size(errors), np.arange(count), weights, _QUANTILES, found)
            for draw, weight in zip(found, weights, strict=True):
                drawn = np.repeat(errors, weight.astype(int))
                told = figures_of(drawn)
                for name, value in zip(_NAMES[:3], draw[:3], strict=True):
                    self.assertAlmostEqual(value, getattr(told, name), places=10)
                size = np.sort(np.abs(drawn))
                for share, value in zip(_QUANTILES, draw[4:], strict=True):
                    self.assertEqual(value, size[int(np.ceil(share * size.size - 1e-9)) - 1])
                off = np.sort(np.abs(drawn - told.median))
                self.assertAlmostEqual(draw[3], 1.4826 * off[int(np.ceil(off.size / 2)) - 1], places=10)


class SurenessTest(SimpleTestCase):
    def test_nineteen_of_twenty_intervals_hold_the_truth(self):
        rng = np.random.default_rng(3)
        truth = {"mean": 0.3, "median": 0.3, "rmse": np.hypot(0.3, 1.0), "nmad": 1.0}
        held = dict.fromkeys(truth, 0)
        for _ in range(200):
            x, y = rng.uniform(0, 5000, (2, 120))
            found = sureness(rng.normal(0.3, 1.0, 120), x, y)
            self.assertFalse(found.clustered)
            for name, value in truth.items():
                low, high = found.intervals[name]
                held[name] += low <= value <= high
        for name, count in held.items():
            self.assertTrue(176 <= count <= 199, (name, count))

    def test_points_in_clusters_do_not_make_it_surer(self):
        rng = np.random.default_rng(4)
        held, wider = 0, []
        for _ in range(120):
            fields = rng.uniform(0, 5000, (20, 2))
            own = rng.normal(0, 1.0, 20)
            number = np.repeat(np.arange(20), 10)
            x, y = (fields[number] + rng.normal(0, 15, (200, 2))).T
            errors = own[number] + rng.normal(0, 0.2, 200)
            found = sureness(errors, x, y)
            self.assertTrue(found.clustered)
            low, high = found.intervals["mean"]
            held += low <= 0 <= high
            wider.append((high - low) / (2 * 1.96 * errors.std() / np.sqrt(200)))
        self.assertGreaterEqual(held, 100)
        self.assertGreater(np.median(wider), 2)

    def test_the_same_points_give_the_same_and_few_give_none(self):
        rng = np.random.default_rng(5)
        x, y, errors = rng.uniform(0, 900, (3, 60))
        errors[7] = np.nan
        self.assertEqual(sureness(errors, x, y), sureness(errors, x, y))
        self.assertIsNone(sureness(errors[:7], x[:7], y[:7]))
        line = sureness(errors, x, np.zeros(60))
        self.assertLess(line.intervals["mean"][0], line.intervals["mean"][1])
        one = sureness(errors, np.zeros(60), np.zeros(60))
        self.assertTrue(one.clustered)
        self.assertEqual((one.blocks, one.intervals), (1, {}))

    def test_blocks_hold_about_four_points_each(self):
        rng = np.random.default_rng(6)
        blocks, together = blocks_of(*rng.uniform(0, 1000, (2, 400)))
        self.assertFalse(together)
        self.assertTrue(80 <= blocks.max() + 1 <= 144)
