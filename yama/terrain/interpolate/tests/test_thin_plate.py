"""The thin-plate spline against its equations solved whole by a library, and against what it promises."""

from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy.interpolate import RBFInterpolator

from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.interpolate import thin_plate
from yama.terrain.interpolate.spline import TensionSpline
from yama.terrain.interpolate.tests.test_surfaces_from_points import GRID, cells, scattered
from yama.terrain.interpolate.thin_plate import ThinPlate, thin_plate_spline


class ThinPlateTest(SimpleTestCase):
    def test_equal_to_the_library(self):
        cx, cy = (axis.ravel() for axis in cells())
        for count, smoothing in ((60, 0.0), (900, 0.0), (900, 0.3)):
            x, y, z = scattered(count)
            held = ThinPlate(x, y, z, smoothing)
            places = np.column_stack([x, y]) / held.spacing
            twin = RBFInterpolator(places, z, kernel="thin_plate_spline", smoothing=smoothing)
            wanted = twin(np.column_stack([cx, cy]) / held.spacing).reshape(GRID.rows, GRID.cols)
            found = thin_plate_spline(x, y, z, GRID, smoothing).read_all()
            with self.subTest(count, smoothing=smoothing):
                np.testing.assert_allclose(found, wanted, atol=1e-4)

    def test_it_passes_through_the_points_and_a_plane_stays_a_plane(self):
        x, y, z = scattered(1200)
        held = ThinPlate(x, y, z)
        for i in range(0, 1200, 40):
            cell = np.zeros((1, 1), np.float32)
            held.add_to(x[i : i + 1], y[i : i + 1], cell)
            self.assertAlmostEqual(float(cell[0, 0]), z[i], delta=1e-4)
        level = 0.3 * (x - 448_000) - 0.2 * (y - 5_438_000) + 50
        cx, cy = cells()
        found = thin_plate_spline(x, y, level, GRID).read_all()
        np.testing.assert_allclose(found, 0.3 * (cx - 448_000) - 0.2 * (cy - 5_438_000) + 50, atol=1e-4)

    def test_it_bends_less_than_a_spline_with_tension(self):
        x, y, z = scattered(300)
        plate = thin_plate_spline(x, y, z, GRID).read_all().astype(float)
        tense = np.zeros(plate.shape, np.float32)
        TensionSpline(x, y, z, 4.0, 0.0).add_to(*GRID.centres(GRID.whole), tense)

        def energy(heights):
            across, down = np.diff(heights, 2, axis=1), np.diff(heights, 2, axis=0)
            twist = np.diff(np.diff(heights, axis=0), axis=1)
            return float((across**2).sum() + (down**2).sum() + 2 * (twist**2).sum())

        self.assertLess(energy(plate), energy(tense.astype(float)))

    def test_any_window_has_the_same_cells_and_reach_empties(self):
        x, y, z = scattered(700)
        surface = thin_plate_spline(x, y, z, GRID, reach=5.0)
        whole = surface.read_all()
        self.assertTrue(0.05 < np.isnan(whole).mean() < 0.9)
        fresh = thin_plate_spline(x, y, z, GRID, reach=5.0)
        np.testing.assert_array_equal(fresh.read(Window(11, 7, 20, 30)), whole[11:31, 7:37])

    def test_what_cannot_be_solved_is_refused(self):
        x, y, z = scattered(30)
        for given, said in (
            ((x[:2], y[:2], z[:2]), "three points"), ((x, x, z), "on one line"), ((x, y, z, -1.0), "Smoothing"),
        ):  # fmt: skip
            with self.assertRaisesMessage(InputError, said):
                ThinPlate(*given)
        with mock.patch.object(thin_plate, "MOST_POINTS", 20), self.assertRaisesMessage(InputError, "at most"):
            ThinPlate(x, y, z)

    def test_left_out_errors_are_those_of_leaving_out(self):
        x, y, z = scattered(90)
        found, heights = TensionSpline(x, y, z, 1.0, 0.0).left_out_errors((0.0, 0.4), plate=True)
        for i, smoothing in enumerate((0.0, 0.4)):
            missed = []
            for left in range(90):
                keep = np.arange(90) != left
                spacing = ThinPlate(x, y, z).spacing
                twin = RBFInterpolator(
                    np.column_stack([x, y])[keep] / spacing, z[keep], kernel="thin_plate_spline", smoothing=smoothing
                )
                missed.append(z[left] - twin(np.array([[x[left], y[left]]]) / spacing)[0])
            np.testing.assert_allclose(np.sort(np.abs(found[i])), np.sort(np.abs(missed)), atol=1e-3)
        self.assertEqual(heights.size, 90)
