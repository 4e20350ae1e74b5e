"""What is found suspect: what was put there, and nothing that belongs there."""

from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.grid import Grid, Window
from yama.terrain.mend import suspects as module
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.suspects import Limits, cross, proposal, suspects
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 447_000.0, 5_438_000.0, 2.0, 2.0, 400, 420)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))


def rolling(seed=1):
    rng = np.random.default_rng(seed)
    hills = ndimage.zoom(rng.normal(0, 12, (9, 9)), 60, order=3)[: GRID.rows, : GRID.cols]
    return 100 + 0.1 * (X - GRID.west) + hills + rng.normal(0, 0.05, hills.shape)


def found(cells, kind=None, **more):
    listed = suspects(ArraySurface(np.asarray(cells, np.float32), GRID), **more)
    return [one for one in listed if kind is None or one.kind == kind]


def at(row, col):
    return float(GRID.x_of(col)), float(GRID.y_of(row))


class SuspectsTest(SimpleTestCase):
    def test_nothing_is_suspect_about_hills_and_slopes(self):
        self.assertEqual(found(rolling()), [])
        self.assertEqual(found(100 + 1.2 * (X - GRID.west)), [])

    def test_spikes_and_pits_are_found_where_they_were_put_with_their_height(self):
        cells = rolling()
        cells[100:102, 150:152] += 9
        cells[300, 60] -= 7
        listed = found(cells)
        self.assertEqual([one.kind for one in listed], ["spike", "pit"])
        spike, pit = listed
        self.assertEqual(spike.cells, 4)
        self.assertAlmostEqual(spike.height, 9, delta=1.5)
        self.assertLess(np.hypot(spike.x - at(100.5, 150.5)[0], spike.y - at(100.5, 150.5)[1]), 2)
        self.assertEqual((pit.x, pit.y), at(300, 60))
        self.assertIn("above all that is around", spike.why)

    def test_a_jump_along_a_straight_line_is_a_step_and_a_slope_is_none(self):
        cells = rolling()
        cells[:, 200:] += 3.0
        (step,) = found(cells, "step")
        self.assertAlmostEqual(step.height, 3, delta=0.3)
        self.assertGreater(step.length, 700)
        self.assertAlmostEqual(step.across % 180, 90, delta=2)

    def test_a_hump_on_water_needs_the_lake(self):
        cells = rolling()
        lake = shapely.Point(at(200, 200)).buffer(150)
        on = np.hypot(X - at(200, 200)[0], Y - at(200, 200)[1]) < 150
        cells[on] = 80
        cells[190:200, 190:200] = 82.5
        self.assertEqual(found(cells, "water"), [])
        (hump,) = found(cells, "water", waters=[lake])
        self.assertEqual((hump.cells, round(hump.height, 2)), (100, 2.5))

    def test_trees_stand_alone_and_cliffs_do_not(self):
        cells = rolling()
        cells[150:190, 100:112] += 14
        (trees,) = found(cells, "trees")
        self.assertAlmostEqual(trees.height, 14, delta=3)
        cliff = rolling()
        cliff[:, 210:] += 40
        self.assertEqual(found(cliff, "trees"), [])

    def test_holes_are_inside_the_data_and_small_ones_can_be_let_pass(self):
        cells = rolling()
        cells[:40] = np.nan
        cells[200:210, 200:220] = np.nan
        cells[300, 300] = np.nan
        self.assertEqual([one.cells for one in found(cells, "hole")], [200, 1])
        self.assertEqual([one.cells for one in found(cells, "hole", limits=Limits(smallest_hole=4))], [200])

    def test_what_is_real_is_not_told_again(self):
        cells = rolling()
        cells[100, 150] += 9
        (spike,) = found(cells)
        self.assertEqual(found(cells, real=[shapely.Polygon(spike.ring)]), [])

    def test_blocks_do_not_matter_nor_does_the_window(self):
        cells = rolling()
        rng = np.random.default_rng(5)
        for row, col in rng.integers(12, 388, (40, 2)):
            cells[row : row + 2, col : col + 2] += 8
        whole = {(one.kind, one.x, one.y) for one in found(cells) if one.kind == "spike"}
        self.assertGreater(len(whole), 30)
        with mock.patch.object(module, "_BLOCK", 128):
            self.assertEqual({(one.kind, one.x, one.y) for one in found(cells) if one.kind == "spike"}, whole)
        seen = found(cells, "spike", window=Window(0, 0, 200, 420))
        half = {(kind, x, y) for kind, x, y in whole if y > GRID.north - 400}
        self.assertEqual({(one.kind, one.x, one.y) for one in seen}, half)


class ProposalTest(SimpleTestCase):
    def repaired(self, cells, **more):
        surface = ArraySurface(np.asarray(cells, np.float32), GRID)
        listed = suspects(surface, **more)
        patches = [proposal(one, GRID) for one in listed]
        return listed, MendedSurface(surface, patches)

    def test_what_is_proposed_repairs_it_and_it_is_suspect_no_more(self):
        true = rolling()
        cells = true.copy()
        cells[100:102, 150:152] += 9
        cells[300, 60] -= 7
        cells[250:260, 300:312] = np.nan
        listed, mended = self.repaired(cells)
        self.assertEqual(sorted(one.kind for one in listed), ["hole", "pit", "spike"])
        error = mended.read_all() - true
        self.assertLess(np.abs(error).max(), 1.0)
        self.assertEqual(suspects(mended), [])

    def test_a_hole_is_filled_and_nothing_beside_it_is_changed(self):
        cells = rolling()
        for row in range(30):
            cells[200 + row, 200 : 201 + row] = np.nan  # its outline holds cells that are there
        _, mended = self.repaired(cells)
        after = mended.read_all()
        self.assertTrue(np.isfinite(after).all())
        known = np.isfinite(cells)
        np.testing.assert_array_equal(after[known], cells.astype(np.float32)[known])

    def test_heights_across_it_are_told_before_and_after(self):
        cells = rolling()
        cells[100:102, 150:152] += 9
        surface = ArraySurface(cells.astype(np.float32), GRID)
        (spike,) = suspects(surface)
        told = cross(surface, spike, proposal(spike, GRID))
        self.assertGreater(np.nanmax(told.before) - np.nanmax(told.after), 5)
        self.assertEqual(told.distance.shape, told.before.shape)
        self.assertAlmostEqual(told.distance[0], -told.distance[-1])
        corner = rolling()
        corner[1:3, 1:3] += 9
        corner[200, 200] -= 9
        for one in suspects(ArraySurface(corner.astype(np.float32), GRID)):
            cross(ArraySurface(corner.astype(np.float32), GRID), one, proposal(one, GRID))
