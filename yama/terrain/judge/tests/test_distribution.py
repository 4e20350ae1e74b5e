"""Distributions of heights: exact quantiles, areas and volumes of forms that are known."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import CancelledError, InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid
from yama.terrain.judge import distribution
from yama.terrain.judge.distribution import SHARES, Over, describe, distributions
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 448_000, 5_438_400, 1, 1, 400, 400)
FRAME = Frame(GRID, "m")


def cone(height=100.0, radius=150.0):
    """A cone over the middle of GRID, on ground at 0."""
    x, y = np.meshgrid(GRID.x_of(np.arange(400)) - 448_200, GRID.y_of(np.arange(400)) - 5_438_200)
    return np.maximum(height * (1 - np.hypot(x, y) / radius), 0.0)


def plain(numbers, **more):
    """The figures of an array, cut in blocks."""
    parts = np.array_split(np.asarray(numbers, np.float32).ravel(), 7)
    return describe(lambda: iter(parts), 1.0, **more)


class DescribeTest(SimpleTestCase):
    def test_every_figure_against_numpy(self):
        rng = np.random.default_rng(3)
        for numbers in (
            rng.gamma(2, 40, 5_000), rng.normal(0, 1e-3, 999), -rng.gamma(1, 900, 4_000), [7.0] * 20, [1.5], [-3.0, 4.0],
            np.concatenate([rng.normal(200, 3, 3_000), [-32768.0, 9e6]]),
        ):  # fmt: skip
            h = np.asarray(numbers, np.float32)
            found = plain(np.concatenate([h, [np.nan, np.nan]]))
            self.assertEqual((found.cells, found.empty), (len(h) + 2, 2))
            self.assertEqual((found.lowest, found.highest), (h.min(), h.max()))
            wide = h.astype(np.float64)
            np.testing.assert_allclose(found.quantiles, np.quantile(wide, SHARES), rtol=1e-12, atol=1e-12)
            self.assertAlmostEqual(found.mean, wide.mean(), places=6)
            np.testing.assert_allclose(found.deviation, wide.std(), rtol=1e-6, atol=1e-9)
            nmad = 1.4826 * np.median(np.abs(h - np.float32(np.median(wide))))
            np.testing.assert_allclose(found.nmad, nmad, rtol=1e-5, atol=1e-9)
            if wide.std() > 1e-9:
                skew = ((wide - wide.mean()) ** 3).mean() / wide.std() ** 3
                np.testing.assert_allclose(found.skew, skew, rtol=1e-6, atol=1e-9)
            self.assertGreaterEqual(sum(found.counts), 0.99 * len(h) - 2)

    def test_nothing_at_all_has_no_figures(self):
        for numbers in ([], [np.nan, np.nan]):
            found = plain(numbers, levels=(0, 1))
            self.assertIsNone(found.mean)
            self.assertEqual((found.empty, found.above.volume), (len(numbers), 0.0))

    def test_levels_the_wrong_way_round_are_refused(self):
        for levels in ((2, 1), (float("nan"), 1)):
            with self.assertRaisesRegex(InputError, "level"):
                plain([1.0], levels=levels)

    def test_volumes_in_feet_are_of_cubic_metres(self):
        self.assertAlmostEqual(plain([10.0], levels=(0, 0), area=4, into_metres=0.3048).above.volume, 12.192, places=6)


class AreaTest(SimpleTestCase):
    def test_a_cone_has_the_area_and_volume_of_a_cone(self):
        for level in (20.0, 50.0):
            found = distributions(ArraySurface(cone(), GRID), None, FRAME, Over(), (level, level))["a"]
            radius = 150 * (1 - level / 100)
            self.assertAlmostEqual(found["above"]["area"] / (np.pi * radius**2), 1, places=2)
            self.assertAlmostEqual(found["above"]["volume"] / (np.pi * radius**2 * (100 - level) / 3), 1, places=2)
            under = level * 160_000 - (np.pi * 150**2 * 100 / 3 - found["above"]["volume"])
            self.assertAlmostEqual(found["below"]["volume"] / under, 1, places=2)
        found = distributions(ArraySurface(cone(), GRID), None, FRAME, Over(), (20.0, 50.0))["a"]
        parts = [found[name]["cells"] for name in ("below", "between", "above")]
        self.assertEqual(sum(parts), 160_000)

    def test_cut_and_fill_of_a_difference(self):
        ground, dug = cone(), cone()
        dug[100:120, 100:150] -= 3.0
        dug[200:210, 200:230] += 2.0
        found = distributions(ArraySurface(dug, GRID), ArraySurface(ground, GRID), FRAME, Over())["minus"]
        self.assertAlmostEqual(found["below"]["volume"], 3 * 20 * 50, places=0)
        self.assertAlmostEqual(found["above"]["volume"], 2 * 10 * 30, places=0)
        self.assertEqual(found["below"]["area"], 1_000)

    def test_an_area_counts_only_what_lies_in_it(self):
        surface = ArraySurface(cone(), GRID)
        box = shapely.box(448_150, 5_438_150, 448_250, 5_438_250)
        inside = distributions(surface, None, FRAME, Over(polygons=(box,)))["a"]
        same = distributions(surface, None, FRAME, Over(Bounds(448_150, 5_438_150, 448_250, 5_438_250)))["a"]
        self.assertEqual(inside, same)
        self.assertEqual((inside["cells"], inside["empty"]), (10_000, 0))
        elsewhere = distributions(surface, None, FRAME, Over(polygons=(shapely.box(0, 0, 1, 1),)))["a"]
        self.assertEqual((elsewhere["cells"], elsewhere["mean"]), (0, None))

    def test_kept_or_read_again_and_at_a_level_it_is_the_same_ground(self):
        surface = ArraySurface(cone(), GRID)
        kept = distributions(surface, None, FRAME, Over(), (10.0, 60.0))
        before = distribution._KEPT
        distribution._KEPT = 1
        told: list[float] = []

        def stop(share):
            if share > 0.3:
                raise CancelledError("stop")

        try:
            self.assertEqual(
                distributions(surface, surface, FRAME, Over(), (10.0, 60.0), (0, 0), told.append)["a"], kept["a"]
            )
            with self.assertRaises(CancelledError):
                distributions(surface, None, FRAME, Over(), progress=stop)
        finally:
            distribution._KEPT = before
        self.assertEqual((told, told[-1]), (sorted(told), 1.0))
        self.assertGreater(len(told), 3 * distribution._READS)
        rough = distributions(surface, None, FRAME, Over(cells=20_000), (10.0, 60.0))["a"]
        self.assertEqual(rough["cell"], 4.0)
        self.assertAlmostEqual(rough["mean"], kept["a"]["mean"], places=2)
        self.assertAlmostEqual(rough["above"]["volume"] / kept["a"]["above"]["volume"], 1, places=2)
