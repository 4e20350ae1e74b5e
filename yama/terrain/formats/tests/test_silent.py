"""Files from which heights could come out wrong without a word: each is read right, asked about or refused."""

import struct
import tempfile
import zipfile
from pathlib import Path

import laspy
import numpy as np
import pyproj
import rasterio
import shapely
from django.test import SimpleTestCase
from pyproj.crs import CompoundCRS

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.errors import InputError, QuestionError
from yama.terrain.features import Features
from yama.terrain.findings import refuse
from yama.terrain.formats import vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.formats.netcdf_size import expected_size
from yama.terrain.grid import crs_name, parse_crs
from yama.terrain.surface import store
from yama.terrain.units import said_by_crs

CRS = "EPSG:32741"
PLACE = rasterio.Affine(2, 0, 448_000, 0, -2, 5_438_000)


class SilentTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def codes(self, facts):
        return {finding.code for finding in facts.findings}

    def refused(self, path, words, declared=NOTHING):
        for read in (formats.inspect, formats.read):
            with self.subTest(read.__name__), self.assertRaises(InputError) as caught:
                found = read(path, declared)
                if read is formats.inspect:
                    refuse(found.findings)
                elif hasattr(found, "read_all"):  # a surface is read when its cells are asked for
                    raise InputError(words)
            self.assertIn(words, str(caught.exception))


class RasterTest(SilentTest):
    def write(self, name, bands=1, dtype="float32", side=64, **more):
        path = self.folder / name
        profile = {
            "driver": "GTiff",
            "width": side,
            "height": side,
            "count": bands,
            "dtype": dtype,
            "crs": CRS,
            "transform": PLACE,
        }
        return path, rasterio.open(path, "w", **{**profile, **more})

    def test_a_mask_within_and_an_alpha_band(self):
        heights = np.arange(64 * 64, dtype=np.float32).reshape(64, 64)
        mask = np.full((64, 64), 255, np.uint8)
        mask[10:20, 10:30] = 0
        with rasterio.Env(GDAL_TIFF_INTERNAL_MASK=True):
            path, dataset = self.write("mask.tif", tiled=True, blockxsize=16, blockysize=16)
            with dataset:
                dataset.write(heights, 1)
                dataset.write_mask(mask)
        alpha, dataset = self.write("alpha.tif", bands=2, dtype="uint16", photometric="MINISBLACK", alpha="YES")
        with dataset:
            dataset.write(heights.astype(np.uint16), 1)
            dataset.write(mask, 2)
            dataset.colorinterp = [rasterio.enums.ColorInterp.gray, rasterio.enums.ColorInterp.alpha]
        for one in (path, alpha):
            with self.subTest(one.name):
                facts = formats.inspect(one)
                self.assertEqual((facts.statistics.empty, facts.holes.count, facts.holes.cells), (200, 1, 200))
                cells = formats.read(one).read_all()
                np.testing.assert_array_equal(np.isnan(cells), mask == 0)
                found = store(formats.read(one), self.folder / "stored.tif")
                self.assertEqual(found.empty, 200)

    def test_files_shorter_than_they_say(self):
        path, dataset = self.write("short.tif")
        with dataset:
            dataset.write(np.ones((1, 64, 64), np.float32))
        whole = path.read_bytes()
        path.write_bytes(whole[: len(whole) // 2])
        with self.assertRaises(InputError):
            refuse(formats.inspect(path).findings)

    def classic(self, version, records=0):
        """A classic NetCDF of heights over x and y, by its specification; with records these are rows."""
        wide = ">q" if version == 2 else ">i"

        def name(text):
            return struct.pack(">i", len(text)) + text.encode() + b"\0" * (-len(text) % 4)

        head = b"CDF" + bytes([version]) + struct.pack(">i", records)
        head += (
            struct.pack(">ii", 10, 2)
            + name("y")
            + struct.pack(">i", 0 if records else 40)
            + name("x")
            + struct.pack(">i", 50)
        )
        head += struct.pack(">ii", 0, 0) + struct.pack(">ii", 11, 1)
        variable = name("height") + struct.pack(">iii", 2, 0, 1) + struct.pack(">ii", 0, 0)
        size = 200 if records else 8000
        begin = len(head) + len(variable) + 8 + struct.calcsize(wide)
        head += variable + struct.pack(">ii", 5, size) + struct.pack(wide, begin)
        path = self.folder / f"classic{version}{records}.nc"
        path.write_bytes(head + b"\0" * 8000)
        return path

    def test_the_size_that_a_netcdf_says(self):
        for path in (self.classic(1), self.classic(2), self.classic(1, 40)):
            with self.subTest(path.name):
                self.assertEqual(expected_size(path), path.stat().st_size)
                path.write_bytes(path.read_bytes()[:-4000])
                self.refused(path, "It is cut short", Declared(crs=CRS))
        for start in (b"CDF\1", b"CDF\5" + b"\xff" * 40, b"\x89HDF\r\n\x1a\n", b"CDF\1" + b"\x7f" * 200):
            path = self.folder / "odd.nc"
            path.write_bytes(start)
            self.assertIsNone(expected_size(path))

    def grid(
        self, body, head="ncols 4\nnrows 3\nxllcorner 448000\nyllcorner 5438000\ncellsize 2\nNODATA_value -9999\n"
    ):
        path = self.folder / "a.asc"
        path.write_text(head + body)
        return path

    def test_letters_and_missing_values_in_an_ascii_grid(self):
        declared = Declared(crs=CRS)
        good = "1 2 3 4\n5 6.5 -7 8e1\n9 10 -9999 nan\n"
        facts = formats.inspect(self.grid(good), declared)
        self.assertEqual((facts.statistics.empty, facts.statistics.highest), (2, 80))
        for body, words in (
            (good.replace("6.5", "6.S"), "'6.S' in row 2, column 2"), (good.replace("3", "x"), "'x' in row 1, column 3"),
            (good.replace("nan", "nothing"), "'nothing' in row 3, column 4"), (good.replace("9 10", "9"), "holds 11 values"),
            (good + "11 12 13 14\n", "holds 16 values"), (good.replace("-7", "-"), "'-' in row 2"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaises(InputError) as caught:
                formats.inspect(self.grid(body), declared)
            self.assertIn(words, str(caught.exception))

    def test_a_long_grid_is_looked_at_in_parts(self):
        rows = "\n".join(" ".join(str(i + j) for j in range(1000)) for i in range(1200))
        head = "ncols 1000\nnrows 1200\nxllcorner 0\nyllcorner 0\ncellsize 2\n"
        self.assertEqual(formats.inspect(self.grid(rows, head), Declared(crs=CRS)).statistics.highest, 2198)
        with self.assertRaisesMessage(InputError, "'21q8' in row 1200, column 1000"):
            formats.inspect(self.grid(rows[:-4] + "21q8", head), Declared(crs=CRS))

    def test_cells_that_cover_nothing(self):
        path, dataset = self.write("flat.tif", transform=rasterio.Affine(2, 0, 448_000, 0, 0, 5_438_000))
        with dataset:
            dataset.write(np.ones((1, 64, 64), np.float32))
        self.refused(path, "cover no ground")


class PointsTest(SilentTest):
    def table(self, rows, head="x,y,z\n"):
        path = self.folder / "a.csv"
        path.write_text(head + "".join(f"{x},{y},{z}\n" for x, y, z in rows))
        return path

    def test_a_void_among_the_heights_of_a_table(self):
        rng = np.random.default_rng(1)
        rows = [(448_000 + x, 5_438_000 + y, round(z, 2)) for x, y, z in rng.uniform(0, 300, (60, 3))]
        for void, count in ((-9999, 3), (-32768, 1), (9999, 2)):
            path = self.table([*rows, *((448_000 + i, 5_438_000, void) for i in range(count))])
            facts = formats.inspect(path, NOTHING, frame_crs=CRS)
            (found,) = (one for one in facts.findings if one.code == "void_value")
            self.assertIn(f"{count} point", found.sentence)
            mended = formats.read(path, NOTHING.also(found.fix.set_params), frame_crs=CRS)
            self.assertEqual(len(mended), 60)
            self.assertLess(np.abs(mended.z).max(), 301)
        self.assertNotIn("void_value", self.codes(formats.inspect(self.table(rows), NOTHING, frame_crs=CRS)))

    def test_a_named_crs_wins_over_a_guess(self):
        path = self.table([(1, 2, 3), (40, 50, 6), (70, 9, 9)])
        self.assertEqual(formats.read(path, Declared(crs=CRS)).crs, CRS)
        declared, note = formats.placed_in(path, NOTHING, CRS)
        self.assertEqual((declared.crs, note), (CRS, None))
        line = np.array([shapely.LineString([(1, 2), (3, 4)])], dtype=object)
        vector.write(Features("EPSG:4326", line, {"kind": ["a"]}), self.folder / "a.geojson")
        declared, note = formats.placed_in(self.folder / "a.geojson", NOTHING, CRS)
        self.assertEqual(declared.crs, "")
        self.assertIn("says its own CRS", note.sentence)


class CloudTest(SilentTest):
    def cloud(self, x, y, z, name="a.las", **header):
        head = laspy.LasHeader(version="1.4", point_format=6)
        head.scales, head.offsets = np.full(3, 0.001), np.array([x[0], y[0], 0.0])
        for key, value in header.items():
            setattr(head, key, value)
        cloud = laspy.LasData(head)
        cloud.x, cloud.y, cloud.z = x, y, z
        cloud.classification = np.full(len(x), 2, np.uint8)
        path = self.folder / name
        cloud.write(str(path))
        return path

    def some(self, count=2000):
        rng = np.random.default_rng(1)
        return 448_000 + rng.uniform(0, 500, count), 5_438_000 + rng.uniform(0, 500, count), rng.uniform(0, 200, count)

    def test_heights_that_no_ground_has(self):
        x, y, z = self.some()
        for reach, code in ((6_300_000.0, "high"), (-81_000.0, "high"), (2_000.0, "strays"), (-2_500.0, "strays")):
            heights = z.copy()
            heights[7] = reach
            head = {"scales": np.array([0.001, 0.001, 0.01])}
            facts = formats.inspect(self.cloud(x, y, heights, **head), Declared(crs=CRS))
            self.assertIn(code, self.codes(facts), reach)
        self.assertEqual(self.codes(formats.inspect(self.cloud(x, y, z), Declared(crs=CRS))), set())

    def test_points_far_from_the_rest(self):
        for axis in (0, 1):
            places = list(self.some())
            places[axis] = places[axis].copy()
            places[axis][5] += 40_000
            facts = formats.inspect(self.cloud(*places), Declared(crs=CRS))
            (found,) = (one for one in facts.findings if one.code == "strays")
            self.assertIn("west or east" if axis == 0 else "south or north", found.sentence)

    def test_degrees_that_are_none(self):
        self.refused(self.cloud(*self.some()), "says degrees", Declared(crs="EPSG:4326"))

    def test_scales_and_offsets_that_give_no_places(self):
        whole = self.cloud(*self.some()).read_bytes()
        for at, number in ((131, np.nan), (139, 0.0), (147, np.inf), (131, 1e300), (155, np.nan)):
            path = self.folder / "odd.las"
            path.write_bytes(whole[:at] + struct.pack("<d", number) + whole[at + 8 :])
            self.refused(path, "Its header is damaged", Declared(crs=CRS))


class UnitTest(CloudTest):
    """What measures the ground in feet and says nothing of heights is asked about."""

    FEET = pyproj.CRS.from_proj4(
        "+proj=tmerc +lat_0=-41 +lon_0=62.4 +k=0.9999 +x_0=600000 +y_0=900000 +datum=WGS84 +units=us-ft"
    ).to_wkt()

    def both(self, vertical=""):
        """A CRS in feet with one of heights in that unit."""
        length = {"us-ft": 'LENGTHUNIT["US survey foot",0.304800609601219]', "m": 'LENGTHUNIT["metre",1]'}[vertical]
        up = pyproj.CRS.from_wkt(f'VERTCRS["Mean sea",VDATUM["Mean sea"],CS[vertical,1],AXIS["up",up],{length}]')
        return CompoundCRS("both", [pyproj.CRS.from_wkt(self.FEET), up])

    def lidar(self, crs=None, keys=()):
        x, y, z = self.some()
        head = laspy.LasHeader(version="1.4", point_format=6)
        head.scales, head.offsets = np.full(3, 0.001), np.array([x[0], y[0], 0.0])
        if crs is not None:
            head.add_crs(crs)
        if keys:
            rows = [(1, 1, 0, len(keys)), *((key, 0, 1, value) for key, value in keys)]
            data = b"".join(struct.pack("<4H", *row) for row in rows)
            head.vlrs.append(laspy.VLR("LASF_Projection", 34735, "", data))
            head.global_encoding.wkt = False
        cloud = laspy.LasData(head)
        cloud.x, cloud.y, cloud.z = x, y, z
        path = self.folder / "feet.las"
        cloud.write(str(path))
        return path, z

    def asked(self, path, declared=NOTHING):
        with self.assertRaises(QuestionError) as caught:
            formats.read(path, declared)
        (finding,) = caught.exception.findings
        self.assertIn("does not say in what its heights are", str(caught.exception))
        return finding

    def test_a_cloud_in_feet(self):
        path, z = self.lidar(pyproj.CRS.from_wkt(self.FEET))
        finding = self.asked(path)
        self.assertEqual([one.set_params for one in finding.answers], [{"unit": "us-ft"}, {"unit": "m"}])
        for unit, metres in (("us-ft", 1200 / 3937), ("m", 1.0)):
            facts = formats.inspect(path, Declared(unit=unit))
            self.assertAlmostEqual(facts.highest, z.max() * metres, delta=0.001)
            self.assertNotIn("unit_asked", self.codes(facts))

    def test_a_vertical_crs_and_keys_say_it(self):
        for crs, keys, unit in (
            (self.both("us-ft"), (), "us-ft"), (self.both("m"), (), "m"), (None, ((3072, 32741), (4099, 9002)), "ft"),
            (None, ((3072, 32741), (4099, 9003)), "us-ft"), (None, ((3072, 32741), (4099, 9001)), "m"),
            (None, ((3072, 32741),), "m"), (None, ((3072, 32741), (4096, 5703)), "m"), (None, ((3072, 32741), (4096, 8228)), "ft"),
        ):  # fmt: skip
            with self.subTest(unit=unit, keys=keys):
                path, _ = self.lidar(crs, keys)
                self.assertEqual(formats.read(path).unit, unit)

    def test_keys_that_measure_the_ground_in_feet(self):
        path, _ = self.lidar(None, ((3072, 32741), (3076, 9003)))
        self.asked(path)

    def test_a_crs_in_feet_is_not_its_twin_in_metres(self):
        feet = pyproj.CRS.from_proj4("+proj=utm +zone=41 +south +datum=WGS84 +units=us-ft")
        self.assertEqual(said_by_crs(parse_crs(crs_name(feet)))[1], "us-ft")
        self.assertEqual(crs_name(pyproj.CRS.from_proj4("+proj=utm +zone=41 +south +datum=WGS84 +units=m")), CRS)

    def test_a_raster_in_feet(self):
        path = self.folder / "feet.tif"

        def write(crs, **tags):
            with rasterio.open(
                path, "w", driver="GTiff", width=64, height=64, count=1, dtype="float32", crs=crs, transform=PLACE
            ) as dataset:
                dataset.write(np.full((1, 64, 64), 100, np.float32))
                dataset.update_tags(**tags)

        write(self.FEET)
        self.asked(path)
        self.assertAlmostEqual(float(formats.read(path, Declared(unit="us-ft")).read_all().max()), 30.48006, places=4)
        self.assertEqual(float(formats.read(path, Declared(unit="m")).read_all().max()), 100)
        write(self.FEET, HEIGHT_UNIT="m")
        self.assertEqual(float(formats.read(path).read_all().max()), 100)
        write(CRS)
        self.assertEqual(float(formats.read(path).read_all().max()), 100)

    def test_a_table_and_points_of_a_file_in_feet(self):
        table = self.folder / "a.csv"
        table.write_text("x,y,z\n1000000,9000000,30\n1000010,9000000,31\n1000000,9000010,32\n")
        self.asked(table, Declared(crs=self.FEET))
        held = formats.read(table, Declared(crs=self.FEET, unit="us-ft"))
        self.assertAlmostEqual(float(held.z[0]), 9.144018, places=5)
        places = np.array([shapely.Point(x, 9e6, 30.0) for x in (1e6, 1.1e6, 1.2e6)], dtype=object)
        vector.write(Features(self.FEET, places, {"kind": ["a", "b", "c"]}), self.folder / "a.gpkg")
        self.asked(self.folder / "a.gpkg")


class ZipTest(SilentTest):
    def test_every_member_is_taken_in_or_named(self):
        line = np.array([shapely.LineString([(448_000, 5_438_000), (448_100, 5_438_100)])], dtype=object)
        for name in ("roads", "rivers"):
            vector.write(Features(CRS, line, {"kind": [name]}), self.folder / f"{name}.shp")
        with rasterio.open(
            self.folder / "dem.tif",
            "w",
            driver="GTiff",
            width=8,
            height=8,
            count=1,
            dtype="float32",
            crs=CRS,
            transform=PLACE,
        ) as dataset:
            dataset.write(np.ones((1, 8, 8), np.float32))
        (self.folder / "readme.pdf").write_bytes(b"%PDF-1.4\0 something")
        path = self.folder / "all.zip"
        with zipfile.ZipFile(path, "w") as pack:
            for part in self.folder.iterdir():
                if part != path:
                    pack.write(part, f"area/{part.name}")
        self.assertEqual(formats.family_of(path), "archive")
        with tempfile.TemporaryDirectory() as out:
            members, left = readers.unpack(path, "all.zip", Path(out))
            self.assertEqual(sorted(one.name for one in members), ["dem.tif", "rivers.shp", "roads.shp"])
            self.assertEqual([said.split(" ")[0] for said in left], ["area/readme.pdf"])
            held = {one.name: formats.read(one.path) for one in members}
            self.assertEqual(held["rivers.shp"].attributes["kind"], ["rivers"])

    def test_one_shapefile_with_its_parts_is_one_file(self):
        line = np.array([shapely.LineString([(448_000, 5_438_000), (448_100, 5_438_100)])], dtype=object)
        vector.write(Features(CRS, line, {"kind": ["a"]}), self.folder / "roads.shp")
        path = self.folder / "roads.zip"
        with zipfile.ZipFile(path, "w") as pack:
            for part in self.folder.glob("roads.*"):
                if part != path:
                    pack.write(part, part.name.replace("roads", "Roads.of.2026"))
        self.assertEqual(formats.family_of(path), "vector")
        self.assertEqual(len(formats.read(path)), 1)
