"""Matching, intersection and least squares matching against slow twins and closed forms."""

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.stereo.dense import evened, levels_for, match
from yama.terrain.stereo.least_squares import refined
from yama.terrain.stereo.matching import Matching, census, one_level
from yama.terrain.stereo.rays import Sensor, intersection
from yama.terrain.stereo.tests import synthetic


def texture(rows, cols, seed=0):
    rng = np.random.default_rng(seed)
    return sum(ndimage.gaussian_filter(rng.standard_normal((rows, cols)), s) * s for s in (1.0, 2.5, 6.0)).astype(
        np.float32
    )


class RaysTest(SimpleTestCase):
    def test_rays_of_a_camera_in_closed_form_meet_to_a_millimetre(self):
        left, right = (Sensor(synthetic.model(360, 320, lean, aside=0.03, curve=0.01)) for lean in (0.22, -0.22))
        rng = np.random.default_rng(1)
        lon = synthetic.LON + rng.uniform(-120, 120, 500) / synthetic.ACROSS
        lat = synthetic.LAT + rng.uniform(-140, 140, 500) / synthetic.METRES
        height = rng.uniform(0, 300, 500)
        cells = np.stack([*left.image_of(lon, lat, height), *right.image_of(lon, lat, height)], axis=1)
        met = intersection(left, right, cells)
        self.assertLess(np.abs(met.height - height).max(), 1e-3)
        self.assertLess(np.abs((met.lon - lon) * synthetic.ACROSS).max(), 1e-3)
        self.assertLess(np.abs((met.lat - lat) * synthetic.METRES).max(), 1e-3)
        self.assertLess(met.miss.max(), 1e-4)

    def test_the_heights_variance_is_that_of_repetition(self):
        left, right = (Sensor(synthetic.model(360, 320, lean)) for lean in (0.22, -0.22))
        cells = np.tile(
            np.concatenate(
                [left.image_of(synthetic.LON, synthetic.LAT, 90.0), right.image_of(synthetic.LON, synthetic.LAT, 90.0)]
            ),
            (4000, 1),
        )
        noisy = cells + np.random.default_rng(2).normal(0, 0.3, cells.shape)
        met = intersection(left, right, noisy)
        self.assertAlmostEqual(float(met.height.std()), 0.3 * float(np.sqrt(met.variance.mean())), delta=0.05)

    def test_a_sensor_sees_what_its_model_sees_and_back(self):
        sensor = Sensor(synthetic.model(360, 320, 0.2, curve=0.02), (1.5, 0.1, -0.2, -2.0, 0.05, 0.3))
        plain = Sensor(sensor.model)
        lon, lat, height = synthetic.LON + 5e-4, synthetic.LAT - 4e-4, 60.0
        np.testing.assert_allclose(plain.image_of(lon, lat, height), sensor.model.image_of(lon, lat, height), atol=1e-9)
        col, row = sensor.image_of(lon, lat, height)
        np.testing.assert_allclose(sensor.ground_of(col, row, height), [lon, lat], atol=1e-9)


def slow_census(cells):
    rows, cols = cells.shape
    out = np.zeros(cells.shape, np.uint64)
    for r in range(3, rows - 3):
        for c in range(4, cols - 4):
            around = cells[r - 3 : r + 4, c - 4 : c + 5]
            if np.isfinite(around).all():
                bits = [int(value < cells[r, c]) for k, value in enumerate(around.ravel()) if k != 31]
                out[r, c] = int("".join(map(str, bits)), 2)
    return out


def slow_matched(left, right, low, count, steep, jump):
    """The same by the book: costs, eight paths one after another, the least of their sums."""
    rows, cols = left.shape
    mine, other = slow_census(left), slow_census(right)
    cost = np.full((rows, cols, count), 48.0)
    for r in range(rows):
        for c in range(cols):
            for k in range(count):
                x = c + low + k
                if mine[r, c] and 0 <= x < cols and other[r, x]:
                    cost[r, c, k] = bin(int(mine[r, c]) ^ int(other[r, x])).count("1")
    total = np.zeros_like(cost)
    for dr, dc in ((0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1), (-1, 0), (-1, 1)):
        path = np.zeros_like(cost)
        for r in range(rows) if dr >= 0 else range(rows - 1, -1, -1):
            for c in range(cols) if dc >= 0 else range(cols - 1, -1, -1):
                p, q = r - dr, c - dc
                if not (0 <= p < rows and 0 <= q < cols):
                    path[r, c] = cost[r, c]
                    continue
                before = path[p, q]
                least = before.min()
                up = np.append(before[1:], np.inf) + steep
                down = np.insert(before[:-1], 0, np.inf) + steep
                path[r, c] = cost[r, c] + np.minimum.reduce([before, up, down, np.full(count, least + jump)]) - least
        total += path
    return low + total.argmin(2)


class MatchingTest(SimpleTestCase):
    def test_census_is_the_slow_ones(self):
        cells = texture(22, 30)
        cells[9, 12] = np.nan
        out = np.empty(cells.shape, np.uint64)
        census(cells, 0, 22, out)
        np.testing.assert_array_equal(out, slow_census(cells))

    def test_paths_choose_what_the_slow_ones_choose(self):
        left = texture(26, 40, 3)
        right = ndimage.shift(left, (0, 5), order=1, mode="nearest") + np.random.default_rng(1).normal(
            0, 0.1, left.shape
        ).astype(np.float32)
        count = 12
        low = np.zeros(left.shape, np.int32)
        how = Matching(edge=0.0, apart=100.0)
        found = one_level(left, right, low, np.full(left.shape, count, np.int32), how, ends=True, fine=False)
        slow = slow_matched(left, right, 0, count, how.steep, how.jump)
        known = np.isfinite(found.parallax)
        self.assertGreater(known.mean(), 0.5)
        np.testing.assert_array_equal(np.rint(found.parallax[known] - 1e-6), slow[known])

    def test_any_number_of_workers_finds_the_same(self):
        left = texture(120, 150, 5)
        right = ndimage.shift(left, (0, 7.3), order=3, mode="nearest")
        low, count = np.full(left.shape, 2, np.int32), np.full(left.shape, 12, np.int32)
        one, two = (one_level(left, right, low, count, Matching(), workers=n) for n in (1, 3))
        for name in ("parallax", "likeness"):
            np.testing.assert_array_equal(getattr(one, name), getattr(two, name))
        self.assertAlmostEqual(float(np.nanmedian(one.parallax)), 7.3, delta=0.06)

    def test_from_coarse_to_fine_a_ramp_of_parallaxes_is_found_across_blocks(self):
        wide = texture(900, 1100, 6)
        row, col = np.mgrid[:900, :1000].astype(np.float32)
        true = -12 + 40 * col / 1000
        left = ndimage.map_coordinates(wide, [row, col + 50 + true], order=3).astype(np.float32)
        found = match(left, wide[:, 50:1050], -20, 40, Matching())
        error = found.parallax - true
        inner = error[20:-20, 60:-60]
        self.assertGreater(np.isfinite(inner).mean(), 0.97)
        self.assertLess(np.nanquantile(np.abs(inner), 0.95), 0.35)
        self.assertLess(abs(np.nanmedian(inner)), 0.05)
        seam = np.abs(error[740:800, 100:900])  # blocks meet here
        self.assertLess(np.nanquantile(seam, 0.95), 0.35)

    def test_evened_a_plane_stays_a_plane_through_noise_blunders_and_block_edges(self):
        rng = np.random.default_rng(6)
        row, col = np.mgrid[:900, :120]
        plane = 3 + 0.02 * col - 0.01 * row
        exact, spread = evened(plane.astype(np.float32), 4.0)
        self.assertLess(np.abs(exact - plane).max(), 2e-4)
        self.assertLess(spread.max(), 1e-3)
        noisy = (plane + rng.normal(0, 0.5, plane.shape)).astype(np.float32)
        blunders = rng.uniform(size=plane.shape) < 0.1
        noisy[blunders] += 12
        noisy[300:340, 30:70] = np.nan
        found, spread = evened(noisy, 4.0)
        self.assertTrue(np.isnan(found[300:340, 30:70]).all())
        error = (found - plane)[np.isfinite(found)]
        self.assertLess(np.sqrt((error**2).mean()), 0.12)
        self.assertTrue(0.35 < np.nanmedian(spread) < 0.7)  # a blunder of any size counts as one of a cell
        alone = np.full((60, 60), np.nan, np.float32)
        alone[30, 30] = 5
        self.assertTrue(np.isnan(evened(alone, 4.0)[0]).all())

    def test_levels_shorten_the_range_as_far_as_the_size_allows(self):
        self.assertEqual(levels_for((4000, 3000), -80, 208), 3)
        self.assertEqual(levels_for((4000, 3000), -800, 1200), 5)
        self.assertEqual(levels_for((90, 200), -800, 1200), 1)


class LeastSquaresTest(SimpleTestCase):
    def test_shifted_scaled_and_tilted_texture_is_met_to_two_hundredths(self):
        wide = texture(200, 200, 9).astype(np.float64)
        rng = np.random.default_rng(4)
        for turn in range(6):
            scale, shear = 1 + rng.uniform(-0.05, 0.05), rng.uniform(-0.05, 0.05)
            shift = rng.uniform(-0.6, 0.6, 2)
            row, col = np.mgrid[:80, :80].astype(float)
            # a place (col, row) of the left piece lies at this one of the right
            x = 100 + scale * (col - 40) + shear * (row - 40) + shift[0]
            y = 100 + (row - 40) / scale + shift[1]
            left = ndimage.map_coordinates(wide, [y, x], order=5) * 1.3 + 40
            left += rng.normal(0, 0.01 * left.std(), left.shape)
            found = refined(
                left.astype(np.float32),
                wide.astype(np.float32),
                np.array([[40.0, 40.0, 100.0, 100.0]]),
                np.array([[1.0, 0.0, 0.0, 1.0]]),
            )
            self.assertLess(abs(found.col[0] - 100 - shift[0]), 0.02, turn)
            self.assertLess(abs(found.row[0] - 100 - shift[1]), 0.02, turn)
            self.assertLess(found.col_sigma[0], 0.02)

    def test_what_is_not_there_is_empty(self):
        left, right = texture(80, 80, 1), texture(80, 80, 2)
        found = refined(left, right, np.array([[40.0, 40.0, 40.0, 40.0]]), np.array([[1.0, 0.0, 0.0, 1.0]]))
        self.assertTrue(np.isnan(found.col[0]) or found.likeness[0] < 0.7)
