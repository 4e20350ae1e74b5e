import numpy as np
from django.test import SimpleTestCase

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.directions import COLS, EMPTY, NONE, OUT, ROWS, apart_on, directions, steepest_ways
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.tests.made import grid_of, heights_of_many_kinds


def steepest_slowly(cells, apart):
    rows, cols = cells.shape
    to = np.full(cells.shape, NONE, np.int8)
    for r in range(rows):
        for c in range(cols):
            if np.isnan(cells[r, c]):
                to[r, c] = EMPTY
                continue
            best, edge = 0.0, False
            for n in range(8):
                i, j = r + ROWS[n], c + COLS[n]
                if not (0 <= i < rows and 0 <= j < cols) or np.isnan(cells[i, j]):
                    edge = True
                    continue
                fall = np.float32((cells[r, c] - cells[i, j]) * np.float32(1 / apart[n]))
                if fall > best:
                    best, to[r, c] = fall, n
            if to[r, c] == NONE and edge:
                to[r, c] = OUT
    return to


def walked(to, r, c):
    """Where water from a cell ends, and over how many cells; fails where it turns in a circle."""
    steps = 0
    while 0 <= to[r, c] < 8:
        r, c = r + ROWS[to[r, c]], c + COLS[to[r, c]]
        steps += 1
        assert steps <= to.size, "water turns in a circle"
    return int(to[r, c]), steps


class DirectionsTest(SimpleTestCase):
    def test_each_cell_leads_to_the_neighbour_to_which_it_falls_most(self):
        for cells in heights_of_many_kinds(80):
            grid = grid_of(cells.shape)
            np.testing.assert_array_equal(steepest_ways(cells, grid), steepest_slowly(cells, apart_on(grid)))

    def test_water_leaves_a_filled_surface_from_every_cell(self):
        for cells in heights_of_many_kinds(100, seed=9):
            grid = grid_of(cells.shape)
            filled = hollows(cells, grid).filled()
            to = directions(filled, grid)
            for r, c in np.argwhere(~np.isnan(cells)):
                end, _ = walked(to, r, c)
                self.assertEqual(end, OUT)
                n = to[r, c]
                if n < 8:
                    self.assertLessEqual(filled[r + ROWS[n], c + COLS[n]], filled[r, c])

    def test_level_ground_drains_to_its_way_out_and_away_from_higher_ground(self):
        # a level floor between two walls: water gathers in the middle, as Garbrecht and Martz have it
        cells = np.full((9, 20), 10, np.float32)
        cells[1:8, 1:] = 5
        cells[4, 19] = 4
        cells[[1, 2, 3, 5, 6, 7], 19] = 9
        to = directions(cells, grid_of(cells.shape))
        drained = accumulation(to)
        self.assertEqual(walked(to, 1, 1)[0], OUT)
        middle = drained[4, 5:18]
        self.assertTrue((middle >= drained[1:8, 5:18].max(axis=0)).all())
        self.assertGreater(middle[-1], 0.8 * 7 * 16)
        self.assertTrue((to[1, 3:16] != 0).all())  # not along the wall

    def test_a_hollow_that_keeps_its_water_ends_in_its_lowest_place(self):
        cells = np.full((5, 5), 5, np.float32)
        cells[2, 2] = 1
        to = directions(cells, grid_of((5, 5)))
        self.assertEqual(to[2, 2], NONE)
        self.assertEqual(accumulation(to)[2, 2], 9)


class AccumulationTest(SimpleTestCase):
    def test_it_solves_the_linear_system_of_what_drains_into_what(self):
        rng = np.random.default_rng(2)
        for cells in heights_of_many_kinds(40, seed=11):
            grid = grid_of(cells.shape)
            to = directions(hollows(cells, grid).filled(), grid)
            weight = rng.random(cells.shape)
            matrix = np.eye(cells.size)
            for r, c in np.argwhere((to >= 0) & (to < 8)):
                n = to[r, c]
                matrix[(r + ROWS[n]) * cells.shape[1] + c + COLS[n], r * cells.shape[1] + c] -= 1
            expected = np.linalg.solve(matrix, np.where(np.isnan(cells), 0, weight).ravel()).reshape(cells.shape)
            expected[np.isnan(cells)] = np.nan
            np.testing.assert_allclose(accumulation(to, weight), expected, rtol=1e-9)

    def test_water_is_conserved_however_it_is_shared(self):
        for cells in heights_of_many_kinds(40, seed=12):
            grid = grid_of(cells.shape)
            filled = hollows(cells, grid).filled()
            to = directions(filled, grid)
            for flow in ("one", "two", "many"):
                drained = accumulation(to, None, flow, filled, grid)
                self.assertAlmostEqual(drained[to == OUT].sum(), (~np.isnan(cells)).sum(), places=6)

    def test_on_a_plane_water_is_shared_by_the_angle_of_the_fall(self):
        # a plane that falls by 2 to the east for 1 to the south: 26.6 of the 45 degrees between both neighbours
        x, y = np.meshgrid(np.arange(60), np.arange(60))
        cells = (1000 - 2 * x - y).astype(np.float32)
        grid = grid_of(cells.shape)
        to = directions(cells, grid)
        one = np.zeros(cells.shape)
        one[10, 5] = 1.0
        spread = accumulation(to, one, "two", cells, grid)
        column = spread[:, 45]
        self.assertAlmostEqual(
            (column * np.arange(60)).sum() / column.sum(), 10 + 40 * np.arctan(0.5) / (np.pi / 4), delta=1e-3
        )
        single = accumulation(to, one, "one", cells, grid)
        self.assertEqual(np.argmax(single[:, 45]), 10 + 40 if to[10, 5] == 1 else 10)

    def test_counts_are_exact_beyond_what_a_32_bit_number_tells(self):
        to = np.zeros((1, 40), np.int8)
        to[0, -1] = OUT
        weight = np.ones(to.shape)
        weight[0, 0] = 2.0**30
        self.assertEqual(accumulation(to, weight)[0, -1], 2.0**30 + 39)
