"""Cloud-optimised GeoTIFFs: read by a library as they were meant, whole or absent, in types that hold what they are given."""

import subprocess
import sys
from unittest import mock

import numpy as np
import rasterio
from pyproj import CRS

from yama.terrain import cog
from yama.terrain.cog import Block, Encoding, Writer
from yama.terrain.errors import InputError
from yama.terrain.formats import raster
from yama.terrain.formats.cell_types import encoding_for
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, Statistics, StoredSurface, store
from yama.terrain.tests.test_surface import FolderTest, rough

_STORE_IN_LITTLE_ROOM = """
import resource, sys
import numpy as np
from pathlib import Path
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, store
heights = np.random.default_rng(1).normal(0, 50, (1500, 1500))
surface = ArraySurface(heights, Grid("EPSG:32741", 0, 0, 2, 2, 1500, 1500))
room = int(sys.argv[2])
resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))
try:
    store(surface, Path(sys.argv[1]))
    print("stored")
except InputError as error:
    print(error)
"""


class LayoutTest(FolderTest):
    def test_a_library_reads_what_was_written(self):
        for rows, cols in ((1, 1), (200, 300), (256, 256), (257, 512), (513, 100), (1100, 1537)):
            surface = rough(rows, cols, holes=rows > 1)
            store(surface, self.folder / "s.tif", tags={"RECIPE": "a key"})
            with rasterio.open(self.folder / "s.tif") as dataset:
                np.testing.assert_array_equal(dataset.read(1), surface.read_all())
                self.assertEqual(dataset.crs.to_epsg(), 32741)
                self.assertEqual(dataset.transform, surface.grid.transform)
                self.assertTrue(np.isnan(dataset.nodata))
                self.assertEqual(dataset.tags()["RECIPE"], "a key")
                self.assertEqual(dataset.tags(ns="IMAGE_STRUCTURE")["LAYOUT"], "COG")
                overviews = dataset.overviews(1)
            self.assertEqual(overviews, [2**n for n in range(1, len(overviews) + 1)])
            self.assertLessEqual(-(-max(rows, cols) // 2 ** len(overviews)), cog.TILE)

    def test_a_large_file_is_as_good(self):
        surface = rough(700, 900)
        store(surface, self.folder / "small.tif")
        with mock.patch("yama.terrain.cog._CLASSIC_LIMIT", 0):
            store(surface, self.folder / "large.tif")
        self.assertEqual((self.folder / "large.tif").read_bytes()[:4], b"II+\0")
        for level in (0, 1, 2):
            whole = surface.grid.at_level(level).whole
            one, other = (StoredSurface(self.folder / f"{name}.tif").read(whole, level) for name in ("small", "large"))
            np.testing.assert_array_equal(one, other)

    def test_the_order_of_blocks_does_not_matter(self):
        surface = rough(1100, 1537)
        windows = list(surface.grid.blocks(cog.BLOCK))
        files = []
        for order in (windows, windows[::-1], [windows[i] for i in np.random.default_rng(3).permutation(len(windows))]):
            path = self.folder / f"{len(files)}.tif"
            with Writer(path, surface.grid) as writer:
                for window in order:
                    writer.add(window, Block.of(surface.read(window), cog.FLOATS))
                writer.finish()
            files.append(path.read_bytes())
        self.assertEqual(files[0], files[1])
        self.assertEqual(files[0], files[2])

    def test_a_block_that_is_missing_makes_no_file(self):
        surface = rough(600, 600)
        windows = list(surface.grid.blocks(cog.BLOCK))
        with Writer(self.folder / "s.tif", surface.grid) as writer:
            for window in windows[1:]:
                writer.add(window, Block.of(surface.read(window), cog.FLOATS))
            with self.assertRaises(ValueError):
                writer.finish()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_full_disk_is_told_and_leaves_nothing(self):
        # room for some tiles; and for all of them, but not for the file with their places as well
        store(ArraySurface(np.random.default_rng(1).normal(0, 50, (1500, 1500)),
                           Grid("EPSG:32741", 0, 0, 2, 2, 1500, 1500)), self.folder / "s.tif")  # fmt: skip
        size = (self.folder / "s.tif").stat().st_size
        (self.folder / "s.tif").unlink()
        for room, says in ((1_000_000, "no room left"), (size - 100, "no room left"), (size, "stored")):
            path = self.folder / "full.tif"
            done = subprocess.run(
                [sys.executable, "-c", _STORE_IN_LITTLE_ROOM, str(path), str(room)],
                capture_output=True,
                text=True,
                check=True,
            )
            self.assertIn(says, done.stdout)
            self.assertEqual([one.name for one in self.folder.iterdir()], ["full.tif"] if says == "stored" else [])


class CellTypeTest(FolderTest):
    def test_whole_numbers_are_heights_of_a_step(self):
        surface = rough(300, 400)
        for cell_type, scale in (("int16", 0.05), ("int32", 0.001), ("uint16", 0.1)):
            surface = ArraySurface(np.abs(surface.read_all()), surface.grid)
            found = store(surface, self.folder / "f.tif")
            encoding, findings = encoding_for(found, cell_type, scale)
            self.assertEqual(findings, [])
            store(surface, self.folder / "w.tif", encoding=encoding)
            with rasterio.open(self.folder / "w.tif") as dataset:
                self.assertEqual((dataset.dtypes[0], dataset.scales[0]), (cell_type, scale))
                cells = dataset.read(1, masked=True) * scale
            heights = surface.read_all()
            np.testing.assert_array_equal(np.ma.getmaskarray(cells), np.isnan(heights))
            np.testing.assert_allclose(cells.compressed(), heights[~np.isnan(heights)], atol=scale * 0.501)
            again = StoredSurface(self.folder / "w.tif").read_all()
            np.testing.assert_allclose(again, heights, atol=scale * 0.501)

    def test_empty_is_a_value_outside_the_range(self):
        encoding, _ = encoding_for(Statistics(lowest=-12_000.0, highest=10.0), nan=False)
        self.assertEqual(encoding.nodata, -32768.0)
        surface = rough(40, 50)
        store(surface, self.folder / "f.tif", encoding=Encoding(nodata=-9999.0))
        with rasterio.open(self.folder / "f.tif") as dataset:
            self.assertEqual(dataset.nodata, -9999.0)
            self.assertEqual((dataset.read(1) == -9999.0).sum(), np.isnan(surface.read_all()).sum())

    def test_a_type_that_cannot_hold_the_range_is_refused_with_a_step_that_can(self):
        found = Statistics(lowest=-3.0, highest=845.0)
        _, (finding,) = encoding_for(found, "int16", 0.01)
        self.assertEqual((finding.code, finding.weight), ("range", "stop"))
        step = finding.fix.set_params["step"]
        self.assertEqual(step, 0.05)
        self.assertEqual(encoding_for(found, "int16", step)[1], [])
        _, (finding,) = encoding_for(found, "uint16", 0.1)
        self.assertIn("sign", finding.why)

    def test_steps_that_round_relief_away_are_cautioned(self):
        _, (finding,) = encoding_for(Statistics(lowest=0.0, highest=845.0), "int16", 1.0)
        self.assertEqual((finding.code, finding.weight), ("steps", "caution"))
        _, (finding,) = encoding_for(Statistics(lowest=10.0, highest=12.0), "int16", 0.1)
        self.assertEqual(finding.code, "steps")
        self.assertEqual(encoding_for(Statistics(lowest=0.0, highest=845.0), "int32")[1], [])

    def test_nonsense_is_refused(self):
        found = Statistics(lowest=0.0, highest=1.0)
        for cell_type, scale in (("float16", 1.0), ("int16", -1.0), ("int16", float("nan"))):
            with self.assertRaises(InputError):
                encoding_for(found, cell_type, scale)


class ZeroLevelTest(FolderTest):
    def test_what_is_given_away_says_its_zero_in_its_crs_and_comes_back_the_same(self):
        for datum, unit, wanted in (
            ("Sundrel mean sea level", "m", ("Sundrel mean sea level", "metre")),
            ("EPSG:5773", "m", ("EGM96 height", "metre")),
        ):
            source = rough(40, 50)
            surface = ArraySurface(source.read_all(), source.grid, unit, datum)
            path = self.folder / f"{datum[-4:]}{unit}.tif"
            store(surface, path, given_away=True)
            with rasterio.open(path) as dataset:
                crs = CRS.from_wkt(dataset.crs.to_wkt())
            self.assertTrue(crs.is_compound)
            self.assertEqual(crs.sub_crs_list[0].to_epsg(), 32741)
            self.assertEqual((crs.sub_crs_list[1].name, crs.sub_crs_list[1].axis_info[0].unit_name), wanted)
            self.assertEqual(StoredSurface(path).grid, source.grid)
            back = raster.read(path)
            self.assertEqual((back.grid, back.vertical_datum), (source.grid, datum))
            np.testing.assert_array_equal(back.read_all(), source.read_all())
            facts = raster.inspect(path)
            self.assertEqual((facts.crs, facts.vertical_datum), ("EPSG:32741", datum))

    def test_where_nothing_true_can_be_said_of_zero_the_crs_stays_plain(self):
        feet = ArraySurface(rough(40, 50).read_all(), rough(40, 50).grid, "ft", "Sundrel mean sea level")
        for name, surface in (("plain", rough(40, 50)), ("feet", feet)):  # a CRS in metres would lie about feet
            store(surface, self.folder / f"{name}.tif", given_away=True)
            with rasterio.open(self.folder / f"{name}.tif") as dataset:
                self.assertEqual(dataset.crs.to_epsg(), 32741)
                self.assertEqual(dataset.tags()["HEIGHT_UNIT"], surface.unit)
