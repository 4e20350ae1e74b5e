import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.directions import OUT, directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.streams import Channels, channels
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.errors import InputError


def tree(*lines: str):
    """A network drawn by hand, as `Channels` of 1 m² cells: each cell says where it leads, as `6789` around a 5 of a
    keyboard's numbers, `o` is where water leaves, and `.` is none of it."""
    ways = {"6": 0, "3": 1, "2": 2, "1": 3, "4": 4, "7": 5, "8": 6, "9": 7, "o": OUT}
    to = np.array([[ways.get(letter, -2) for letter in line] for line in lines], np.int8)
    drained = accumulation(to)
    grid = grid_of(to.shape, 1.0)
    return channels(np.where(to < -1, np.nan, 1).astype(np.float32), to, drained, grid, 1e-3), drained


HAND_MADE = (
    "3.1.2..",
    ".2.1...",
    ".3.....",
    "..24444",
    "..2....",
    "..o....",
)


class StreamsTest(SimpleTestCase):
    def test_orders_and_magnitudes_of_a_tree_drawn_by_hand(self):
        found, _ = tree(
            "3.1.3.1",
            ".2...2.",
            ".3...1.",
            "..3.1..",
            "...2...",
            "...2444",
            "...2...",
            "...o...",
        )
        streams = found.streams(1e-3)
        told = sorted(zip(streams.order.tolist(), streams.magnitude.tolist(), strict=True))
        # two of second order make one of third; what joins it below is of first order, and changes nothing
        self.assertEqual(told, [(1, 1)] * 5 + [(2, 2)] * 2 + [(3, 4), (3, 5)])
        self.assertEqual(streams.magnitude.max(), 5)
        self.assertEqual([one[:2] for one in streams.by_order()], [(1, 5), (2, 2), (3, 1)])

    def test_links_hang_together_and_their_lengths_add_up(self):
        rng = np.random.default_rng(4)
        x, y = np.meshgrid(np.arange(90), np.arange(70))
        cells = (x * 0.3 + np.sin(y / 5) * 3 + rng.random(x.shape)).astype(np.float32)
        grid = grid_of(cells.shape)
        filled = hollows(cells, grid).filled()
        to = directions(filled, grid)
        drained = accumulation(to)
        kept = channels(filled, to, drained, grid, 40.0)
        for area in (40.0, 200.0, 1000.0):
            streams = kept.streams(area)
            lines = streams.lines()
            wanted = drained * streams.grid.metres_per_cell()[0] ** 2 >= area
            # each cell of the network is on a line, but for single ones where water leaves, and no other
            alone = set(np.flatnonzero(wanted).tolist()) ^ set(streams.cells.tolist())
            self.assertTrue(all(wanted.ravel()[cell] and to.ravel()[cell] == OUT for cell in alone))
            self.assertAlmostEqual(streams.length.sum() / sum(one.length for one in lines), 1, delta=1e-3)
            for number, below in enumerate(streams.below):
                if below >= 0:
                    self.assertEqual(lines[number].coords[-1], lines[below].coords[0])
                    self.assertGreaterEqual(streams.order[below], streams.order[number])
                    self.assertGreater(streams.area[below], streams.area[number])
                    self.assertGreaterEqual(streams.top[number], streams.bottom[number])
            # magnitudes add up at junctions
            for below in set(streams.below.tolist()) - {-1}:
                above = streams.magnitude[streams.below == below]
                self.assertGreaterEqual(len(above), 2)
                self.assertEqual(above.sum(), streams.magnitude[below])
        self.assertLess(len(kept.streams(1000.0)), len(kept.streams(40.0)))

    def test_short_ends_are_left_out_and_what_they_met_goes_on(self):
        found, _ = tree("..2....", "..26...", "..2....", "62.....", "..2....", "..2....", "..o....")
        self.assertEqual(found.streams(1e-3, 1.5).by_order()[0][0], 1)
        long = found.streams(1e-3, 1.5)
        self.assertEqual(int(long.order.max()), 1)

    def test_features_tell_what_is_known(self):
        found, _ = tree(*HAND_MADE)
        told = found.streams(1e-3).features()
        self.assertEqual(told.units, {"length": "m", "fall": "m", "area": "ha"})
        by_link = dict(zip(told.attributes["link"], told.attributes["below"], strict=True))
        ends = [link for link, below in by_link.items() if below is None]
        self.assertTrue(all(below is None or below in by_link for below in by_link.values()))
        self.assertEqual(len(ends), 1)
        self.assertTrue(all(isinstance(one, shapely.LineString) for one in told.geometries))

    def test_areas_that_cannot_be_are_refused(self):
        found, _ = tree(*HAND_MADE)
        self.assertIsInstance(found, Channels)
        with self.assertRaisesMessage(InputError, "Choose that or more"):
            found.streams(1e-6)
        cells = np.array([[3, 2, 1]], np.float32)
        grid = grid_of(cells.shape)
        to = directions(cells, grid)
        for area, words in ((0.0, "above 0"), (1e9, "the most is")):
            with self.assertRaisesMessage(InputError, words):
                channels(cells, to, accumulation(to), grid, area)
