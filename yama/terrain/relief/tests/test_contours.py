"""Contours: closed forms, the same lines from any blocks, a library's, and what cannot be drawn."""

from unittest import mock

import contourpy
import numpy as np
import shapely
from django.test import SimpleTestCase
from pyproj import Geod, Transformer

from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations import find, parse_params
from yama.terrain.operations.contours import suggested
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.relief.contours import Levels, contours, lengths, longer_than, smoothed
from yama.terrain.surface import ArraySurface, sample
from yama.terrain.tests.test_surface import rough

GRID = Grid("EPSG:32741", 1_000.0, 3_000.0, 2.0, 2.0, 200, 240)


def places(grid=GRID):
    return np.meshgrid(grid.x_of(np.arange(grid.cols)), grid.y_of(np.arange(grid.rows)))


def hills(holes=False) -> ArraySurface:
    x, y = places()
    heights = 100 + 30 * np.sin(x / 37) * np.cos(y / 29) + 9 * np.sin(x / 11 + y / 13)
    if holes:
        heights[60:80, 90:130] = np.nan
        heights[np.random.default_rng(1).random(heights.shape) < 0.002] = np.nan
    return ArraySurface(heights, GRID)


def shapes(lines):
    return [
        np.column_stack([lines.x[a:b], lines.y[a:b]]) for a, b in zip(lines.starts[:-1], lines.starts[1:], strict=True)
    ]


class ContoursTest(SimpleTestCase):
    def test_of_a_plane_they_are_straight_lines_at_their_height(self):
        x, y = places()
        plane = ArraySurface(50 + 0.1 * (x - 1_000) + 0.05 * (y - 2_600), GRID)
        found = contours(plane, Levels(5.0, 2.0))
        self.assertEqual(
            len(found), Levels(5.0, 2.0).between(float(plane.read_all().min()), float(plane.read_all().max()))
        )
        for number, line in zip(found.numbers, shapes(found), strict=True):
            there = 50 + 0.1 * (line[:, 0] - 1_000) + 0.05 * (line[:, 1] - 2_600)
            np.testing.assert_allclose(there, 2 + 5 * number, atol=1e-4)
            apart = np.diff(line, axis=0) @ np.array([0.1, 0.05])
            np.testing.assert_allclose(apart, 0, atol=1e-4)

    def test_listed_heights_give_the_lines_of_those_alone(self):
        surface = hills()
        regular = contours(surface, Levels(5.0))
        listed = (90.0, 95.0, 120.0)
        found = contours(surface, Levels(1.0, listed=listed))
        self.assertEqual(set(found.numbers.tolist()), {0, 1, 2})
        for i, height in enumerate(listed):
            mine, own = found.numbers == i, regular.numbers == round(height / 5)
            self.assertEqual(mine.sum(), own.sum())
            self.assertAlmostEqual(lengths(found)[mine].sum(), lengths(regular)[own].sum(), places=6)
        self.assertEqual(Levels(1.0, listed=listed).between(90.0, 120.0), 2)

    def test_on_degrees_smoothing_is_round_on_the_ground(self):
        grid = Grid("EPSG:4326", 10.0, 60.2, 0.0005, 0.0005, 240, 240)
        heights = np.zeros((240, 240))
        heights[120, 120] = 1_000.0
        wide, high = grid.metres_per_cell()
        found = smoothed(ArraySurface(heights, grid), 150.0).read_all()
        i, j = np.mgrid[-120:120, -120:120]
        spread = [float(np.sqrt((found * (k * size) ** 2).sum() / found.sum())) for k, size in ((j, wide), (i, high))]
        np.testing.assert_allclose(spread, 150.0, rtol=0.03)

    def test_of_a_cone_they_are_circles_with_higher_ground_on_their_left(self):
        x, y = places()
        cone = ArraySurface(300 - np.hypot(x - 1_240, y - 2_800), GRID)
        found = contours(cone, Levels(25.0))
        rings = [line for line in shapes(found) if np.array_equal(line[0], line[-1])]
        self.assertGreater(len(rings), 6)
        for line in rings:
            radius = np.hypot(line[:, 0] - 1_240, line[:, 1] - 2_800)
            self.assertLess(np.ptp(radius), 0.6)
            self.assertTrue(shapely.LinearRing(line).is_ccw)
        for number, length in zip(found.numbers, lengths(found), strict=True):
            if number * 25 >= 120:
                self.assertAlmostEqual(length, 2 * np.pi * (300 - number * 25), delta=0.02 * length + 1)

    def test_any_blocks_give_the_same_lines(self):
        for surface in (hills(), hills(holes=True), rough(150, 170)):
            whole = contours(surface, Levels(7.0))
            for block in (64, 37, 16):
                parted = contours(surface, Levels(7.0), block=block)
                self.assertEqual(len(parted), len(whole))
                self.assertEqual(parted.x.size, whole.x.size)
                one, other = (
                    sorted(
                        (number, round(length, 6)) for number, length in zip(each.numbers, lengths(each), strict=True)
                    )
                    for each in (whole, parted)
                )
                np.testing.assert_allclose(one, other, atol=1e-5)

    def test_against_a_library(self):
        for surface in (hills(), hills(holes=True)):
            found = contours(surface, Levels(4.0))
            heights = surface.read_all().astype(float)
            drawn = contourpy.contour_generator(z=np.ma.masked_invalid(heights), corner_mask=False)
            for number in np.unique(found.numbers):
                lines = [2 * line for line in drawn.lines(4.0 * float(number))]
                wanted = sum(float(np.hypot(*np.diff(line, axis=0).T).sum()) for line in lines)
                mine = lengths(found)[found.numbers == number]
                self.assertEqual(mine.size, len(lines))
                self.assertAlmostEqual(mine.sum(), wanted, delta=1e-6 * wanted)

    def test_vertices_lie_at_their_height_and_lines_never_cross(self):
        surface = hills()
        found = contours(surface, Levels(3.0))
        np.testing.assert_allclose(
            sample(surface, found.x, found.y), 3.0 * np.repeat(found.numbers, np.diff(found.starts)), atol=1e-3
        )
        for each in (found, contours(smoothed(surface, 6.0), Levels(3.0))):
            drawn = shapely.linestrings(np.column_stack([each.x, each.y]),
                                        indices=np.repeat(np.arange(len(each)), np.diff(each.starts)))  # fmt: skip
            pairs = shapely.STRtree(drawn).query(drawn, predicate="crosses")
            self.assertEqual(pairs.shape[1], 0)

    def test_heights_equal_to_a_level_leave_no_loose_ends(self):
        steps = np.round(hills().read_all() / 5) * 5  # plateaus at the very levels
        found = contours(ArraySurface(steps, GRID), Levels(5.0))
        for line in shapes(found):
            closed = np.array_equal(line[0], line[-1])
            edge = [
                min(abs(x - 1_001), abs(x - 1_479), abs(y - 2_999), abs(y - 2_601)) < 1e-6
                for x, y in (line[0], line[-1])
            ]
            self.assertTrue(closed or all(edge))
            self.assertGreater(np.hypot(*np.diff(line, axis=0).T).min(), 0)

    def test_flat_empty_and_single_cells_have_none(self):
        for heights in (np.full((200, 240), 7.0), np.full((200, 240), np.nan)):
            self.assertEqual(len(contours(ArraySurface(heights, GRID), Levels(1.0))), 0)
        one = Grid("EPSG:32741", 0, 0, 2, 2, 1, 1)
        self.assertEqual(len(contours(ArraySurface([[5.0]], one), Levels(1.0))), 0)

    def test_short_ones_are_left_out(self):
        found = contours(hills(), Levels(4.0))
        kept = longer_than(found, 200.0, GRID.crs)
        np.testing.assert_array_equal(lengths(kept), lengths(found)[lengths(found) >= 200])
        self.assertLess(len(kept), len(found))

    def test_short_on_the_ground_is_meant_where_a_crs_stretches_it(self):
        grid = Grid("EPSG:3857", 6.9e6, 8.4e6, 50.0, 50.0, 120, 140)  # at 60 degrees a metre of it is half a metre
        x, y = places(grid)
        found = contours(ArraySurface(40 * np.sin(x / 900) * np.cos(y / 700), grid), Levels(10.0))
        each = [
            sum(
                Geod(ellps="WGS84").line_lengths(
                    *Transformer.from_crs(grid.crs, "EPSG:4326", always_xy=True).transform(*line.T)
                )
            )
            for line in shapes(found)
        ]
        kept = longer_than(found, 900.0, grid.crs)
        self.assertEqual(len(kept), sum(length >= 900.0 for length in each))
        self.assertTrue(0 < len(kept) < len(longer_than(found, 450.0, grid.crs)) <= len(found))

    def test_too_many_are_refused(self):
        with self.assertRaisesMessage(InputError, "Take a wider one"):
            contours(hills(), Levels(1e-4))
        with (
            mock.patch("yama.terrain.relief.contours.MOST_VERTICES", 100),
            self.assertRaisesMessage(InputError, "vertices"),
        ):
            contours(hills(), Levels(5.0))

    def test_smoothing_keeps_a_plane_and_what_is_empty(self):
        x, y = places()
        plane = 50 + 0.1 * (x - 1_000) + 0.05 * (y - 2_600)
        found = smoothed(ArraySurface(plane, GRID), 8.0).read_all()
        np.testing.assert_allclose(found[30:-30, 30:-30], plane[30:-30, 30:-30], atol=1e-3)
        holed = hills(holes=True)
        np.testing.assert_array_equal(np.isnan(smoothed(holed, 8.0).read_all()), np.isnan(holed.read_all()))


class OperationTest(SimpleTestCase):
    def setUp(self):
        self.operation = find("contours")
        self.inputs = {"surface": hills()}

    def test_lines_know_their_height_and_every_fifth_is_an_index_line(self):
        made = first_of(task_for(self.operation.name, self.inputs, Frame(GRID), {"interval": 4, "base_height": 2}))
        heights = np.array(made.attributes["height"])
        np.testing.assert_array_equal((heights - 2) % 4, 0)
        index = np.array(made.attributes["kind"]) == "index"
        np.testing.assert_array_equal(index, (heights - 2) % 20 == 0)
        none = first_of(task_for(self.operation.name, self.inputs, Frame(GRID), {"interval": 4, "index_every": 0}))
        self.assertEqual(set(none.attributes["kind"]), {"line"})

    def test_heights_can_be_listed(self):
        params = parse_params(self.operation, {"levels": [300, 331.5, 300], "unit": "ft"})
        made = first_of(task_for(self.operation.name, self.inputs, Frame(GRID), params))
        self.assertEqual(set(made.attributes["height"]), {300.0, 331.5})
        self.assertEqual(set(made.attributes["kind"]), {"index"})
        none = task_for(self.operation.name, self.inputs, Frame(GRID), {"levels": [9_000]}).findings
        self.assertEqual((none[0].code, none[0].fix.set_params["levels"]), ("none", None))
        with self.assertRaises(InputError):
            parse_params(self.operation, {"levels": []})

    def test_in_feet_they_lie_at_round_feet(self):
        made = first_of(task_for(self.operation.name, self.inputs, Frame(GRID), {"interval": 25, "unit": "ft"}))
        np.testing.assert_array_equal(np.array(made.attributes["height"]) % 25, 0)
        x, y = shapely.get_coordinates(made.geometries[0])[0]
        self.assertAlmostEqual(float(sample(hills(), [x], [y])[0]) / 0.3048, made.attributes["height"][0], delta=0.01)

    def test_findings_offer_a_round_interval(self):
        def codes(**params):
            return {one.code: one for one in task_for(self.operation.name, self.inputs, Frame(GRID), params).findings}

        self.assertEqual(codes(interval=0.001)["levels"].weight, "stop")
        self.assertEqual(codes(interval=500, base_height=-100)["none"].weight, "stop")
        level = {"surface": ArraySurface(np.full((GRID.rows, GRID.cols), 5, np.float32), GRID)}
        (said,) = task_for(self.operation.name, level, Frame(GRID), {"interval": 10}).findings
        self.assertEqual((said.code, said.weight), ("level", "stop"))
        self.assertIn("lies at 5.00 m", said.sentence)
        self.assertEqual(codes(interval=0.1)["many"].fix.set_params, {"interval": 5.0})
        self.assertIn("dense", codes(interval=0.5))
        self.assertEqual(codes(interval=10), {})
        for wrong in ({"interval": 0}, {"interval": -5}, {"interval": float("nan")}):
            with self.assertRaises(InputError):
                parse_params(self.operation, wrong)

    def test_suggestions_are_round(self):
        for low, high, wanted in ((0, 845, 50), (0, 400, 20), (2, 3.9, 0.1), (0, 21, 2), (5, 5, 1e-7)):
            self.assertAlmostEqual(suggested(low, high), wanted)
