from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.drain.conditioning import condition, with_fall
from yama.terrain.drain.directions import COLS, NONE, ROWS, apart_on, directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.tests.made import grid_of, heights_of_many_kinds
from yama.terrain.drain.working_off import BREACHED, FILLED, LEFT, Limits
from yama.terrain.errors import CancelledError, InputError


def dammed():
    """A valley that falls to the east by 1 a cell, with a bank of 6 across it."""
    x, y = np.meshgrid(np.arange(30), np.arange(21))
    cells = (60 - x + np.abs(y - 5)).astype(np.float32)
    cells[:, 20] += 6
    return cells


class ConditioningTest(SimpleTestCase):
    def test_no_hollow_is_left_whatever_is_done(self):
        for cells in heights_of_many_kinds(120, seed=4):
            grid = grid_of(cells.shape)
            found = hollows(cells, grid)
            moved = {}
            for method in ("fill", "breach", "lesser"):
                made = condition(found, method)
                self.assertFalse((directions(made.heights, grid) == NONE).any())
                changed = np.nansum(np.abs(made.heights.astype(np.float64) - cells)) * found.cell_area
                self.assertLessEqual(changed, made.moved + 1e-3)
                moved[method] = made.moved
                if method == "fill":
                    self.assertTrue((made.heights >= cells)[~np.isnan(cells)].all())
                if method == "breach":
                    self.assertTrue((made.heights <= cells)[~np.isnan(cells)].all())
            self.assertLessEqual(moved["lesser"], moved["fill"] + 1e-3)

    def test_filling_hollow_by_hollow_is_filling_all_at_once(self):
        for cells in heights_of_many_kinds(60, seed=6):
            found = hollows(cells, grid_of(cells.shape))
            np.testing.assert_array_equal(condition(found, "fill", Limits(depth=1e9)).heights, found.filled())

    def test_a_bank_across_a_valley_is_cut_where_that_moves_less(self):
        cells = dammed()
        found = hollows(cells, grid_of(cells.shape))
        (outer,) = found.outermost
        filled, made = condition(found, "fill"), condition(found, "lesser")
        self.assertEqual(made.done[1], BREACHED)
        self.assertLess(made.moved, filled.moved / 4)
        # one cell of the bank, down to the lowest place before it
        cut = cells - made.heights
        self.assertEqual(np.argwhere(cut > 0).tolist(), [[5, 20]])
        self.assertAlmostEqual(made.cut.sum(), (46 - 41) * found.cell_area, places=3)
        self.assertAlmostEqual(filled.raised.sum(), found.volume[outer], places=3)

    def test_what_is_beyond_the_limits_stays_and_what_lies_within_it_does_not(self):
        cells = dammed()
        cells[5, 16] -= 1.5  # a pit in the floor of the hollow
        grid = grid_of(cells.shape)
        found = hollows(cells, grid)
        made = condition(found, "fill", Limits(depth=1.0))
        self.assertEqual(sorted(made.done[1:].tolist()), [LEFT, FILLED])
        self.assertEqual(np.argwhere(made.heights != cells).tolist(), [[5, 16]])
        self.assertEqual(int((directions(made.heights, grid) == NONE).sum()), 1)
        for limits in (Limits(depth=1.0), Limits(length=1.0)):
            self.assertEqual(condition(found, "breach", limits).done.max(), BREACHED if limits.depth else LEFT)
        small = condition(found, "fill", Limits(area=8.0))
        self.assertEqual(np.argwhere(small.heights != cells).tolist(), [[5, 16]])

    def test_kept_hollows_are_not_touched(self):
        cells = dammed()
        found = hollows(cells, grid_of(cells.shape))
        for method in ("fill", "breach", "lesser"):
            made = condition(found, method, kept=np.array([False, True]))
            np.testing.assert_array_equal(made.heights, cells)
        np.testing.assert_array_equal(condition(found, "leave").heights, cells)

    def test_wide_hollows_get_the_room_they_need(self):
        x, y = np.meshgrid(np.arange(800), np.arange(800))
        cells = (np.hypot(x - 400, y - 400) / 10).astype(np.float32)
        found = hollows(cells, grid_of(cells.shape))
        made = condition(found, "lesser", Limits(depth=100.0))
        self.assertTrue((made.done[1:] != LEFT).all())
        self.assertFalse((directions(made.heights, found.grid) == NONE).any())

    def test_a_stop_is_heard_within_one_search(self):
        x, y = np.meshgrid(np.arange(2_400), np.arange(2_400))
        cells = (np.hypot(x - 1_200, y - 1_200) / 10).astype(np.float32)  # one hollow over all of it
        found = hollows(cells, grid_of(cells.shape))
        asked = []

        def progress(share):
            asked.append(share)
            if len(asked) > 1:
                raise CancelledError

        with mock.patch("yama.terrain.drain.working_off._PATIENCE", 0.01), self.assertRaises(CancelledError):
            condition(found, "fill", Limits(depth=1e9), progress=progress)
        self.assertEqual(len(asked), 2)  # the search was not waited for

    def test_heights_can_fall_along_the_water(self):
        for cells in heights_of_many_kinds(40, seed=7):
            grid = grid_of(cells.shape)
            filled = hollows(cells, grid).filled()
            to = directions(filled, grid)
            sloped = with_fall(filled, to, 1e-4, grid)
            there = ~np.isnan(cells)
            self.assertTrue((sloped >= filled)[there].all())
            self.assertEqual(hollows(sloped, grid).basins, 0)
            # so that no level ground is left: each cell has a lower neighbour, or water leaves there
            self.assertFalse((directions(sloped, grid)[there] == NONE).any())
            # no more than is needed: what was raised lies just so far above where its water goes
            apart = apart_on(grid)
            for r, c in np.argwhere(sloped > filled):
                n = to[r, c]
                below = sloped[r + ROWS[n], c + COLS[n]]
                self.assertAlmostEqual(sloped[r, c], below + 1e-4 * apart[n], delta=2e-6)

    def test_limits_that_cannot_be_are_refused(self):
        found = hollows(dammed(), grid_of((21, 30)))
        with self.assertRaisesMessage(InputError, "must be above 0"):
            condition(found, "fill", Limits(depth=0.0))
        with self.assertRaisesMessage(InputError, "lowest places"):
            condition(found, "fill", kept=np.zeros(9, bool))
