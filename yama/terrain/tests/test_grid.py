"""Grid: cells and coordinates agree both ways, whatever window or level."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import GridError
from yama.terrain.grid import Bounds, Grid, Window, parse_crs

GRID = Grid("EPSG:32741", 443_520.0, 5_442_560.0, 2.0, 2.0, 40, 60)


class CellsTest(SimpleTestCase):
    def test_a_cells_centre_has_its_own_whole_number(self):
        xs, ys = GRID.centres(GRID.whole)
        np.testing.assert_allclose(GRID.col_of(xs), np.arange(60), atol=1e-9)
        np.testing.assert_allclose(GRID.row_of(ys), np.arange(40), atol=1e-9)
        self.assertEqual((xs[0], ys[0]), (443_521.0, 5_442_559.0))

    def test_a_part_keeps_its_cells_where_they_are(self):
        window = Window(7, 11, 5, 6)
        xs, ys = GRID.part(window).centres(Window(0, 0, 5, 6))
        np.testing.assert_array_equal(xs, GRID.x_of(np.arange(11, 17)))
        np.testing.assert_array_equal(ys, GRID.y_of(np.arange(7, 12)))

    def test_a_parent_cell_covers_its_four(self):
        parent = GRID.at_level(1)
        self.assertEqual(parent.window_bounds(Window(3, 4, 1, 1)), GRID.window_bounds(Window(6, 8, 2, 2)))
        self.assertEqual((GRID.at_level(3).rows, GRID.at_level(3).cols), (5, 8))

    def test_blocks_cover_every_cell_once(self):
        seen = np.zeros((40, 60), int)
        for block in GRID.blocks(17):
            seen[block.row : block.row + block.rows, block.col : block.col + block.cols] += 1
        self.assertTrue((seen == 1).all())

    def test_window_over_bounds_is_the_inverse_of_window_bounds(self):
        window = Window(3, 9, 10, 4)
        self.assertEqual(GRID.window_over(GRID.window_bounds(window)), window)


class MakingTest(SimpleTestCase):
    def test_covering_snaps_to_the_origin(self):
        grid = Grid.covering("EPSG:32741", Bounds(3.0, 3.0, 21.0, 18.9), 5.0)
        self.assertEqual(grid.bounds, Bounds(0.0, 0.0, 25.0, 20.0))

    def test_bounds_on_corners_take_no_further_cell(self):
        grid = Grid.covering("EPSG:32741", Bounds(0.1 * 3, 0.0, 0.1 * 6, 0.3), 0.1)
        self.assertEqual((grid.rows, grid.cols), (3, 3))

    def test_impossible_grids_are_refused_with_a_sentence(self):
        whole = Bounds(0, 0, 1e6, 1e6)
        for cell_size, words in (
            (0, "greater than 0"),
            (-2, "greater than 0"),
            (float("nan"), "greater"),
            (1e-4, "larger cell"),
        ):
            with self.assertRaisesMessage(GridError, words):
                Grid.covering("EPSG:32741", whole, cell_size)
        with self.assertRaisesMessage(GridError, "not a rectangle"):
            Grid.covering("EPSG:32741", Bounds(5, 0, 1, 1), 1)

    def test_a_phase_of_half_a_cell_is_seen(self):
        shifted = Grid("EPSG:32741", 443_521.0, 5_442_560.0, 2.0, 2.0, 40, 60)
        self.assertEqual(GRID.phase(shifted), (0.5, 0.0))
        self.assertFalse(GRID.is_in_step_with(shifted))
        self.assertTrue(GRID.is_in_step_with(GRID.part(Window(3, 5, 4, 4))))
        self.assertEqual(GRID.offset_of(GRID.part(Window(3, 5, 4, 4))), (3, 5))

    def test_json_and_back(self):
        self.assertEqual(Grid.from_dict(GRID.to_dict()), GRID)

    def test_an_unknown_crs_gets_advice(self):
        with self.assertRaisesMessage(GridError, "Give an EPSG code"):
            parse_crs("the usual one")
        self.assertEqual(parse_crs("32741"), parse_crs("EPSG:32741"))
