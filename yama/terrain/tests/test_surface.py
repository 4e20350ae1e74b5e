"""Surfaces: live = stored, levels are means, storing is whole or absent."""

import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import numpy as np
import rasterio
from django.test import SimpleTestCase

from yama.terrain.cog import halve
from yama.terrain.errors import CancelledError, GridError, InputError
from yama.terrain.fit.reproject import difference
from yama.terrain.grid import Grid, Window
from yama.terrain.relief.slope import slope
from yama.terrain.surface import (
    ArraySurface,
    LiveSurface,
    StoredSurface,
    sample,
    statistics,
    store,
)


def rough(rows=301, cols=403, seed=5, holes=True) -> ArraySurface:
    """Random heights with empty cells on a UTM grid."""
    rng = np.random.default_rng(seed)
    heights = rng.normal(200, 40, (rows, cols)).astype(np.float32)
    if holes:
        heights[rng.random((rows, cols)) < 0.1] = np.nan
        heights[40:90, 50:120] = np.nan
    return ArraySurface(heights, Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, rows, cols))


class FolderTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)


class StoreTest(FolderTest):
    def test_live_equals_stored_on_random_windows(self):
        first, second = rough(700, 1100, seed=1), rough(700, 1100, seed=2)
        for live in (difference(first, second), slope(first), slope(difference(first, second))):
            path = self.folder / "stored.tif"
            store(live, path)
            stored = StoredSurface(path)
            rng = np.random.default_rng(8)
            for _ in range(25):
                row, col = rng.integers(-30, 710), rng.integers(-30, 1110)
                window = Window(int(row), int(col), int(rng.integers(1, 150)), int(rng.integers(1, 150)))
                np.testing.assert_array_equal(live.read(window), stored.read(window))

    def test_stored_levels_are_means_of_the_cells_that_are_not_empty(self):
        surface = rough(1300, 2049)
        store(surface, self.folder / "s.tif")
        stored = StoredSurface(self.folder / "s.tif")
        expected = surface.read_all()
        for level in range(1, 6):
            expected = halve(expected)
            np.testing.assert_array_equal(stored.read(surface.grid.at_level(level).whole, level), expected)

    def test_threads_that_come_and_go_open_a_file_once(self):
        store(rough(), self.folder / "s.tif")
        surface = StoredSurface(self.folder / "s.tif")
        window = Window(3, 4, 20, 30)
        expected = surface.read(window)
        with mock.patch("yama.terrain.surface.stored.rasterio.open", wraps=rasterio.open) as opened:
            for _ in range(5):
                with ThreadPoolExecutor(1) as pool:
                    np.testing.assert_array_equal(pool.submit(surface.read, window).result(), expected)
            self.assertEqual(opened.call_count, 0)  # the handle that read first is lent on
            with mock.patch("yama.terrain.surface.stored.os.getpid", return_value=-1):
                surface.read(window)
            self.assertEqual(opened.call_count, 1)  # but not to a process that was forked

    def test_threads_at_one_time_read_alike(self):
        store(rough(), self.folder / "s.tif")
        surface = StoredSurface(self.folder / "s.tif")
        windows = [Window(n, 2 * n, 40, 30) for n in range(60)]
        expected = [surface.read(window) for window in windows]
        with ThreadPoolExecutor(8) as pool:
            for found, wanted in zip(pool.map(surface.read, windows), expected, strict=True):
                np.testing.assert_array_equal(found, wanted)

    def test_threads_at_one_time_need_the_same_levels(self):
        rng = np.random.default_rng(5)
        cells = rng.normal(0, 9, (700, 900)).astype(np.float32)
        grid = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, *cells.shape)
        single = ArraySurface(cells, grid)
        right = [single.read(grid.at_level(level).whole, level) for level in range(6)]
        for _ in range(30):
            surface = ArraySurface(cells, grid)
            with ThreadPoolExecutor(4) as pool:
                found = pool.map(lambda level, it=surface: it.read(grid.at_level(level).whole, level), [5, 5, 4, 5])
                for level, read in zip((5, 5, 4, 5), found, strict=True):
                    np.testing.assert_array_equal(read, right[level])

    def test_statistics_are_those_of_all_cells(self):
        surface = rough()
        heights = surface.read_all().astype(float)
        for found in (store(surface, self.folder / "s.tif"), statistics(surface)):
            self.assertEqual(found.cells, heights.size)
            self.assertEqual(found.empty, int(np.isnan(heights).sum()))
            self.assertAlmostEqual(found.mean, np.nanmean(heights), places=4)
            self.assertAlmostEqual(found.deviation, np.nanstd(heights), places=4)
            self.assertEqual((found.lowest, found.highest), (np.nanmin(heights), np.nanmax(heights)))

    def test_cancelling_leaves_nothing_behind(self):
        def stop(share):
            if share > 0.2:
                raise CancelledError("Cancelled.")

        with self.assertRaises(CancelledError), mock.patch("yama.terrain.surface.walking.BLOCK", 64):
            store(rough(), self.folder / "s.tif", stop)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_failure_while_reading_keeps_the_file_that_was_there(self):
        store(rough(), self.folder / "s.tif")
        before = (self.folder / "s.tif").read_bytes()

        def fail(arrays, grid):
            raise InputError("no")

        with self.assertRaises(InputError):
            store(LiveSurface([rough()], fail), self.folder / "s.tif")
        self.assertEqual((self.folder / "s.tif").read_bytes(), before)
        self.assertEqual(len(list(self.folder.iterdir())), 1)

    def test_the_file_says_crs_unit_and_zero_level(self):
        surface = rough(64, 64)
        surface.unit, surface.vertical_datum = "ft", "Sundrel mean sea level"
        store(surface, self.folder / "s.tif", tags={"RECIPE": "abc"})
        stored = StoredSurface(self.folder / "s.tif")
        self.assertEqual((stored.unit, stored.vertical_datum), ("ft", "Sundrel mean sea level"))
        self.assertEqual(stored.grid, surface.grid)
        with rasterio.open(self.folder / "s.tif") as dataset:
            self.assertEqual(dataset.tags()["RECIPE"], "abc")
            self.assertEqual(dataset.tags(ns="IMAGE_STRUCTURE")["LAYOUT"], "COG")

    def test_inputs_on_different_grids_are_refused(self):
        with self.assertRaisesMessage(GridError, "Fit them to the frame"):
            LiveSurface([rough(10, 10), rough(10, 11)], lambda arrays, grid: arrays[0])


class SampleTest(SimpleTestCase):
    def test_a_plane_is_read_exactly_anywhere_between_centres(self):
        grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 90, 700)
        xs, ys = grid.centres(grid.whole)
        plane = ArraySurface((xs[None, :] - 443_520) * 0.25 + (ys[:, None] - 5_442_000) * 0.5, grid)
        rng = np.random.default_rng(3)
        x = rng.uniform(xs[0], xs[-1], 400)
        y = rng.uniform(ys[-1], ys[0], 400)
        np.testing.assert_allclose(sample(plane, x, y), (x - 443_520) * 0.25 + (y - 5_442_000) * 0.5, atol=1e-3)

    def test_outside_beside_empty_and_not_a_number_are_empty(self):
        surface = rough(20, 20, holes=False)
        surface._levels[0][5, 5] = np.nan
        x, y = surface.grid.x_of([5, 5.5, 7, -3, 25]), surface.grid.y_of([5, 5, 7, 4, 4])
        found = sample(surface, np.append(x, np.nan), np.append(y, 1.0))
        np.testing.assert_array_equal(np.isnan(found), [True, True, False, True, True, True])
        # at the centre of a cell beside the empty one nothing of the empty one is needed
        self.assertAlmostEqual(
            float(sample(surface, surface.grid.x_of(6), surface.grid.y_of(5))[0]),
            float(surface.read_all()[5, 6]),
            places=3,
        )
