"""The spline against its equations solved whole, and against what it promises."""

from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy.special import exp1

from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.interpolate import spline
from yama.terrain.interpolate.spline import TensionSpline, tension_spline, tension_spline_at
from yama.terrain.interpolate.tests.test_surfaces_from_points import GRID, cells, scattered


def basis(square):
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(square > 0, -(exp1(square) + np.log(square) + 0.5772156649015329), 0.0)


def whole(x, y, z, qx, qy, scale, smoothing=0.0):
    """Twin: one dense system over all points, with a fitted plane."""
    ax, ay = (x - x.mean()) * scale, (y - y.mean()) * scale
    bx, by = (qx - x.mean()) * scale, (qy - y.mean()) * scale
    n = x.size
    plane = np.column_stack([np.ones(n), ax, ay])
    trend = np.linalg.lstsq(plane, z, rcond=None)[0]
    left = np.ones((n + 1, n + 1))
    left[:n, :n] = basis((ax[:, None] - ax) ** 2 + (ay[:, None] - ay) ** 2) + smoothing * np.eye(n)
    left[n, n] = 0
    found = np.linalg.solve(left, np.append(z - plane @ trend, 0))
    far = basis((bx[:, None] - ax) ** 2 + (by[:, None] - ay) ** 2)
    return np.column_stack([np.ones(bx.size), bx, by]) @ trend + far @ found[:n] + found[n]


class SplineTest(SimpleTestCase):
    def test_the_table_is_the_function(self):
        square = np.concatenate([[1e-9, 1e-5, 1e-3], np.linspace(0.01, 90, 400), [1e-3, 1.1e-3, 63.9, 4e3, 1e5, 1e9]])
        found = np.array([spline._basis(value, spline._table()) for value in square])
        np.testing.assert_allclose(found, basis(square), rtol=1e-13, atol=1e-11)

    def test_few_points_are_one_system(self):
        x, y, z = scattered(60)
        rng = np.random.default_rng(3)
        qx, qy = rng.uniform(448_000, 448_160, 30), rng.uniform(5_437_880, 5_438_000, 30)
        for tension, smoothing in ((0.5, 0.0), (1.0, 0.0), (3.0, 0.0), (1.0, 0.05)):
            held = TensionSpline(x, y, z, tension, smoothing)
            found = tension_spline_at(x, y, z, qx, qy, tension, smoothing)
            np.testing.assert_allclose(found, whole(x, y, z, qx, qy, held._scale, smoothing), atol=2e-3)

    def test_patches_differ_little_from_one_system_and_show_no_seam(self):
        x, y, z = scattered(1500)
        found = tension_spline(x, y, z, GRID).read_all()
        cx, cy = (axis.ravel() for axis in cells())
        wanted = whole(x, y, z, cx, cy, TensionSpline(x, y, z, 2.0, 0.0)._scale).reshape(found.shape)
        apart = np.abs(found - wanted)
        self.assertLess(np.quantile(apart, 0.99), 0.1)  # heights range over 70 m
        # across the borders of patches it is as smooth as the whole is
        bend = [np.abs(np.diff(heights, 2, axis=1)) for heights in (found, wanted)]
        self.assertLess(np.abs(bend[0] - bend[1]).max(), 0.05 * bend[1].max())

    def test_it_passes_through_the_points(self):
        x, y, z = scattered(700)
        found = tension_spline_at(x, y, z, x, y)
        np.testing.assert_allclose(found, z, atol=5e-3)
        smooth = tension_spline_at(x, y, z, x, y, smoothing=0.5)
        self.assertGreater(np.abs(smooth - z).mean(), 0.3)
        self.assertLess(np.abs(smooth - z).mean(), 5)

    def test_a_plane_stays_a_plane_even_outside_the_points(self):
        x, y, _ = scattered(400)
        keep = (x < 448_100) & (y > 5_437_930)
        z = 0.3 * (x - 448_000) - 0.2 * (y - 5_438_000) + 50
        found = tension_spline(x[keep], y[keep], z[keep], GRID).read_all()
        cx, cy = cells()
        np.testing.assert_allclose(found, 0.3 * (cx - 448_000) - 0.2 * (cy - 5_438_000) + 50, atol=5e-3)

    def test_more_tension_overshoots_less(self):
        x, y, _ = scattered(500)
        z = np.where(x > 448_080, 50.0, 0.0)
        over = [float(tension_spline(x, y, z, GRID, tension).read_all().max()) - 50 for tension in (0.5, 1.0, 4.0)]
        self.assertTrue(over[0] > over[1] > over[2] >= -1)

    def test_any_window_reads_the_same_cells_whatever_is_remembered(self):
        x, y, z = scattered(900)
        surface = tension_spline(x, y, z, GRID, reach=3.0)
        all_cells = surface.read_all()
        self.assertTrue(0 < np.isnan(all_cells).mean() < 0.9)
        with mock.patch.object(spline, "_HELD", 2):
            fresh = tension_spline(x, y, z, GRID, reach=3.0)
            for row, col in ((0, 0), (13, 40), (50, 7)):
                part = fresh.read(Window(row, col, 10, 12))
                np.testing.assert_allclose(part, all_cells[row : row + 10, col : col + 12], rtol=0, atol=1e-4)

    def test_a_trace_of_smoothing_keeps_it_calm_where_heights_jump_between_close_points(self):
        """As at banks and walls: pairs a fiftieth of the spacing apart that differ by metres."""
        x, y, _ = scattered(300)
        z = 0.02 * (x - 448_000)
        x, y = np.append(x, x[:80] + 0.15), np.append(y, y[:80])
        z = np.append(z, z[:80] + 3)
        over = [
            float(np.abs(tension_spline(x, y, z, GRID, 2.0, smoothing).read_all()).max()) for smoothing in (0.0, 0.01)
        ]
        self.assertGreater(over[0], 2 * over[1])
        self.assertLess(over[1], 10)

    def test_dense_clusters_and_lone_points(self):
        rng = np.random.default_rng(4)
        x = np.concatenate([rng.normal(448_050, 1.5, 800), rng.uniform(448_000, 448_160, 60)])
        y = np.concatenate([rng.normal(5_437_940, 1.5, 800), rng.uniform(5_437_880, 5_438_000, 60)])
        z = 10 * np.sin(x / 9) + 0.1 * y - 543_000
        with mock.patch.object(spline, "_MOST", 300):
            found = tension_spline(x, y, z, GRID).read_all()
        self.assertTrue(np.isfinite(found).all())

    def test_what_makes_no_spline_is_refused(self):
        x, y, z = scattered(30)
        for settings in ({"tension": 0.1}, {"smoothing": -1}):
            with self.subTest(settings), self.assertRaises(InputError):
                tension_spline(x, y, z, GRID, **settings)
        with self.assertRaisesRegex(InputError, "three points"):
            tension_spline(x[:2], y[:2], z[:2], GRID)

    def test_errors_at_left_out_points_need_no_solving_anew(self):
        x, y, z = scattered(60)  # one patch holds them all
        z = z + np.random.default_rng(4).normal(0, 2.0, z.size)
        held = TensionSpline(x, y, z, 2.0, 0.0)
        smoothings = [0.0, 0.1, 3.0]
        found, heights = held.left_out_errors(smoothings)
        np.testing.assert_array_equal(np.sort(heights), np.sort(z))
        order = np.argsort(heights)
        # twin: each point left out in turn, with the plane of all of them and the same scale
        ax, ay = (x - x.mean()) * held._scale, (y - y.mean()) * held._scale
        plane = np.column_stack([np.ones(x.size), ax, ay])
        above = z - plane @ np.linalg.lstsq(plane, z, rcond=None)[0]
        for smoothing, errors in zip(smoothings, found, strict=True):
            wanted = []
            for i in range(x.size):
                keep = np.arange(x.size) != i
                n = int(keep.sum())
                left = np.ones((n + 1, n + 1))
                apart = (ax[keep, None] - ax[keep]) ** 2 + (ay[keep, None] - ay[keep]) ** 2
                left[:n, :n] = basis(apart) + smoothing * np.eye(n)
                left[n, n] = 0
                weights = np.linalg.solve(left, np.append(above[keep], 0))
                far = basis((ax[i] - ax[keep]) ** 2 + (ay[i] - ay[keep]) ** 2)
                wanted.append(above[i] - far @ weights[:n] - weights[n])
            np.testing.assert_allclose(errors[order], np.array(wanted)[np.argsort(z)], atol=1e-5)

    def test_noise_asks_for_smoothing_and_its_absence_for_none(self):
        x, y, _ = scattered(1500)
        z = 20 * np.sin((x - 448_000) / 30) + 0.1 * (y - 5_437_880)
        rough = z + np.random.default_rng(5).normal(0, 3.0, z.size)
        smoothings = [0.0, 0.1, 1.0]
        for heights, best in ((z, 0), (rough, 2)):
            errors, _ = TensionSpline(x, y, heights, 2.0, 0.0).left_out_errors(smoothings)
            rmse = np.sqrt((errors**2).mean(axis=1))
            self.assertEqual(int(rmse.argmin()), best, rmse)
