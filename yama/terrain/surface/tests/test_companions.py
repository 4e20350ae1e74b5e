"""What a surface's companions say stays true through whatever is done to it, and is left out where it would not be."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.fit.clip import Masked, Rounded
from yama.terrain.fit.reproject import difference, fitted
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic.fill import Filled
from yama.terrain.mosaic.mosaic import Mosaic, place
from yama.terrain.surface import Accompanied, ArraySurface, Surface
from yama.terrain.units import in_unit

GRID = Grid("EPSG:32741", 448_000.0, 5_438_040.0, 1.0, 1.0, 40, 60)
FOOT = 0.3048


def known(height: float, doubt: float, grid: Grid = GRID) -> Surface:
    """Level ground, and how well it is known, a little worse with each column."""
    heights = np.full((grid.rows, grid.cols), height, np.float32)
    doubts = np.tile(np.float32(doubt) + np.arange(grid.cols, dtype=np.float32) / 100, (grid.rows, 1))
    return Accompanied(ArraySurface(heights, grid, "m"), uncertainty=ArraySurface(doubts, grid, "m"))


def doubt_of(surface: Surface) -> np.ndarray:
    """The uncertainty, of each cell."""
    return surface.companions["uncertainty"].read_all()


class CompanionsTest(SimpleTestCase):
    def setUp(self):
        self.west, self.east = GRID.part(Window(0, 0, 40, 40)), GRID.part(Window(0, 30, 40, 30))
        self.joined = Mosaic(place([known(10, 1, self.west), known(20, 2, self.east)], GRID), GRID, "first")

    def test_a_mosaic_has_the_uncertainty_of_the_surface_each_cell_came_from(self):
        sources, doubts = self.joined.companions["source"].read_all(), doubt_of(self.joined)
        np.testing.assert_array_equal(sources[0], [1.0] * 40 + [2.0] * 20)
        np.testing.assert_allclose(doubts[0, :40], 1 + np.arange(40) / 100, rtol=1e-6)
        np.testing.assert_allclose(doubts[0, 40:], 2 + np.arange(10, 30) / 100, rtol=1e-6)

    def test_a_mosaic_of_one_that_is_known_and_one_that_is_not_says_nothing(self):
        bare = ArraySurface(np.zeros((40, 30), np.float32), self.east, "m")
        self.assertEqual(
            set(Mosaic(place([known(10, 1, self.west), bare], GRID), GRID, "first").companions), {"source"}
        )

    def test_what_is_masked_has_no_companions_there(self):
        left = shapely.box(448_000, 5_438_000, 448_045, 5_438_040)
        masked = Masked(self.joined, [left])
        for one in (masked, masked.companions["source"], masked.companions["uncertainty"]):
            self.assertTrue(np.isfinite(one.read_all()[:, :45]).all())
            self.assertTrue(np.isnan(one.read_all()[:, 45:]).all())

    def test_on_another_grid_a_source_stays_a_number_of_one(self):
        askew = Grid(GRID.crs, GRID.west + 0.4, GRID.north - 0.4, 1.3, 1.3, 20, 40)
        moved = fitted(self.joined, askew)
        self.assertEqual(set(np.unique(moved.companions["source"].read_all())), {1.0, 2.0})
        self.assertEqual([one.value for one in moved.companions["source"].categories], [1, 2])
        doubts = doubt_of(moved)
        self.assertTrue(((doubts >= 1) & (doubts <= 2.3)).all())

    def test_a_difference_is_known_by_the_root_of_the_sum_of_squares(self):
        apart = difference(known(10, 3), known(4, 4))
        ramp = np.arange(60) / 100
        np.testing.assert_allclose(doubt_of(apart)[7], np.hypot(3 + ramp, 4 + ramp), rtol=1e-6)
        self.assertEqual(dict(difference(known(10, 3), ArraySurface(np.zeros((40, 60)), GRID)).companions), {})

    def test_heights_in_feet_are_known_in_feet_and_their_source_is_a_number_still(self):
        feet = in_unit(self.joined, "ft")
        np.testing.assert_allclose(doubt_of(feet), doubt_of(self.joined) / FOOT, rtol=1e-6)
        np.testing.assert_array_equal(feet.companions["source"].read_all(), self.joined.companions["source"].read_all())

    def test_rounding_adds_the_spread_of_what_it_takes_away(self):
        np.testing.assert_allclose(doubt_of(Rounded(known(10, 0.5)))[0, 0], np.sqrt(0.25 + 1 / 12), rtol=1e-6)

    def test_of_cells_that_were_filled_nothing_is_said(self):
        heights = np.full((40, 60), 10, np.float32)
        heights[10:14, 10:14] = np.nan
        doubt = ArraySurface(np.full((40, 60), 0.5, np.float32), GRID, "m")
        filled = Filled(Accompanied(ArraySurface(heights, GRID, "m"), uncertainty=doubt), "distance", 9.0)
        self.assertTrue(np.isfinite(filled.read_all()).all())
        np.testing.assert_array_equal(np.isnan(doubt_of(filled)), np.isnan(heights))

    def test_companions_lie_on_the_same_cells_on_every_level(self):
        for surface in (
            self.joined,
            fitted(self.joined, Grid(GRID.crs, GRID.west, GRID.north, 1.7, 1.7, 23, 35)),
            difference(known(1, 2), known(2, 1)),
        ):
            for level in (0, 1, 2):
                whole = surface.grid.at_level(level).whole
                empty = np.isnan(surface.read(whole, level))
                for name, one in surface.companions.items():
                    self.assertEqual(one.grid, surface.grid)
                    np.testing.assert_array_equal(np.isnan(one.read(whole, level)), empty, f"{name} on level {level}")
