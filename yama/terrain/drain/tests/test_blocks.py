import errno
import gc
import os
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
import shapely
from distributed import LocalCluster
from django.test import SimpleTestCase

from yama.terrain.cluster import ADDRESS
from yama.terrain.drain import blocks, working_off
from yama.terrain.drain import drainage as drainage_module
from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.blocks import Raster
from yama.terrain.drain.burning import Burning
from yama.terrain.drain.directions import directions
from yama.terrain.drain.drainage import Conditioning, DrainedSurface, Known
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.large import Given, LargeDrainage
from yama.terrain.drain.tests.made import grid_of, heights_of_many_kinds
from yama.terrain.drain.working_off import Limits
from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.surface import ArraySurface

_NOTHING, _ANY = Known(), Limits()


def in_blocks(cells, side):
    """Filled heights, directions and counts, block by block."""
    grid = grid_of(cells.shape)
    with TemporaryDirectory() as folder:
        filled, to, counts = (
            Raster.made(Path(folder) / f"{name}.npy", cells.shape, kind)
            for name, kind in (("filled", np.float32), ("to", np.int8), ("counts", np.int64))
        )
        blocks.fill(
            lambda window: cells[window.row : window.row + window.rows, window.col : window.col + window.cols],
            grid,
            filled,
            side,
        )
        blocks.directions(filled, grid, to, side)
        blocks.accumulate(to, grid, counts, side)
        whole = grid.whole
        return filled.read(whole), to.read(whole), counts.read(whole)


def at_once(cells):
    grid = grid_of(cells.shape)
    filled = hollows(cells, grid).filled()
    to = directions(filled, grid)
    return filled, to, np.nan_to_num(accumulation(to))


class BlocksTest(SimpleTestCase):
    def compare(self, cells, side):
        for name, mine, whole in zip(("heights", "to", "counts"), in_blocks(cells, side), at_once(cells), strict=True):
            np.testing.assert_array_equal(mine, whole, err_msg=f"{name} in blocks of {side}:\n{cells!r}")

    def test_small_rasters_of_every_kind_are_the_same_in_any_blocks(self):
        for number, cells in enumerate(heights_of_many_kinds(45, seed=5)):
            self.compare(cells, 1 + number % 5)

    def test_rough_level_and_torn_ground_is_the_same_in_any_blocks(self):
        rng = np.random.default_rng(11)
        y, x = np.mgrid[0:150, 0:210]
        rolling = 20 * np.sin(x / 17) * np.cos(y / 13) + 0.05 * x
        rough = rolling + rng.normal(0, 0.5, rolling.shape)
        level = np.round(rolling / 4) * 4
        torn = rough.copy()
        torn[rng.random(torn.shape) < 0.01] = np.nan
        torn[40:90, 60:100] = np.nan
        for cells in (rough, level, torn, np.zeros_like(rough)):
            for side in (37, 64, 500):
                self.compare(cells.astype(np.float32), side)


class LargeTest(SimpleTestCase):
    """Surfaces of more cells than are held at once, which here are few."""

    def setUp(self):
        rng = np.random.default_rng(4)
        y, x = np.mgrid[0:130, 0:170]
        cells = 30 + 10 * np.sin(x / 15) * np.cos(y / 11) + rng.normal(0, 0.3, x.shape)
        cells[50:70, 60:90] = np.nan
        self.surface = ArraySurface(cells.astype(np.float32), grid_of(cells.shape))
        self.surface.name = "Wide"
        small = mock.patch.multiple("yama.terrain.drain.large", _COARSE=40), mock.patch.object(blocks, "SIDE", 64)
        for one in small:
            one.start()
            self.addCleanup(one.stop)

    def test_what_is_told_is_what_is_told_at_once(self):
        for tells, method, fall in (
            ("heights", "fill", 0.0),
            ("heights", "fill", 1e-3),
            ("change", "lesser", 1e-3),
            ("one", "fill", 0.0),
            ("many", "lesser", 0.0),
        ):
            how = Conditioning(method, sea=21.0)
            whole = DrainedSurface(self.surface, how, _NOTHING, tells, fall)
            whole.prepare()
            with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
                large = DrainedSurface(self.surface, how, _NOTHING, tells, fall)
                large.prepare()
            self.assertEqual(large.fingerprint, whole.fingerprint)
            for level in range(5):
                window = self.surface.grid.at_level(level).whole
                wide = Window(-3, -2, window.rows + 9, window.cols + 5)
                for one in (window, wide, Window(10 >> level, 20 >> level, 7, 9)):
                    mine, theirs = large.read(one, level), whole.read(one, level)
                    np.testing.assert_allclose(mine, theirs, rtol=2e-6, atol=2e-6, err_msg=f"{tells}, {level}, {one}")
            np.testing.assert_array_equal(
                large.read_exact(self.surface.grid.whole), whole.read_exact(self.surface.grid.whole)
            )

    def both(self, how, known=_NOTHING):
        """In blocks, and at once."""
        whole = drainage_module.drainage(self.surface, how, known)
        with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
            return drainage_module.water_over(self.surface, how, known), whole

    def test_streams_are_the_same(self):
        for how in (Conditioning("fill"), Conditioning("breach")):
            large, whole = self.both(how)
            for area in (60.0, 400.0, 4_000.0):
                mine, theirs = (found.channels(area).streams(area).features() for found in (large, whole))
                self.assertEqual(len(mine), len(theirs))
                names = ("order", "magnitude", "length", "area", "fall", "level")
                links = [
                    sorted(
                        zip(
                            [line.wkb for line in one.geometries],
                            *(one.attributes[name] for name in names),
                            strict=True,
                        )
                    )
                    for one in (mine, theirs)
                ]
                self.assertEqual(links[0], links[1])
        with self.assertRaisesMessage(InputError, "Let streams begin at less"):
            large.channels(1e9)

    def test_ground_of_outlets_links_and_basins_is_the_same(self):
        large, whole = self.both(Conditioning("lesser"))
        grid = self.surface.grid
        cells = np.argsort(-whole.counts.ravel(), kind="stable")[[0, 40, 400, 4_000]]
        rows, cols = np.divmod(cells, grid.cols)
        told = [
            found.catchments(
                [
                    found.outlet(float(grid.x_of(col)), float(grid.y_of(row)), 0.0)
                    for row, col in zip(rows, cols, strict=True)
                ]
            ).features()
            for found in (large, whole)
        ]
        self.assertEqual([one.wkb for one in told[0].geometries], [one.wkb for one in told[1].geometries])
        self.assertEqual(told[0].attributes, told[1].attributes)
        streams = whole.channels(400.0).streams(400.0)
        for mine, theirs in (
            (large.between(streams), whole.between(streams)),
            (large.basins(4_000.0), whole.basins(4_000.0)),
        ):
            np.testing.assert_array_equal(mine[0], theirs[0])
            np.testing.assert_allclose(mine[1][1:], theirs[1][1:])
        self.assertGreater(len(large.basins(4_000.0)[1]), 3)

    def test_hollows_are_the_same(self):
        lake = shapely.Point(500_210.0, 5_435_860.0).buffer(40.0)
        for depth, count in ((0.0, 30), (0.4, 500), (50.0, 5)):
            mine, theirs = (
                drainage_module.hollows_of(self.surface, Conditioning(), _NOTHING, depth, count, [(lake, "Tarn")])
                for _ in self.large_and_not()
            )
            self.assertEqual([vars(one) | {"shape": 0} for one in mine], [vars(one) | {"shape": 0} for one in theirs])
            for one, other in zip(mine, theirs, strict=True):
                self.assertTrue(one.shape.equals(other.shape))
        self.assertEqual(mine, [])

    def large_and_not(self):
        with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
            yield True
        yield False

    def test_its_files_go_with_it_and_with_what_failed(self):
        with TemporaryDirectory() as folder, mock.patch("tempfile.tempdir", folder):
            found = LargeDrainage.worked_out(Given.read(self.surface), "fill")
            self.assertEqual(len(list(Path(folder).iterdir())), 1)
            del found
            gc.collect()
            self.assertEqual(list(Path(folder).iterdir()), [])

            def stop(share):
                if share > 0.3:
                    raise KeyboardInterrupt

            with self.assertRaises(KeyboardInterrupt):
                Given.read(self.surface, progress=stop)
            with self.assertRaises(KeyboardInterrupt):
                LargeDrainage.worked_out(Given.read(self.surface), "lesser", progress=stop)
            gc.collect()
            self.assertEqual(list(Path(folder).iterdir()), [])

    def test_a_full_disk_is_told_before_anything_is_worked_out(self):
        full = OSError(errno.ENOSPC, "No space left on device")
        with TemporaryDirectory() as folder, mock.patch("tempfile.tempdir", folder):
            with mock.patch("os.posix_fallocate", side_effect=full), self.assertRaises(InputError):
                Given.read(self.surface)
            self.assertEqual(list(Path(folder).iterdir()), [])

    def test_what_cannot_be_says_so(self):
        nothing = ArraySurface(np.full((130, 170), np.nan, np.float32), self.surface.grid)
        nothing.name = "Void"
        with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
            for surface, how, said in (
                (self.surface, Conditioning("fill", sea=500.0), "All of it lies below a sea of 500 m"),
                (self.surface, Conditioning("fill", burning=Burning(2.0, 1.0)), "There are no lines to burn in"),
                (nothing, Conditioning("fill"), "Every cell of Void is empty"),
            ):
                with self.assertRaisesMessage(InputError, said):
                    drainage_module.water_over(surface, how)
            with self.assertRaisesMessage(InputError, "Clip it, or make it coarser"):
                drainage_module.heights_of(self.surface)


class ConditionedTest(SimpleTestCase):
    """Whatever becomes of hollows, it is the same in blocks."""

    def setUp(self):
        held = mock.patch.object(working_off, "_ROOM", 64)  # so that searches run out of room
        held.start()
        self.addCleanup(held.stop)

    def compare(self, cells, side, method="lesser", limits=_ANY, sea=None, burning=None, known=_NOTHING):
        surface = ArraySurface(cells, grid_of(cells.shape))
        said = f"{method}, {limits}, sea {sea}, {known}, in blocks of {side}:\n{cells!r}"
        try:
            whole = drainage_module.drainage(surface, Conditioning(method, limits, sea, burning), known)
        except InputError as error:
            with self.assertRaises(InputError) as caught:
                Given.read(surface, sea, burning, known.streams, side)
            self.assertEqual(str(caught.exception).split(".")[0], str(error).split(".")[0].replace("ArraySurface", ""))
            return
        on = Given.read(surface, sea, burning, known.streams, side)
        large = LargeDrainage.worked_out(on, method, limits, known.lakes, known.waters, side=side)
        for name in ("heights", "to", "counts"):
            np.testing.assert_array_equal(getattr(large, name), getattr(whole, name), err_msg=f"{name}, {said}")
        self.assertEqual(large.burned, whole.burned, said)
        self.assertEqual(large.missed, whole.missed, said)
        mine, theirs = large.outcome(), whole.outcome()
        self.assertAlmostEqual(mine.moved, theirs.moved, 2, said)
        self.assertEqual(np.bincount(mine.done[1:]).tolist(), np.bincount(theirs.done[1:]).tolist(), said)
        self.assertEqual(large.ground(), whole.ground())

    def test_small_rasters_of_every_kind(self):
        for number, cells in enumerate(heights_of_many_kinds(36, seed=8)):
            method = ("breach", "lesser", "leave")[number % 3]
            sea = (None, 1.0, 2.0)[number // 3 % 3]
            limits = (Limits(), Limits(depth=1.5), Limits(area=12.0), Limits(length=5.0))[number // 9 % 4]
            self.compare(cells, 1 + number % 5, method, limits, sea)

    def test_rough_ground_with_all_that_is_known(self):
        rng = np.random.default_rng(12)
        y, x = np.mgrid[0:120, 0:160]
        rough = 20 * np.sin(x / 17) * np.cos(y / 13) + 0.05 * x + rng.normal(0, 0.5, x.shape)
        rough[40:60, 60:90] = np.nan
        cells = rough.astype(np.float32)
        grid = grid_of(cells.shape)
        at = [(float(grid.x_of(c)), float(grid.y_of(r))) for r, c in ((30, 80), (61, 26), (100, 130), (5, 5), (-9, 4))]
        known = Known(
            (shapely.Point(at[0]).buffer(50.0),),
            (shapely.LineString([at[1], at[2]]), shapely.LineString([(0, 0), (9, 9)])),
            tuple(at[2:]),
        )
        for side in (37, 64, 500):
            for method in ("fill", "lesser"):
                self.compare(cells, side, method, Limits(), -12.0, Burning(6.0, 2.0, 8.0), known)
        self.compare(np.round(cells / 4) * 4, 50, "breach", Limits(length=60.0), -16.0, Burning(1.0, 0.0), known)
        # heights that are just the sea's, of a number that 32 bits do not hold exactly
        tenths = np.where(cells < -12.1, np.float32(-12.1), cells)
        self.compare(tenths, 50, "fill", sea=-12.1)

    def test_water_that_is_shared_is_the_same(self):
        rng = np.random.default_rng(13)
        cells = (rng.random((90, 70)) * 5 + np.arange(70) / 9).astype(np.float32)
        cells[30:34, 30:36] = np.nan
        surface = ArraySurface(cells, grid_of(cells.shape))
        for flow in ("one", "two", "many"):
            whole = drainage_module.drainage(surface, Conditioning("lesser")).drained(flow)
            large = LargeDrainage.worked_out(Given.read(surface, side=40), "lesser", side=40)
            np.testing.assert_array_equal(large.drained(flow)(surface.grid.whole), whole)

    def test_workers_of_a_scheduler_make_the_same(self):
        rng = np.random.default_rng(14)
        cells = (rng.random((150, 130)) * 3 + np.arange(130) / 9).astype(np.float32)
        surface = ArraySurface(cells, grid_of(cells.shape))
        whole = drainage_module.drainage(surface, Conditioning("fill", sea=2.0))
        with (
            LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster,
            mock.patch.dict(os.environ, {ADDRESS: cluster.scheduler_address}),
        ):
            large = LargeDrainage.worked_out(Given.read(surface, 2.0, side=50), "fill", side=50)
            for name in ("heights", "to", "counts"):
                np.testing.assert_array_equal(getattr(large, name), getattr(whole, name))
            labels, _ = large.basins(0.0)
            np.testing.assert_array_equal(labels, whole.basins(0.0)[0])
