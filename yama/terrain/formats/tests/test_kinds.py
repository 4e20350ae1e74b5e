"""Round trips of every kind of file, and files of every kind that cannot be used."""

import io
import struct
import tempfile
import zipfile
from pathlib import Path

import ezdxf
import laspy
import numpy as np
import pyproj
import shapely
from django.test import SimpleTestCase
from openpyxl import Workbook

from yama.terrain import formats
from yama.terrain.errors import CancelledError, InputError
from yama.terrain.features import Features
from yama.terrain.formats import archive, delimited, las, vector
from yama.terrain.formats.declared import Declared
from yama.terrain.overview import NODE_POINTS, RECORD, build, index_of, node_bytes

CRS = "EPSG:32741"


class KindTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def refused(self, path, words, name=""):
        with self.assertRaises(InputError) as caught:
            formats.glance(path, name=name or path.name)
            formats.read(path, name=name, frame_crs=CRS)
        self.assertIn(words, str(caught.exception))
        self.assertIn(name or path.name, str(caught.exception))


class TableTest(KindTest):
    def test_numbers_are_read_exactly_as_python_reads_them(self):
        rng = np.random.default_rng(5)
        texts = [
            f"{value:.{digits}f}"
            for value, digits in zip(rng.uniform(-1e6, 1e6, 800), rng.integers(0, 9, 800), strict=True)
        ]
        texts += [
            "1e3",
            "-2.5E-4",
            "+7",
            ".5",
            "12.",
            "0.1",
            "0.12345678901234567",
            "1e-30",
            "4.35",
            "0.30000000000000004",
        ]
        rows = [f"{text},{i},{i * 2}" for i, text in enumerate(texts)]
        path = self.folder / "a.csv"
        path.write_text("x,y,z\n" + "\n".join(rows) + "\n")
        points = delimited.read(path, frame_crs=CRS)
        self.assertEqual(points.x.tolist(), [float(text) for text in texts])

    def test_the_kernel_and_the_plain_reading_agree(self):
        rows = [
            "x;y;z;code",
            "1,5;2;3;a",
            ";;;",
            "oops;1;2;b",
            " 4 ; 5,25 ; 6 ;c d",
            "7;8",
            "9;1e400;3;x",
            "10;11;nan;y",
            "12;13;14;",
        ]
        plain, quoted = self.folder / "a.csv", self.folder / "b.csv"
        plain.write_text("\r\n".join(rows) + "\r\n")
        quoted.write_text("\n".join([*rows, '"15";16;17;"e;f"']))
        facts, first = delimited.look_at(plain, frame_crs=CRS)
        other, second = delimited.look_at(quoted, frame_crs=CRS)
        self.assertEqual(first.x.tolist(), second.x.tolist()[:-1])
        self.assertEqual(first.codes.tolist(), ["a", "c d", ""])
        self.assertEqual(second.codes.tolist()[-1], "e;f")
        said = [next(f.why for f in each.findings if f.code == "bad_rows") for each in (facts, other)]
        self.assertEqual(said[0], said[1])

    def test_other_encodings(self):
        text = "punkt;x;y;z;code\n1;448000,5;5438000;12,5;böschung\n2;448001;5438001;13;straße\n3;448002;5438003;14;böschung\n"
        for encoding in ("utf-8", "utf-8-sig", "latin-1", "utf-16"):
            path = self.folder / f"{encoding}.csv"
            path.write_bytes(text.encode(encoding))
            points = formats.read(path, frame_crs=CRS)
            self.assertEqual(points.codes.tolist(), ["böschung", "straße", "böschung"], encoding)
            self.assertEqual(points.z.tolist(), [12.5, 13, 14], encoding)

    def test_forty_columns(self):
        names = [f"c{i}" for i in range(40)]
        names[30:33] = ["easting", "northing", "height"]
        rows = [",".join(str(r * 40 + c * c % 7) for c in range(40)) for r in range(8)]
        path = self.folder / "wide.csv"
        path.write_text(",".join(names) + "\n" + "\n".join(rows) + "\n")
        facts = formats.inspect(path, frame_crs=CRS)
        self.assertEqual((facts.layout.x, facts.layout.y, facts.layout.z), (30, 31, 32))

    def test_spreadsheets_with_their_merged_cells(self):
        book = Workbook()
        sheet = book.active
        sheet.append(["id", "x", "y", "z", "code"])
        for i in range(12):
            sheet.append([i, 448_000.25 + i, 5_438_000 + i * i % 7, 10 + 0.5 * i, "bank"])
        path = self.folder / "book.xlsx"
        book.save(path)
        points = formats.read(path, frame_crs=CRS)
        self.assertEqual((len(points), points.x[0], points.codes[3]), (12, 448_000.25, "bank"))
        sheet.merge_cells("D4:D6")
        book.save(path)
        found = {finding.code for finding in formats.inspect(path, frame_crs=CRS).findings}
        self.assertEqual(found, {"merged_cells", "bad_rows"})
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
        self.refused(path, "not a readable zip")


class VectorTest(KindTest):
    def some(self):
        shapes = [shapely.LineString([(448_000, 5_438_000, 5), (448_100, 5_438_050, 7)]),
                  shapely.MultiLineString([[(448_000, 5_438_100), (448_010, 5_438_110)], [(448_020, 5_438_120), (448_030, 5_438_130)]]),
                  shapely.box(448_200, 5_438_000, 448_300, 5_438_100)]  # fmt: skip
        return Features(CRS, np.array(shapes, dtype=object), {"name": ["Avel", None, "field"], "width": [4.5, 2, None]})

    def test_what_is_written_is_read_again(self):
        for suffix, apart in ((".gpkg", 0.0), (".geojson", 0.02)):
            path = self.folder / f"made{suffix}"
            vector.write(self.some(), path)
            again = formats.read(path).in_crs(CRS)
            self.assertEqual(again.attributes["name"], ["Avel", None, "field"])
            self.assertEqual(again.attributes["width"], [4.5, 2, None])
            for one, other in zip(self.some().geometries, again.geometries, strict=True):
                self.assertLess(shapely.hausdorff_distance(one, other), apart + 1e-6)

    def shapefile(self, without=()):
        lines = self.some().kept(np.array([True, False, False]))
        vector.write(lines, self.folder / "roads.shp")
        path = self.folder / "roads.zip"
        with zipfile.ZipFile(path, "w") as pack:
            for part in self.folder.glob("roads.*"):
                if part.suffix not in {".zip", *without}:
                    pack.write(part, f"inner/{part.name}")
        return path

    def test_a_shapefile_in_a_zip_and_one_with_members_missing(self):
        held = formats.read(self.shapefile())
        self.assertEqual((len(held), held.crs, held.attributes["name"]), (1, CRS, ["Avel"]))
        self.refused(self.shapefile(without=(".shx",)), "lacks its .shx")
        facts = formats.inspect(self.shapefile(without=(".prj",)))
        self.assertEqual([f.code for f in facts.findings if f.weight == "stop"], ["no_crs"])
        self.assertEqual(formats.read(self.shapefile(without=(".prj",)), Declared(crs=CRS)).crs, CRS)

    def test_points_with_heights_are_points_and_others_are_features(self):
        places = shapely.points([448_000, 448_010, 448_020, 448_030.0], [5_438_000.0, 5_438_010, 5_438_000, 5_438_020])
        path = self.folder / "spots.gpkg"
        vector.write(Features(CRS, places, {"height": [1.5, 2.5, 3.5, 4.5], "code": ["a", "b", "a", "b"]}), path)
        points = formats.read(path)
        self.assertEqual((points.z.tolist(), points.codes.tolist()), ([1.5, 2.5, 3.5, 4.5], ["a", "b", "a", "b"]))
        path = self.folder / "names.gpkg"
        vector.write(Features(CRS, places, {"name": list("abcd")}), path)
        self.assertIsInstance(formats.read(path), Features)

    def test_findings_of_vectors_both_ways(self):
        bow = shapely.Polygon([(448_000, 5_438_000), (448_010, 5_438_010), (448_010, 5_438_000), (448_000, 5_438_010)])
        for shape, wanted in ((bow, ["invalid_polygons"]), (shapely.box(448_000, 5_438_000, 448_010, 5_438_010), [])):
            path = self.folder / f"{len(wanted)}.gpkg"
            vector.write(Features(CRS, np.array([shape], dtype=object), {"n": [1]}), path)
            self.assertEqual([finding.code for finding in formats.inspect(path).findings], wanted)
        path = self.folder / "degrees.gpkg"
        vector.write(
            Features(CRS, np.array([shapely.LineString([(62.4, -41.2), (62.5, -41.1)])], dtype=object), {"n": [1]}),
            path,
        )
        facts = formats.inspect(path)
        self.assertEqual(facts.findings[0].fix.set_params, {"crs": "EPSG:4326"})
        self.assertEqual(formats.inspect(path, Declared(crs="EPSG:4326")).findings, [])

    def test_drawings(self):
        drawing = ezdxf.new()
        space = drawing.modelspace()
        space.add_lwpolyline(
            [(448_000, 5_438_000), (448_010, 5_438_010)], dxfattribs={"layer": "bank", "elevation": 12.5}
        )
        space.add_line((448_000, 5_438_000, 3), (448_001, 5_438_001, 4))
        space.add_arc((448_050, 5_438_050), 10, 0, 90)
        space.add_text("Pell", dxfattribs={"insert": (448_001, 5_438_002)})
        space.add_solid([(0, 0), (1, 0), (0, 1), (1, 1)])
        path = self.folder / "drawing.dxf"
        drawing.saveas(path)
        facts, held = vector.look(path, frame_crs=CRS)
        self.assertEqual([f.code for f in facts.findings], ["not_lines", "assumed_crs"])
        self.assertEqual((facts.counts, held.attributes["layer"][0]), ({"points": 1, "lines": 3}, "bank"))
        self.assertEqual(
            shapely.get_coordinates(held.geometries[0], include_z=True)[0].tolist(), [448_000, 5_438_000, 12.5]
        )
        self.assertAlmostEqual(shapely.length(held.geometries[2]), 10 * np.pi / 2, delta=0.1)
        empty = ezdxf.new()
        empty.saveas(path)
        self.refused(path, "holds no lines, points or texts")
        path.write_bytes(b"0\nSECTION\n2\nENTITIES\n0\nLI")
        self.refused(path, "drawing.dxf")

    def test_kml_and_what_it_may_not_do(self):
        path = self.folder / "walk.kml"
        body = "<Placemark><name>way</name><LineString><coordinates>62.4,-41.2 62.41,-41.21</coordinates></LineString></Placemark>"
        kml = f'<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2"><Document>{body}</Document></kml>'
        path.write_text(kml)
        held = formats.read(path)
        self.assertEqual((held.crs, len(held)), ("EPSG:4326", 1))
        path.write_text(kml.replace("<kml", '<!DOCTYPE kml [<!ENTITY x SYSTEM "file:///etc/hostname">]><kml', 1))
        self.refused(path, "entities of its own")

    def test_files_that_would_read_other_files_are_not_opened(self):
        path = self.folder / "a.vrt"
        path.write_text(
            "<OGRVRTDataSource><OGRVRTLayer name='x'><SrcDataSource>/etc/passwd</SrcDataSource></OGRVRTLayer></OGRVRTDataSource>"
        )
        self.refused(path, "is an XML or HTML page")
        path = self.folder / "a.geojson"
        path.write_text('{"type": "FeatureCollection", "features": [')
        self.refused(path, "cannot be read")
        path.write_text('{"type": "FeatureCollection", "features": []}')
        self.refused(path, "a.geojson")


class CloudTest(KindTest):
    def cloud(self, count=60_000, name="tile.laz", crs=CRS, **columns):
        rng = np.random.default_rng(7)
        header = laspy.LasHeader(version="1.4", point_format=6)
        header.scales, header.offsets = np.full(3, 0.01), np.array([448_000.0, 5_438_000.0, 0.0])
        if crs:
            header.add_crs(pyproj.CRS.from_user_input(crs))
        made = laspy.LasData(header)
        made.x, made.y = 448_000 + 100 * rng.random(count), 5_438_000 + 50 * rng.random(count)
        made.z = columns.get("z", 10 + 5 * rng.random(count))
        made.classification = columns.get("classes", np.where(np.arange(count) % 5 == 0, 7, 2).astype(np.uint8))
        made.return_number = made.number_of_returns = np.ones(count, np.uint8)
        path = self.folder / name
        made.write(str(path))
        return path, made

    def test_las_and_laz_say_the_same(self):
        a, b = (formats.inspect(self.cloud(name=name)[0]) for name in ("a.las", "b.laz"))
        self.assertEqual((a.classes, a.bounds, a.lowest), (b.classes, b.bounds, b.lowest))
        self.assertEqual((a.compressed, b.compressed, a.crs), (False, True, CRS))
        self.assertAlmostEqual(a.spacing, (100 * 50 / 60_000) ** 0.5, delta=0.02)
        self.assertEqual([f.code for f in a.findings], ["noise"])

    def test_findings_both_ways(self):
        def codes(**more):
            return [finding.code for finding in formats.inspect(self.cloud(2000, **more)[0]).findings]

        self.assertEqual(codes(classes=np.full(2000, 2, np.uint8)), [])
        self.assertEqual(codes(classes=np.ones(2000, np.uint8)), ["unclassified"])
        self.assertEqual(codes(classes=np.full(2000, 5, np.uint8)), ["no_ground"])
        self.assertEqual(codes(classes=np.full(2000, 2, np.uint8), z=np.full(2000, 9500.0)), ["high"])
        self.assertIn("no_crs", codes(crs=None))

    def test_damaged_short_and_lying_files(self):
        path, _ = self.cloud(20_000, "a.las")
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
        self.refused(path, "claims 20000 points")
        lying = bytearray(data)
        struct.pack_into("<Q", lying, 247, 2**31)  # where LAS 1.4 counts its points
        path.write_bytes(lying)
        self.refused(path, "claims 2147483648 points")
        path, _ = self.cloud(20_000, "b.laz")
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
        with self.assertRaisesMessage(InputError, "cut short"):
            formats.inspect(path)
        path.write_bytes(b"LASF" + bytes(100))
        self.refused(path, "cannot be read as LAS or LAZ")

    def test_an_overview_holds_every_point_once_and_coarse_squares_thin_them_evenly(self):
        path, made = self.cloud(120_000)
        target = self.folder / "made.cloud"
        build(las.read(path), CRS, target)
        index, _ = index_of(target)
        nodes = [np.frombuffer(node_bytes(target, i), RECORD) for i in range(len(index["nodes"]))]
        every = np.concatenate(nodes)
        self.assertEqual((len(every), index["count"]), (120_000, 120_000))
        self.assertTrue(0.8 * NODE_POINTS < len(nodes[0]) < 1.2 * NODE_POINTS)
        self.assertLess(abs(nodes[0]["x"].mean() - 50), 1)
        key = np.sort(
            np.round(every["x"].astype(float) + index["west"], 2) * 1e3 + np.round(every["z"].astype(float), 2)
        )
        wanted = np.sort(np.round(np.array(made.x), 2) * 1e3 + np.round(np.array(made.z), 2))
        np.testing.assert_allclose(key, wanted, atol=12)
        for (level, col, row, _, count), points in zip(index["nodes"], nodes, strict=True):
            side = index["size"] / 2**level
            self.assertEqual(len(points), count)
            self.assertTrue((points["x"] >= col * side - 0.01).all() and (points["x"] <= (col + 1) * side + 0.01).all())
            self.assertTrue((points["y"] >= row * side - 0.01).all() and (points["y"] <= (row + 1) * side + 0.01).all())
        build(las.read(path), CRS, self.folder / "again.cloud")
        self.assertEqual(target.read_bytes(), (self.folder / "again.cloud").read_bytes())

    def test_a_cancelled_overview_leaves_nothing(self):
        path, _ = self.cloud(30_000)

        def stop(share):
            if share > 0.6:
                raise CancelledError("stopped")

        with self.assertRaises(CancelledError):
            build(las.read(path), CRS, self.folder / "made.cloud", stop)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["tile.laz"])

    def test_one_in_degrees_is_drawn_in_the_frames_crs(self):
        path, _ = self.cloud(3000)
        cloud = las.read(path)
        build(cloud, "EPSG:32740", self.folder / "moved.cloud")
        index, _ = index_of(self.folder / "moved.cloud")
        self.assertGreater(index["west"], 900_000)  # the zone beside it


class ArchiveTest(KindTest):
    def zip(self, **members):
        path = self.folder / "pack.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as pack:
            for name, data in members.items():
                pack.writestr(name, data)
        return path

    def test_members_without_folders_and_hidden_ones(self):
        path = self.zip(**{"a/": "", "a/b.csv": "1", "__MACOSX/x": "1", "a/.hidden": "1"})
        self.assertEqual(archive.members(path), ["a/b.csv"])
        (made,) = archive.extract(path, ["a/b.csv"], self.folder)
        self.assertEqual((made.name, made.read_text()), ("b.csv", "1"))

    def test_names_that_lead_out_and_bombs(self):
        for name in ("../x.csv", "/etc/x.csv", "a/../../x.csv", "C:\\x.csv"):
            self.refused(self.zip(**{name: "1"}), "leads out of its folder")
        self.refused(self.zip(**{"zeros.csv": bytes(90_000_000)}), "would unpack to 90 MB")
        self.refused(self.zip(**{f"{i}.csv": "1" for i in range(2001)}), "2001 files")

    def test_a_member_that_unpacks_to_more_than_it_claims(self):
        path = self.zip(**{"a.csv": b"0123456789" * 5000})
        data = bytearray(path.read_bytes())
        at = data.rindex(b"PK\x01\x02")
        struct.pack_into("<I", data, at + 24, 100)  # the size in the directory
        path.write_bytes(data)
        with self.assertRaises(InputError):
            archive.extract(path, ["a.csv"], self.folder)

    def test_damaged_zips(self):
        path = self.zip(**{"a.csv": b"0123456789" * 5000})
        data = path.read_bytes()
        path.write_bytes(data[:-30])
        self.refused(path, "not a readable zip")


class MislabelledTest(KindTest):
    def test_what_a_file_is_does_not_depend_on_its_name(self):
        held = io.BytesIO()
        with zipfile.ZipFile(held, "w") as pack:
            pack.writestr("points.csv", "x,y,z\n1,2,3\n")
        cases = {
            "picture.laz": (b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", "not a readable PNG picture"),
            "photo.laz": (b"\xff\xd8\xff\xe0\0\x10JFIF\0", "not a readable JPEG picture"),
            "empty.laz": (b"", "is empty"),
            "blank.gpkg": (b"  \n ", "is empty"),
            "notes.gpkg": (b"SQLite format 3\0" + bytes(80), "cannot be read"),
            "part.dbf": (b"\x03\x7a\x01\x01" + bytes(60), "one part of a shapefile"),
        }
        for name, (data, words) in cases.items():
            path = self.folder / name
            path.write_bytes(data)
            with self.subTest(name):
                self.refused(path, words)
        path = self.folder / "surface.tif"
        path.write_bytes(held.getvalue())
        self.assertEqual(formats.family_of(path), "archive")
