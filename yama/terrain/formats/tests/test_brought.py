"""Formats and spellings that a technician brings: raw height tiles, gzip, tracks, columns in other languages."""

import gzip
import shutil
import tempfile
import zipfile
from pathlib import Path

import laspy
import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import delimited, height_tile, las, vector
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Grid
from yama.terrain.interpolate.binning import GriddedCloud
from yama.terrain.kinds.surface import CELLS
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface, StoredSurface, sample, store

CRS = "EPSG:32741"


class BroughtTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def take(self, path, name="", declared=NOTHING):
        out = self.folder / "out"
        out.mkdir(exist_ok=True)
        return readers.take(path, declared, name or path.name, CRS, CRS, out)


class TileTest(BroughtTest):
    def tile(self, name="S42E062.hgt", side=1201):
        rows, cols = np.mgrid[:side, :side]
        cells = (rows + 2 * cols // 10).astype(">i2")
        cells[100:110, 200:205] = -32768
        path = self.folder / name
        path.write_bytes(cells.tobytes())
        return path, cells.astype(float)

    def test_heights_lie_at_whole_seconds_from_the_corner_that_its_name_says(self):
        path, cells = self.tile()
        self.assertEqual(formats.family_of(path), "tile")
        surface = formats.read(path)
        self.assertEqual((surface.grid.crs, surface.grid.rows), ("EPSG:4326", 1201))
        # the north-west post stands on the corner of the degree, the south-east one on the other
        for x, y, height in ((62, -41, cells[0, 0]), (63, -42, cells[-1, -1]), (62.5, -41.25, cells[300, 600])):
            self.assertAlmostEqual(float(sample(surface, [x], [y])[0]), height, places=3)
        facts = formats.inspect(path)
        self.assertEqual((facts.statistics.empty, facts.holes.count), (50, 1))
        taken = self.take(path)
        self.assertEqual(taken.statistics.empty, 50)
        stored = StoredSurface(self.folder / "out" / CELLS)
        np.testing.assert_array_equal(stored.read_all(), surface.read_all())

    def test_every_quarter_of_the_earth(self):
        for name, west, north in (("n00e000.hgt", 0, 1), ("N59W120.hgt", -120, 60), ("S01W001.hgt", -1, 0)):
            bounds = formats.extent(self.tile(name)[0]).bounds
            self.assertAlmostEqual(bounds.west, west, delta=0.001)
            self.assertAlmostEqual(bounds.north, north, delta=0.001)

    def test_what_its_name_does_not_place_is_no_tile(self):
        for name in ("heights.bin", "XS42E062X.hgt", "S42E062"[::-1]):
            path, _ = self.tile(name)
            self.assertIsNone(height_tile.side_of(path, name))
        path, _ = self.tile("S95E062.hgt")
        with self.assertRaisesMessage(InputError, "nowhere on the earth"):
            formats.read(path)
        path.write_bytes(path.read_bytes()[:-2])
        with self.assertRaises(InputError):
            formats.read(path)


class GzipTest(BroughtTest):
    def test_one_file_packed_alone_is_what_it_holds(self):
        rng = np.random.default_rng(1)
        rows = "".join(f"{448_000 + x:.1f},{5_438_000 + y:.1f},{z:.2f}\n" for x, y, z in rng.uniform(0, 90, (40, 3)))
        path = self.folder / "points.csv.gz"
        path.write_bytes(gzip.compress(b"x,y,z\n" + rows.encode()))
        self.assertEqual(formats.family_of(path), "archive")
        with tempfile.TemporaryDirectory() as out:
            ((member,), left) = readers.unpack(path, "points.csv.gz", Path(out))
            self.assertEqual((member.name, left), ("points.csv", []))
            self.assertEqual(len(formats.read(member.path, frame_crs=CRS)), 40)

    def test_what_is_damaged_or_made_to_fill_a_disk(self):
        whole = gzip.compress(bytes(90_000_000))
        for data, words in (
            (whole, "unpacks to more than"),
            (whole[:2000], "cannot be unpacked"),
            (b"\x1f\x8bx", "cannot be unpacked"),
        ):
            path = self.folder / "a.csv.gz"
            path.write_bytes(data)
            with tempfile.TemporaryDirectory() as out:
                members, left = readers.unpack(path, "a.csv.gz", Path(out))
                self.assertEqual(members, [])
                self.assertIn(words, left[0])


class TrackTest(BroughtTest):
    def gpx(self, *points, kind="wpt"):
        inner = "".join(f'<{kind} lat="{y}" lon="{x}"><ele>{z}</ele></{kind}>' for x, y, z in points)
        body = inner if kind == "wpt" else f"<trk><trkseg>{inner}</trkseg></trk>"
        path = self.folder / "a.gpx"
        path.write_text(f'<?xml version="1.0"?><gpx version="1.1" creator="x">{body}</gpx>')
        return path

    def test_places_and_tracks_with_heights_are_points(self):
        places = [(62.40, -41.20, 12.5), (62.41, -41.21, 14.0), (62.42, -41.20, 9.0), (62.43, -41.22, 8.0)]
        for kind in ("wpt", "trkpt"):
            with self.subTest(kind):
                points = formats.read(self.gpx(*places, kind=kind))
                self.assertEqual((points.crs, points.height_field), ("EPSG:4326", "ele"))
                np.testing.assert_allclose(sorted(points.z), [8.0, 9.0, 12.5, 14.0])

    def test_one_with_entities_is_not_opened(self):
        path = self.folder / "a.gpx"
        path.write_text('<?xml version="1.0"?><!DOCTYPE gpx [<!ENTITY e SYSTEM "file:///etc/passwd">]><gpx>&e;</gpx>')
        with self.assertRaisesMessage(InputError, "defines entities of its own"):
            formats.read(path)


class NamesTest(BroughtTest):
    def test_columns_in_the_usual_languages(self):
        for names in (
            ("Rechts", "Hoch", "H\u00f6he"), ("Rechtswert", "Hochwert", "Hoehe (m)"), ("Este", "Norte", "Cota"),
            ("Est [m]", "Nord [m]", "Quota"), ("Easting", "Northing", "elevation_m"), ("X_COORD", "Y_COORD", "ALTITUD"),
        ):  # fmt: skip
            path = self.folder / "a.csv"
            rows = "".join(f"p{i},{448_000 + i * 7},{5_438_000 + i * i},{i / 2}\n" for i in range(8))
            path.write_text(f"id,{names[0]},{names[1]},{names[2]}\n{rows}", encoding="utf-8")
            layout, _ = delimited.guess_layout(path)
            self.assertEqual((layout.x, layout.y, layout.z), (1, 2, 3), names)
            self.assertGreater(min(layout.confidence[role] for role in "xyz"), 0.9)

    def test_the_frames_crs_is_declared_for_all_kinds(self):
        path = self.folder / "a.csv"
        path.write_text("Este;Norte;Cota\n448010,5;5438000,5;1,5\n448020,5;5438010,5;2,5\n448030,5;5438000,5;3,5\n")
        points = formats.read(path, Declared(crs=CRS))
        np.testing.assert_allclose(points.z, [1.5, 2.5, 3.5])


class NumbersTest(BroughtTest):
    """The same three points, in every way that people write numbers."""

    wanted = ([448_012.5, 448_040.25, 1_102.5], [5_438_001.75, 5_437_990.0, 5_437_000.125], [102.5, 1_101.0, 7.25])

    def read(self, text, encoding="utf-8"):
        path = self.folder / "points.csv"
        path.write_text(text, encoding=encoding)
        layout, _ = delimited.guess_layout(path)
        return delimited.read(path, NOTHING, "", CRS), layout

    def written(self, thousands, decimal, separator, header="x;y;z"):
        def number(value):
            whole, rest = f"{value:,.3f}".split(".")
            return whole.replace(",", thousands) + decimal + rest

        rows = [separator.join(number(column[i]) for column in self.wanted) for i in range(3)]
        return header + "\n" + "\n".join(rows) + "\n"

    def test_thousands_with_any_mark_between_and_either_decimal_mark(self):
        for thousands, decimal in (
            (".", ","),
            (",", "."),
            ("'", "."),
            ("\u2019", ","),
            ("\u00a0", ","),
            ("\u202f", "."),
            (" ", ","),
        ):
            points, layout = self.read(self.written(thousands, decimal, ";"))
            with self.subTest(thousands=thousands, decimal=decimal):
                self.assertEqual((layout.thousands, layout.decimal), (thousands, decimal))
                for found, wanted in zip((points.x, points.y, points.z), self.wanted, strict=True):
                    np.testing.assert_allclose(found, wanted, rtol=0, atol=1e-9)

    def test_one_mark_with_three_digits_behind_it_is_a_decimal_mark(self):
        points, layout = self.read(
            "x;y;z\n448012,500;5438001,750;1,102\n448040,250;5437990,000;1,101\n448041,250;5437991,125;7,250\n"
        )
        self.assertEqual((layout.decimal, layout.thousands), (",", ""))
        np.testing.assert_allclose(points.z, [1.102, 1.101, 7.25])

    def test_a_row_whose_thousands_do_not_stand_in_threes_is_left_out_and_named(self):
        text = self.written(".", ",", ";") + "44.80.12,5;5.438.001,75;1\n"
        path = self.folder / "points.csv"
        path.write_text(text)
        facts = delimited.inspect(path, NOTHING, "", CRS)
        self.assertEqual(
            (facts.rows, [one.code for one in facts.findings if one.code == "bad_rows"]), (4, ["bad_rows"])
        )

    def test_rows_that_part_their_cells_differently(self):
        rows = ["448012.5,5438001.75,102.5", "448040.25;5437990.0;1101.0", "1102.5\t5437000.125\t7.25"] * 4
        points, layout = self.read("x y z\n" + "\n".join(rows) + "\n")
        self.assertEqual((layout.separator, len(points)), ("*", 12))
        np.testing.assert_allclose(points.z[:3], self.wanted[2])

    def test_names_that_are_parted_otherwise_than_numbers(self):
        points, layout = self.read(
            "x;y;z\n448012.5,5438001.75,102.5\n448040.25,5437990.0,1101.0\n1102.5,5437000.125,7.25\n"
        )
        self.assertEqual((layout.header, layout.columns, layout.separator), (True, ("x", "y", "z"), ","))
        np.testing.assert_allclose(points.x, self.wanted[0])


class VectorHeightsTest(BroughtTest):
    def points(self, columns, crs=CRS, z=None):
        x, y = 448_000 + 100.0 * np.arange(6), 5_438_000 + 37.0 * (np.arange(6) % 4)
        shapes = shapely.points(x, y) if z is None else shapely.points(x, y, z)
        path = self.folder / "held.gpkg"
        path.unlink(missing_ok=True)
        vector.write(Features(crs, np.asarray(shapes, object), columns), path)
        return path

    def test_attributes_stay_with_points(self):
        path = self.points(
            {
                "height": [1.5, 2, 3, 4, 5, 6],
                "name": list("abcdef"),
                "code": ["g", "t"] * 3,
                "quality": [9, 8, 7, 6, 5, None],
            }
        )
        facts, points = vector.look(path)
        self.assertEqual((facts.kind, points.height_field, points.codes.tolist()), ("points", "height", ["g", "t"] * 3))
        np.testing.assert_array_equal(points.fields["quality"], [9, 8, 7, 6, 5, np.nan])
        self.assertEqual(points.texts["name"].tolist(), list("abcdef"))
        points.save(self.folder / "p.npz")
        again = Points.load(self.folder / "p.npz").kept(np.arange(6) > 3)
        self.assertEqual(again.texts["name"].tolist(), ["e", "f"])
        delimited.write(again, self.folder / "p.csv")
        self.assertEqual((self.folder / "p.csv").read_text().splitlines()[0], "x,y,height,quality,code,name")
        self.assertIn(",t,f", (self.folder / "p.csv").read_text())

    def test_which_column_holds_heights_can_be_said(self):
        path = self.points({"reading": [10.0, 11, 12, 13, 14, 15], "other": [0.0] * 6})
        facts, held = vector.look(path)
        self.assertEqual(facts.kind, "features")
        mends = [one.fix.set_params for one in facts.findings if one.fix]
        self.assertEqual(mends, [{"height": "reading"}, {"height": "other"}])
        facts, points = vector.look(path, Declared(height="reading"))
        self.assertEqual((facts.kind, points.z.tolist()), ("points", [10, 11, 12, 13, 14, 15]))
        with self.assertRaisesMessage(InputError, "has no attribute 'depth'; it has: reading, other"):
            vector.look(path, Declared(height="depth"))
        noted = self.points({"reading": [10.0, 11, 12, 13, 14, 15], "note": list("abcdef")})
        with self.assertRaisesMessage(InputError, "has text in 'note', not heights"):
            vector.look(noted, Declared(height="note"))
        solid = self.points({"elevation": [1.0] * 6}, z=np.arange(6.0))
        self.assertEqual(vector.look(solid)[1].z.tolist(), [0, 1, 2, 3, 4, 5])
        self.assertEqual(vector.look(solid, Declared(height="elevation"))[1].z.tolist(), [1.0] * 6)
        self.assertEqual(vector.look(solid, Declared(height="-"))[0].kind, "features")

    def test_lines_in_a_crs_in_feet_ask_in_what_their_heights_are(self):
        lines = np.array(
            [shapely.LineString([(1_000_000 + 9 * i, 500_000), (1_000_900, 500_800)]) for i in range(3)], object
        )
        path = self.folder / "lines.gpkg"
        vector.write(Features("EPSG:2263", lines, {"elev": [100.0, 200.0, 300.0], "trees": [1, 2, 3]}), path)
        facts, _ = vector.look(path)
        self.assertEqual([(one.code, one.weight) for one in facts.findings], [("unit_asked", "stop")])
        facts, held = vector.look(path, Declared(unit="us-ft"))
        np.testing.assert_allclose(held.attributes["elev"], np.array([100, 200, 300]) * 1200 / 3937)
        self.assertEqual(held.attributes["trees"], [1, 2, 3])
        self.assertIn("turned into metres", facts.findings[0].sentence)
        self.assertEqual(vector.look(path, Declared(unit="m"))[1].attributes["elev"], [100, 200, 300])
        plain = self.folder / "plain.gpkg"
        vector.write(Features("EPSG:2263", lines, {"trees": [1, 2, 3]}), plain)
        self.assertEqual(vector.look(plain)[0].findings, [])

    def test_vertices_in_feet_are_turned_into_metres(self):
        lines = np.array([shapely.LineString([(448_000, 5_438_000, 328.0), (448_900, 5_438_000, 656.0)])], object)
        path = self.folder / "lines.gpkg"
        vector.write(Features(CRS, lines, {"elev_ft": [328.0]}), path)
        facts, _ = vector.look(path)
        self.assertEqual([one.fix.set_params for one in facts.findings if one.fix], [{"unit": "ft"}])
        _, held = vector.look(path, Declared(unit="ft"))
        self.assertAlmostEqual(shapely.get_coordinates(held.geometries[0], include_z=True)[1, 2], 656 * 0.3048)
        self.assertAlmostEqual(held.attributes["elev_ft"][0], 328 * 0.3048)

    def test_heights_in_geojson_are_in_the_degrees_all_others_are_in(self):
        path = self.folder / "points.geojson"
        features = ",".join(
            f'{{"type": "Feature", "properties": {{}}, "geometry": {{"type": "Point", "coordinates": [{60 + i / 50}, {-41 + i * i / 900}, {i}]}}}}'
            for i in range(5)
        )
        path.write_text(f'{{"type": "FeatureCollection", "features": [{features}]}}')
        facts, points = vector.look(path)
        self.assertEqual((facts.crs, points.crs, points.z.tolist()), ("EPSG:4326", "EPSG:4326", [0, 1, 2, 3, 4]))

    def test_polygons_that_reach_a_hair_beyond_the_earth(self):
        path = self.folder / "world.gpkg"
        box = shapely.box(-180.000000001, -90.0000000005, 180.000000001, 90)
        vector.write(Features("EPSG:4326", np.array([box], object), {"kind": ["all"]}), path)
        facts, held = vector.look(path)
        self.assertEqual((facts.findings, held.bounds), ([], (-180, -90, 180, 90)))
        vector.write(
            Features("EPSG:4326", np.array([shapely.box(-181, 0, 1, 1)], object), {"kind": ["all"]}),
            self.folder / "far.gpkg",
        )
        self.assertEqual([one.code for one in vector.look(self.folder / "far.gpkg")[0].findings], ["not_degrees"])


class CloudStraysTest(BroughtTest):
    def test_strays_are_left_out_by_one_press(self):
        rng = np.random.default_rng(4)
        x, y, z = (
            rng.uniform(448_000, 448_300, 9_000),
            rng.uniform(5_438_000, 5_438_300, 9_000),
            rng.uniform(20, 60, 9_000),
        )
        z[:3], x[5] = 9_500.0, 900_000.0
        path = self.folder / "cloud.las"
        made = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        made.header.scales = (0.01, 0.01, 0.01)
        made.x, made.y, made.z = x, y, z
        made.write(str(path))
        declared = Declared(crs=CRS)
        facts = las.inspect(path, declared)
        (fix, *_) = [one.fix for one in facts.findings if one.code == "strays"]
        better = declared.also(fix.set_params)
        mended = las.inspect(path, better)
        self.assertEqual((facts.count, mended.count), (9_000, 8_996))
        self.assertNotIn("strays", {one.code for one in mended.findings})
        self.assertLess(mended.highest, 61)
        grid = Grid(CRS, 448_000, 5_438_300, 10, 10, 30, 30)
        highest = GriddedCloud([las.read(path, better)], grid, "highest").read_all()
        self.assertLess(np.nanmax(highest), 61)
        with self.assertRaisesMessage(InputError, "within the limits"):
            las.inspect(path, declared.also({"within": [0, 0, 0, 1, 1, 1]}))
        with self.assertRaises(InputError):
            Declared(within=[1, 1, 1, 0, 0, 0])


class NamedTest(BroughtTest):
    """A sentence names a file as the person knows it, never as the store does."""

    def test_damaged_files_of_every_kind(self):
        grid = Grid(CRS, 448_000, 5_438_300, 10, 10, 30, 30)
        store(ArraySurface(np.random.default_rng(1).random((30, 30), np.float32), grid), self.folder / "a.tif")
        cloud = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        cloud.x = cloud.y = cloud.z = np.arange(900.0)
        cloud.write(str(self.folder / "b.las"))
        lines = np.array([shapely.LineString([(0, 0), (9, 9)])], object)
        vector.write(Features(CRS, lines, {"kind": ["a"]}), self.folder / "c.gpkg")
        vector.write(Features(CRS, lines, {"kind": ["a"]}), self.folder / "d.geojson")
        (self.folder / "e.csv").write_text("x,y,z\n1,2,\n,,\n")
        (self.folder / "f.asc").write_text("ncols 4\nnrows 4\nxllcorner 0\nyllcorner 0\ncellsize 9\n1 2 x 4\n")
        with zipfile.ZipFile(self.folder / "g.zip", "w") as pack:
            pack.writestr("inner.csv", "nothing")
        (self.folder / "h.csv.gz").write_bytes(gzip.compress(b"x,y,z\n" * 40))
        (self.folder / "i.dxf").write_text("0\nSECTION\n2\nENTITIES\n0\nLINE\n")
        (self.folder / "j.kml").write_text("<kml><Placemark>")
        (self.folder / "k.tfw").write_text("1 2 3")
        (self.folder / "l.png").write_bytes(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR")
        (self.folder / "m.nc").write_bytes(b"CDF\x01" + bytes(90))
        said = 0
        for path in sorted(self.folder.iterdir()):
            whole = path.read_bytes()
            for data in (whole[: len(whole) * 2 // 3], whole[:40], whole[:-9] + b"\xff" * 9):
                kept = self.folder / "b37e0f.upload"
                kept.write_bytes(data)
                out = self.folder / "taken"
                out.mkdir(exist_ok=True)
                try:
                    readers.take(kept, Declared(crs=CRS), path.name, CRS, CRS, out)
                except InputError as error:
                    said += 1
                    self.assertNotIn("b37e0f", str(error), path.name)
                    self.assertNotIn("upside down", str(error), path.name)
                    self.assertNotIn("/tmp", str(error), path.name)
                kept.unlink()
                shutil.rmtree(out)
        self.assertGreater(said, 20)
