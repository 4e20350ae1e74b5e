"""How one surface lies beside another: made shifts are found, told as sure as they are, and put right without
resampling."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.fit.reproject import difference, fitted
from yama.terrain.grid import Grid, Window
from yama.terrain.judge.coregistration import Moved, coregistration
from yama.terrain.judge.piecewise import pieces_of, piecewise
from yama.terrain.surface import ArraySurface
from yama.terrain.units import in_unit

CRS = "EPSG:32741"
SIDE = 360


def grid(cell=2.0, side=SIDE, east=0.0, north=0.0):
    return Grid(CRS, 447_000.0 + east, 5_438_000.0 + north, cell, cell, side, side)


def ground(x, y):
    """Hills and valleys, exact at any place."""
    u, v = (x - 447_000.0) / 90, (y - 5_437_000.0) / 110
    return 150 + 25 * np.sin(u) * np.cos(0.8 * v) + 12 * np.sin(0.37 * u + 1.1 * v) + 5 * np.cos(2.1 * u - 0.4 * v)


def seen(on, east=0.0, north=0.0, up=0.0, noise=0.0, seed=0, parts=1):
    """The ground moved by so much, on a grid; each cell the mean of `parts` times `parts` places in it."""
    fine = on.finer(parts) if parts > 1 else on
    x, y = np.meshgrid(*fine.centres(fine.whole))
    z = ground(x - east, y - north) + up
    if parts > 1:
        z = z.reshape(on.rows, parts, on.cols, parts).mean(axis=(1, 3))
    z = z + np.random.default_rng(seed).normal(0, noise, z.shape)
    return ArraySurface(z.astype(np.float32), on)


class CoregistrationTest(SimpleTestCase):
    def test_made_shifts_are_found_within_two_hundredths_of_a_cell(self):
        reference = seen(grid(), noise=0.3, seed=1)
        for east, north, up in ((0.0, 0.0, 0.0), (0.7, -0.4, 1.7), (-13.3, 21.8, -0.6)):
            found = coregistration(seen(grid(), east, north, up, noise=0.3, seed=2), reference)
            self.assertLess(abs(found.east - east), 0.04, found)
            self.assertLess(abs(found.north - north), 0.04, found)
            self.assertLess(abs(found.up - up), 0.02 * 0.3, found)
            self.assertEqual(found.tilt, (0.0, 0.0))
            self.assertAlmostEqual(found.after.nmad, 0.3 * np.sqrt(2), delta=0.06)  # between cells noise is evened out
            self.assertLessEqual(found.after.rmse, found.before.rmse + 1e-3)
        self.assertAlmostEqual(found.distance, np.hypot(13.3, 21.8), delta=0.05)
        self.assertAlmostEqual(found.direction, 360 - np.degrees(np.arctan2(13.3, 21.8)), delta=0.2)

    def test_a_coarse_surface_is_compared_on_its_own_cells(self):
        reference = seen(grid(2.0, 720), noise=0.2, seed=1)
        coarse = seen(grid(30.0, 47), 41.0, -4.3, 1.7, noise=0.5, seed=3, parts=15)
        found = coregistration(coarse, reference)
        self.assertEqual(found.cell, 30.0)
        self.assertLess(abs(found.east - 41.0), 3 * found.errors[0] + 0.1)
        self.assertLess(abs(found.north + 4.3), 3 * found.errors[1] + 0.1)
        self.assertLess(max(found.errors[:2]), 0.5)
        self.assertLess(abs(found.up - 1.7), 0.15)
        # and the other way round it lies as far on the other side
        back = coregistration(reference, coarse)
        self.assertLess(abs(back.east + found.east) + abs(back.north + found.north), 6 * max(found.errors[:2]))

    def test_a_tilt_is_told_from_a_shift_where_it_is_asked_for(self):
        reference = seen(grid(), noise=0.1, seed=1)
        moved = seen(grid(), 1.3, 0.9, 0.4, noise=0.1, seed=2)
        x, y = np.meshgrid(*grid().centres(grid().whole))
        middle = grid().middle
        tilted = ArraySurface(
            (moved.read_all() + 0.002 * (x - middle[0]) - 0.001 * (y - middle[1])).astype(np.float32), grid()
        )
        found = coregistration(tilted, reference, tilted=True)
        np.testing.assert_allclose((found.east, found.north, found.up), (1.3, 0.9, 0.4), atol=0.02)
        np.testing.assert_allclose(found.tilt, (0.002, -0.001), atol=2e-5)
        right = difference(found.put_right(tilted), reference).read_all()
        self.assertLess(float(np.nanstd(right)), 0.16)

    def test_a_tilted_coarse_surface_is_put_right_in_height_too(self):
        reference = seen(grid(2.0, 720), seed=1)
        coarse = seen(grid(30.0, 47), 60.0, -40.0, 0.0, seed=3, parts=15)
        x, y = np.meshgrid(*coarse.grid.centres(coarse.grid.whole))
        middle = coarse.grid.middle
        plane = 0.01 * (x - middle[0]) + 0.005 * (y - middle[1])
        tilted = ArraySurface((coarse.read_all() + plane).astype(np.float32), coarse.grid)
        found = coregistration(tilted, reference, tilted=True)
        right = difference(found.put_right(tilted), seen(coarse.grid, parts=15), coarse.grid).read_all()
        self.assertLess(abs(float(np.nanmedian(right))), 0.1)

    def test_trees_and_houses_do_not_pull_it(self):
        reference = seen(grid(), noise=0.2, seed=1)
        cells = seen(grid(), 1.5, -2.5, 0.3, noise=0.2, seed=2).read_all()
        rng = np.random.default_rng(4)
        for row, col in rng.integers(0, SIDE - 20, (40, 2)):
            cells[row : row + 18, col : col + 18] += rng.uniform(3, 20)
        cells[rng.uniform(size=cells.shape) < 0.05] = np.nan
        found = coregistration(ArraySurface(cells, grid()), reference)
        np.testing.assert_allclose((found.east, found.north), (1.5, -2.5), atol=0.1)
        self.assertAlmostEqual(found.up, 0.3, delta=0.05)

    def test_it_is_as_sure_as_it_says(self):
        reference = seen(grid(), noise=0.0)
        off, told = [], []
        for seed in range(24):
            found = coregistration(seen(grid(), 0.6, -0.8, 0.2, noise=2.0, seed=seed), reference)
            off.append((found.east - 0.6, found.north + 0.8, found.up - 0.2))
            told.append(found.errors[:3])
        spread, said = np.sqrt(np.mean(np.square(off), axis=0)), np.mean(told, axis=0)
        self.assertTrue((spread < 1.5 * said).all() and (spread > 0.6 * said).all(), (spread, said))

    def test_the_swing_is_a_cosine_of_the_shift_and_is_gone_after(self):
        found = coregistration(seen(grid(), 3.0, 4.0, 0.5, noise=0.05, seed=2), seen(grid(), noise=0.05, seed=1))
        cosine = found.distance * np.cos(np.radians(found.direction - found.aspect))
        np.testing.assert_allclose(found.swing, cosine, atol=0.8)
        self.assertLess(float(np.abs(found.swing_after).max()), 0.1)
        self.assertTrue(0 < len(found.dots) <= 1000 and found.dots.shape[1] == 2)

    def test_what_is_not_known_is_said(self):
        x, y = np.meshgrid(*grid().centres(grid().whole))
        rng = np.random.default_rng(1)
        flat = [ArraySurface(rng.normal(50, 1.0, x.shape).astype(np.float32), grid()) for _ in range(2)]
        slope = [ArraySurface((0.1 * (x - 447_000) + up).astype(np.float32), grid()) for up in (0.0, 1.5)]
        with self.assertRaisesRegex(InputError, "look one way"):
            coregistration(*slope)
        with self.assertRaisesRegex(InputError, "too flat"):
            coregistration(*flat)
        with self.assertRaisesRegex(InputError, "no ground in common"):
            coregistration(seen(grid(east=5000)), seen(grid()))
        cells = np.full((SIDE, SIDE), np.nan, np.float32)
        cells[:10, :10] = 5
        with self.assertRaisesRegex(InputError, "64 cells in common"):
            coregistration(ArraySurface(cells, grid()), seen(grid()))


class MovedTest(SimpleTestCase):
    def test_cells_are_what_they_were_on_a_grid_that_moved(self):
        surface = seen(grid(), noise=1.0)
        moved = Moved(surface, 12.5, -3.25)
        np.testing.assert_array_equal(moved.read_all(), surface.read_all())
        self.assertEqual((moved.grid.west, moved.grid.north), (grid().west + 12.5, grid().north - 3.25))

    def test_a_plane_is_taken_off_the_same_in_any_window_level_and_unit(self):
        surface = seen(grid(), noise=1.0)
        moved = Moved(surface, up=-2.0, tilt=(0.01, -0.02))
        x, y = np.meshgrid(*grid().centres(grid().whole))
        middle = grid().middle
        plane = -2.0 + 0.01 * (x - middle[0]) - 0.02 * (y - middle[1])
        whole = moved.read_all()
        np.testing.assert_allclose(whole, surface.read_all() + plane, atol=1e-4)
        np.testing.assert_array_equal(moved.read(Window(50, 70, 30, 40)), whole[50:80, 70:110])
        means = whole[:20, :20].reshape(10, 2, 10, 2).mean(axis=(1, 3))
        np.testing.assert_allclose(moved.read(Window(0, 0, 10, 10), 1), means, atol=1e-3)
        feet = Moved(in_unit(surface, "ft"), up=-2.0, tilt=(0.01, -0.02))
        np.testing.assert_allclose(in_unit(feet, "m").read_all(), whole, atol=2e-3)

    def test_metres_along_the_axes_of_another_crs(self):
        degrees = Grid("EPSG:4326", 62.37, -41.2, 2e-5, 2e-5, 200, 200)
        x, y = np.meshgrid(*degrees.centres(degrees.whole))
        surface = ArraySurface((1000 * (x - 62.37) + 500 * (y + 41.2)).astype(np.float32), degrees)
        on = grid(2.0, 100)
        on = Grid(CRS, *fitted_corner(degrees), 2.0, 2.0, 100, 100)
        moved = fitted(Moved(surface, 10.0, -6.0, at=on.middle, crs=CRS), on).read_all()
        still = fitted(surface, on).read_all()
        np.testing.assert_allclose(moved[10:90, 10:90], still[7:87, 5:85], atol=2e-3)


def fitted_corner(degrees):
    """North-west corner of a square of 200 m in the middle of a grid of degrees."""
    from pyproj import Transformer

    x, y = Transformer.from_crs(degrees.crs, CRS, always_xy=True).transform(*degrees.middle)
    return x - 100, y + 100


class PiecewiseTest(SimpleTestCase):
    def test_each_half_lies_in_its_own_way(self):
        reference = seen(grid(), noise=0.2, seed=1)
        west, east = seen(grid(), 3.0, 0.0, 0.5, noise=0.2, seed=2), seen(grid(), 0.0, -2.0, -0.2, noise=0.2, seed=3)
        cells = west.read_all().copy()
        cells[:, SIDE // 2 :] = east.read_all()[:, SIDE // 2 :]
        told = piecewise(ArraySurface(cells, grid()), reference, grid(), 2)
        self.assertEqual([(one.row, one.col) for one in told], [(0, 0), (0, 1), (1, 0), (1, 1)])
        for one in told:
            wanted = (3.0, 0.0, 0.5) if one.col == 0 else (0.0, -2.0, -0.2)
            for value, planted in zip((one.found.east, one.found.north, one.found.up), wanted, strict=True):
                self.assertAlmostEqual(value, planted, delta=0.1)
            self.assertEqual(one.x < 447_000 + SIDE, one.col == 0)

    def test_pieces_without_shared_ground_are_left_out_and_flat_ones_say_why(self):
        reference = seen(grid(), noise=0.2, seed=1)
        cells = seen(grid(), 3.0, noise=0.2, seed=2).read_all().copy()
        cells[: SIDE // 2, : SIDE // 2] = np.nan
        flat = reference.read_all().copy()
        flat[SIDE // 2 :, : SIDE // 2] = 7.0
        told = piecewise(ArraySurface(cells, grid()), ArraySurface(flat, grid()), grid(), 2)
        self.assertEqual(
            [(one.row, one.col, one.found is None) for one in told], [(0, 1, False), (1, 0, True), (1, 1, False)]
        )
        self.assertTrue(told[1].reason)

    def test_pieces_cover_the_grid_and_are_about_square(self):
        found = pieces_of(Grid(CRS, 0.0, 500.0, 2.0, 2.0, 250, 700), 4)
        self.assertEqual(len(found), 8)
        self.assertEqual(sum(part.cell_count for *_, part in found), 250 * 700)
