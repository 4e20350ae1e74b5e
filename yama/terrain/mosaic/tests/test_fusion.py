from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import CancelledError, InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid, Window
from yama.terrain.judge.places import Places
from yama.terrain.mosaic import fusion
from yama.terrain.mosaic.fusion import Fused, _aligned, _halved, _widened
from yama.terrain.surface import ArraySurface, sample

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_800.0, 2.0, 2.0, 400, 380)
X, Y = (one - corner for one, corner in zip(np.meshgrid(*GRID.centres(GRID.whole)), (448_000, 5_438_000), strict=True))


def ground(x=X, y=Y):
    return 100 + 25 * np.sin(x / 90) + 20 * np.cos(y / 75) + 1.5 * np.sin(x / 9) * np.cos(y / 8)


def fine(noise=0.1, seed=1, where=None):
    cells = ground() + np.random.default_rng(seed).normal(0, noise, X.shape)
    if where is not None:
        cells[~where] = np.nan
    return named(ArraySurface(cells.astype(np.float32), GRID), "fine")


def coarse(up=0.0, noise=0.8, cell=20.0, seed=2):
    """Means over wide cells, with noise and an offset."""
    grid = Grid(CRS, 448_000.0, 5_438_800.0, cell, cell, 40, 38)
    x, y = np.meshgrid(*grid.centres(grid.whole))
    cells = 100 + 25 * np.sin((x - 448_000) / 90) + 20 * np.cos((y - 5_438_000) / 75)
    cells = cells + np.random.default_rng(seed).normal(0, noise, cells.shape) + up
    return named(ArraySurface(cells.astype(np.float32), grid), "coarse")


def named(surface, name):
    surface.name = name
    return surface


def points(count=300, seed=3):
    x, y = np.random.default_rng(seed).uniform(20, 740, (2, count))
    return Places(CRS, 448_000 + x, 5_438_000 + y, ground(x, y))


WEST = X < 380


class FusedTest(SimpleTestCase):
    def setUp(self):
        # nothing is kept from one test to the next
        patch = mock.patch.object(fusion, "shared", lambda of, make: make())
        patch.start()
        self.addCleanup(patch.stop)

    def rmse(self, surface, where):
        apart = (surface.read_all() - ground())[where & np.isfinite(surface.read_all())]
        return float(np.sqrt(np.mean(apart**2)))

    def test_a_source_that_is_alone_stays_as_it_is(self):
        one, other = fine(where=WEST), fine(0.1, 5, where=X > 560)
        fused = Fused([one, other], GRID, at=points())
        cells, there = fused.read_all(), WEST & (X < 250)
        shift = np.median((cells - one.read_all())[there])
        np.testing.assert_allclose(cells[there], one.read_all()[there] + shift, atol=2e-3)
        self.assertTrue(np.isnan(cells[(X > 390) & (X < 550)]).all())

    def test_it_is_no_worse_than_the_best_and_fills_where_that_is_empty(self):
        one, other = fine(where=WEST), coarse(up=1.7)
        fused = Fused([other, one], GRID, at=points())
        self.assertEqual(fused.known.order, [1, 0])
        inner = WEST & (X < 350)
        self.assertLess(self.rmse(fused, inner), 1.05 * self.rmse(one, inner))
        self.assertTrue(np.isfinite(fused.read_all()[5:-5, 5:-5]).all())
        east = X > 420
        self.assertLess(
            self.rmse(fused, east),
            0.75 * np.sqrt(np.mean((coarse(up=1.7).read_all() - coarse(noise=0).read_all()) ** 2) + 1),
        )
        self.assertAlmostEqual(float(np.nanmedian((fused.read_all() - ground())[east])), 0, delta=0.3)

    def test_two_equally_good_ones_are_better_than_each(self):
        one, other = fine(0.5, 1), fine(0.5, 2)
        fused = Fused([one, other], GRID, at=points())
        everywhere = np.ones(X.shape, np.bool_)
        self.assertAlmostEqual(self.rmse(fused, everywhere), 0.5 / np.sqrt(2), delta=0.04)
        doubts = fused.companions["uncertainty"].read_all()
        # between four cells noise is two thirds of what it is in each
        self.assertAlmostEqual(float(np.median(doubts)), 0.5 / np.sqrt(2) * 2 / 3, delta=0.06)

    def test_there_is_no_seam(self):
        fused = Fused([coarse(up=3.0, noise=0.2), fine(0.02, where=WEST)], GRID, at=points())
        cells = fused.read_all()
        edge = int(np.flatnonzero(~WEST[0])[0])
        steps = np.abs(np.diff(cells - ground(), axis=1))
        beside = np.nanmean(steps[:, edge - 30 : edge + 30], axis=0)
        hard = np.where(
            WEST, fine(0.02, where=WEST).read_all(), coarse(noise=0.2).read_all().repeat(10, 0).repeat(10, 1)
        )
        cut = float(np.nanmean(np.abs(np.diff(hard - ground(), axis=1)[:, edge - 1])))
        self.assertLess(float(beside.max()), 0.5 * cut)

    def test_any_window_and_block_gives_the_same_cells(self):
        fused = Fused([coarse(), fine(where=WEST)], GRID, at=points())
        whole = fused.read_all()
        for window in (
            Window(0, 0, 37, 53),
            Window(101, 155, 64, 90),
            Window(390, 370, 30, 30),
            Window(-5, -9, 20, 20),
        ):
            part = fused.read(window)
            inside = window.clipped(GRID.rows, GRID.cols)
            rows, cols = inside.row - window.row, inside.col - window.col
            np.testing.assert_array_equal(
                part[rows : rows + inside.rows, cols : cols + inside.cols],
                whole[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols],
            )
        again = Fused([coarse(), fine(where=WEST)], GRID, at=points())
        self.assertEqual(again.fingerprint, fused.fingerprint)
        np.testing.assert_array_equal(again.read_all(), whole)

    def test_a_coarser_level_shows_the_same_ground(self):
        fused = Fused([coarse(), fine(where=WEST)], GRID, at=points())
        whole = fused.read_all()
        means = whole[:400, :380].reshape(100, 4, 95, 4).mean(axis=(1, 3))
        level = fused.read(fused.grid.at_level(2).whole, 2)
        self.assertLess(float(np.nanmedian(np.abs(level - means))), 0.1)

    def test_the_uncertainty_is_honest_and_the_source_is_who_weighs_most(self):
        fused = Fused([coarse(up=1.0), fine(where=WEST)], GRID, at=points())
        at, doubts = points(2000, 8), fused.companions["uncertainty"]
        apart = np.abs(sample(fused, at.x, at.y) - at.heights)
        known = np.isfinite(apart)
        held = (apart < 1.6449 * sample(doubts, at.x, at.y))[known]
        self.assertTrue(0.85 < float(held.mean()) < 0.95, held.mean())
        doubts = doubts.read_all()
        self.assertGreater(np.nanmedian(doubts[X > 450]), 3 * np.nanmedian(doubts[X < 300]))
        source = fused.companions["source"].read_all()
        self.assertEqual({*np.unique(source[X < 360])}, {2.0})
        self.assertEqual({*np.unique(source[(X > 400) & np.isfinite(source)])}, {1.0})
        self.assertEqual([one.name for one in fused.companions["source"].categories], ["coarse", "fine"])

    def test_trees_are_taken_off_where_it_is_known_that_they_stand(self):
        stand = (X > 450) & (X < 650) & (Y > 200) & (Y < 600)
        first = coarse(noise=0.3, cell=10.0)
        grid = Grid(CRS, 448_000.0, 5_438_800.0, 10.0, 10.0, 80, 76)
        x, y = np.meshgrid(*grid.centres(grid.whole))
        wood = (x > 448_450) & (x < 448_650) & (y > 5_438_200) & (y < 5_438_600)
        cells = 100 + 25 * np.sin((x - 448_000) / 90) + 20 * np.cos((y - 5_438_000) / 75) + np.where(wood, 12.0, 0)
        first = named(ArraySurface(cells.astype(np.float32), grid), "first")
        cover = Features(
            CRS, np.array([shapely.box(448_450, 5_438_200, 448_650, 5_438_600)], object), {"kind": ["wood"]}
        )
        sources = [first, fine(where=WEST)]
        without = Fused(sources, GRID, at=points(600))
        with_cover = Fused(sources, GRID, [cover], "kind", points(600))
        inner = stand & (X > 480) & (X < 620) & (Y > 240) & (Y < 560)
        self.assertGreater(self.rmse(without, inner), 6)
        self.assertLess(self.rmse(with_cover, inner), 2.5)

    def test_without_points_the_finest_is_the_best(self):
        fused = Fused([coarse(up=2.0), fine(where=WEST)], GRID)
        self.assertEqual((fused.known.order, fused.known.fitted_at), ([1, 0], 0))
        self.assertLess(self.rmse(fused, WEST & (X < 350)), 0.15)

    def test_units_do_not_matter(self):
        one, other = coarse(), fine(where=WEST)
        feet = named(ArraySurface(other.read_all() / np.float32(0.3048), GRID, "ft"), "fine")
        metric, mixed = Fused([one, other], GRID, at=points()), Fused([one, feet], GRID, at=points(), unit="ft")
        np.testing.assert_allclose(mixed.read_all() * 0.3048, metric.read_all(), atol=2e-3)
        np.testing.assert_allclose(
            mixed.companions["uncertainty"].read_all() * 0.3048, metric.companions["uncertainty"].read_all(), atol=2e-3
        )

    def test_a_cancel_is_heard_while_it_learns(self):
        def cancelled(share, message=""):
            told.append(share)
            if share > 0.6:
                raise CancelledError

        told = []
        fused = Fused([coarse(), fine(where=WEST)], GRID, at=points())
        with self.assertRaises(CancelledError):
            fused.prepare(cancelled)
        self.assertEqual(told, sorted(told))

    def test_what_cannot_be_joined_is_said(self):
        away = ArraySurface(np.ones((9, 9), np.float32), Grid(CRS, 470_000.0, 5_438_800.0, 2.0, 2.0, 9, 9))
        for surfaces, words in (
            ([fine()], "2 to 16"),
            (
                [fine(), ArraySurface(np.ones((9, 9), np.float32), GRID.part(Window(0, 0, 9, 9)), "degrees")],
                "only heights",
            ),
            ([fine(), named(away, "Heron")], "Heron has no height in the area"),
        ):
            with self.assertRaisesRegex(InputError, words):
                Fused(surfaces, GRID).read(Window(0, 0, 4, 4))
        with self.assertRaisesRegex(InputError, "Fewer than 20"):
            Fused([fine(), coarse()], GRID, at=points(9)).read(Window(0, 0, 4, 4))


class BandsTest(SimpleTestCase):
    def test_halves_are_means_of_what_is_filled(self):
        rng = np.random.default_rng(1)
        cells, weights = rng.normal(0, 1, (8, 10)), rng.uniform(0, 1, (8, 10))
        cells[rng.random(cells.shape) < 0.3] = np.nan
        cells[:2, :2] = np.nan
        out, out_weights, out_cover = np.empty((4, 5)), np.empty((4, 5)), np.empty((4, 5))
        _halved(cells, weights, np.isfinite(cells).astype(np.float64), out, out_weights, out_cover)
        with np.errstate(invalid="ignore"):
            for r in range(4):
                for c in range(5):
                    four = cells[2 * r : 2 * r + 2, 2 * c : 2 * c + 2]
                    expected = four[np.isfinite(four)].mean() if np.isfinite(four).any() else np.nan
                    np.testing.assert_allclose(out[r, c], expected)
                    self.assertEqual(out_cover[r, c], np.isfinite(four).mean())
                    np.testing.assert_allclose(out_weights[r, c], weights[2 * r : 2 * r + 2, 2 * c : 2 * c + 2].mean())

    def test_a_plane_stays_a_plane_between_cells(self):
        rows, cols = np.indices((6, 7))
        wide = _widened(2.0 * (rows + 0.5) * 2 - 3.0 * (cols + 0.5) * 2, (12, 14))
        rows, cols = np.indices((12, 14))
        np.testing.assert_allclose(wide[1:-1, 1:-1], (2.0 * (rows + 0.5) - 3.0 * (cols + 0.5))[1:-1, 1:-1])

    def test_windows_are_widened_to_whole_cells_of_the_coarsest(self):
        wide, halo = _aligned(Window(5, -40, 20, 30), 4)
        for at, length in ((wide.row, wide.rows), (wide.col, wide.cols)):
            self.assertEqual((at % 16, length % 16), (0, 0))
        self.assertTrue(wide.row <= 5 - halo and wide.row + wide.rows >= 25 + halo)
