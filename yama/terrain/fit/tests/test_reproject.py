"""Reading on another grid: planes stay planes, cones stay where they are."""

from typing import get_args
from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.fit import reproject
from yama.terrain.fit.reproject import FittedSurface, Resampling, difference, fitted, source_positions
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations import find
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import ArraySurface

UTM = Grid("EPSG:32741", 447_000.0, 5_439_000.0, 2.0, 2.0, 300, 400)
DEGREES = Grid("EPSG:4326", 62.36, -41.19, 1 / 3600, 1 / 3600, 60, 60)


def over(grid, formula):
    """A surface from a formula of UTM x, y at its cell centres, exact wherever the grid lies."""
    x, y = np.meshgrid(*grid.centres(grid.whole))
    if grid.crs != UTM.crs:
        x, y = Transformer.from_crs(grid.crs, UTM.crs, always_xy=True).transform(x, y)
    return ArraySurface(formula(x, y), grid)


class PositionsTest(SimpleTestCase):
    def test_positions_are_those_of_the_exact_transform(self):
        rows, cols = source_positions(UTM, DEGREES)
        x, y = np.meshgrid(*UTM.centres(UTM.whole))
        lon, lat = Transformer.from_crs(UTM.crs, DEGREES.crs, always_xy=True).transform(x, y)
        self.assertLess(np.abs(cols - DEGREES.col_of(lon)).max(), 0.002)
        self.assertLess(np.abs(rows - DEGREES.row_of(lat)).max(), 0.002)

    def test_a_cells_position_does_not_depend_on_the_window(self):
        for source in (DEGREES, Grid("EPSG:32741", 447_003.7, 5_439_001.3, 3.0, 3.0, 300, 400)):
            wide = Grid(UTM.crs, UTM.west, UTM.north, 1.7, 1.7, 700, 1100)
            every = source_positions(wide, source)
            for window in (
                Window(0, 0, 40, 40),
                Window(500, 490, 90, 130),
                Window(699, 1099, 1, 1),
                Window(3, 511, 690, 2),
            ):
                for whole, part in zip(every, source_positions(wide, source, window), strict=True):
                    there = whole[window.row : window.row + window.rows, window.col : window.col + window.cols]
                    np.testing.assert_array_equal(part, there)


class FittedTest(SimpleTestCase):
    def test_a_plane_stays_a_plane_from_degrees_to_metres(self):
        def plane(x, y):
            return 0.2 * (x - 447_000) + 0.1 * (y - 5_439_000)

        found = fitted(over(DEGREES, plane), UTM).read_all()
        expected = over(UTM, plane).read_all()
        filled = np.isfinite(found)
        self.assertGreater(filled.mean(), 0.9)
        np.testing.assert_allclose(found[filled], expected[filled], atol=0.02)

    def test_a_cones_tip_does_not_move(self):
        tip = (447_401.0, 5_438_701.0)

        def cone(x, y):
            return 100 - np.hypot(x - tip[0], y - tip[1])

        for grid in (Grid("EPSG:32741", 447_001.0, 5_439_001.0, 2.0, 2.0, 300, 400), DEGREES):
            found = fitted(over(grid, cone), UTM).read_all()
            found = np.where(np.isfinite(found), found, -1e9)
            weight = np.clip(found - 60, 0, None)  # the centroid of the top tells a shift of a part of a cell
            x, y = np.meshgrid(*UTM.centres(UTM.whole))
            self.assertAlmostEqual((x * weight).sum() / weight.sum(), tip[0], delta=0.15)
            self.assertAlmostEqual((y * weight).sum() / weight.sum(), tip[1], delta=0.15)

    def test_the_same_grid_is_the_same_surface(self):
        surface = over(UTM, lambda x, y: x)
        self.assertIs(fitted(surface, UTM), surface)

    def test_windows_agree_with_the_whole(self):
        surface = fitted(over(DEGREES, lambda x, y: np.hypot(x - 447_300, y - 5_438_800)), UTM)
        whole = surface.read_all()
        for window in (Window(0, 0, 50, 50), Window(120, 200, 90, 33), Window(280, 380, 20, 20)):
            part = whole[window.row : window.row + window.rows, window.col : window.col + window.cols]
            np.testing.assert_allclose(surface.read(window), part, atol=0.02)

    def test_nearest_shows_the_sources_own_values(self):
        source = over(DEGREES, lambda x, y: np.round(x))
        values = set(source.read_all().ravel().tolist())
        found = fitted(source, UTM, "nearest").read_all()
        self.assertTrue(set(found[np.isfinite(found)].tolist()) <= values)

    def test_outside_the_source_is_empty(self):
        far = Grid("EPSG:32741", 600_000.0, 5_439_000.0, 2.0, 2.0, 10, 10)
        self.assertTrue(np.isnan(fitted(over(DEGREES, lambda x, y: x), far).read_all()).all())

    def test_going_coarser_takes_means(self):
        checks = ArraySurface(np.indices((400, 400)).sum(0) % 2 * 10.0, Grid("EPSG:32741", 0, 800, 2, 2, 400, 400))
        coarse = Grid("EPSG:32741", 0, 800, 32, 32, 25, 25)
        np.testing.assert_allclose(fitted(checks, coarse).read(Window(1, 1, 23, 23)), 5.0, atol=0.01)


class DifferenceTest(SimpleTestCase):
    def test_difference_and_empty_cells(self):
        first = over(UTM, lambda x, y: x - 446_000)
        second = over(UTM, lambda x, y: 2 * (x - 446_000))
        second._levels[0][3, 4] = np.nan
        found = difference(first, second).read_all()
        self.assertTrue(np.isnan(found[3, 4]))
        np.testing.assert_allclose(found[4:], -(first.read_all())[4:], rtol=1e-6)


class ResamplingTest(SimpleTestCase):
    fine = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 60, 72)

    def rough(self) -> ArraySurface:
        rng = np.random.default_rng(8)
        heights = rng.normal(50, 9, (60, 72))
        heights[rng.random((60, 72)) < 0.1] = np.nan
        return ArraySurface(heights, self.fine)

    def test_areas_against_their_twin(self):
        surface = self.rough()
        heights = surface.read_all()
        xs, ys = self.fine.centres(self.fine.whole)
        # cells that are no multiple, off the others, and reaching past the edge
        coarse = Grid("EPSG:32741", 447_996.0, 5_438_005.0, 7.0, 7.0, 20, 24)
        for name, figure in (("mean", np.nanmean), ("lowest", np.nanmin), ("highest", np.nanmax)):
            found = FittedSurface(surface, coarse, name).read_all()
            for (r, c), value in np.ndenumerate(found):
                x, y = coarse.x_of(c), coarse.y_of(r)
                rows = (ys > y - 3.5 + 1e-6) & (ys <= y + 3.5 + 1e-6)
                cols = (xs >= x - 3.5 - 1e-6) & (xs < x + 3.5 - 1e-6)
                cells = heights[np.ix_(rows, cols)]
                wanted = figure(cells) if cells.size and not np.isnan(cells).all() else np.nan
                np.testing.assert_allclose(value, wanted, rtol=1e-5, err_msg=f"{name} {r} {c}")

    def test_every_source_cell_counts_once_in_a_mean(self):
        whole = ArraySurface(np.random.default_rng(1).normal(0, 1, (60, 72)), self.fine)
        coarse = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 12.0, 12.0, 10, 12)
        found = FittedSurface(whole, coarse, "mean").read_all()
        self.assertAlmostEqual(float(found.mean()), float(whole.read_all().mean()), places=5)

    def test_cubic_meets_a_quadric_that_bilinear_misses(self):
        x, y = np.meshgrid(self.fine.x_of(np.arange(72)) - 448_072, self.fine.y_of(np.arange(60)) - 5_437_940)
        quadric = ArraySurface(100 + 0.02 * x**2 - 0.03 * x * y + 0.01 * y**2, self.fine)
        aside = Grid("EPSG:32741", 448_011.0, 5_437_989.0, 2.0, 2.0, 40, 50)
        x, y = np.meshgrid(aside.x_of(np.arange(50)) - 448_072, aside.y_of(np.arange(40)) - 5_437_940)
        wanted = 100 + 0.02 * x**2 - 0.03 * x * y + 0.01 * y**2
        worst = {
            name: np.abs(FittedSurface(quadric, aside, name).read_all() - wanted).max()
            for name in ("bilinear", "cubic")
        }
        self.assertLess(worst["cubic"], 2e-4)
        self.assertGreater(worst["bilinear"], 0.02)

    def test_over_the_pole_and_the_antimeridian_heights_are_right(self):
        world = Grid("EPSG:4326", -180.0, 90.0, 0.5, 0.5, 360, 720)

        def ground(longitude, latitude):
            return 100 * np.sin(np.radians(latitude)) + 10 * np.cos(np.radians(longitude)) * np.cos(
                np.radians(latitude)
            )

        source = ArraySurface(
            ground(*np.meshgrid(world.x_of(np.arange(720)), world.y_of(np.arange(360)))), world
        )  # fmt: skip
        for crs, grid in (
            ("EPSG:3995", Grid("EPSG:3995", -1e6, 1e6, 2e4, 2e4, 100, 100)),
            ("EPSG:32701", Grid("EPSG:32701", 100_000.0, 8_000_000.0, 1_000.0, 1_000.0, 100, 200)),
        ):
            turn = Transformer.from_crs(crs, "EPSG:4326", always_xy=True)
            longitude, latitude = turn.transform(
                *np.meshgrid(grid.x_of(np.arange(grid.cols)), grid.y_of(np.arange(grid.rows)))
            )
            found = FittedSurface(source, grid).read_all()
            known = ~np.isnan(found)
            np.testing.assert_allclose(found[known], ground(longitude, latitude)[known], atol=0.002)
            # past the last row there is no neighbour; past the last column the first is
            self.assertTrue(known[latitude < 89.75].all())
            self.assertTrue(crs == "EPSG:3995" or (np.abs(longitude[known]) > 179.9).any())
            for name in ("nearest", "cubic", "mean"):
                other = FittedSurface(source, grid, name).read_all()
                self.assertFalse(np.isnan(other[latitude < 89.7]).any(), name)

    def test_a_grid_round_the_globe_begins_again(self):
        world = Grid("EPSG:4326", -180.0, 10.0, 1.0, 1.0, 20, 360)
        heights = np.random.default_rng(4).normal(100, 20, (20, 360)).astype(np.float32)
        turned = Grid("EPSG:4326", 170.25, 10.0, 1.0, 1.0, 20, 20)
        for name in get_args(Resampling):
            found = FittedSurface(ArraySurface(heights, world), turned, name).read_all()
            # the same with the columns laid out so that none begins again
            shifted = Grid("EPSG:4326", 0.0, 10.0, 1.0, 1.0, 20, 359)
            laid = ArraySurface(np.roll(heights, 180, axis=1)[:, :359], shifted)
            np.testing.assert_array_equal(found, FittedSurface(laid, turned, name).read_all(), err_msg=name)

    def test_a_spline_smooths_and_keeps_a_plane(self):
        x, y = np.meshgrid(self.fine.x_of(np.arange(72)) - 448_072, self.fine.y_of(np.arange(60)) - 5_437_940)
        aside = Grid("EPSG:32741", 448_011.0, 5_437_989.0, 2.0, 2.0, 40, 50)
        found = FittedSurface(ArraySurface(50 + 0.3 * x - 0.2 * y, self.fine), aside, "cubic_spline").read_all()
        x, y = np.meshgrid(aside.x_of(np.arange(50)) - 448_072, aside.y_of(np.arange(40)) - 5_437_940)
        np.testing.assert_allclose(found, 50 + 0.3 * x - 0.2 * y, atol=1e-4)
        noise = ArraySurface(np.random.default_rng(2).normal(0, 1, (60, 72)), self.fine)
        spread = {name: FittedSurface(noise, aside, name).read_all().std() for name in ("cubic", "cubic_spline")}
        self.assertLess(spread["cubic_spline"], 0.8 * spread["cubic"])

    def test_cubic_leaves_empty_what_bilinear_does(self):
        aside = Grid("EPSG:32741", 447_995.0, 5_438_001.0, 2.0, 2.0, 64, 80)
        cubic, bilinear = (FittedSurface(self.rough(), aside, name).read_all() for name in ("cubic", "bilinear"))
        np.testing.assert_array_equal(np.isnan(cubic), np.isnan(bilinear))

    def test_windows_and_halves_agree_with_the_whole(self):
        coarse = Grid("EPSG:32741", 447_996.0, 5_438_005.0, 7.0, 7.0, 20, 24)
        for name in get_args(Resampling):
            fitted_one = FittedSurface(self.rough(), coarse, name)
            whole = fitted_one.read_all()
            np.testing.assert_array_equal(fitted_one.read(Window(3, 5, 9, 11)), whole[3:12, 5:16])
            with mock.patch.object(reproject, "_MOST_READ", 60):
                np.testing.assert_array_equal(FittedSurface(self.rough(), coarse, name).read_all(), whole)

    def test_there_and_back_is_near(self):
        x, y = np.meshgrid(self.fine.x_of(np.arange(72)), self.fine.y_of(np.arange(60)))
        smooth = ArraySurface(100 + 5 * np.sin(x / 30) * np.cos(y / 25), self.fine)
        degrees = Grid("EPSG:4326", 62.3797, -41.2076, 0.00002, 0.00002, 90, 110)
        back = FittedSurface(FittedSurface(smooth, degrees, "cubic"), self.fine, "cubic").read_all()
        filled = ~np.isnan(back)
        self.assertGreater(filled.sum(), 1_000)
        self.assertLess(np.abs(back - smooth.read_all())[filled].max(), 0.01)

    def test_where_a_projection_has_no_answer_there_is_nothing(self):
        world = ArraySurface(np.ones((18, 36)), Grid("EPSG:4326", -180.0, 90.0, 10.0, 10.0, 18, 36))
        far = Grid("EPSG:32741", -30_000_000.0, 30_000_000.0, 1_000_000.0, 1_000_000.0, 60, 60)
        found = FittedSurface(world, far).read_all()
        self.assertTrue(np.isnan(found).any())
        self.assertEqual(set(np.unique(found[~np.isnan(found)])) - {1.0}, set())


class OperationTest(SimpleTestCase):
    operation = find("fit_to_frame")
    frame = Frame(Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 60, 72), "m", "")

    def found(self, surface, **params):
        return {
            one.code: one for one in task_for(self.operation.name, {"surface": surface}, self.frame, params).findings
        }

    def test_findings(self):
        coarse = ArraySurface(np.ones((9, 9)), Grid("EPSG:32741", 448_003.0, 5_437_990.0, 10.0, 10.0, 9, 9))
        half = ArraySurface(np.ones((60, 72)), Grid("EPSG:32741", 448_001.0, 5_438_000.0, 2.0, 2.0, 60, 72))
        away = ArraySurface(np.ones((9, 9)), Grid("EPSG:32741", 948_003.0, 5_437_990.0, 10.0, 10.0, 9, 9))
        self.assertEqual(set(self.found(half)), set())
        self.assertEqual(self.found(half, resampling="nearest")["nearest"].fix.set_params, {"resampling": "bilinear"})
        self.assertEqual(set(self.found(coarse)), {"finer"})
        self.assertEqual(self.found(coarse, resampling="lowest")["no_area"].weight, "caution")
        self.assertEqual(set(self.found(coarse, resampling="mean", cell_size=20)), set())
        self.assertEqual(
            self.found(ArraySurface(np.ones((60, 72)), self.frame.grid), resampling="nearest")["same"].weight, "note"
        )
        self.assertEqual(self.found(away)["outside"].weight, "stop")
        with self.assertRaisesMessage(InputError, "outside the frame"):
            first_of(task_for(self.operation.name, {"surface": away}, self.frame, {}))

    def test_the_result_lies_on_the_frames_cells(self):
        coarse = ArraySurface(
            np.arange(81.0).reshape(9, 9), Grid("EPSG:32741", 448_003.0, 5_437_990.0, 10.0, 10.0, 9, 9)
        )
        made = first_of(task_for(self.operation.name, {"surface": coarse}, self.frame, {}))
        self.assertTrue(made.grid.is_in_step_with(self.frame.grid))
        self.assertLess(made.grid.cell_count, self.frame.grid.cell_count)
        row, col = self.frame.grid.offset_of(made.grid)
        whole = first_of(task_for(self.operation.name, {"surface": coarse}, self.frame, {"trim": False}))
        np.testing.assert_array_equal(made.read_all(), whole.read(Window(row, col, made.grid.rows, made.grid.cols)))
        self.assertEqual(np.isfinite(made.read_all()).sum(), np.isfinite(whole.read_all()).sum())
        wide = first_of(task_for(self.operation.name, {"surface": coarse}, self.frame, {"cell_size": 4.0}))
        self.assertEqual(wide.grid.cell_width, 4.0)

    def test_a_rectangle_is_cut_in_the_same_step(self):
        coarse = ArraySurface(
            np.arange(81.0).reshape(9, 9), Grid("EPSG:32741", 448_003.0, 5_437_990.0, 10.0, 10.0, 9, 9)
        )
        whole = first_of(task_for(self.operation.name, {"surface": coarse}, self.frame, {"trim": False})).read_all()
        box = [448_020.0, 5_437_930.0, 448_041.0, 5_437_960.0]  # its eastern side lies in the middle of a cell
        cut = first_of(task_for(self.operation.name, {"surface": coarse}, self.frame, {"bounds": box}))
        self.assertEqual((cut.grid.rows, cut.grid.cols), (15, 11))
        row, col = self.frame.grid.offset_of(cut.grid)
        np.testing.assert_array_equal(cut.read_all(), whole[row : row + 15, col : col + 11])
        masked = first_of(
            task_for(self.operation.name, {"surface": coarse}, self.frame, {"bounds": box, "trim": False})
        ).read_all()
        self.assertEqual(np.isfinite(masked).sum(), 15 * 11)
        np.testing.assert_array_equal(masked[row : row + 15, col : col + 11], cut.read_all())
        self.assertEqual(self.found(coarse, bounds=[5, 5, 5, 9])["bounds"].weight, "stop")
        self.assertIn("outside the frame", self.found(coarse, bounds=[0, 0, 5, 9])["bounds"].sentence)
        beside = [448_110.0, 5_437_890.0, 448_130.0, 5_437_910.0]  # in the frame, where the surface is not
        self.assertIn("outside the surface", self.found(coarse, bounds=beside)["bounds"].sentence)
