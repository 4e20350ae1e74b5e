"""Curvature, sky view, openness and several lights against closed forms and slow twins."""

import math

import numpy as np
from django.test import SimpleTestCase

from yama.terrain import operations
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.relief.contrast import contrast, contrast_of
from yama.terrain.relief.curvature import curvature, zevenbergen_thorne_slope
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.sky import _rays, sight, sight_of
from yama.terrain.relief.slope import Light, aspect_of, gradients_of, hillshade_of, slope
from yama.terrain.relief.tone import REACH, tone, tone_of
from yama.terrain.surface import ArraySurface
from yama.terrain.tests.places import LOCAL

GRID = Grid(LOCAL, 0, 200, 2.0, 2.0, 100, 100)
X, Y = np.meshgrid(GRID.x_of(np.arange(100)) - 100, GRID.y_of(np.arange(100)) - 100)
INNER = (slice(1, -1), slice(1, -1))


def made(heights):
    return ArraySurface(heights, GRID)


class CurvatureTest(SimpleTestCase):
    def test_a_bowl_and_a_dome_have_the_curvature_of_their_ball(self):
        for radius in (500.0, -2_000.0):
            ball = made(-(X**2 + Y**2) / (2 * radius))
            for kind in ("mean", "profile", "plan"):
                found = curvature(ball, kind).read_all()[INNER]
                np.testing.assert_allclose(found, 1000 / radius, rtol=2e-3, err_msg=kind)

    def test_a_channel_bends_across_its_fall_only(self):
        channel = made(0.02 * X**2 + 0.1 * Y)
        down = (0.04 * X) ** 2 / ((0.04 * X) ** 2 + 0.1**2)  # how far the fall is that of the channel's sides
        for kind, wanted in (("profile", -40 * down), ("plan", -40 * (1 - down)), ("mean", np.full(X.shape, -20.0))):
            np.testing.assert_allclose(curvature(channel, kind).read_all()[INNER], wanted[INNER], atol=0.05)

    def test_planes_do_not_bend_and_both_slopes_agree_on_them(self):
        plane = made(0.3 * X - 0.4 * Y)
        np.testing.assert_allclose(curvature(plane).read_all()[INNER], 0, atol=0.02)
        for steep in (slope(plane), zevenbergen_thorne_slope(plane)):
            np.testing.assert_allclose(steep.read_all()[INNER], math.degrees(math.atan(0.5)), atol=1e-3)

    def test_empty_cells_stay_empty_and_harm_no_neighbour(self):
        heights = 0.3 * X - 0.4 * Y
        heights[50, 50] = np.nan
        for live in (curvature(made(heights)), zevenbergen_thorne_slope(made(heights)), sight(made(heights), 10.0)):
            self.assertEqual(np.isnan(live.read_all()).sum(), 1)


class ContrastTest(SimpleTestCase):
    def rough(self):
        rng = np.random.default_rng(3)
        heights = (300 + 0.2 * X + rng.normal(0, 2, X.shape)).astype(np.float32)
        heights[rng.random(X.shape) < 0.1] = np.nan
        return heights

    def test_ground_that_slopes_evenly_does_not_stand_out(self):
        inner = (slice(12, -12), slice(12, -12))
        for kind in ("above_mean", "deviation"):
            found = contrast(made(500 + 0.3 * X - 0.4 * Y), 20.0, kind).read_all()
            np.testing.assert_allclose(found[inner], 0, atol=1e-3)

    def test_as_its_definition_says_beside_empty_cells_too(self):
        heights = self.rough()
        above = contrast(made(heights), 9.0).read_all()
        deviation = contrast(made(heights), 9.0, "deviation").read_all()
        reach = np.arange(-5, 6)  # 9 m are four and a half cells
        bell = np.exp(-0.5 * (reach * 2 / 4.5) ** 2)
        wide = np.pad(heights.astype(np.float64), 5, constant_values=np.nan)
        for r, c in ((0, 0), (3, 97), (50, 50), (99, 40), (61, 12)):
            around = wide[r : r + 11, c : c + 11]
            weights = np.where(np.isnan(around), 0, np.outer(bell, bell))
            mean = np.nansum(weights * around) / weights.sum()
            spread = math.sqrt(np.nansum(weights * (around - mean) ** 2) / weights.sum())
            np.testing.assert_allclose(above[r, c], heights[r, c] - mean, atol=1e-4)
            np.testing.assert_allclose(deviation[r, c], (heights[r, c] - mean) / spread, atol=1e-4)
        np.testing.assert_array_equal(np.isnan(above), np.isnan(heights))

    def test_any_window_says_the_same_to_the_last_bit(self):
        for live in (contrast(made(self.rough()), 15.0, "deviation"), tone(made(self.rough()), "contrast")):
            whole = live.read_all()
            for window in (Window(0, 0, 7, 100), Window(31, 55, 40, 9), Window(95, 95, 5, 5)):
                np.testing.assert_array_equal(
                    live.read(window),
                    whole[window.row : window.row + window.rows, window.col : window.col + window.cols],
                )

    def test_on_cells_that_are_not_square_it_looks_as_far_both_ways(self):
        oblong = Grid(LOCAL, 0, 400, 2.0, 4.0, 100, 100)
        ridge = np.zeros((100, 100), np.float32)
        ridge[:, 50] = 1.0
        found = contrast_of(ridge, oblong, 20, 16.0)
        across = np.exp(-0.5 * (np.arange(-8, 9) * 2 / 8) ** 2)
        np.testing.assert_allclose(found[30, 30], 1 - across[8] / across.sum(), atol=1e-6)

    def test_the_operation_speaks_the_unit_of_the_frame(self):
        frame = Frame(GRID, "ft")
        heights = self.rough()
        inputs = {"surface": ArraySurface(heights, GRID)}
        operation = operations.find("local_contrast")
        for kind, unit, factor, quantity in (
            ("above_mean", "ft", 1 / 0.3048, "difference"),
            ("deviation", "1", 1, "contrast"),
        ):
            params = operations.parse_params(operation, {"kind": kind, "radius": 20})
            found = operations.Task(operation, inputs, params, frame).run().surface("surface")
            self.assertEqual((found.unit, operation.outputs_for(params)["surface"].quantity), (unit, quantity))
            np.testing.assert_allclose(
                found.read_all(), contrast(inputs["surface"], 20.0, kind).read_all() * factor, rtol=1e-5, atol=1e-6
            )

    def test_a_radius_that_spans_too_many_cells_is_told(self):
        operation = operations.find("local_contrast")
        params = operations.parse_params(operation, {"radius": 1000})
        (told,) = operations.Task(operation, {"surface": made(0 * X)}, params, Frame(GRID)).findings
        self.assertIn("within 240 m", told.sentence)
        self.assertEqual(told.fix.set_params, {"radius": 240})


class ToneTest(SimpleTestCase):
    def test_level_ground_and_its_noise_stay_quiet(self):
        noise = np.random.default_rng(1).normal(0, 0.004, X.shape).astype(np.float32)
        for shade in ("sky", "contrast"):
            self.assertLess(np.abs(tone(made(50 + noise), shade).read_all()).max(), 0.12)

    def test_hollows_are_dark_and_by_contrast_knolls_are_bright(self):
        bell = 12 * np.exp(-(X**2 + Y**2) / 200)
        middle = (50, 50)
        for shade in ("sky", "contrast"):
            self.assertLess(tone(made(-bell), shade).read_all()[middle], -0.5)
        self.assertGreater(tone(made(bell), "contrast").read_all()[middle], 0.5)
        self.assertGreaterEqual(tone(made(bell), "sky").read_all()[middle], -0.05)

    def test_painted_colours_wear_it_and_empty_cells_stay_empty(self):
        heights = (-12 * np.exp(-(X**2 + Y**2) / 200)).astype(np.float32)
        heights[30, 30] = np.nan
        stops = ((0.0, "#808080"), (1.0, "#808080"))
        plain = Dress(stops, -20, 20, strength=0).paint(heights, GRID)
        for shade in ("sky", "contrast"):
            dress = Dress(stops, -20, 20, strength=0, shade=shade, depth=0.5)
            self.assertEqual(dress.halo, REACH)
            found = dress.paint(heights, GRID)
            toned = tone_of(heights, GRID, shade)[..., None]
            wanted = plain[REACH - 1 : 1 - REACH, REACH - 1 : 1 - REACH] * (1 + 0.5 * 0.6 * toned)
            np.testing.assert_allclose(found, wanted, rtol=1e-4)
            self.assertTrue(np.isnan(found[30 - REACH, 30 - REACH]).all())
        self.assertEqual(Dress(stops, shade="sky", lit=False).halo, 1)


class SkyTest(SimpleTestCase):
    def test_level_and_evenly_sloping_ground(self):
        flat, plane = made(np.zeros((100, 100))), made(0.5 * X)
        inner = (slice(12, -12), slice(12, -12))
        np.testing.assert_allclose(sight(flat, 20.0).read_all(), 1.0)
        for kind in ("openness", "openness_below"):
            np.testing.assert_allclose(sight(flat, 20.0, kind).read_all(), 90.0)
            np.testing.assert_allclose(sight(plane, 20.0, kind).read_all()[inner], 90.0, atol=1e-3)
        # half of the directions look uphill: the mean sine of the rise along 16 of them
        rise = np.maximum(0.5 * np.sin(2 * np.pi * np.arange(16) / 16), 0)
        np.testing.assert_allclose(
            sight(plane, 20.0).read_all()[inner], 1 - (rise / np.sqrt(1 + rise**2)).mean(), atol=1e-5
        )

    def test_the_bottom_of_a_cone_sees_what_its_walls_leave(self):
        pit = made(np.hypot(X - 1, Y - 1))  # walls of 45 degrees, deepest in a cell's middle
        bottom = (49, 50)
        self.assertAlmostEqual(float(sight(pit, 30.0).read_all()[bottom]), 1 - math.sqrt(0.5), delta=0.02)
        self.assertAlmostEqual(float(sight(pit, 30.0, "openness").read_all()[bottom]), 45.0, delta=1.2)
        self.assertAlmostEqual(float(sight(pit, 30.0, "openness_below").read_all()[bottom]), 135.0, delta=0.01)

    @staticmethod
    def along(heights, r, c, turn):
        """Heights where a ray crosses lines of cells of 2 m within 16 m, and how far away."""
        down, right = -math.cos(turn), math.sin(turn)
        for step in (1, 2, 3, 4, 5, 6, 7, 8):
            far = step / max(abs(down), abs(right))
            if far * 2 > 16 + 1e-9:
                return
            at, to = r + far * down, c + far * right
            r0, c0 = math.floor(at + 1e-6), math.floor(to + 1e-6)
            ends = [heights[r0, c0], heights[r0 + (at - r0 > 1e-6), c0 + (to - c0 > 1e-6)]]
            share = max(at - r0, to - c0)
            known = [one for one in ends if not np.isnan(one)]
            yield (ends[0] + share * (ends[1] - ends[0]) if len(known) == 2 else known[0] if known else np.nan), far * 2

    def test_equal_to_a_slow_twin_and_the_same_by_windows(self):
        rng = np.random.default_rng(2)
        heights = rng.normal(0, 4, (60, 60)).astype(np.float32)
        heights[rng.random((60, 60)) < 0.1] = np.nan
        for kind in ("sky_view", "openness", "openness_below"):
            found = sight_of(heights, GRID, 8, 16.0, kind)
            for r, c in rng.integers(8, 52, (40, 2)):
                here, seen = float(heights[r, c]), []
                for turn in 2 * np.pi * np.arange(16) / 16:
                    rises = [(there - here) / far for there, far in self.along(heights, r, c, turn)]
                    rises = [one for one in rises if not np.isnan(one)] or [0.0]
                    up, down = math.atan(max(rises)), math.atan(min(rises))
                    seen.append({"sky_view": 1 - math.sin(max(up, 0)), "openness": 90 - math.degrees(up),
                                 "openness_below": 90 + math.degrees(down)}[kind])  # fmt: skip
                wanted = np.nan if np.isnan(here) else np.mean(seen)
                np.testing.assert_allclose(found[r - 8, c - 8], wanted, rtol=1e-5)
        live = sight(ArraySurface(heights, GRID.part(Window(0, 0, 60, 60))), 16.0)
        np.testing.assert_array_equal(live.read(Window(20, 11, 9, 14)), live.read_all()[20:29, 11:25])

    def test_rays_reach_the_radius_in_every_direction(self):
        for wide, high in ((2.0, 2.0), (1.0, 3.0)):
            places, apart = _rays(wide, high, 40.0)
            self.assertEqual(len(places), 16)
            far = apart[..., 1]
            np.testing.assert_allclose(far.max(axis=1), 40.0, atol=max(wide, high) * 3)
            self.assertTrue((np.diff(np.where(far > 0, far, 1e9), axis=1) > 0)[far[:, 1:] > 0].all())


class LightsTest(SimpleTestCase):
    def test_four_lights_are_the_weighted_mean_of_each(self):
        rng = np.random.default_rng(6)
        z = (40 * np.sin(X / 30) + 20 * np.cos(Y / 17) + rng.normal(0, 0.05, X.shape)).astype(np.float32)
        found = hillshade_of(z, GRID, Light(azimuth=300, altitude=50, several=True))
        east, north = (part.astype(np.float64) for part in gradients_of(z, GRID))
        falls = np.radians(aspect_of(z, GRID))
        rise = math.radians(50)
        total = np.zeros(found.shape)
        for azimuth in (210, 255, 300, 345):
            turn = math.radians(azimuth)
            lit = math.sin(rise) - math.cos(rise) * (math.sin(turn) * east + math.cos(turn) * north)
            total += np.sin(falls - turn) ** 2 * lit / np.sqrt(1 + east**2 + north**2) / 2
        np.testing.assert_allclose(found, np.maximum(total, 0), atol=2e-4)
        level = hillshade_of(np.zeros((9, 9), np.float32), GRID, Light(several=True))
        np.testing.assert_allclose(level, math.sqrt(0.5), atol=1e-6)

    def test_operations_name_what_they_make(self):
        surface = made(np.hypot(X, Y))
        for name, values, quantity in (
            ("sky", {}, "brightness"), ("sky", {"kind": "openness"}, "openness"), ("curvature", {"kind": "plan"}, "curvature"),
            ("slope", {"method": "zevenbergen_thorne"}, "slope"), ("hillshade", {"lights": "four"}, "brightness"),
        ):  # fmt: skip
            operation = operations.find(name)
            params = operations.parse_params(operation, values)
            self.assertEqual(operation.outputs_for(params)["surface"].quantity, quantity)
            self.assertFalse(
                np.isnan(
                    first_of(task_for(operation.name, {"surface": surface}, Frame(GRID, "m"), params)).read_all()
                ).any()
            )
        sky = operations.find("sky")
        found = task_for(sky.name, {"surface": surface}, Frame(GRID, "m"), {"radius": 900}).findings
        self.assertEqual((found[0].weight, found[0].fix.set_params), ("caution", {"radius": 240}))
