import errno
import gc
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.drain import blocks
from yama.terrain.drain import drainage as drainage_module
from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.blocks import Raster
from yama.terrain.drain.conditioning import Limits
from yama.terrain.drain.directions import directions
from yama.terrain.drain.drainage import Conditioning, DrainedSurface, Known
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.large import LargeDrainage
from yama.terrain.drain.tests.made import grid_of, heights_of_many_kinds
from yama.terrain.errors import InputError
from yama.terrain.grid import Window
from yama.terrain.surface import ArraySurface


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

    def drained(self, tells, how=None):
        return DrainedSurface(self.surface, how or Conditioning("fill"), Known(), tells)

    def test_what_is_told_is_what_is_told_at_once(self):
        for tells in ("heights", "change", "one"):
            whole = self.drained(tells)
            whole.prepare()
            with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
                large = self.drained(tells)
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

    def test_streams_are_the_same(self):
        with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
            large = drainage_module.large_drainage(self.surface, Conditioning("fill"), Known(), True)
        whole = drainage_module.drainage(self.surface, Conditioning("fill"))
        for area in (60.0, 400.0, 4_000.0):
            mine, theirs = (found.channels(area).streams(area).features() for found in (large, whole))
            self.assertEqual(len(mine), len(theirs))
            links = [
                sorted(
                    zip(
                        [line.wkb for line in one.geometries],
                        *(one.attributes[name] for name in ("order", "magnitude", "length", "area", "fall", "level")),
                        strict=True,
                    )
                )
                for one in (mine, theirs)
            ]
            self.assertEqual(links[0], links[1])
        with self.assertRaisesMessage(InputError, "Let streams begin at less"):
            large.channels(1e9)

    def test_its_files_go_with_it_and_with_what_failed(self):
        with TemporaryDirectory() as folder, mock.patch("tempfile.tempdir", folder):
            found = LargeDrainage.worked_out(self.surface, True)
            self.assertEqual(len(list(Path(folder).iterdir())), 1)
            del found
            gc.collect()
            self.assertEqual(list(Path(folder).iterdir()), [])

            def stop(share):
                if share > 0.3:
                    raise KeyboardInterrupt

            with self.assertRaises(KeyboardInterrupt):
                LargeDrainage.worked_out(self.surface, True, progress=stop)
            self.assertEqual(list(Path(folder).iterdir()), [])

    def test_a_full_disk_is_told_before_anything_is_worked_out(self):
        full = OSError(errno.ENOSPC, "No space left on device")
        with TemporaryDirectory() as folder, mock.patch("tempfile.tempdir", folder):
            with mock.patch("os.posix_fallocate", side_effect=full), self.assertRaises(InputError):
                LargeDrainage.worked_out(self.surface, True)
            self.assertEqual(list(Path(folder).iterdir()), [])

    def test_what_cannot_be_done_in_blocks_says_so(self):
        with mock.patch.object(drainage_module, "_MOST_CELLS", 1_000):
            for tells, how in (
                ("heights", Conditioning("lesser")),
                ("heights", Conditioning("fill", sea=1.0)),
                ("heights", Conditioning("fill", Limits(depth=2.0))),
                ("many", Conditioning("fill")),
            ):
                with self.assertRaisesMessage(InputError, "make it coarser"):
                    self.drained(tells, how).prepare()
            with self.assertRaisesMessage(InputError, "Clip it, or make it coarser"):
                drainage_module.drainage(self.surface, Conditioning("breach"))
