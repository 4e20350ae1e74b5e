"""Outlines changed as a whole, against what a ruler says."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.mend.outlines import grown, merged, offset, split, squared
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 447_000.0, 5_438_000.0, 2.0, 2.0, 200, 220)
DEGREES = Grid("EPSG:4326", 62.0, -41.0, 0.0001, 0.0001, 400, 400)
BOX = [(447_100.0, 5_437_800.0), (447_180.0, 5_437_800.0), (447_180.0, 5_437_840.0), (447_100.0, 5_437_840.0)]


def area(ring):
    return shapely.Polygon(ring).area


class OutlinesTest(SimpleTestCase):
    def test_a_rough_outline_becomes_the_rectangle_that_lies_as_it_does(self):
        rng = np.random.default_rng(1)
        turn = np.deg2rad(25)
        local = [(-90, -5), (-30, -5.4), (30, -4.7), (90, -5), (90, 5), (10, 5.3), (-90, 5)]
        rough = [
            (
                float(447_200 + a * np.cos(turn) - b * np.sin(turn) + rng.normal(0, 0.3)),
                float(5_437_800 + a * np.sin(turn) + b * np.cos(turn) + rng.normal(0, 0.3)),
            )
            for a, b in local
        ]
        made = squared(rough, GRID)
        self.assertEqual(len(made), 4)
        self.assertAlmostEqual(area(made), area(rough), delta=1e-6)
        sides = np.diff(np.array([*made, made[0]]), axis=0)
        for one, other in zip(sides, np.roll(sides, 1, axis=0), strict=True):
            self.assertAlmostEqual(float(one @ other), 0, delta=1e-4)
        longest = max(sides, key=lambda one: np.hypot(*one))
        self.assertAlmostEqual(np.degrees(np.arctan2(longest[1], longest[0])) % 180, 25, delta=1)
        np.testing.assert_allclose(squared(made, GRID), made, atol=1e-5)

    def test_corners_are_square_on_the_ground_where_degrees_are_not(self):
        ring = [(62.005, -41.01), (62.012, -41.006), (62.01, -41.004), (62.003, -41.008)]
        across, up = DEGREES.metres_per_unit()
        made = np.array(squared(ring, DEGREES)) * (across, up)
        one, other = made[1] - made[0], made[2] - made[1]
        self.assertAlmostEqual(float(one @ other) / np.hypot(*one) / np.hypot(*other), 0, delta=1e-6)

    def test_the_rim_is_moved_by_metres(self):
        self.assertAlmostEqual(area(offset(BOX, 5, GRID)), 90 * 50, delta=1e-6)
        self.assertAlmostEqual(area(offset(BOX, -5, GRID)), 70 * 30, delta=1e-6)
        with self.assertRaisesRegex(InputError, "Moved by -20 m nothing"):
            offset(BOX, -20, GRID)

    def test_a_line_splits_an_outline_and_its_parts_merge_to_it(self):
        parts = split(BOX, [(447_120.0, 5_437_790.0), (447_120.0, 5_437_850.0)])
        self.assertEqual(sorted(round(area(one)) for one in parts), [800, 2400])
        self.assertAlmostEqual(area(merged(parts)), area(BOX), delta=1e-6)
        with self.assertRaisesRegex(InputError, "does not cross"):
            split(BOX, [(447_120.0, 5_437_810.0), (447_130.0, 5_437_820.0)])
        with self.assertRaisesRegex(InputError, "do not touch"):
            merged([BOX, [(x + 500, y) for x, y in BOX]])

    def test_what_crosses_itself_is_refused(self):
        crossed = [BOX[0], BOX[2], BOX[1], BOX[3]]
        with self.assertRaisesRegex(InputError, "crosses itself"):
            squared(crossed, GRID)
        with self.assertRaisesRegex(InputError, "three vertices"):
            offset(BOX[:2], 1, GRID)


class GrownTest(SimpleTestCase):
    def setUp(self):
        x, y = np.meshgrid(*GRID.centres(GRID.whole))
        self.away = np.hypot(x - 447_200, y - 5_437_800)
        # a lake of 60 m around, an island in it, and slopes of 45 degrees around it
        self.cells = np.where(self.away < 60, 20.0, 20 + self.away - 60)
        self.cells[self.away < 8] = 24
        self.surface = ArraySurface(self.cells.astype(np.float32), GRID)

    def test_it_grows_over_a_lake_to_its_shore_and_holds_the_island(self):
        ring = grown(self.surface, 447_230, 5_437_800, 0.5, 10)
        self.assertAlmostEqual(area(ring) / (np.pi * 58**2), 1, delta=0.06)
        self.assertTrue(shapely.Polygon(ring).contains(shapely.Point(447_200, 5_437_800)))
        on_slope = grown(self.surface, 447_230, 5_437_800, 15, 60)
        self.assertAlmostEqual(area(on_slope) / (np.pi * 75**2), 1, delta=0.06)

    def test_where_it_cannot_begin_or_never_ends_is_said(self):
        with self.assertRaisesRegex(InputError, "steeper than that there already"):
            grown(self.surface, 447_280, 5_437_800, 5, 10)
        with self.assertRaisesRegex(InputError, "outside"):
            grown(self.surface, 440_000, 5_437_800, 5, 10)
        self.cells[100, 100] = np.nan
        empty = ArraySurface(self.cells.astype(np.float32), GRID)
        with self.assertRaisesRegex(InputError, "empty there"):
            grown(empty, float(GRID.x_of(100)), float(GRID.y_of(100)), 5, 10)
