"""Formats and spellings that a technician brings: raw height tiles, gzip, tracks, columns in other languages."""

import gzip
import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.errors import InputError
from yama.terrain.formats import delimited, height_tile
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.surface import StoredSurface, sample

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
        stored = StoredSurface(self.folder / "out" / readers.CELLS)
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
