"""Profiles: closed forms along a line, gaps, other CRSs, and lines that are none."""

import numpy as np
from django.test import SimpleTestCase
from pyproj import Geod, Transformer

from yama.terrain.errors import InputError
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Grid
from yama.terrain.relief.profile import MOST_SAMPLES, courses, finest, track
from yama.terrain.surface import ArraySurface
from yama.terrain.tests.places import LOCAL

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_400.0, 2.0, 2.0, 200, 240)


def plane() -> ArraySurface:
    x, y = np.meshgrid(GRID.x_of(np.arange(240)) - 448_000, GRID.y_of(np.arange(200)) - 5_438_000)
    return ArraySurface(10 + 0.1 * x - 0.05 * y, GRID)


class TrackTest(SimpleTestCase):
    def test_places_are_a_step_apart_and_both_ends_are_there(self):
        along = track([(0, 0), (30, 40), (30, 140)], LOCAL, 2.0)
        self.assertEqual((along.distance[0], along.distance[-1], along.step), (0.0, 150.0, 2.0))
        self.assertEqual((along.x[-1], along.y[-1]), (30.0, 140.0))
        np.testing.assert_allclose((along.x[10], along.y[10]), (12, 16))

    def test_a_length_that_is_no_number_of_steps_ends_with_a_shorter_one(self):
        along = track([(0, 0), (10.5, 0)], LOCAL, 2.0)
        np.testing.assert_allclose(along.distance, [0, 2, 4, 6, 8, 10, 10.5])
        self.assertEqual((along.step, along.x[-1]), (2.0, 10.5))
        np.testing.assert_allclose(track([(0, 0), (0.7, 0)], LOCAL, 2.0).distance, [0, 0.7])
        self.assertEqual(track([(0, 0), (0.3, 0)], LOCAL, 0.1).distance.size, 4)  # 0.3 is less than three times 0.1

    def test_a_long_line_has_its_places_farther_apart(self):
        along = track([(0, 0), (100_000, 0)], LOCAL, 2.0)
        self.assertEqual(along.distance.size, MOST_SAMPLES)
        self.assertAlmostEqual(along.step, 100_000 / (MOST_SAMPLES - 1))

    def test_a_million_corners_and_lines_that_are_none_are_refused(self):
        for line in (
            [],
            [(1, 1)],
            [(1, 1), (1, 1)],
            [(0, 0), (np.nan, 1)],
            [(0, 0, 0), (1, 1, 1)],
            np.zeros((100_001, 2)),
        ):
            with self.assertRaises(InputError):
                track(line, CRS, 2.0)

    def test_degrees_are_measured_in_metres(self):
        along = track([(62.4, -41.2), (62.4, -41.1)], "EPSG:4326", 100.0)
        _, _, length = Geod(ellps="WGS84").inv(62.4, -41.2, 62.4, -41.1)
        self.assertAlmostEqual(along.distance[-1], length, delta=0.01)

    def test_where_a_crs_stretches_the_ground_lengths_are_those_of_the_ground(self):
        turn = Transformer.from_crs("EPSG:4326", "EPSG:3857", always_xy=True)
        west, east, south, north = 62.0, 62.5, 49.8, 50.3
        corners = [turn.transform(*place) for place in ((west, south), (west, north), (east, north))]
        along = track(corners, "EPSG:3857", 100.0)
        earth = Geod(ellps="WGS84")
        north_south = earth.inv(west, south, west, north)[2]
        # along a parallel, which is straight in this CRS, and not along the shorter geodesic
        around = (
            earth.a
            / (1 - earth.es * np.sin(np.radians(north)) ** 2) ** 0.5
            * np.cos(np.radians(north))
            * np.radians(east - west)
        )
        self.assertAlmostEqual(along.distance[-1] / (north_south + around), 1.0, places=6)
        half = np.searchsorted(along.distance, north_south / 2)
        middle = Transformer.from_crs("EPSG:3857", "EPSG:4326", always_xy=True).transform(along.x[half], along.y[half])
        self.assertAlmostEqual(earth.inv(west, south, *middle)[2] / along.distance[half], 1.0, places=5)


class CourseTest(SimpleTestCase):
    def test_along_a_plane_heights_and_gradients_are_those_of_the_plane(self):
        along = track([(448_050, 5_438_100), (448_350, 5_438_100)], CRS, finest([GRID]))
        (course,) = courses([plane()], along, CRS)
        np.testing.assert_allclose(course.heights, 10 + 0.1 * (along.x - 448_000) - 5.0, atol=1e-4)
        self.assertAlmostEqual(course.climb, 30.0, places=3)
        self.assertAlmostEqual(course.fall, 0.0, places=6)
        self.assertAlmostEqual(course.steepest, 10.0, places=2)
        self.assertAlmostEqual(course.mean, 25.0, places=3)

    def test_what_is_left_at_the_end_makes_no_gradient_of_its_own(self):
        steps = np.where(np.arange(240) < 60, 0.0, 8.0) + np.zeros((200, 1))
        line = [(448_000 + 2 * 40 - 0.1, 5_438_201.0), (448_000 + 2 * 60 + 0.01, 5_438_201.0)]
        (course,) = courses([ArraySurface(steps, GRID)], track(line, CRS, 2.0), CRS, nearest=True)
        self.assertEqual((course.highest, course.steepest), (8.0, 400.0))

    def test_up_and_down_again(self):
        along = track([(448_050, 5_438_100), (448_150, 5_438_100), (448_050, 5_438_100)], CRS, 2.0)
        (course,) = courses([plane()], along, CRS)
        self.assertAlmostEqual(course.climb, course.fall, places=4)
        self.assertAlmostEqual(course.highest - course.lowest, 10.0, places=3)

    def test_as_steps_it_has_the_heights_of_the_cells_alone(self):
        heights = np.random.default_rng(4).normal(50, 9, (200, 240)).astype(np.float32)
        surface = ArraySurface(heights, GRID)
        row, cols = 37, np.arange(20, 60)
        y = float(GRID.y_of(row))
        along = track([(float(GRID.x_of(20)) + 0.3, y - 0.8), (float(GRID.x_of(59)) + 0.3, y - 0.8)], CRS, 2.0)
        (course,) = courses([surface], along, CRS, nearest=True)
        np.testing.assert_array_equal(course.heights, heights[row, cols])

    def test_gaps_are_empty_and_count_for_nothing(self):
        heights = plane().read_all().copy()
        heights[:, 60:80] = np.nan
        along = track([(448_050, 5_438_100), (448_350, 5_438_100)], CRS, 2.0)
        holed, outside = courses([ArraySurface(heights, GRID), plane()], along, CRS)
        self.assertTrue(np.isnan(holed.heights).any())
        self.assertLess(holed.climb, outside.climb)
        beyond = track([(440_000, 5_438_100), (441_000, 5_438_100)], CRS, 2.0)
        (nothing,) = courses([plane()], beyond, CRS)
        self.assertIsNone(nothing.lowest)
        self.assertEqual(set(nothing.to_dict()["heights"]), {None})

    def test_a_surface_in_degrees_is_read_where_it_is(self):
        turn = Transformer.from_crs(CRS, "EPSG:4326", always_xy=True)
        west, south = turn.transform(448_000, 5_438_000)
        degrees = Grid("EPSG:4326", west, south + 0.0036, 2e-5, 2e-5, 180, 250)
        there = ArraySurface(fitted(plane(), degrees).read_all(), degrees)
        along = track([(448_100, 5_438_100), (448_200, 5_438_200)], CRS, 2.0)
        own, other = courses([plane(), there], along, CRS)
        np.testing.assert_allclose(own.heights, other.heights, atol=0.01)
