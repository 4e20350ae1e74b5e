"""Stand-ins for slow surfaces: near them, the same in every window, and true at the places where they are evaluated."""

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.kriging import Variogram
from yama.terrain.interpolate.kriging import kriged as kriged_surface
from yama.terrain.interpolate.rough import RoughSpline, Sparse, thinned
from yama.terrain.interpolate.spline import tension_spline
from yama.terrain.operations import Task, View, find, parse_params
from yama.terrain.points import Points

GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 150, 130)


def scattered(count=2_500, seed=3):
    x, y = np.random.default_rng(seed).uniform((447_990, 5_437_690), (448_270, 5_438_010), (count, 2)).T
    return x, y, 100 + 20 * np.sin(x / 25) + 14 * np.cos(y / 21)


def kriged(reach=np.inf):
    return kriged_surface(*scattered(), GRID, Variogram("exponential", 0.5, 300.0, 150.0), 12, reach)


class SparseTest(SimpleTestCase):
    def test_true_at_every_node_and_between_them_between(self):
        exact = kriged()
        for level in (0, 1):
            whole = GRID.at_level(level).whole
            rough, true = Sparse(exact, 4).read(whole, level), exact.read(whole, level)
            np.testing.assert_allclose(rough[::4, ::4], true[::4, ::4], rtol=1e-6)
            self.assertLess(np.abs(rough - true).mean(), 1.0)
            self.assertGreater(np.abs(rough - true).max(), 0.05)
            np.testing.assert_allclose(rough[0:5, 2], (rough[0:5, 0] + rough[0:5, 4]) / 2, rtol=1e-5)

    def test_every_window_sees_the_same_cells(self):
        surface = Sparse(kriged(reach=6.0), 3)
        whole = surface.read_all()
        self.assertTrue(0 < np.isnan(whole).sum() < whole.size / 2)
        for row, col in ((0, 0), (31, 17), (-5, 120), (140, 60)):
            window = Window(row, col, 20, 25)
            found = surface.read(window)
            inside = window.clipped(GRID.rows, GRID.cols)
            top, left = inside.row - row, inside.col - col
            part = found[top : top + inside.rows, left : left + inside.cols]
            np.testing.assert_array_equal(
                part, whole[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols]
            )
            outside = np.ones(found.shape, bool)
            outside[top : top + inside.rows, left : left + inside.cols] = False
            self.assertTrue(np.isnan(found[outside]).all())
        self.assertTrue(np.isnan(surface.read(Window(500, 500, 4, 4))).all())


class RoughSplineTest(SimpleTestCase):
    def test_near_the_spline_where_a_level_shows_every_point(self):
        x, y, z = scattered(200)
        rough, true = (kind(x, y, z, GRID, 2.0, 0.01) for kind in (RoughSpline, tension_spline))
        nodes = rough.read_all()[::5, ::5], true.read_all()[::5, ::5]
        self.assertLess(np.sqrt(np.mean((nodes[0] - nodes[1]) ** 2)), 0.4)  # of heights that range over 68 m

    def test_a_wide_level_takes_fewer_points_and_keeps_the_form(self):
        x, y, z = scattered(30_000)
        rough = RoughSpline(x, y, z, GRID, 2.0, 0.01, reach=10.0)
        found = rough.read(GRID.at_level(1).whole, 1)
        held = rough._levels.get(1, lambda: self.fail("a level is made once"))
        self.assertIsNotNone(held)
        cx, cy = np.meshgrid(*GRID.at_level(1).centres(GRID.at_level(1).whole))
        error = found - (100 + 20 * np.sin(cx / 25) + 14 * np.cos(cy / 21))
        self.assertLess(np.sqrt(np.mean(error**2)), 3.0)  # of heights that range over 68 m

    def test_thinned_keeps_one_point_a_square(self):
        x, y, _ = scattered(5_000)
        kept = thinned(x, y, 16.0)
        squares = {(int(a), int(b)) for a, b in zip(x[kept] // 16, y[kept] // 16, strict=True)}
        self.assertEqual(len(squares), kept.size)
        self.assertEqual(squares, {(int(a), int(b)) for a, b in zip(x // 16, y // 16, strict=True)})
        square = (x // 16 == x[kept[7]] // 16) & (y // 16 == y[kept[7]] // 16)
        far = (x / 16 % 1 - 0.5) ** 2 + (y / 16 % 1 - 0.5) ** 2
        self.assertEqual(far[square].min(), far[kept[7]])

    def test_what_no_spline_can_be_of_is_refused_at_once(self):
        with self.assertRaises(InputError):
            RoughSpline(np.zeros(2), np.zeros(2), np.zeros(2), GRID, 2.0, 0.0)


class RoughTaskTest(SimpleTestCase):
    def test_only_slow_methods_have_one_and_it_is_cut_and_converted_alike(self):
        x, y, z = scattered(300)
        points = Points(GRID.crs, x, y, {"z": z}, np.array([]), "z", "m")
        operation = find("interpolate_points")
        for method in ("triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"):
            params = parse_params(operation, {"method": method, "reach_limit": 20})
            task = Task(operation, {"points": points}, params, Frame(GRID, "ft", "Sundrel mean sea level"))
            found = task.preview(View(GRID.bounds, 0))
            self.assertEqual(found is not None, method in ("spline", "kriging"))
            if found is not None:
                rough, exact = found.surface("surface"), task.run().surface("surface")
                self.assertEqual((rough.unit, rough.vertical_datum), (exact.unit, exact.vertical_datum))
                near = np.abs(rough.read_all() - exact.read_all())
                self.assertLess(np.nanmedian(near), 2.0)
                both = np.isnan(rough.read_all()) == np.isnan(exact.read_all())
                self.assertGreater(both.mean(), 0.97)
