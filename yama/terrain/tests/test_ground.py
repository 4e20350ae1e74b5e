"""Lengths, slopes, areas and volumes are those of the ground, whatever the CRS makes of it."""

from functools import partial

import numpy as np
import shapely
from django.test import SimpleTestCase
from pyproj import Geod, Transformer

from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window, ground_lengths, metres_per_unit
from yama.terrain.judge.distribution import Over, distributions
from yama.terrain.relief.contrast import contrast
from yama.terrain.relief.curvature import curvature, zevenbergen_thorne_slope
from yama.terrain.relief.sky import sight
from yama.terrain.relief.slope import aspect, slope
from yama.terrain.surface import ArraySurface

EARTH = Geod(ellps="WGS84")
MERCATOR, ALBERS = "EPSG:3857", "+proj=aea +lat_1=20 +lat_2=60 +lat_0=40 +lon_0=62 +datum=WGS84 +units=m"


def hill(grid: Grid, degrees: float = 0.0) -> ArraySurface:
    """A surface that rises by one for each ten metres of ground towards the north, by the true size of each row."""
    _, high = grid.ground().sizes(grid)
    heights = np.cumsum(high[::-1])[::-1] * 0.1
    return ArraySurface(np.tile(heights[:, None], (1, grid.cols)), grid)


class LengthTest(SimpleTestCase):
    def test_a_unit_is_as_long_as_the_ellipsoid_says(self):
        for crs, x, y, across, up in (
            (MERCATOR, 6.9e6, 0.0, 1.0, 1 - EARTH.es), (MERCATOR, 6.9e6, 6_446_275.84, None, None),
            ("EPSG:4326", 62.0, 50.0, None, None), ("EPSG:32741", 448_000.0, 5_438_000.0, 1.0, 1.0),
        ):  # fmt: skip
            found = metres_per_unit(crs, x, y)
            if across is not None:
                np.testing.assert_allclose(found, (across, up), rtol=1e-6)
        # at 50 degrees north Mercator's metre is 0.64 m
        np.testing.assert_allclose(metres_per_unit(MERCATOR, 6.9e6, 6_446_275.84), (0.644_04, 0.643_19), rtol=2e-3)
        degree = metres_per_unit("EPSG:4326", 62.0, 50.0)
        self.assertAlmostEqual(degree[1], EARTH.inv(62, 49.5, 62, 50.5)[2], delta=0.6)
        self.assertAlmostEqual(degree[0], EARTH.inv(61.95, 50, 62.05, 50)[2] * 10, delta=0.6)

    def test_true_zones_keep_their_own_unit_exactly(self):
        grid = Grid("EPSG:32741", 448_000, 5_438_400, 2, 2, 100, 100)
        self.assertEqual(grid.metres_per_cell(), (2.0, 2.0))
        self.assertEqual(grid.ground().unit, 1.0)
        feet = Grid("+proj=tmerc +lat_0=-41 +lon_0=62.4 +datum=WGS84 +units=us-ft", 0, 900, 3, 3, 100, 100)
        self.assertAlmostEqual(feet.metres_per_cell()[0], 3 * 1200 / 3937, places=9)

    def test_beyond_a_crs_nothing_breaks(self):
        across, up = ground_lengths("EPSG:32741", [1e9, 448_000], [1e9, 5_438_000])
        self.assertTrue(np.isfinite(across[1]) and np.isfinite(up[1]))
        self.assertEqual(metres_per_unit("EPSG:32741", 9e8, 9e8), (1.0, 1.0))
        wide, high = Grid("EPSG:4326", 0, 95, 1, 1, 190, 4).ground().sizes(Grid("EPSG:4326", 0, 95, 1, 1, 190, 4))
        self.assertTrue((np.isfinite(wide) & (wide > 0) & np.isfinite(high)).all())


class FormTest(SimpleTestCase):
    GRIDS = (
        Grid(MERCATOR, 6.9e6, 6_480_000.0, 200.0, 200.0, 300, 40),
        Grid("EPSG:4326", 62.0, 60.0, 1 / 60, 1 / 60, 600, 40),  # ten degrees of latitude in cells of a minute
        Grid(ALBERS, 0.0, 1_000_000.0, 2_000.0, 2_000.0, 300, 40),
    )

    def test_a_slope_is_the_grounds_own(self):
        for grid in self.GRIDS:
            with self.subTest(grid.crs[:20]):
                for made in (slope(hill(grid)), zevenbergen_thorne_slope(hill(grid))):
                    inner = made.read_all()[1:-1, 1:-1]
                    np.testing.assert_allclose(inner, np.degrees(np.arctan(0.1)), rtol=1e-3)
                np.testing.assert_allclose(aspect(hill(grid)).read_all()[1:-1, 1:-1], 180, atol=1e-3)
                # over the ground such a hill bends nowhere by more than rounding makes it
                self.assertLess(np.abs(curvature(hill(grid)).read_all()[1:-1, 1:-1]).max(), 0.02)

    def test_no_seam_between_blocks(self):
        rng = np.random.default_rng(1)
        for grid in self.GRIDS:
            rough = ArraySurface(rng.uniform(0, 300, (grid.rows, grid.cols)), grid)
            reach = 3 * grid.smallest_cell()
            for make in (slope, aspect, curvature, partial(sight, radius=reach), partial(contrast, radius=reach)):
                live = make(rough)
                whole = live.read_all()
                for window in (Window(0, 0, 64, 16), Window(101, 7, 53, 30), Window(250, 0, 50, 40)):
                    there = whole[window.row : window.row + window.rows, window.col : window.col + window.cols]
                    np.testing.assert_array_equal(live.read(window), there)

    def test_as_many_cells_count_as_the_radius_spans_there(self):
        grid = self.GRIDS[1]
        spike = np.zeros((grid.rows, grid.cols))
        rows = (30, 570)  # at 59.5 and 50.5 degrees
        for row in rows:
            spike[row, 20] = 100
        reached = contrast(ArraySurface(spike, grid), 4_000.0).read_all()
        counts = [int((reached[row, :] != 0).sum()) for row in rows]
        self.assertGreater(counts[0], counts[1])  # cells are narrower in the north


class AreaTest(SimpleTestCase):
    def zones(self, grid, *polygons):
        flat = ArraySurface(np.full((grid.rows, grid.cols), 10.0), grid)
        return distributions(flat, None, Frame(grid, "m"), Over(polygons=polygons), (0.0, 4.0))["a"]["above"]

    def test_areas_and_volumes_are_on_the_ellipsoid(self):
        degrees = Grid("EPSG:4326", 62.0, 60.0, 1 / 60, 1 / 60, 600, 60)
        ring = [(62, y) for y in np.linspace(50, 60, 400)] + [(x, 60) for x in np.linspace(62, 63, 400)]
        ring += [(63, y) for y in np.linspace(60, 50, 400)] + [(x, 50) for x in np.linspace(63, 62, 400)]
        true = abs(EARTH.polygon_area_perimeter(*np.array(ring).T)[0])
        found = self.zones(degrees)
        self.assertAlmostEqual(found["area"] / true, 1.0, places=5)
        self.assertAlmostEqual(found["volume"] / (6 * true), 1.0, places=5)
        part = self.zones(degrees, shapely.box(62, 55, 63, 60))
        rest = self.zones(degrees, shapely.box(62, 50, 63, 55))
        self.assertAlmostEqual((part["area"] + rest["area"]) / found["area"], 1.0, places=9)
        self.assertLess(part["area"], 0.92 * rest["area"])

    def test_mercators_square_kilometre_is_none(self):
        grid = Grid(MERCATOR, 6.9e6, 6_446_775.84, 10.0, 10.0, 100, 100)
        self.assertAlmostEqual(self.zones(grid)["area"] / 1e6, 0.644 * 0.643, delta=2e-3)


class AcrossTest(SimpleTestCase):
    """Where cells of one row differ in size: about a pole, and over the width of a continent."""

    POLAR = "+proj=stere +lat_0=90 +lat_ts=70 +lon_0=0 +datum=WGS84 +units=m"

    def cone(self, west=0.0, north=0.0, rows=120, cols=150, cell=20_000.0):
        """A surface that falls by one in ten metres of ground away from the pole, in every direction."""
        grid = Grid(self.POLAR, west, north, cell, cell, rows, cols)
        x, y = np.meshgrid(*grid.centres(grid.whole))
        lon, lat = Transformer.from_crs(self.POLAR, "EPSG:4326", always_xy=True).transform(x, y)
        away = EARTH.inv(lon, np.full(lon.shape, 90.0), lon, lat)[2]
        return ArraySurface(-0.1 * away, grid)

    def test_slopes_are_those_of_the_ground_in_every_column(self):
        surface = self.cone(-300_000.0, -200_000.0)
        self.assertGreater(surface.grid.ground().span, 0)
        inner = (slice(5, -5), slice(5, -5))
        x, y = np.meshgrid(*surface.grid.centres(surface.grid.whole))
        far = (np.hypot(x, y) > 600_000)[inner]  # the top of a cone is no slope
        for made in (slope(surface), zevenbergen_thorne_slope(surface)):
            found = made.read_all()[inner][far]
            np.testing.assert_allclose(found, np.degrees(np.arctan(0.1)), rtol=2e-3)
        level = sight(surface, 60_000.0, "openness").read_all()[inner][far]
        self.assertLess(np.abs(level - 90).max(), 0.3)

    def test_any_window_has_the_same_cells(self):
        surface = self.cone()
        for make in (slope, aspect, curvature, partial(contrast, radius=60_000.0), partial(sight, radius=60_000.0)):
            whole = make(surface).read_all()
            part = make(surface).read(Window(31, 47, 40, 60))
            np.testing.assert_array_equal(part, whole[31:71, 47:107])

    def test_areas_are_those_of_the_ellipsoid(self):
        surface = self.cone(cell=10_000.0)
        found = distributions(surface, None, Frame(surface.grid), Over(), (-1e9, 1e9))["a"]["between"]["area"]
        box = surface.grid.bounds
        turn = Transformer.from_crs(self.POLAR, "EPSG:4326", always_xy=True)
        ring = shapely.segmentize(shapely.box(*box), 5_000.0).exterior.coords
        lon, lat = turn.transform(*np.array(ring).T)
        self.assertAlmostEqual(found / abs(EARTH.polygon_area_perimeter(lon, lat)[0]), 1.0, delta=1e-3)

    def test_true_zones_and_degrees_have_no_bands(self):
        for grid in (Grid("EPSG:32741", 448_000, 5_438_400, 2, 2, 100, 100), Grid("EPSG:4326", 10, 50, 0.01, 0.01, 90, 90),
                     Grid(MERCATOR, 6.9e6, 6.4e6, 100, 100, 90, 90)):  # fmt: skip
            self.assertEqual(grid.ground().span, 0.0)
