import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.burning import Burning, burned
from yama.terrain.drain.directions import directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.errors import InputError


def plain(rows=60, cols=120, seed=None):
    """Ground that falls to the east by 0.1 a cell, rough where a seed is given."""
    x, _ = np.meshgrid(np.arange(cols), np.arange(rows))
    cells = 50 - 0.1 * x
    if seed is not None:
        cells = cells + np.random.default_rng(seed).normal(0, 0.3, cells.shape)
    return cells.astype(np.float32), grid_of((rows, cols))


def line(grid, *cells):
    """Through the centres of cells, as (row, col)."""
    return shapely.LineString([(float(grid.x_of(c)), float(grid.y_of(r))) for r, c in cells])


class BurningTest(SimpleTestCase):
    def test_the_bed_never_rises_along_the_line_and_lies_below_the_ground(self):
        cells, grid = plain(seed=1)
        made, (told,) = burned(cells, grid, [line(grid, (30, 2), (20, 60), (35, 117))], Burning(2.0, 1.0))
        rows, cols = [], []
        for c in range(2, 118):
            r = 30 - 10 * (c - 2) / 58 if c <= 60 else 20 + 15 * (c - 60) / 57
            rows.append(round(r))
            cols.append(c)
        bed = made[rows, cols]
        self.assertTrue((np.diff(bed) <= 1e-5).all())
        self.assertTrue((bed <= cells[rows, cols] - 0.99).all())
        self.assertFalse(told.turned)
        self.assertTrue((made <= cells).all())
        self.assertGreaterEqual(told.highest_cut, 1.0)

    def test_water_follows_what_was_pressed_in(self):
        cells, grid = plain(seed=2)
        made, _ = burned(cells, grid, [line(grid, (30, 2), (10, 60), (50, 119))], Burning(2.0, 2.0))
        to = directions(hollows(made, grid).filled(), grid)
        drained = accumulation(to)
        # once it has gathered enough, most drains through the line at every column
        for c in range(50, 110, 10):
            r = 30 - 20 * (c - 2) / 58 if c <= 60 else 10 + 40 * (c - 60) / 59
            self.assertLess(abs(int(np.argmax(drained[:, c])) - r), 2)

    def test_a_line_that_is_drawn_uphill_is_turned_and_told(self):
        cells, grid = plain()
        way = ((30, 2), (30, 117))
        down, (one,) = burned(cells, grid, [line(grid, *way)], Burning(2.0, 1.0))
        up, (other,) = burned(cells, grid, [line(grid, *way[::-1])], Burning(2.0, 1.0))
        np.testing.assert_array_equal(down, up)
        self.assertEqual((one.turned, other.turned), (False, True))

    def test_width_and_banks_are_what_was_asked_for(self):
        cells, grid = np.full((41, 41), 10, np.float32), grid_of((41, 41))
        made, _ = burned(cells, grid, [line(grid, (20, 0), (20, 40))], Burning(12.0, 3.0, 8.0))
        cross = made[:, 20]
        self.assertTrue((cross[18:23] == 7).all())  # 2.5 cells to each side of the middle
        self.assertTrue((np.diff(cross[20:28]) >= 0).all())
        self.assertTrue(((cross[24:27] > 7) & (cross[24:27] < 10)).all())
        self.assertTrue((cross[28:] == 10).all())

    def test_a_river_that_leaves_its_valley_is_told(self):
        y, x = np.mgrid[0:80, 0:200]
        cells = (80 - 0.05 * x + 0.5 * np.abs(y - 40)).astype(np.float32)
        grid = grid_of(cells.shape)
        _, (good, bad) = burned(
            cells,
            grid,
            [line(grid, (40, 5), (40, 195)), line(grid, (40, 5), (10, 60), (10, 140), (40, 195))],
            Burning(2.0, 1.0),
        )
        self.assertIsNone(good.astray)
        self.assertIsNotNone(bad.astray)
        self.assertLess(float(grid.row_of(bad.astray[1])), 35)

    def test_a_line_without_heights_changes_nothing_and_says_so(self):
        cells, grid = plain()
        cells[:, 60:] = np.nan
        outside = line(grid, (30, 70), (30, 100))
        made, (told,) = burned(cells, grid, [outside], Burning(2.0, 1.0))
        self.assertTrue(told.outside)
        np.testing.assert_array_equal(made, cells)
        across, (part,) = burned(cells, grid, [line(grid, (30, 20), (30, 100))], Burning(2.0, 1.0))
        self.assertFalse(part.outside)
        self.assertTrue(np.isnan(across[:, 60:]).all())
        self.assertLess(across[30, 50], cells[30, 50])

    def test_beds_that_cannot_be_are_refused(self):
        for options, words in (
            ((0.0, 1.0), "wider than 0"),
            ((2.0, -1.0), "cannot be below"),
            ((2.0, 1.0, -1.0), "cannot be below"),
        ):
            with self.assertRaisesMessage(InputError, words):
                Burning(*options)
