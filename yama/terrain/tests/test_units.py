"""Heights in feet: what is steep in metres is as steep in feet, and the frame's unit is that of what is made on it."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid, Window
from yama.terrain.operations import Task, find, parse_params
from yama.terrain.points import Points
from yama.terrain.relief.curvature import curvature, zevenbergen_thorne_slope
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import view_pixels
from yama.terrain.relief.profile import courses, track
from yama.terrain.relief.sky import sight
from yama.terrain.relief.slope import aspect, gradient, hillshade, slope
from yama.terrain.surface import ArraySurface
from yama.terrain.units import UNITS, in_unit

GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 40, 50)
FOOT = UNITS["us-ft"]


def hills() -> np.ndarray:
    xs, ys = np.meshgrid(*GRID.centres(GRID.whole))
    return 200 + 15 * np.sin((xs - 448_000) / 17) + 11 * np.cos((ys - 5_438_000) / 13)


METRES = ArraySurface(hills(), GRID, "m", "Sundrel mean sea level")
FEET = ArraySurface(hills() / FOOT, GRID, "us-ft", "Sundrel mean sea level")


def made(name, frame_unit, given, **params):
    operation = find(name)
    inputs = given
    return Task(operation, inputs, parse_params(operation, params), Frame(GRID, frame_unit, ""))


def scattered() -> Points:
    x, y = np.random.default_rng(4).uniform((448_000, 5_437_920), (448_100, 5_438_000), (300, 2)).T
    return Points("EPSG:32741", x, y, {"z": 120 + 0.4 * (x - 448_000)}, np.array([]), "z", "m")


class InUnitTest(SimpleTestCase):
    def test_there_and_back(self):
        there = in_unit(METRES, "us-ft")
        self.assertEqual((there.unit, there.vertical_datum, there.grid), ("us-ft", "Sundrel mean sea level", GRID))
        np.testing.assert_allclose(there.read_all(), FEET.read_all(), rtol=1e-6)
        np.testing.assert_allclose(in_unit(there, "m").read_all(), METRES.read_all(), rtol=2e-7)

    def test_what_is_no_height_stays(self):
        for unit in ("°", "points", ""):
            other = ArraySurface(hills(), GRID, unit)
            self.assertIs(in_unit(other, "ft"), other)
        self.assertIs(in_unit(METRES, "m"), METRES)

    def test_every_form_of_the_land_is_the_same_in_feet(self):
        forms = (slope, zevenbergen_thorne_slope, aspect, hillshade, curvature, lambda s: sight(s, 20.0),
                 lambda s: gradient(s, 0), lambda s: gradient(s, 1))  # fmt: skip
        for form in forms:
            np.testing.assert_allclose(form(FEET).read_all(), form(METRES).read_all(), atol=3e-2)

    def test_so_are_steepness_along_a_line_and_a_picture(self):
        along = track([(448_010, 5_437_930), (448_080, 5_437_990)], GRID.crs, 2.0)
        metric, other = courses([METRES, FEET], along, GRID.crs)
        self.assertAlmostEqual(other.steepest, metric.steepest, places=3)
        self.assertAlmostEqual(other.climb * FOOT, metric.climb, places=3)
        dress = Dress.usual("height", (170.0, 230.0))
        dress = Dress(dress.stops, 170.0, 230.0, unit="m")
        feet, metres = (view_pixels(one, GRID, dress).astype(int) for one in (FEET, METRES))
        self.assertLessEqual(np.abs(feet - metres).max(), 1)
        self.assertGreater(np.ptp(metres), 50)


class TaskTest(SimpleTestCase):
    def test_what_is_built_comes_out_in_the_frames_unit(self):
        metric = made("interpolate_points", "m", {"points": scattered()}).run().surface("surface")
        feet = made("interpolate_points", "us-ft", {"points": scattered()}).run().surface("surface")
        self.assertEqual((metric.unit, feet.unit), ("m", "us-ft"))
        np.testing.assert_allclose(feet.read_all() * FOOT, metric.read_all(), rtol=1e-6)

    def test_what_it_says_is_in_metres_as_its_settings_are(self):
        task = made("interpolate_points", "ft", {"points": scattered()}, whole=True)
        self.assertTrue(all(" ft" not in one.sentence for one in task.findings))
        self.assertNotIn("unit", [one.code for one in task.findings])

    def test_what_is_no_height_is_not_converted(self):
        feet, metric = (
            made("interpolate_points", unit, {"points": scattered()}).run().surface("distance") for unit in ("ft", "m")
        )
        self.assertIs(in_unit(feet, "ft"), feet)
        np.testing.assert_array_equal(feet.read_all(), metric.read_all())
        fitted = made("fit_to_frame", "ft", {"surface": metric}).run().surface("surface")
        np.testing.assert_array_equal(fitted.read_all(), metric.read_all())

    def test_an_expression_is_in_the_frames_unit_and_a_condition_in_none(self):
        given = {"surfaces": [METRES, FEET]}
        zero = made("calculate", "us-ft", given, expression="a - b", quantity="difference").run().surface("surface")
        self.assertEqual(zero.unit, "us-ft")
        np.testing.assert_allclose(zero.read_all(), 0, atol=1e-3)
        high = made("calculate", "us-ft", given, expression="a > 700").run().surface("surface")
        self.assertIs(in_unit(high, "m"), high)
        np.testing.assert_array_equal(high.read_all(), hills().astype(np.float32) > 700 * FOOT)
        masked = made("calculate", "us-ft", {"surfaces": [high, METRES]}, expression="a * b")
        self.assertEqual([one.code for one in masked.findings if one.weight == "stop"], [])
        self.assertEqual(masked.run().surface("surface").unit, "us-ft")

    def test_surfaces_in_either_unit_join_without_a_step(self):
        west = ArraySurface(hills()[:, :30], GRID.part(Window(0, 0, 40, 30)), "m")
        east = ArraySurface(hills()[:, 20:] / FOOT, GRID.part(Window(0, 20, 40, 30)), "us-ft")
        for unit in ("m", "us-ft"):
            task = made("mosaic", unit, {"surfaces": [west, east]}, rule="last")
            self.assertEqual([one for one in task.findings if one.weight == "stop"], [])
            result = task.run().surface("surface")
            self.assertEqual(result.unit, unit)
            np.testing.assert_allclose(result.read_all() * UNITS[unit], hills(), rtol=1e-6)
            (pair,) = made("overlaps", unit, {"surfaces": [west, east]}).run()["overlaps"].facts["pairs"]
            self.assertAlmostEqual(pair["mean"], 0.0, places=3)

    def test_fitting_brings_a_surface_into_the_frames_unit(self):
        for unit, given in (("m", FEET), ("us-ft", METRES)):
            result = made("fit_to_frame", unit, {"surface": given}).run().surface("surface")
            self.assertEqual(result.unit, unit)
            np.testing.assert_allclose(result.read_all() * UNITS[unit], hills(), rtol=1e-6)

    def test_a_difference_across_units_is_one_of_heights(self):
        result = made("difference", "m", {"first": FEET, "second": METRES}).run().surface("surface")
        self.assertEqual(result.unit, "m")
        np.testing.assert_allclose(result.read_all(), 0, atol=1e-4)

    def test_what_keeps_a_surface_as_it_is_keeps_its_unit(self):
        box = Bounds(448_010, 5_437_930, 448_080, 5_437_990)
        result = made("clip", "m", {"surface": FEET}, bounds=list(box)).run().surface("surface")
        self.assertEqual(result.unit, "us-ft")
        np.testing.assert_allclose(result.read(Window(0, 0, 5, 5)), FEET.read(Window(5, 5, 5, 5)), rtol=1e-7)
