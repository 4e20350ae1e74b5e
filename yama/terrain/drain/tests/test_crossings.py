import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.crossings import bed_profile, crossings
from yama.terrain.drain.directions import directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.streams import channels
from yama.terrain.drain.tests.made import grid_of


class CrossingsTest(SimpleTestCase):
    """Two valleys that fall to the east by 10 cm a cell and meet in the middle of the surface."""

    def setUp(self):
        y, x = np.mgrid[0:61, 0:100]
        apart = np.maximum(20 - 0.4 * x, 0)
        cells = 40 - 0.1 * x + 0.3 * np.minimum(np.abs(y - 30 - apart), np.abs(y - 30 + apart))
        self.grid = grid_of(cells.shape)
        self.heights = heights = hollows(cells.astype(np.float32), self.grid).filled()
        to = directions(heights, self.grid)
        self.counts = np.nan_to_num(accumulation(to)).astype(np.int32)
        self.streams = channels(heights, to, self.counts, self.grid, 400.0).streams(400.0)

    def line(self, *cells):
        return shapely.LineString([(float(self.grid.x_of(c)), float(self.grid.y_of(r))) for r, c in cells])

    def test_a_line_across_both_valleys_crosses_two_streams_and_one_below_crosses_their_sum(self):
        above = self.line((0, 30), (60, 30))
        below = self.line((60, 80), (0, 80))
        found = crossings([above, below], self.streams, self.heights, self.counts)
        self.assertEqual([one.line for one in found], [0, 0, 1])
        first, second, joined = found
        self.assertLess(first.along, second.along)
        self.assertAlmostEqual(first.along, 2 * (30 - 8), delta=6)
        self.assertGreater(joined.area, 0.9 * (first.area + second.area))
        self.assertGreater(joined.order, first.order)
        self.assertAlmostEqual(joined.angle, 90, delta=12)
        self.assertAlmostEqual(joined.slope, 5.0, delta=1.0)  # 10 cm over 2 m
        self.assertAlmostEqual(joined.bed, 40 - 8.0, delta=0.6)

    def test_the_area_is_what_drains_through_the_stream_there(self):
        (one,) = crossings([self.line((20, 90), (40, 90))], self.streams, self.heights, self.counts)
        col = round(float(self.grid.col_of(one.x)))
        most = self.counts[25:36, col - 1 : col + 2].max() * float(np.prod(self.grid.metres_per_cell()))
        self.assertAlmostEqual(one.area / most, 1, delta=0.03)

    def test_a_line_along_a_stream_crosses_it_once_and_one_beside_it_never(self):
        self.assertEqual(crossings([self.line((0, 60), (20, 60))], self.streams, self.heights, self.counts), [])
        self.assertEqual(
            len(
                crossings([self.line((28, 70), (30, 72), (30, 90), (33, 94))], self.streams, self.heights, self.counts)
            ),
            1,
        )

    def test_the_bed_is_told_from_above_a_crossing_to_below_it(self):
        for cell, length in ((30, 60.0), (60, 100.0)):
            one = crossings([self.line((0, cell), (60, cell))], self.streams, self.heights, self.counts)[0]
            told = bed_profile(one, self.streams, self.heights, length)
            along, bed = told.T
            self.assertTrue((np.diff(along) > 0).all() and (np.diff(bed) <= 0).all())
            self.assertTrue(np.abs(along).max() <= length)
            # over the junction at the 50th cell of each row, and up the one that drains most
            if cell == 30:
                self.assertGreater(along.max(), length - 3)
                self.assertAlmostEqual(float(np.interp(0, along, bed)), one.bed, delta=0.2)
            else:
                self.assertLess(along.min(), -40)
