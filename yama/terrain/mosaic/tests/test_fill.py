"""Holes filled: closed forms, twins, limits, and the same cells from every window."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import get_args
from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.errors import GridError, InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic import fill
from yama.terrain.mosaic.fill import Filled, FilledCells, Method, fill_hole
from yama.terrain.operations import find, parse_params
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import ArraySurface, StoredSurface, store
from yama.terrain.tests.places import LOCAL

GRID = Grid(LOCAL, 1_000.0, 3_000.0, 2.0, 2.0, 90, 110)


def plane() -> np.ndarray:
    r, c = np.mgrid[: GRID.rows, : GRID.cols]
    return 100 + 0.3 * r - 0.2 * c


def rough() -> np.ndarray:
    r, c = np.mgrid[: GRID.rows, : GRID.cols]
    return 100 + 8 * np.sin(r / 9) * np.cos(c / 11) + 0.1 * c


def holed(heights: np.ndarray) -> ArraySurface:
    """One small hole, one across the corner of four parts of 32 cells, a ring, a wide one, and one at the edge."""
    found = heights.astype(np.float32)
    found[10:14, 20:25] = np.nan
    found[28:37, 60:68] = np.nan
    found[50:61, 20:31] = np.nan
    found[54:57, 24:27] = heights[54:57, 24:27]
    found[60:85, 60:100] = np.nan
    found[:6, 90:96] = np.nan
    return ArraySurface(found, GRID)


class FillTest(SimpleTestCase):
    def setUp(self) -> None:
        original = fill.BLOCK
        fill.BLOCK = 32
        self.addCleanup(setattr, fill, "BLOCK", original)

    def filled(self, surface: ArraySurface, method: Method = "facets", across: float = 40.0, other=None) -> Filled:
        return Filled(surface, method, across, other)

    def test_a_plane_stays_a_plane_but_for_means(self) -> None:
        surface, wanted = holed(plane()), plane()
        for method in ("facets", "plate"):
            found = self.filled(surface, method).read_all()
            filled = ~np.isnan(found)
            np.testing.assert_allclose(found[filled], wanted[filled], atol=2e-2, err_msg=method)
        by_distance = self.filled(surface, "distance").read_all()
        known = surface.read_all()
        self.assertGreaterEqual(np.nanmin(by_distance), np.nanmin(known))
        self.assertLessEqual(np.nanmax(by_distance), np.nanmax(known))

    def test_what_is_too_wide_or_at_the_edge_stays(self) -> None:
        found = self.filled(holed(plane()), across=22.0).read_all()
        self.assertTrue(np.isnan(found[60:85, 60:100]).all())
        self.assertTrue(np.isnan(found[:6, 90:96]).all())
        self.assertEqual(np.isnan(found).sum(), 25 * 40 + 6 * 6)
        self.assertEqual(
            np.isnan(self.filled(holed(plane()), across=20.0).read_all()).sum(), 25 * 40 + 36 + 11 * 11 - 9
        )
        self.assertEqual(np.isnan(self.filled(holed(plane()), across=80.0).read_all()).sum(), 36)
        self.assertEqual(
            np.isnan(self.filled(holed(plane()), across=1.0).read_all()).sum(),
            np.isnan(holed(plane()).read_all()).sum(),
        )

    def test_known_cells_are_never_touched(self) -> None:
        surface = holed(rough())
        known = ~np.isnan(surface.read_all())
        for method in get_args(Method):
            found = self.filled(surface, method, 90.0, ArraySurface(rough() + 5, GRID)).read_all()
            np.testing.assert_array_equal(found[known], surface.read_all()[known])

    def test_any_window_and_the_stored_file_have_the_same_cells(self) -> None:
        rng = np.random.default_rng(2)
        other = ArraySurface(rough() + 3, GRID)
        for method in get_args(Method):
            live = self.filled(holed(rough()), method, 60.0, other)
            whole = live.read_all()
            with tempfile.TemporaryDirectory() as folder:
                store(live, Path(folder) / "f.tif")
                np.testing.assert_array_equal(StoredSurface(Path(folder) / "f.tif").read_all(), whole)
            for _ in range(5):
                window = Window(int(rng.integers(-5, 70)), int(rng.integers(-5, 90)), 25, 31)
                fresh = self.filled(holed(rough()), method, 60.0, other).read(window)
                inside = window.clipped(GRID.rows, GRID.cols)
                top, left = inside.row - window.row, inside.col - window.col
                np.testing.assert_array_equal(
                    fresh[top : top + inside.rows, left : left + inside.cols],
                    whole[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols],
                )

    def test_from_another_surface_no_step_is_left(self) -> None:
        truth = rough()
        r, c = np.mgrid[: GRID.rows, : GRID.cols]
        leaning = ArraySurface(truth + 12 + 0.05 * r - 0.03 * c, GRID)  # an offset and a tilt
        found = self.filled(holed(truth), "other", 100.0, leaning).read_all()
        inside = np.isnan(holed(truth).read_all()) & ~np.isnan(found)
        self.assertLess(np.abs(found - truth)[inside].max(), 0.1)
        alone = self.filled(holed(truth), "facets", 100.0).read_all()
        self.assertGreater(np.abs(alone - truth)[inside].max(), 3.0)

    def test_where_the_other_is_empty_too_it_stays_empty(self) -> None:
        beside = rough()
        beside[30:34, 62:64] = np.nan
        found = self.filled(holed(rough()), "other", 30.0, ArraySurface(beside, GRID)).read_all()
        np.testing.assert_array_equal(np.isnan(found[28:37, 60:68]), np.isnan(beside[28:37, 60:68]))
        nowhere = ArraySurface(np.full(beside.shape, np.nan), GRID)
        self.assertTrue(np.isnan(self.filled(holed(rough()), "other", 30.0, nowhere).read_all()[28:37, 60:68]).all())

    def test_means_by_distance_against_their_twin(self) -> None:
        heights = rough()[:12, :12].astype(np.float32)
        hole = np.zeros((12, 12), np.bool_)
        hole[4:8, 4:7] = True
        heights[hole] = np.nan
        rim = np.zeros_like(hole)
        rim[3:9, 3:8] = True
        rim &= ~hole
        points = np.argwhere(rim)
        wanted = []
        for cell in np.argwhere(hole):
            weights = 1 / ((points - cell) ** 2).sum(axis=1)
            wanted.append((weights * heights[rim]).sum() / weights.sum())
        np.testing.assert_allclose(fill_hole(heights, hole, "distance"), wanted, rtol=1e-9)

    def test_a_small_hole_at_once_is_the_same_plate(self) -> None:
        for tension in (0.0, 1.0):
            heights = rough()[20:40, 30:54].astype(np.float64)
            hole = np.zeros(heights.shape, np.bool_)
            hole[8:13, 9:16] = True
            hole[13, 10:13] = True
            band = ndimage.binary_dilation(hole, np.ones((3, 3)), 3) & ~hole
            heights[hole] = np.nan
            at_once = fill._by_plate(heights, hole, band, tension)
            with mock.patch("yama.terrain.mosaic.fill._SMALL", 0):
                by_levels = fill._by_plate(heights, hole, band, tension)
            np.testing.assert_allclose(at_once, by_levels, atol=0.02)

    def test_filled_cells_are_remembered(self) -> None:
        live = self.filled(holed(rough()), "plate", 60.0)
        marks = FilledCells(live).read_all()
        was, now = holed(rough()).read_all(), live.read_all()
        np.testing.assert_array_equal(marks == 1, np.isnan(was) & ~np.isnan(now))
        self.assertTrue(np.isnan(marks[~np.isnan(was)]).all())

    def test_what_cannot_be_done_is_said(self) -> None:
        surface = holed(plane())
        with self.assertRaisesMessage(InputError, "more than 2000 cells wide"):
            self.filled(surface, across=5_000.0)
        with self.assertRaisesMessage(InputError, "needs that surface"):
            self.filled(surface, "other")
        with self.assertRaisesMessage(GridError, "not on the same grid"):
            self.filled(surface, "other", 40.0, ArraySurface(np.ones((4, 4)), GRID.part(Window(0, 0, 4, 4))))


class OperationTest(SimpleTestCase):
    operation = find("fill_voids")
    frame = Frame(GRID, "m", "")

    def found(self, other=None, surface=None, **params) -> dict:
        inputs = {"surface": surface or holed(rough()), **({"other": other} if other else {})}
        taken = inputs
        return {one.code: one for one in task_for(self.operation.name, taken, self.frame, params).findings}

    def test_findings(self) -> None:
        self.assertEqual(self.found(), {})
        self.assertEqual(self.found(across=9_000, across_in="m")["wide"].fix.set_params, {"across": 4_000})
        self.assertEqual(self.found(across=2_001)["wide"].fix.set_params, {"across": 2_000})
        self.assertEqual(self.found(across=2_000), {k: v for k, v in self.found(across=2_000).items() if k == "guess"})
        self.assertEqual(self.found(across=1, across_in="m")["narrow"].weight, "stop")
        self.assertEqual(self.found(across=300, across_in="m")["guess"].weight, "note")
        self.assertEqual(self.found(method="other")["no_other"].fix.set_params, {"method": "facets"})
        feet = ArraySurface(np.ones((90, 110)), GRID, "ft")
        away = ArraySurface(np.ones((4, 4)), Grid(LOCAL, 90_000.0, 3_000.0, 2.0, 2.0, 4, 4))
        self.assertEqual(set(self.found(feet, method="other")), {"unit"})
        self.assertEqual(set(self.found(away, method="other")), {"outside"})
        with self.assertRaisesMessage(InputError, "lies elsewhere"):
            first_of(
                task_for(
                    self.operation.name, {"surface": holed(rough()), "other": away}, self.frame, {"method": "other"}
                )
            )

    def test_a_coarser_surface_is_fitted_before_it_fills(self) -> None:
        coarse = Grid(LOCAL, 990.0, 3_010.0, 6.0, 6.0, 40, 45)
        x, y = np.meshgrid(coarse.x_of(np.arange(45)), coarse.y_of(np.arange(40)))
        other = ArraySurface(107 - 0.1 * (x - 1_001) - 0.15 * (y - 2_999), coarse)  # the plane, 7 m too high
        params = parse_params(self.operation, {"method": "other", "across": 100, "across_in": "m"})
        found = first_of(
            task_for(self.operation.name, {"surface": holed(plane()), "other": other}, self.frame, params)
        ).read_all()
        filled = ~np.isnan(found)
        np.testing.assert_allclose(found[filled], plane()[filled], atol=0.02)
        marks = task_for("fill_voids", {"surface": holed(plane())}, self.frame)
        self.assertEqual(marks.outputs["filled"].quantity, "count")
        filled = marks.run().surface("filled")
        self.assertEqual(set(np.unique(filled.read_all()[~np.isnan(filled.read_all())])), {1.0})

    def test_a_width_in_cells_fills_whatever_the_size_of_a_cell(self) -> None:
        for size in (2.0, 90.0, 1 / 1200):
            crs = "EPSG:4326" if size < 1 else LOCAL
            grid = Grid(crs, 10.0, 20.0, size, size, 90, 110)
            surface = ArraySurface(holed(rough()).read_all(), grid)
            run = first_of(task_for(self.operation.name, {"surface": surface}, Frame(grid), {"across": 11}))
            found = run.read_all()
            self.assertTrue(np.isfinite(found[10:14, 20:25]).all() and np.isfinite(found[50:61, 20:31]).all(), size)
            self.assertTrue(np.isnan(found[60:85, 60:100]).all())

    def test_what_was_filled_and_what_is_left_is_said(self) -> None:
        with mock.patch.object(fill, "BLOCK", 32):
            made = first_of(task_for(self.operation.name, {"surface": holed(rough())}, self.frame, {"across": 12}))
            self.assertEqual(made.findings, [])  # nothing is known before it is made
            before, after = np.isnan(holed(rough()).read_all()), np.isnan(made.read_all())
            filled, left = made.findings
        self.assertEqual(filled.sentence, f"{int((before & ~after).sum())} cells were filled.")
        self.assertEqual((left.weight, left.code), ("caution", "left"))
        self.assertIn("1 hole with 1000 empty cells left, the largest 40 cells (80 m) across", left.sentence)
