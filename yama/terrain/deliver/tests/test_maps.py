"""Maps of a report: figures along their sides are where they say, and names on the map of the area can be read."""

import re

import numpy as np
from django.test import SimpleTestCase
from pyproj import Transformer

from yama.terrain.deliver.maps import AREA_TALL, MAP_TALL, MAP_WIDE, draw_area, draw_map
from yama.terrain.grid import Grid
from yama.terrain.relief.dress import Dress
from yama.terrain.surface import ArraySurface

FRAME = Grid("EPSG:32741", 440_000.0, 5_440_000.0, 10.0, 10.0, 400, 500)


def part(row, col, rows, cols):
    """A surface with heights in a part of the frame."""
    cells = np.full((FRAME.rows, FRAME.cols), np.nan, np.float32)
    y, x = np.indices(cells.shape)
    cells[row : row + rows, col : col + cols] = (x + y)[row : row + rows, col : col + cols]
    return ArraySurface(cells, FRAME)


class MapsTest(SimpleTestCase):
    def test_figures_along_a_map_stand_where_their_coordinates_are(self):
        found = draw_map(part(0, 0, 400, 500), FRAME, "height")
        self.assertLessEqual((found.size[0] <= MAP_WIDE, found.size[1] <= MAP_TALL), (True, True))
        across = 5_000 / found.size[0]
        for side, first, sign, letter in (("south", 440_000, 1, "E"), ("west", 5_440_000, -1, "N")):
            ticks = found.frame.sides[side]
            self.assertGreaterEqual(len(ticks), 3)
            for tick in ticks:
                figure = float(tick.text.replace("\u202f", "").split()[0])
                self.assertEqual(tick.text[-1], letter)
                self.assertAlmostEqual(first + sign * tick.at * across, figure, delta=across)
        self.assertEqual(found.frame.lines, [])
        self.assertEqual((found.figures[0], found.figures[-1]), (found.low, found.high))
        self.assertEqual(len(found.figures), 5)

    def test_a_map_of_nothing_has_no_figures_along_its_key(self):
        found = draw_map(part(0, 0, 0, 0), FRAME, "height")
        self.assertEqual((found.low, found.figures, found.lines), (None, [], None))

    def test_figures_do_not_run_into_each_other(self):
        narrow = draw_map(part(0, 240, 400, 12), FRAME, "height")
        for ticks in narrow.frame.sides.values():
            for one, other in zip(ticks, ticks[1:], strict=False):
                self.assertGreater(other.at - one.at, 9 * len(one.text))

    def test_a_frame_beyond_its_crs_has_a_map_without_degrees(self):
        far = Grid("EPSG:32741", -1e9, 1e9, 1e6, 1e6, 2_000, 2_000)
        found = draw_area(far, [], None)
        self.assertEqual((found.frame.lines, found.frame.sides["west"], found.outlines), ([], [], []))

    def test_the_area_has_an_outline_for_each_ground_and_names_apart(self):
        shown = part(0, 0, 400, 500), Dress.usual("height", (0, 900))
        surfaces = [("All", part(0, 0, 400, 500)), ("Also all", part(2, 1, 396, 498)), ("Part", part(100, 100, 200, 150)),
                    ("Beside", part(104, 108, 190, 140)), ("Nothing", part(0, 0, 0, 0))]  # fmt: skip
        found = draw_area(FRAME, surfaces, shown)
        self.assertEqual([one.name for one in found.outlines], ["All, Also all", "Part, Beside"])
        self.assertEqual(found.size[1], AREA_TALL)
        pixel = 4_000 / AREA_TALL
        self.assertAlmostEqual(found.outlines[1].x * pixel, 1_000, delta=60)
        self.assertAlmostEqual(found.outlines[1].wide * pixel, 1_500, delta=120)
        self.assertTrue(found.image.startswith("data:image/png"))
        turn = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True)
        degrees = [
            int(a) + int(b) / 60 + int(c) / 3600 for a, b, c in re.findall(r"(\d+)°(\d+)\u2032(\d+)", found.middle)
        ]
        np.testing.assert_allclose(degrees[::-1], np.abs(turn.transform(442_500, 5_438_000)), atol=0.6 / 3600)
        self.assertRegex(found.middle, "S, .* E$")
        self.assertGreaterEqual(len(found.frame.lines), 4)
        # and of some that begin at one corner each name stands by itself
        nested = [(f"Sheet {n}", part(10, 10, 380 - 60 * n, 480 - 70 * n)) for n in range(5)]
        at = [one.at for one in draw_area(FRAME, nested, None).outlines]
        self.assertEqual(len(set(at)), 5)
        for n, one in enumerate(at):
            for other in at[:n]:
                self.assertTrue(abs(one[1] - other[1]) >= 24 or abs(one[0] - other[0]) > 70)
