import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.directions import directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.rivers import rivers
from yama.terrain.drain.streams import channels
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.errors import InputError


class RiversTest(SimpleTestCase):
    """A plane that falls by 1 m for each metre to the south, 60 m by 60 m."""

    def setUp(self):
        self.grid = grid_of((61, 61), 1.0)
        self.heights = np.repeat(60 - np.arange(61.0), 61).reshape(61, 61).astype(np.float32)
        self.counts = np.repeat(np.arange(1, 62), 61).reshape(61, 61).astype(np.int32)

    def lines(self, *paths):
        """Lines through places in metres to the east and to the south of the first cell."""
        return [
            shapely.LineString([(float(self.grid.x_of(x)), float(self.grid.y_of(y))) for x, y in path])
            for path in paths
        ]

    def told(self, *paths, within=0.0):
        return rivers(self.lines(*paths), self.grid, self.heights, self.counts, within)

    def named(self, found):
        """Links by their heights above and below."""
        return {
            (round(float(top)), round(float(bottom))): number
            for number, (top, bottom) in enumerate(zip(found.top, found.bottom, strict=True))
        }

    def test_orders_of_a_tree_drawn_by_hand_whichever_way_its_lines_run(self):
        # two pairs of brooks, their sum, and one brook that joins it below; drawn up, down, and in pieces
        found = self.told(
            [(10, 5), (15, 15)],
            [(15, 15), (20, 6)],
            [(15, 15), (20, 20), (25, 30)],
            [(30, 7), (35, 17), (25, 30)],
            [(40, 8), (35, 17)],
            [(25, 58), (25, 45), (25, 30)],
            [(50, 9), (25, 45)],
        )
        self.assertEqual(len(found), 9)
        self.assertEqual(found.outside, 0)
        at = self.named(found)
        for link, order, magnitude, below in (
            ((55, 45), 1, 1, (45, 30)),
            ((54, 45), 1, 1, (45, 30)),
            ((53, 43), 1, 1, (43, 30)),
            ((52, 43), 1, 1, (43, 30)),
            ((45, 30), 2, 2, (30, 15)),
            ((43, 30), 2, 2, (30, 15)),
            ((30, 15), 3, 4, (15, 2)),
            ((51, 15), 1, 1, (15, 2)),
        ):
            self.assertEqual((found.order[at[link]], found.magnitude[at[link]]), (order, magnitude), link)
            self.assertEqual(found.below[at[link]], at[below])
        mouth = at[15, 2]
        self.assertEqual((found.order[mouth], found.magnitude[mouth], found.below[mouth]), (3, 5, -1))
        # each is drawn downstream, and ends where the one below begins
        for number, below in enumerate(found.below.tolist()):
            if below >= 0:
                self.assertEqual(found.shapes[number].coords[-1], found.shapes[below].coords[0])
        self.assertAlmostEqual(found.length[mouth], 13, delta=0.02)
        self.assertEqual(found.area[mouth], 59)

    def test_lines_that_cross_or_end_on_another_meet_there(self):
        found = self.told([(10, 10), (40, 40)], [(40, 5), (25, 25)], within=0)
        self.assertEqual(sorted(found.order.tolist()), [1, 1, 2])

    def test_an_arm_beside_the_main_stream_changes_no_order(self):
        found = self.told([(30, 2), (30, 10)], [(30, 10), (20, 20), (30, 40)], [(30, 10), (40, 20), (30, 40), (30, 58)])
        self.assertEqual(found.order.tolist(), [1] * 4)
        self.assertEqual(found.magnitude.tolist(), [1] * 4)
        self.assertEqual(int((found.below == -1).sum()), 1)

    def test_a_river_may_end_where_there_is_no_height_and_begin_outside(self):
        self.heights[50:] = np.nan
        found = self.told([(30, -8), (30, 25)], [(30, 25), (20, 58)], [(30, 25), (40, 58)])
        at = {round(float(shape.coords[-1][0] - self.grid.x_of(0))): n for n, shape in enumerate(found.shapes)}
        # both arms run into the sea, and what comes from outside into one of them
        self.assertEqual(found.below[at[20]], -1)
        self.assertEqual(found.below[at[40]], -1)
        self.assertIn(found.below[at[30]], (at[20], at[40]))
        self.assertEqual(found.top[at[30]], 60)

    def test_what_lies_where_there_are_no_heights_is_left_out_and_counted(self):
        found = self.told([(30, 5), (30, 25)], [(-90, 5), (-80, 25)])
        self.assertEqual((len(found), found.outside), (1, 1))
        with self.assertRaisesMessage(InputError, "Choose lines that run over the surface"):
            self.told([(-90, 5), (-80, 25)])
        with self.assertRaisesMessage(InputError, "Choose longer ones"):
            self.told([(30, 5), (30.0001, 5)])

    def test_the_ground_is_looked_for_beside_the_line(self):
        self.counts[:, 33] *= 100
        line = [(30, 5), (30, 25)]
        self.assertEqual(self.told(line).area[0], 26)
        self.assertEqual(self.told(line, within=3.0).area[0], 100 * 29)
        features = self.told(line).features()
        self.assertEqual(features.units, {"length": "m", "fall": "m", "area": "ha"})
        self.assertEqual(features.attributes["fall"], [20.0])

    def test_streams_of_a_surface_given_as_lines_are_told_as_they_were(self):
        rng = np.random.default_rng(0)
        x, y = np.meshgrid(np.arange(90), np.arange(70))
        cells = (x * 0.6 + np.sin(y / 5) * 3 + rng.random(x.shape) * 0.2).astype(np.float32)
        grid = grid_of(cells.shape)
        filled = hollows(cells, grid).filled()
        to = directions(filled, grid)
        counts = accumulation(to).astype(np.int32)
        kept = channels(filled, to, counts, grid, 400.0)
        whole = kept.streams(400.0)
        # one tree with one end: what ends in one place would be one line
        link = int(np.argmax(np.diff(whole.starts) * (whole.order > 1)))
        mouth = int(whole.cells[(whole.starts[link] + whole.starts[link + 1]) // 2])
        streams = kept.streams(400.0, above=[mouth])
        self.assertGreater(int(streams.order.max()), 1)
        lines = [one if n % 2 else shapely.reverse(one) for n, one in enumerate(streams.lines())]
        found = rivers(lines, grid, filled, counts, 0.0)

        def rows(of, shapes):
            columns = of.columns()[0]
            return sorted(
                (*np.round(shape.coords[0], 1), *np.round(shape.coords[-1], 1), *(columns[one][n] for one in named))
                for n, shape in enumerate(shapes)
            )

        named = ("order", "magnitude", "fall", "area")
        self.assertEqual(rows(found, found.shapes), rows(streams, streams.lines()))
        np.testing.assert_allclose(np.sort(found.length), np.sort(streams.length), rtol=1e-3)
