import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.catchments import Outlet, catchments
from yama.terrain.drain.directions import OUT, directions
from yama.terrain.drain.drainage import Conditioning, drainage
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.streams import Channels, channels
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.errors import InputError
from yama.terrain.surface import ArraySurface


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

    def test_heads_by_slope_are_those_of_area_times_the_square_of_slope(self):
        rng = np.random.default_rng(9)
        x, y = np.meshgrid(np.arange(80), np.arange(60))
        cells = (x**2 * 0.004 + np.sin(y / 5) * 3 + rng.random(x.shape)).astype(np.float32)
        grid = grid_of(cells.shape)
        filled = hollows(cells, grid).filled()
        to = directions(filled, grid)
        kept = channels(filled, to, accumulation(to), grid, 40.0)
        begins = np.zeros(len(kept.cells))
        for k in range(len(begins)):
            at, way = k, 0.0
            while way < 30.0 and kept.down[at] >= 0:
                way += kept.lengths[at]
                at = kept.down[at]
            slope = (kept.heights[k] - kept.heights[at]) / way if way else 0.0
            own, at = kept.area[k] * (slope / 0.1) ** 2, k
            while at >= 0:  # what lies below is at least as much of a stream
                begins[at] = max(begins[at], own)
                at = kept.down[at]
        np.testing.assert_allclose(kept.by_slope, begins, rtol=1e-9)
        steep, plain = kept.streams(400.0, heads="slope"), kept.streams(400.0)
        self.assertEqual(set(steep.cells.tolist()) - set(kept.cells[begins >= 400.0].tolist()), set())
        # to the east it is steeper, so that streams begin higher up there, and lower down in the west
        begin = [np.median(one.cells[one.starts[:-1]][one.magnitude == 1] % 80) for one in (steep, plain)]
        self.assertGreater(begin[0], begin[1])

    def test_on_a_slope_of_a_tenth_heads_by_slope_are_those_by_area(self):
        x, y = np.meshgrid(np.arange(60), np.arange(41))
        cells = (0.2 * x + 0.6 * np.abs(y - 20)).astype(np.float32)  # a valley that falls 10 %
        grid = grid_of(cells.shape)
        to = directions(cells, grid)
        kept = channels(cells, to, accumulation(to), grid, 100.0)
        middle = kept.cells // 60 == 20
        self.assertGreater(middle.sum(), 20)
        inner = middle & (kept.cells % 60 > 16)
        np.testing.assert_allclose(kept.by_slope[inner], kept.area[inner], rtol=0.02)

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

    def test_above_outlets_are_the_links_that_flow_through_them_cut_there(self):
        rng = np.random.default_rng(4)
        x, y = np.meshgrid(np.arange(90), np.arange(70))
        cells = (x * 0.3 + np.sin(y / 5) * 3 + rng.random(x.shape)).astype(np.float32)
        grid = grid_of(cells.shape)
        filled = hollows(cells, grid).filled()
        to = directions(filled, grid)
        kept = channels(filled, to, accumulation(to), grid, 40.0)
        whole = kept.streams(40.0)
        link = int(np.argmax(np.diff(whole.starts) * (whole.order > 1)))
        cell = int(whole.cells[(whole.starts[link] + whole.starts[link + 1]) // 2])
        told = kept.streams(40.0, above=[cell])
        mine = catchments(to, grid, [Outlet("", 0, 0, cell, 0.0)]).shapes[0]
        # what begins in the catchment is there, and as it was
        orders = {one.coords[0]: int(order) for one, order in zip(whole.lines(), whole.order, strict=True)}
        begin_there = {at for at in orders if mine.contains(shapely.Point(at))}
        self.assertEqual({one.coords[0] for one in told.lines()}, begin_there)
        self.assertTrue(all(orders[one.coords[0]] == n for one, n in zip(told.lines(), told.order, strict=True)))
        self.assertEqual(int((told.below == -1).sum()), 1)
        (lowest,) = np.flatnonzero(told.below == -1)
        self.assertEqual(int(told.cells[told.starts[lowest + 1] - 1]), cell)
        # one below another changes nothing; one beside all of them leaves none
        self.assertEqual(len(kept.streams(40.0, above=[cell, int(whole.cells[whole.starts[link] + 1])])), len(told))
        self.assertEqual(len(kept.streams(40.0, above=[int(np.argmin(accumulation(to)))])), 0)
        self.assertEqual(len(kept.streams(40.0, above=[])), 0)

    def test_features_tell_what_is_known(self):
        found, _ = tree(*HAND_MADE)
        told = found.streams(1e-3).features()
        self.assertEqual(told.units, {"length": "m", "fall": "m", "area": "ha", "level": "m"})
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

    def filled_basin(self):
        """A slope that falls to the east, with a pit in its middle that filling makes level."""
        y, x = np.mgrid[0:41, 0:160]
        cells = (60 - 0.1 * x + 0.05 * np.abs(y - 20)).astype(np.float32)
        cells[12:29, 40:110] -= 9.0
        grid = grid_of(cells.shape)
        surface = ArraySurface(cells, grid)
        return cells, surface

    def test_ways_over_filled_ground_are_told_and_can_be_left_out(self):
        cells, surface = self.filled_basin()
        found = drainage(surface, Conditioning("fill"))
        raised = found.heights > cells
        streams = found.channels(400.0).streams(400.0)
        self.assertGreater(streams.level.sum(), 60)
        lines = streams.unsure_lines()
        self.assertAlmostEqual(sum(one.length for one in lines) / streams.level.sum(), 1, delta=1e-3)
        # they run over raised ground
        places = np.concatenate([shapely.get_coordinates(shapely.segmentize(one, 1.0)) for one in lines])
        rows = np.rint(found.grid.row_of(places[:, 1])).astype(int)
        cols = np.rint(found.grid.col_of(places[:, 0])).astype(int)
        self.assertGreater(raised[rows, cols].mean(), 0.9)
        self.assertTrue((streams.level <= streams.length + 1e-9).all())
        kept = found.channels(400.0).streams(400.0, over_level=False)
        self.assertEqual(kept.level.sum(), 0)
        self.assertTrue(all(-1 <= below < len(kept) for below in kept.below))
        # what is left is what was there: the same cells with the same orders, and little else is missing
        before = {
            int(cell): int(streams.order[number])
            for number in range(len(streams))
            for cell in streams.cells[streams.starts[number] : streams.starts[number + 1] - 1]
        }
        for number in range(len(kept)):
            cells_of = kept.cells[kept.starts[number] : kept.starts[number + 1] - 1]
            self.assertEqual({before[int(cell)] for cell in cells_of}, {int(kept.order[number])})
        away = streams.length.sum() - streams.level.sum() - kept.length.sum()
        self.assertTrue(0 <= away < 6 * len(lines), (away, len(lines)))
        # a way that was cut is level too, and the ground says where it runs
        cut = drainage(surface, Conditioning("breach")).channels(400.0).streams(400.0)
        self.assertLess(cut.level.sum(), streams.level.sum() / 2)
        # a slope has none
        plain = drainage(ArraySurface(np.where(raised, np.nan, cells), found.grid), Conditioning("fill"))
        self.assertEqual(plain.channels(400.0).streams(400.0).level.sum(), 0)

    def test_smoothed_lines_stay_in_their_cells_and_meet_where_they_did(self):
        rng = np.random.default_rng(8)
        cells = rng.random((40, 50)).astype(np.float32) - np.arange(50, dtype=np.float32) * 0.3
        found = drainage(ArraySurface(cells, grid_of(cells.shape)), Conditioning("fill"))
        streams = found.channels(60.0).streams(60.0)
        plain, smooth = streams.lines(), streams.lines(smooth=True)
        for one, other in zip(plain, smooth, strict=True):
            before, after = shapely.get_coordinates(one), shapely.get_coordinates(other)
            self.assertLess(np.abs(before - after).max(), 1.0)  # half a side of a cell
            self.assertEqual(before[[0, -1]].tolist(), after[[0, -1]].tolist())

        def bends(lines):
            turns = [np.diff(np.unwrap(np.arctan2(*np.diff(shapely.get_coordinates(one), axis=0).T))) for one in lines]
            return np.abs(np.concatenate(turns)).sum()

        self.assertLess(bends(smooth), 0.6 * bends(plain))
