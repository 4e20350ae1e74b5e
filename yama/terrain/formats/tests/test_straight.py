"""Rasters that are no north-up grid of heights: flipped, turned, placed by control points, coded in colours, placed from beside."""

import contextlib
import io
import json
import math
import tempfile
import warnings
import zipfile
from pathlib import Path

import numpy as np
import rasterio
import shapely
from affine import Affine
from django.test import SimpleTestCase
from rasterio.control import GroundControlPoint

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.cli import main
from yama.terrain.errors import InputError, QuestionError
from yama.terrain.features import Features
from yama.terrain.formats import beside, raster, vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.straight import tile_place
from yama.terrain.surface import StoredSurface

CRS = "EPSG:32741"
WEST, NORTH, CELL = 448_000.0, 5_438_000.0, 5.0


def plane_at(x, y):
    return 100 + 0.02 * (x - WEST) - 0.03 * (y - NORTH)


class WithFiles(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)

    def write(self, cells, name="a.tif", driver="GTiff", gcps=None, **more):
        cells = np.atleast_3d(cells.T).T if cells.ndim == 2 else cells
        path = self.folder / name
        with rasterio.open(path, "w", driver=driver, width=cells.shape[2], height=cells.shape[1], count=cells.shape[0],
                           dtype=cells.dtype, **more) as dataset:  # fmt: skip
            dataset.write(cells)
            if gcps:
                dataset.gcps = (gcps, rasterio.CRS.from_user_input(CRS))
        return path

    def codes(self, path, declared=NOTHING):
        return {one.code: one.weight for one in raster.inspect(path, declared).findings}


class TurnedTest(WithFiles):
    def test_rows_and_columns_that_run_the_other_way_are_the_very_same_cells(self):
        cells = np.random.default_rng(1).random((70, 50), np.float32)
        cells[3, 4] = -9999
        plain = self.write(cells, "plain.tif", crs=CRS, transform=Affine(CELL, 0, WEST, 0, -CELL, NORTH), nodata=-9999)
        wanted = raster.read(plain)
        for name, turned, transform in (
            ("south.tif", cells[::-1], Affine(CELL, 0, WEST, 0, CELL, NORTH - 70 * CELL)),
            ("east.tif", cells[:, ::-1], Affine(-CELL, 0, WEST + 50 * CELL, 0, -CELL, NORTH)),
            ("both.tif", cells[::-1, ::-1], Affine(-CELL, 0, WEST + 50 * CELL, 0, CELL, NORTH - 70 * CELL)),
        ):
            path = self.write(turned, name, crs=CRS, transform=transform, nodata=-9999)
            found = raster.read(path)
            self.assertEqual(found.grid, wanted.grid)
            np.testing.assert_array_equal(found.read_all(), wanted.read_all())
            facts = raster.inspect(path)
            self.assertEqual({one.code: one.weight for one in facts.findings}["flipped"], "note")
            self.assertEqual(facts.statistics.highest, raster.inspect(plain).statistics.highest)

    def turned_plane(self, angle, shear=0.0):
        transform = (
            Affine.translation(WEST, NORTH) * Affine.rotation(-angle) * Affine.shear(shear) * Affine.scale(CELL, -CELL)
        )
        rows, cols = np.mgrid[:60, :80]
        x, y = transform @ (cols + 0.5, rows + 0.5)
        return plane_at(x, y).astype(np.float32), transform

    def test_a_plane_that_is_turned_stays_a_plane(self):
        for angle, shear in ((10.0, 0.0), (-63.0, 0.0), (90.0, 0.0), (25.0, 12.0)):
            cells, transform = self.turned_plane(angle, shear)
            path = self.write(cells, f"t{angle}{shear}.tif", crs=CRS, transform=transform)
            found = raster.read(path)
            x, y = np.meshgrid(*found.grid.centres(found.grid.whole))
            heights = found.read_all()
            filled = np.isfinite(heights)
            self.assertGreater(filled.sum() * found.grid.cell_width**2, 0.97 * 60 * 80 * abs(transform.determinant))
            inner = filled & np.isfinite(np.roll(heights, 1, 0)) & np.isfinite(np.roll(heights, -1, 0))
            inner &= np.isfinite(np.roll(heights, 1, 1)) & np.isfinite(np.roll(heights, -1, 1))
            self.assertLess(np.abs(heights - plane_at(x, y))[inner].max(), 0.05 * CELL)
            self.assertLess(np.median(np.abs(heights - plane_at(x, y))[inner]), 1e-4)
            self.assertEqual(self.codes(path)["turned"], "caution")

    def test_an_undeclared_void_is_not_blended_into_the_cells_around(self):
        cells, transform = self.turned_plane(20.0)
        cells[20:30, 30:40] = -9999
        path = self.write(cells, crs=CRS, transform=transform)
        self.assertEqual(self.codes(path)["void_taken"], "caution")
        self.assertGreater(np.nanmin(raster.read(path).read_all()), 50)

    def test_control_points_place_it_and_say_by_how_much_they_are_missed(self):
        cells, transform = self.turned_plane(8.0)
        corners = [(0, 0), (80, 0), (80, 60), (0, 60), (40, 30)]
        points = [GroundControlPoint(row, col, *(transform @ (col, row))) for col, row in corners]
        path = self.write(cells, gcps=points)
        found = raster.inspect(path)
        said = {one.code: one for one in found.findings}["control"]
        self.assertIn("5 control points, which are missed by up to 0.00 of its cells", said.sentence)
        held = raster.read(path)
        x, y = np.meshgrid(*held.grid.centres(held.grid.whole))
        apart = np.abs(held.read_all() - plane_at(x, y))
        self.assertLess(np.nanmedian(apart), 1e-3)
        points[4] = GroundControlPoint(30, 40, *(transform @ (43, 30)))
        said = {one.code: one for one in raster.inspect(self.write(cells, "b.tif", gcps=points)).findings}["control"]
        self.assertNotIn("up to 0.00", said.sentence)
        line = [GroundControlPoint(i, i, WEST + i, NORTH - i) for i in range(4)]
        self.assertEqual(self.codes(self.write(cells, "c.tif", gcps=line))["no_grid"], "stop")

    def test_one_that_is_sheared_beyond_sense_is_refused_at_once(self):
        path = self.write(np.ones((200, 200), np.float32), crs=CRS, transform=Affine(1, 400, WEST, 0, -1, NORTH))
        with self.assertRaisesMessage(InputError, "lies so askew"):
            raster.read(path)

    def test_many_control_points_follow_a_bend(self):
        rows, cols = np.mgrid[:60, :80]

        def ground(col, row):
            return WEST + CELL * col + 0.02 * col * row, NORTH - CELL * row + 0.03 * col**2

        x, y = ground(cols + 0.5, rows + 0.5)
        points = [
            GroundControlPoint(row, col, *ground(col, row)) for row in range(0, 61, 20) for col in range(0, 81, 20)
        ]
        held = raster.read(self.write(plane_at(x, y).astype(np.float32), gcps=points))
        x, y = np.meshgrid(*held.grid.centres(held.grid.whole))
        self.assertLess(np.nanmedian(np.abs(held.read_all() - plane_at(x, y))), 0.1)


class BandsTest(WithFiles):
    transform = Affine(CELL, 0, WEST, 0, -CELL, NORTH)

    def test_which_of_several_bands_is_asked(self):
        cells = np.stack([np.full((9, 9), value, np.float32) for value in (1, 70, 3)])
        path = self.write(cells, crs=CRS, transform=self.transform)
        with rasterio.open(path, "r+") as dataset:
            dataset.set_band_description(2, "bare ground")
        with self.assertRaises(QuestionError) as asked:
            raster.read(path)
        answers = asked.exception.findings[0].answers
        self.assertEqual([one.label for one in answers], ["Band 1", "Band 2, bare ground", "Band 3", "It is a picture"])
        declared = Declared.from_dict(answers[1].set_params)
        self.assertEqual(float(raster.read(path, declared).read_all().mean()), 70.0)
        self.assertEqual(raster.inspect(path, declared).statistics.highest, 70.0)
        with self.assertRaisesMessage(InputError, "has 3 bands, no band 4"):
            raster.read(path, Declared(band=4))

    def test_heights_coded_in_colours(self):
        heights = np.array([[-12.5, 0.0], [8.25, 1234.5]])
        for code, tolerance in (("fraction", 1 / 256), ("tenth", 0.05)):
            whole = np.round((heights + 32768) * 256) if code == "fraction" else np.round((heights + 10_000) * 10)
            colours = np.stack([whole // 65536, whole // 256 % 256, whole % 256]).astype(np.uint8)
            path = self.write(colours, f"{code}.png", "PNG")
            with self.assertRaises(QuestionError):
                raster.read(path)
            declared = Declared(tile="9/344/321", coded=code)
            found = raster.read(path, declared)
            np.testing.assert_allclose(found.read_all(), heights, atol=tolerance)
            self.assertEqual(found.grid.crs, "EPSG:3857")
            facts = raster.inspect(path, declared)
            self.assertAlmostEqual(facts.statistics.highest, 1234.5, delta=tolerance)
        grey = self.write(np.ones((4, 4), np.uint8), "grey.png", "PNG")
        self.assertEqual(self.codes(grey, Declared(tile="9/344/321", coded="fraction"))["no_colours"], "stop")

    def test_tiles_lie_where_the_scheme_says(self):
        place = tile_place("1/1/0", 256)
        self.assertAlmostEqual(place.c, 0.0)
        self.assertAlmostEqual(place.f, math.pi * 6_378_137.0, places=3)
        self.assertAlmostEqual(place.a * 256, math.pi * 6_378_137.0, places=3)
        for wrong in ("9/344", "a/b/c", "1/2/0", "1/0/2", "25/0/0", "1/-1/0", "²/1/1"):
            with self.assertRaises(InputError):
                Declared(tile=wrong)

    def test_a_picture_of_colours_is_no_surface_unless_somebody_says_so(self):
        path = self.write(np.zeros((3, 8, 8), np.uint8), crs=CRS, transform=self.transform)
        with self.assertRaisesMessage(QuestionError, "A picture of colours holds none"):
            raster.read(path)


class BesideTest(WithFiles):
    def setUp(self):
        super().setUp()
        self.cells = np.random.default_rng(2).random((20, 30), np.float32) * 100
        self.tif = self.write(self.cells, "bare.tif")
        self.world = f"{CELL}\n0\n0\n-{CELL}\n{WEST + CELL / 2}\n{NORTH - CELL / 2}\n"
        self.prj = rasterio.CRS.from_user_input(CRS).to_wkt(version="WKT1_GDAL")
        self.xml = (
            f"<PAMDataset><SRS>{self.prj}</SRS><GeoTransform>{WEST}, {CELL}, 0, {NORTH}, 0, -{CELL}</GeoTransform>"
            '<PAMRasterBand band="1"><NoDataValue>-9999</NoDataValue></PAMRasterBand></PAMDataset>'
        )

    def zipped(self, **files):
        path = self.folder / "all.zip"
        with zipfile.ZipFile(path, "w") as pack:
            pack.write(self.tif, "bare.tif")
            for name, text in files.items():
                pack.writestr(name.replace("__", "."), text)
        return path

    def test_without_any_position_it_says_so(self):
        with self.assertRaisesMessage(QuestionError, "bare.tif does not say where it lies"):
            raster.read(self.tif)

    def test_a_world_file_and_a_crs_in_a_zip(self):
        for files in ({"bare__tfw": self.world, "bare__prj": self.prj}, {"bare__tif__aux__xml": self.xml}):
            out = self.folder / f"out{len(files)}"
            out.mkdir()
            (member,), left = readers.unpack(self.zipped(**files), "all.zip", out)
            self.assertEqual((left, member.name), ([], "bare.tif"))
            found = raster.read(member.path, member.declared, member.name)
            self.assertEqual(found.grid.crs, CRS)
            self.assertEqual((found.grid.west, found.grid.north, found.grid.cell_width), (WEST, NORTH, CELL))
            np.testing.assert_array_equal(found.read_all(), self.cells)

    def test_they_do_not_count_where_the_raster_says_it_itself(self):
        path = self.write(self.cells, crs=CRS, transform=Affine(1, 0, 5, 0, -1, 9))
        (self.folder / "a.tfw").write_text(self.world)
        (self.folder / "a.prj").write_text("EPSG:32742")
        declared, _ = readers.placed_in(path, NOTHING, "")
        self.assertEqual(declared, NOTHING)

    def test_wrong_ones_are_named(self):
        for files, said in (
            (
                {"bare__tfw": "1 2 3", "bare__prj": self.prj},
                "bare.tfw is no world file: that is six numbers, and these are 3",
            ),
            ({"bare__tfw": self.world, "bare__prj": "nonsense"}, "bare.prj does not say a CRS"),
            ({"bare__tif__aux__xml": "<!DOCTYPE a [<!ENTITY b 'c'>]><PAMDataset/>"}, "defines entities"),
            ({"bare__tfw": "9" * 1_100_000}, "too large"),
        ):
            out = self.folder / f"out{said[:9]}"
            out.mkdir(exist_ok=True)
            found, left = readers.unpack(self.zipped(**files), "all.zip", out)
            self.assertEqual(found, [])
            self.assertIn(said, left[0])
        with self.assertRaisesMessage(InputError, "belongs to another file"):
            formats.family_of(self._lone("x.tfw", self.world))

    def _lone(self, name, text):
        path = self.folder / name
        path.write_text(text)
        return path

    def test_names_of_world_files(self):
        for raster_name, other, kind in (
            ("a/B.TIF", "a/b.tfw", "world"), ("b.tif", "b.tifw", "world"), ("b.png", "b.pgw", "world"), ("b.tif", "b.wld", "world"),
            ("b.tif", "b.prj", "crs"), ("b.tif", "b.tif.aux.xml", "xml"), ("b.tif", "c.tfw", ""), ("a/b.tif", "b.tfw", ""),
            ("b.tif", "b_rpc.txt", "rpc"), ("b.tif", "b.txt", ""), ("b.tif", "b.tif", ""),
        ):  # fmt: skip
            self.assertEqual(beside.kind_beside(raster_name, other), kind, (raster_name, other))

    def test_on_the_command_line_what_lies_beside_counts(self):
        (self.folder / "bare.tfw").write_text(self.world)
        (self.folder / "bare.prj").write_text(self.prj)
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            status = main(["inspect", str(self.tif), "--json"])
            made = main(["do", "slope", "--in", f"surface={self.tif}", "--out", str(self.folder / "s.tif"),
                         "--recipe", str(self.folder / "s.json")])  # fmt: skip
            again = main(["cook", str(self.folder / "s.json"), "--out", str(self.folder / "again.tif")])
        self.assertEqual((status, made, again), (0, 0, 0), err.getvalue())
        self.assertEqual(json.loads(out.getvalue())["grid"]["west"], WEST)
        np.testing.assert_array_equal(
            StoredSurface(self.folder / "s.tif").read_all(), StoredSurface(self.folder / "again.tif").read_all()
        )

    def test_a_loose_shapefile_on_the_command_line(self):
        lines = np.array([shapely.LineString([(WEST, NORTH), (WEST + 90, NORTH)])], object)
        vector.write(Features(CRS, lines, {"kind": ["road"]}), self.folder / "roads.shp")
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            status = main(["inspect", str(self.folder / "roads.shp"), "--json"])
        self.assertEqual((status, json.loads(out.getvalue())["counts"]), (0, {"lines": 1}))


class DeclaredTest(SimpleTestCase):
    def test_what_is_declared_is_of_its_kind(self):
        for wrong in (
            {"band": "2"}, {"band": True}, {"band": -1}, {"coded": "red"}, {"place": [1, 2, 3]}, {"place": "here"},
            {"place": [1, 0, 0, 2, 0, 0]}, {"place": [1, 0, 0, 0, float("inf"), 0]}, {"layout": 3}, {"grid": "yes"}, {"nodata": True},
            {"height": 4}, {"tile": 9},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(InputError):
                Declared.from_dict(wrong)
