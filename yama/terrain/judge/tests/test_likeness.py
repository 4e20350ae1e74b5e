import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.judge.likeness import Reach, fitted_likeness, statistics, variogram
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"


def field(side, parts, nugget=0.0, seed=1):
    """A field whose spherical models and noise are known, made in the frequencies of a torus twice as wide."""
    rng = np.random.default_rng(seed)
    wide = 2 * side
    along = np.minimum(np.arange(wide), wide - np.arange(wide))
    away = np.hypot(*np.meshgrid(along, along))
    made = np.zeros((wide, wide))
    for sill, reach in parts:
        h = np.minimum(away / reach, 1)
        covariance = sill * (1 - 1.5 * h + 0.5 * h**3)
        power = np.maximum(np.fft.fft2(covariance).real, 0)
        made += np.fft.ifft2(np.sqrt(power) * np.fft.fft2(rng.normal(0, 1, (wide, wide)))).real
    return made[:side, :side] + rng.normal(0, np.sqrt(nugget), (side, side))


def grid_of(side, cell=2.0):
    return Grid(CRS, 448_000.0, 5_438_000.0 + side * cell, cell, cell, side, side)


class VariogramTest(SimpleTestCase):
    def test_it_is_the_mean_of_all_pairs_where_these_are_few(self):
        cells = np.random.default_rng(3).normal(0, 1, (40, 30)).astype(np.float32)
        cells[5:9, 3:20] = np.nan
        lags, values = variogram(cells, 2.0)
        for lag, value in zip(lags, values, strict=True):
            step = round(lag / 2)
            apart = [cells[r, c] - cells[r + step, c] for r in range(40 - step) for c in range(30)]
            apart += [cells[r, c] - cells[r, c + step] for r in range(40) for c in range(30 - step)]
            apart = np.array(apart)
            self.assertAlmostEqual(value, float(np.nanmean(apart.astype(float) ** 2)) / 2, places=4)

    def test_models_that_made_a_field_are_found_again(self):
        lags = np.geomspace(2, 1000, 24)
        values = 0.04 + Reach(0.25, 20.0).at(lags) + Reach(0.5, 400.0).at(lags)
        found = fitted_likeness(lags, values, 2.0)
        np.testing.assert_allclose(found.model(lags), values, rtol=0.03)
        self.assertAlmostEqual(found.nugget, 0.04, delta=0.03)
        self.assertAlmostEqual(sum(one.sill for one in found.reaches), 0.75, delta=0.05)
        self.assertAlmostEqual(found.reaches[-1].range, 400, delta=60)

    def test_noise_alone_hangs_together_nowhere(self):
        cells = np.random.default_rng(1).normal(0, 0.5, (400, 400)).astype(np.float32)
        found = fitted_likeness(*variogram(cells, 2.0), 2.0)
        area = 100.0**2
        # as sure as its cells promise
        self.assertAlmostEqual(found.error_of_mean(area) / (0.5 / np.sqrt(area / 4)), 1, delta=0.25)


class MeansTest(SimpleTestCase):
    def test_means_over_areas_err_as_much_as_is_said(self):
        side, parts, nugget = 384, [(0.09, 12.0), (0.04, 90.0)], 0.02
        said, seen, naive = {}, {}, {}
        for size in (20, 60, 120):
            means = []
            for seed in range(6):
                made = field(side, parts, nugget, seed)
                count = side // size
                blocks = made[: count * size, : count * size].reshape(count, size, count, size).mean((1, 3))
                means.append(blocks.ravel())
            seen[size] = float(np.concatenate(means).std())
        found = fitted_likeness(*variogram(field(side, parts, nugget, 99).astype(np.float32), 1.0), 1.0)
        for size in seen:
            said[size] = found.error_of_mean(float(size * size))
            naive[size] = np.sqrt(0.15) / size
            self.assertAlmostEqual(said[size] / seen[size], 1, delta=0.35)
            self.assertGreater(said[size], 2 * naive[size])


class StatisticsTest(SimpleTestCase):
    def surfaces(self, side=400):
        ground = 100 + np.random.default_rng(2).normal(0, 5, (side, side))
        apart = field(side, [(0.25, 20.0)], 0.04) + 1.7
        grid = grid_of(side)
        return ArraySurface((ground + apart).astype(np.float32), grid), ArraySurface(ground.astype(np.float32), grid)

    def test_figures_of_all_and_by_cover_with_errors_of_their_means(self):
        first, second = self.surfaces()
        bounds = first.grid.bounds
        half = shapely.box(bounds.west, bounds.south, (bounds.west + bounds.east) / 2, bounds.north)
        cover = Features(CRS, np.array([half], dtype=object), {"kind": ["wood"]})
        found = statistics(first, second, first.grid, [cover], "kind")
        whole, wood = found.classes
        self.assertEqual((whole.name, wood.name), ("all", "wood"))
        self.assertAlmostEqual(whole.area, 800.0**2, delta=1)
        self.assertAlmostEqual(wood.area, 800.0**2 / 2, delta=2000)
        # 1.7 m within three of the standard errors that are told
        self.assertLess(abs(whole.figures.mean - 1.7), 3 * whole.error)
        self.assertGreater(wood.error, whole.error)
        self.assertGreater(whole.error, 5 * whole.figures.deviation / np.sqrt(whole.figures.count))
        self.assertAlmostEqual(whole.skew, 0, delta=0.2)
        self.assertAlmostEqual(whole.quantiles[3], whole.figures.median, places=3)

    def test_blunders_do_not_hide_what_hangs_together(self):
        first, second = self.surfaces()
        cells = first.read_all().copy()
        cells[np.random.default_rng(1).random(cells.shape) < 0.002] += 300
        found = statistics(ArraySurface(cells, first.grid), second, first.grid)
        self.assertAlmostEqual(found.clipped, 0.002, delta=0.001)
        self.assertLess(sum(one.sill for one in found.likeness.reaches), 1.0)
        self.assertGreater(found.classes[0].skew, 5)

    def test_two_that_share_no_ground_are_refused(self):
        first, second = self.surfaces(60)
        empty = ArraySurface(np.full((60, 60), np.nan, np.float32), first.grid)
        with self.assertRaisesMessage(InputError, "share too little ground"):
            statistics(first, empty, first.grid)
        with self.assertRaisesMessage(InputError, "it has no heights"):
            statistics(first, ArraySurface(np.zeros((60, 60), np.float32), first.grid, "°"), first.grid)
