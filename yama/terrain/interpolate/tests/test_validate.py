"""Cross-validation: folds as promised, errors that a plain leave-one-out finds, and what random folds flatter."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import CancelledError, InputError
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.interpolate.idw import inverse_distance, inverse_distance_at
from yama.terrain.interpolate.natural import natural_neighbour, natural_neighbour_at
from yama.terrain.interpolate.tests.test_surfaces_from_points import GRID, cells, scattered
from yama.terrain.interpolate.triangulation import triangulated, triangulated_at
from yama.terrain.interpolate.validate import compare, folds_of, methods, to_dict


class AtPlacesTest(SimpleTestCase):
    """A height asked for at a place is the one a surface has in a cell there."""

    def test_places_and_cells_agree(self):
        x, y, z = scattered(500)
        mesh = triangulate(x, y)
        cx, cy = (axis.ravel() for axis in cells())
        for at, surface in (
            (triangulated_at(x, y, z, cx, cy, mesh), triangulated(x, y, z, GRID)),
            (natural_neighbour_at(x, y, z, cx, cy, mesh), natural_neighbour(x, y, z, GRID)),
            (inverse_distance_at(x, y, z, cx, cy, 7, 3.0, 15.0)[0], inverse_distance(x, y, z, GRID, 7, 3.0, 15.0)),
        ):
            wanted = surface.read_all().ravel()
            np.testing.assert_array_equal(np.isnan(at), np.isnan(wanted))
            np.testing.assert_allclose(at, wanted, atol=2e-4)

    def test_distance_to_the_nearest(self):
        x, y, z = scattered(60)
        _, distance = inverse_distance_at(x, y, z, x[:5] + 3, y[:5], 1)
        wanted = [np.hypot(x - a - 3, y - b).min() for a, b in zip(x[:5], y[:5], strict=True)]
        np.testing.assert_allclose(distance, wanted)


class FoldsTest(SimpleTestCase):
    def test_random_folds_are_equally_large_and_the_same_every_time(self):
        x, y, _ = scattered(103)
        folds = folds_of(x, y, 10, "random")
        self.assertEqual(sorted(np.bincount(folds)), [10] * 7 + [11] * 3)
        np.testing.assert_array_equal(folds, folds_of(x, y, 10, "random"))
        self.assertTrue((folds != folds_of(x, y, 10, "random", seed=2)).any())

    def test_a_block_is_wholly_in_one_fold(self):
        x, y, _ = scattered(800)
        folds = folds_of(x, y, 5, "blocks", 20.0)
        square = np.floor((x - x.min()) / 20).astype(int) * 1000 + np.floor((y - y.min()) / 20).astype(int)
        for one in np.unique(square):
            self.assertEqual(len(set(folds[square == one])), 1)
        sizes = np.bincount(folds)
        self.assertLess(sizes.max(), 1.2 * sizes.min())

    def test_what_cannot_be_parted(self):
        x, y, _ = scattered(30)
        for count, scheme, block, words in (
            (1, "random", 0, "cannot be parted"), (31, "random", 0, "cannot be parted"), (5, "blocks", 0, "side greater"),
            (8, "blocks", 400, "smaller blocks"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                folds_of(x, y, count, scheme, block)


class CompareTest(SimpleTestCase):
    def test_leaving_out_each_is_what_a_plain_loop_finds(self):
        x, y, z = scattered(40)
        found = compare(x, y, z, np.arange(40), methods(neighbours=5))
        for i in range(40):
            rest = np.arange(40) != i
            distance = np.hypot(x[rest] - x[i], y[rest] - y[i])
            order = np.argsort(distance)[:5]
            weights = distance[order] ** -2
            wanted = (weights * z[rest][order]).sum() / weights.sum() - z[i]
            self.assertAlmostEqual(float(found.outcomes["inverse_distance"].errors[i]), float(wanted), places=9)
            self.assertAlmostEqual(
                float(found.outcomes["nearest"].errors[i]), float(z[rest][order[0]] - z[i]), places=9
            )
            self.assertAlmostEqual(float(found.distances[i]), float(distance.min()), places=9)

    def test_a_plane_is_predicted_exactly_by_what_reproduces_planes(self):
        x, y, _ = scattered(300)
        z = 0.2 * (x - 448_000) - 0.1 * (y - 5_438_000)
        found = compare(x, y, z, folds_of(x, y, 10, "random"), methods())
        for name in ("triangulation", "natural_neighbour"):
            figures = found.outcomes[name].figures
            self.assertLess(figures.rmse, 1e-6)
            self.assertGreater(figures.count, 250)
            self.assertEqual(figures.count + figures.unused, 300)
        self.assertGreater(found.outcomes["nearest"].figures.rmse, 0.3)

    def test_random_folds_flatter(self):
        x, y, _ = scattered(900)
        z = 100 + 20 * np.sin(x / 15) + 12 * np.cos(y / 11)
        near = compare(x, y, z, folds_of(x, y, 5, "random"), methods())
        far = compare(x, y, z, folds_of(x, y, 5, "blocks", 40.0), methods())
        for name in near.outcomes:
            self.assertGreater(far.outcomes[name].figures.rmse, 1.5 * near.outcomes[name].figures.rmse)
        self.assertGreater(np.median(far.distances), np.median(near.distances))

    def test_errors_grow_with_distance_and_bins_hold_every_point(self):
        x, y, z = scattered(900)
        found = compare(x, y, z, folds_of(x, y, 5, "blocks", 30.0), methods())
        ends, by_distance = found.by_distance()
        self.assertEqual(ends[-1], found.distances.max())
        rising = by_distance["nearest"]
        self.assertGreater(rising[-1], 2 * rising[0])
        whole = to_dict(found, x, y)
        self.assertEqual((len(whole["points"]), whole["folds"]), (900, 5))
        self.assertEqual({len(errors) for errors in whole["errors"].values()}, {900})

    def test_a_fold_without_a_triangle_has_no_errors_there(self):
        x = np.array([0.0, 1, 2, 3, 0.5])
        y = np.array([0.0, 0, 0, 0, 1])
        found = compare(x, y, x.copy(), np.array([0, 0, 0, 0, 1]), methods(neighbours=2))
        self.assertTrue(np.isnan(found.outcomes["triangulation"].errors[4]))
        self.assertTrue(np.isfinite(found.outcomes["inverse_distance"].errors).all())

    def test_it_can_be_stopped(self):
        def stop(_share):
            raise CancelledError("enough")

        x, y, z = scattered(60)
        with self.assertRaises(CancelledError):
            compare(x, y, z, folds_of(x, y, 5, "random"), methods(), stop)
