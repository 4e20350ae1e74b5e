import numpy as np
from django.test import SimpleTestCase

from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.tests.made import filled_slowly, grid_of, heights_of_many_kinds
from yama.terrain.errors import CancelledError


def two_in_one():
    """Two hollows side by side in a third: their lowest places at 1 and 3, a sill at 5 between them, a brim at 8."""
    cells = np.full((5, 9), 10, np.float32)
    cells[1:4, 1:8] = 8
    cells[2, 1:8] = [6, 1, 4, 5, 3, 7, 7.5]
    cells[2, 8] = 8
    return cells


class HollowsTest(SimpleTestCase):
    def test_filled_heights_are_those_of_a_plain_priority_queue(self):
        for cells in heights_of_many_kinds(150):
            found = hollows(cells, grid_of(cells.shape))
            np.testing.assert_array_equal(found.filled(), filled_slowly(cells))

    def test_filling_does_not_depend_on_which_way_up_the_surface_is_held(self):
        for cells in heights_of_many_kinds(40, seed=8):
            filled = hollows(cells, grid_of(cells.shape)).filled()
            turned = np.ascontiguousarray(np.rot90(cells))
            np.testing.assert_array_equal(hollows(turned, grid_of(turned.shape)).filled(), np.rot90(filled))

    def test_what_hollows_hold_is_what_filling_adds(self):
        for cells in heights_of_many_kinds(60, seed=5):
            found = hollows(cells, grid_of(cells.shape))
            added = found.filled().astype(np.float64) - cells
            outer = found.outermost
            self.assertAlmostEqual(found.volume[outer].sum(), np.nansum(added) * found.cell_area, places=4)
            self.assertEqual(found.cells[outer].sum(), (added > 0).sum())
            if outer.size:
                self.assertAlmostEqual(found.depth[outer].max(), np.nanmax(added), places=6)

    def test_hollows_within_hollows_stand_in_a_tree(self):
        found = hollows(two_in_one(), grid_of((5, 9)))
        (outer,) = found.outermost
        self.assertEqual((found.low[outer], found.spill[outer]), (1, 8))
        inner = found.children()[outer]
        self.assertEqual(sorted(found.low[inner].tolist()), [1, 3])
        for node in inner:
            self.assertEqual(found.spill[node], 5)
            self.assertEqual(found.parent[node], outer)
            (other,) = set(inner) - {node}
            self.assertEqual(found.into[node], other)
            self.assertEqual(divmod(int(found.spill_at[node]), 9), (2, 4))
        self.assertEqual(found.into[outer], 0)
        self.assertEqual(sorted(found.cells[inner].tolist()), [1, 2])
        self.assertAlmostEqual(found.volume[outer] / found.cell_area, 7 + 4 + 3 + 5 + 1 + 0.5 + 2, places=4)

    def test_some_of_them_can_be_filled(self):
        cells = two_in_one()
        found = hollows(cells, grid_of(cells.shape))
        (outer,) = found.outermost
        chosen = np.zeros(len(found.parent), bool)
        chosen[found.children()[outer][0]] = True
        filled = found.filled(chosen)
        self.assertEqual(int((filled > cells).sum()), found.cells[found.children()[outer][0]])
        np.testing.assert_array_equal(found.filled(np.zeros_like(chosen)), cells)

    def test_level_ground_is_a_hollow_only_where_all_around_it_is_higher(self):
        cells = np.full((6, 6), 5, np.float32)
        cells[2:4, 2:4] = 3
        self.assertEqual(hollows(cells, grid_of((6, 6))).depth[1:].tolist(), [2])
        cells[3, 4] = 2  # lower ground beside it, in a hollow of its own
        found = hollows(cells, grid_of((6, 6)))
        self.assertEqual((found.basins, found.depth[1], found.cells[1]), (1, 3, 5))
        self.assertEqual(hollows(np.full((5, 5), 7, np.float32), grid_of((5, 5))).basins, 0)

    def test_nothing_but_empty_cells_and_one_cell_have_no_hollows(self):
        for cells in (np.full((4, 4), np.nan, np.float32), np.ones((1, 1), np.float32)):
            found = hollows(cells, grid_of(cells.shape))
            self.assertEqual(found.basins, 0)
            np.testing.assert_array_equal(found.filled(), cells)

    def test_it_can_be_cancelled(self):
        def stop(share):
            raise CancelledError

        with self.assertRaises(CancelledError):
            hollows(np.random.default_rng(1).random((300, 300)).astype(np.float32), grid_of((300, 300)), stop)
