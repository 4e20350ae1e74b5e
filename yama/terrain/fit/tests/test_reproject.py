"""Reading on another grid: planes stay planes, cones stay where they are."""

import numpy as np
from django.test import SimpleTestCase
from pyproj import Transformer

from yama.terrain.fit.reproject import difference, fitted, source_positions
from yama.terrain.grid import Grid, Window
from yama.terrain.surface import ArraySurface

UTM = Grid("EPSG:32741", 447_000.0, 5_439_000.0, 2.0, 2.0, 300, 400)
DEGREES = Grid("EPSG:4326", 62.36, -41.19, 1 / 3600, 1 / 3600, 60, 60)


def over(grid, formula):
    """A surface from a formula of UTM x, y at its cell centres, exact wherever the grid lies."""
    x, y = np.meshgrid(*grid.centres(grid.whole))
    if grid.crs != UTM.crs:
        x, y = Transformer.from_crs(grid.crs, UTM.crs, always_xy=True).transform(x, y)
    return ArraySurface(formula(x, y), grid)


class PositionsTest(SimpleTestCase):
    def test_positions_are_those_of_the_exact_transform(self):
        rows, cols = source_positions(UTM, DEGREES)
        x, y = np.meshgrid(*UTM.centres(UTM.whole))
        lon, lat = Transformer.from_crs(UTM.crs, DEGREES.crs, always_xy=True).transform(x, y)
        self.assertLess(np.abs(cols - DEGREES.col_of(lon)).max(), 0.002)
        self.assertLess(np.abs(rows - DEGREES.row_of(lat)).max(), 0.002)


class FittedTest(SimpleTestCase):
    def test_a_plane_stays_a_plane_from_degrees_to_metres(self):
        def plane(x, y):
            return 0.2 * (x - 447_000) + 0.1 * (y - 5_439_000)

        found = fitted(over(DEGREES, plane), UTM).read_all()
        expected = over(UTM, plane).read_all()
        filled = np.isfinite(found)
        self.assertGreater(filled.mean(), 0.9)
        np.testing.assert_allclose(found[filled], expected[filled], atol=0.02)

    def test_a_cones_tip_does_not_move(self):
        tip = (447_401.0, 5_438_701.0)

        def cone(x, y):
            return 100 - np.hypot(x - tip[0], y - tip[1])

        for grid in (Grid("EPSG:32741", 447_001.0, 5_439_001.0, 2.0, 2.0, 300, 400), DEGREES):
            found = fitted(over(grid, cone), UTM).read_all()
            found = np.where(np.isfinite(found), found, -1e9)
            weight = np.clip(found - 60, 0, None)  # the centroid of the top tells a shift of a part of a cell
            x, y = np.meshgrid(*UTM.centres(UTM.whole))
            self.assertAlmostEqual((x * weight).sum() / weight.sum(), tip[0], delta=0.15)
            self.assertAlmostEqual((y * weight).sum() / weight.sum(), tip[1], delta=0.15)

    def test_the_same_grid_is_the_same_surface(self):
        surface = over(UTM, lambda x, y: x)
        self.assertIs(fitted(surface, UTM), surface)

    def test_windows_agree_with_the_whole(self):
        surface = fitted(over(DEGREES, lambda x, y: np.hypot(x - 447_300, y - 5_438_800)), UTM)
        whole = surface.read_all()
        for window in (Window(0, 0, 50, 50), Window(120, 200, 90, 33), Window(280, 380, 20, 20)):
            part = whole[window.row : window.row + window.rows, window.col : window.col + window.cols]
            np.testing.assert_allclose(surface.read(window), part, atol=0.02)

    def test_nearest_shows_the_sources_own_values(self):
        source = over(DEGREES, lambda x, y: np.round(x))
        values = set(source.read_all().ravel().tolist())
        found = fitted(source, UTM, "nearest").read_all()
        self.assertTrue(set(found[np.isfinite(found)].tolist()) <= values)

    def test_outside_the_source_is_empty(self):
        far = Grid("EPSG:32741", 600_000.0, 5_439_000.0, 2.0, 2.0, 10, 10)
        self.assertTrue(np.isnan(fitted(over(DEGREES, lambda x, y: x), far).read_all()).all())

    def test_going_coarser_takes_means(self):
        checks = ArraySurface(np.indices((400, 400)).sum(0) % 2 * 10.0, Grid("EPSG:32741", 0, 800, 2, 2, 400, 400))
        coarse = Grid("EPSG:32741", 0, 800, 32, 32, 25, 25)
        np.testing.assert_allclose(fitted(checks, coarse).read(Window(1, 1, 23, 23)), 5.0, atol=0.01)


class DifferenceTest(SimpleTestCase):
    def test_difference_and_empty_cells(self):
        first = over(UTM, lambda x, y: x - 446_000)
        second = over(UTM, lambda x, y: 2 * (x - 446_000))
        second._levels[0][3, 4] = np.nan
        found = difference(first, second).read_all()
        self.assertTrue(np.isnan(found[3, 4]))
        np.testing.assert_allclose(found[4:], -(first.read_all())[4:], rtol=1e-6)
