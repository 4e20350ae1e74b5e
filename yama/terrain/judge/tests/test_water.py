import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, Grid
from yama.terrain.judge.water import _spread, basin, lowland, unlike
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_600.0, 2.0, 2.0, 300, 300)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
EAST, NORTH = X - 448_300, Y - 5_438_300
AWAY = np.hypot(EAST, NORTH)
LAKE = shapely.Point(448_300, 5_438_300).buffer(100)


def bowl(k=1000.0, up=0.0):
    return 100 + up + AWAY**2 / k


def surface(cells, grid=GRID, unit="m"):
    return ArraySurface(np.asarray(cells, np.float32), grid, unit)


class BasinTest(SimpleTestCase):
    def test_area_and_volume_are_those_of_a_bowl_at_every_level(self):
        found = basin(surface(bowl()), LAKE)
        for level in (102.0, 105.0, 112.5):
            wet = found.at(level)
            depth = level - 100
            self.assertAlmostEqual(wet.area / (np.pi * 1000 * depth), 1, delta=0.01)
            self.assertAlmostEqual(wet.volume / (np.pi * 1000 * depth**2 / 2), 1, delta=0.01)
            self.assertFalse(wet.spilled)
        self.assertEqual(found.at(99.0).area, 0.0)
        self.assertTrue(found.at(found.spill).spilled)
        # half the lake's longer side is looked at around it
        self.assertAlmostEqual(found.spill, 100 + 200**2 / 1000, delta=1.0)

    def test_the_shore_is_a_circle_of_the_right_radius(self):
        (line,) = basin(surface(bowl()), LAKE).outline(110.0)
        away = [np.hypot(x - 448_300, y - 5_438_300) for x, y in line]
        self.assertAlmostEqual(min(away), 100, delta=0.3)
        self.assertAlmostEqual(max(away), 100, delta=0.3)

    def test_what_lies_behind_a_ridge_is_reached_when_the_water_comes_over_it(self):
        cells = bowl()
        hollow = np.hypot(EAST - 150, NORTH) < 20
        cells[hollow] = 90.0  # deeper than the lake, behind ground of 113 m and more
        found = basin(surface(cells), LAKE)
        ridge = cells[(np.abs(NORTH) < 2) & (EAST > 100) & (EAST < 130)].max()
        self.assertFalse(found.wet(ridge - 0.5)[found.heights == 90].any())
        self.assertTrue(found.wet(ridge + 0.1)[found.heights == 90].all())

    def test_the_order_in_which_cells_are_reached_is_that_of_the_obvious_way(self):
        rng = np.random.default_rng(4)
        for share in (0.0, 0.2):
            heights = rng.normal(0, 1, (8, 9)).astype(np.float32)
            heights[rng.random(heights.shape) < share] = np.nan
            seeds = np.zeros(heights.shape, bool)
            seeds[3:5, 4:6] = True
            found = np.empty(heights.shape)
            _spread(heights, seeds, found)
            expected = np.where(seeds & ~np.isnan(heights), heights, np.inf)
            for _ in range(heights.size):
                before = expected.copy()
                for r in range(8):
                    for c in range(9):
                        around = expected[max(r - 1, 0) : r + 2, max(c - 1, 0) : c + 2].min()
                        if not np.isnan(heights[r, c]):
                            expected[r, c] = min(expected[r, c], max(heights[r, c], around))
                if np.array_equal(before, expected):
                    break
            np.testing.assert_array_equal(found, expected)

    def test_a_lake_that_nobody_measured_is_level_with_the_lowest_of_its_rim(self):
        found = basin(surface(np.where(AWAY < 97, np.nan, bowl())), LAKE)
        self.assertLess(found.filled, 0.1)
        self.assertAlmostEqual(found.level, 110, delta=0.1)
        self.assertAlmostEqual(found.at(115.0).area / (np.pi * 15_000), 1, delta=0.01)
        # what is below its level holds no water
        self.assertAlmostEqual(found.at(115.0).volume / (np.pi * 1000 * (15**2 - 10**2) / 2), 1.0, delta=0.01)
        empty = basin(surface(np.where(AWAY < 99, np.nan, bowl())), LAKE)
        self.assertTrue(np.isnan(empty.flatness))
        self.assertIsNone(empty.to_dict()["flatness"])
        with self.assertRaisesMessage(InputError, "no height in the lake, and none along its outline"):
            basin(surface(np.where(AWAY < 104, np.nan, bowl())), LAKE)

    def test_beyond_the_outlet_water_runs_off_and_does_not_stand(self):
        cells = bowl()
        gorge = (np.abs(NORTH) < 10) & (EAST > 0)
        cells[gorge] = np.minimum(cells, 108 - 0.05 * np.abs(EAST - 105))[gorge]  # highest, 108 m, 105 m to the east
        found = basin(surface(cells), LAKE)
        self.assertAlmostEqual(found.spill, 108, delta=0.1)
        self.assertFalse(found.at(107.5).spilled)
        self.assertTrue(found.at(108.5).spilled)
        below = gorge[50:250, 50:250] & (EAST[50:250, 50:250] > 120)
        self.assertFalse(found.wet(109.0)[: below.shape[0], : below.shape[1]][below].any())
        self.assertAlmostEqual(found.at(107.0).area / (np.pi * 7000), 1, delta=0.06)

    def test_how_flat_a_lake_is_and_where_its_rim_stands(self):
        level = 107.0 + np.random.default_rng(2).normal(0, 0.2, X.shape)
        told = basin(surface(np.where(AWAY < 100, level, 110 + AWAY / 50)), LAKE).to_dict()
        self.assertAlmostEqual(told["level"], 107, delta=0.02)
        self.assertAlmostEqual(told["flatness"], 0.39, delta=0.03)
        self.assertEqual(told["filled"], 1.0)
        self.assertTrue(107 < told["rim"][1] < 112.5)

    def test_feet_are_metres_and_a_pond_in_one_cell_is_found(self):
        one, other = basin(surface(bowl()), LAKE), basin(surface(bowl() / 0.3048, unit="ft"), LAKE)
        self.assertAlmostEqual(one.at(108).volume / other.at(108).volume, 1, delta=1e-4)
        pond = shapely.Point(448_300.4, 5_438_300.4).buffer(0.2)
        self.assertAlmostEqual(basin(surface(bowl()), pond).level, 100, delta=0.01)

    def test_a_wide_lake_is_told_from_coarser_cells(self):
        cells = np.full((1500, 1500), 5.0)
        grid = Grid(CRS, 448_000.0, 5_441_000.0, 2.0, 2.0, 1500, 1500)
        cells[200:1300, 200:1300] = 1.0
        wide = shapely.box(*grid.bounds).buffer(-450)
        found = basin(surface(cells, grid), wide)
        self.assertLess(found.reach.size, 1_000_000)
        self.assertAlmostEqual(found.at(2.0).area / (2200.0 * 2200.0), 1, delta=0.01)

    def test_where_a_surface_says_nothing_that_is_said(self):
        for cells, lake, said in (
            (bowl(), shapely.Point(460_000, 5_438_300).buffer(50), "does not reach there"),
            (np.full(X.shape, np.nan), LAKE, "has no height in the lake"),
        ):
            with self.assertRaisesMessage(InputError, said):
                basin(surface(cells), lake)
        with self.assertRaisesMessage(InputError, "it has no heights"):
            basin(surface(bowl(), unit="°"), LAKE)


class UnlikeTest(SimpleTestCase):
    def test_another_zero_is_told_from_another_shape(self):
        one = basin(surface(bowl()), LAKE)
        higher = unlike(basin(surface(bowl(up=1.7)), LAKE), one, 107.0)
        self.assertAlmostEqual(higher.offset, 1.7, delta=0.05)
        self.assertAlmostEqual(higher.rim, 1.7, places=2)
        self.assertEqual(higher.verdict, "offset")
        self.assertGreater(higher.shared_put_right, 0.99)
        self.assertLess(higher.shared, 0.8)
        self.assertEqual(unlike(one, one, 107.0).verdict, "alike")
        turned = bowl() + 0.06 * EAST
        self.assertEqual(unlike(basin(surface(turned), LAKE), one, 107.0).verdict, "shape")

    def test_cells_of_another_size_are_compared_where_they_lie(self):
        grid = Grid(CRS, 448_000.0, 5_438_600.0, 10.0, 10.0, 60, 60)
        x, y = np.meshgrid(*grid.centres(grid.whole))
        coarse = 100 + 1.2 + np.hypot(x - 448_300, y - 5_438_300) ** 2 / 1000
        one, other = basin(surface(bowl()), LAKE), basin(surface(coarse, grid), LAKE)
        for found, offset in ((unlike(other, one, 107.0), 1.2), (unlike(one, other, 108.2), -1.2)):
            self.assertAlmostEqual(found.rim, offset, delta=0.05)
            self.assertAlmostEqual(found.offset, offset, delta=0.3)
            self.assertEqual(found.verdict, "offset")


class LowlandTest(SimpleTestCase):
    VIEW = Bounds(448_200.0, 5_438_200.0, 448_400.0, 5_438_400.0)

    def test_all_that_is_lower_is_under_water_wherever_it_lies(self):
        cells = np.minimum(bowl(), 100 + np.hypot(EAST - 80, NORTH) ** 2 / 1000)  # two bowls, a ridge between them
        found = lowland(surface(cells), self.VIEW)
        rows, cols = slice(100, 200), slice(100, 200)
        part = cells[rows, cols]
        self.assertAlmostEqual(found.level, float(np.quantile(part, 0.1)), delta=0.05)
        for level in (100.5, 103.0):
            wet = found.at(level)
            self.assertAlmostEqual(wet.area / ((part <= level).sum() * 4.0), 1, delta=0.05)
            self.assertAlmostEqual(wet.volume / (np.maximum(level - part, 0).sum() * 4.0), 1, delta=0.05)
            self.assertFalse(wet.spilled)
        self.assertEqual(len(found.outline(100.5)), 2)

    def test_another_zero_is_told_from_another_shape_here_too(self):
        one = lowland(surface(bowl()), self.VIEW)
        raised, other = lowland(surface(bowl(up=1.5)), self.VIEW), lowland(surface(100 - EAST / 20), self.VIEW)
        apart = unlike(raised, one, 104.0)
        self.assertEqual((apart.verdict, round(apart.offset, 1)), ("offset", 1.5))
        self.assertTrue(np.isnan(apart.rim))
        self.assertEqual(unlike(other, one, 104.0).verdict, "shape")

    def test_where_there_is_nothing_it_says_so(self):
        with self.assertRaisesMessage(InputError, "does not reach there"):
            lowland(surface(bowl()), Bounds(0.0, 0.0, 10.0, 10.0))
        with self.assertRaisesMessage(InputError, "has no height there"):
            lowland(surface(np.where(AWAY < 290, np.nan, bowl())), self.VIEW)
        with self.assertRaisesMessage(InputError, "it has no heights"):
            lowland(surface(bowl(), unit="°"), self.VIEW)
