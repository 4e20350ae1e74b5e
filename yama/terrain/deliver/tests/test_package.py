"""Packages: whole, named safely, the same bytes from the same files; reports that say what they are given."""

import hashlib
import io
import json
import re
import zipfile
from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase
from pypdf import PdfReader

from yama.terrain.deliver import maps, report
from yama.terrain.deliver.map_lines import map_lines
from yama.terrain.deliver.package import Member, pack, safe_name
from yama.terrain.errors import CancelledError
from yama.terrain.findings import Finding
from yama.terrain.grid import Grid
from yama.terrain.judge.accuracy import Accuracy, figures_of
from yama.terrain.judge.intervals import sureness
from yama.terrain.surface import ArraySurface
from yama.terrain.table import Column, Table
from yama.terrain.tests.test_surface import FolderTest, rough
from yama.terrain.units import in_unit


class NamesTest(SimpleTestCase):
    def test_names_are_no_paths_no_formulas_and_never_the_same(self):
        taken = set()
        for name, wanted in (
            ("Beacon 30", "Beacon 30.tif"), ("beacon 30", "beacon 30 2.tif"), ("../../etc/passwd", "etc_passwd.tif"),
            ("=1+1", "1_1.tif"), (".hidden", "hidden.tif"), ("", "unnamed.tif"), ("a" * 300, "a" * 80 + ".tif"),
            ("C:\\temp\\x", "C_temp_x.tif"), ("Höhe, fein", "Höhe, fein.tif"), ("line\nbreak", "line_break.tif"),
        ):  # fmt: skip
            self.assertEqual(safe_name(name, ".tif", taken), wanted)


class PackTest(FolderTest):
    def members(self):
        (self.folder / "a.tif").write_bytes(bytes(range(256)) * 5_000)
        return [Member("surfaces/a.tif", self.folder / "a.tif", {"kind": "surface"}), Member("note.txt", b"hello")]

    def test_everything_is_there_with_its_checksum(self):
        path = self.folder / "p.zip"
        shares = []
        said = pack(path, self.members(), {"name": "Avel"}, shares.append)
        self.assertEqual(shares[-1], 1.0)
        with zipfile.ZipFile(path) as archive:
            self.assertIsNone(archive.testzip())
            sums = dict(line.split("  ")[::-1] for line in archive.read("SHA256SUMS.txt").decode().splitlines())
            for name, digest in sums.items():
                self.assertEqual(hashlib.sha256(archive.read(name)).hexdigest(), digest)
            self.assertEqual(set(sums), {"surfaces/a.tif", "note.txt"})
            self.assertEqual(json.loads(archive.read("package.json")), said)
        self.assertEqual(said["members"][0]["bytes"], 1_280_000)
        self.assertEqual(said["members"][0]["kind"], "surface")

    def test_the_same_files_are_the_same_package(self):
        for name in ("a.zip", "b.zip"):
            pack(self.folder / name, self.members(), {"name": "Avel"})
        self.assertEqual((self.folder / "a.zip").read_bytes(), (self.folder / "b.zip").read_bytes())

    def test_cancelled_it_leaves_nothing(self):
        def stop(_share):
            raise CancelledError("stop")

        members = self.members()
        with self.assertRaises(CancelledError):
            pack(self.folder / "p.zip", members, {}, stop)
        self.assertEqual([one.name for one in self.folder.iterdir()], ["a.tif"])


class ReportTest(SimpleTestCase):
    def report(self, **change):
        surface = rough(120, 200)
        rng = np.random.default_rng(1)
        errors = rng.normal(0.2, 0.5, 150)
        accuracy = Accuracy(
            figures_of(errors),
            {"wood": figures_of(errors[:50])},
            [(0.0, 0.0, float(error)) for error in errors],
            sureness(errors, *rng.uniform(0, 900, (2, 150))),
        ).to_dict()
        sheet = report.Sheet(
            "Lidar <ground>", "surfaces/Lidar ground.tif", [("CRS", "EPSG:32741")],
            maps.draw_map(surface, surface.grid, "height"), accuracy, "", ["Lidar ground: gridded, from tile 1."],
            [Finding("holes", "caution", "Lidar has 3 holes.", "Fill them.")],
        )  # fmt: skip
        bare = report.Sheet(
            "Slope",
            "surfaces/Slope.tif",
            [],
            maps.draw_map(surface, surface.grid, "slope"),
            None,
            "Not judged.",
            [],
            [],
        )
        given = {
            "title": "Avel, first delivery", "project": "Avel rack railway", "made": "26 November 2026", "note": "Use with care.",
            "frame": [("Frame", "EPSG:32741")], "author": "Ines Marr", "crs": "EPSG:32741",
            "area": maps.draw_area(surface.grid, [("Lidar", surface)], None), "sheets": [sheet, bare], "others": [("Rivers", "lines/Rivers.gpkg", "12 lines")],
            "sources": [("tile 1", "cloud", "tile.laz")],
        }  # fmt: skip
        return report.Report(**{**given, **change})

    def test_what_steps_did_is_told_as_tables(self):
        columns = (
            Column("number", "Number", type="whole"),
            Column("name", "Name", type="text"),
            Column("raised", "Raised", "m³", decimals=1),
            Column("problem", "Why it changes nothing", type="text"),
        )
        rows = [(i, f"Patch <{i}>", 1234.56 if i == 1 else 0.5, None) for i in range(1, 251)]
        told = report.Told("What patches did", Table(columns, rows, {"raised": 1359.06}))
        lost = report.Told("Avel, mended: what was done to it cannot be told. Its input is gone.")
        sheet = replace(self.report().sheets[0], told=[told, lost])
        page = report.html_of(self.report(sheets=[sheet]))
        for text in ("What patches did", "Raised, m³", "Patch &lt;1&gt;", "1\u202f234.6", "50 more rows are not shown"):
            self.assertIn(text, page)
        self.assertIn("<b>together</b>", page)
        self.assertIn("<b>1\u202f359.1</b>", page)
        self.assertIn("Its input is gone.", page)
        self.assertNotIn("Why it changes nothing", page)
        self.assertNotIn("Patch &lt;201&gt;", page)

    def test_colours_that_stand_for_names_have_them_in_the_key(self):
        sheet = replace(self.report().sheets[1], patches=[("#123456", "Beacon <30>"), ("#654321", "Plover 30")])
        page = report.html_of(self.report(sheets=[sheet]))
        self.assertIn('<i style="background: #123456"></i>Beacon &lt;30&gt;', page)
        self.assertNotIn('class="ramp"', page)

    def test_the_page_says_everything_and_takes_names_for_text(self):
        page = report.html_of(self.report(note="<script>alert(1)</script>"))
        self.assertNotIn("<script>", page)
        self.assertIn("Lidar &lt;ground&gt;", page)
        self.assertRegex(page, r"95 in 100</td><td class=\"r\"></td><td class=\"r\">0\.\d\d to 0\.\d\d</td>")
        for text in ("Rivers", "tile.laz", "Lidar has 3 holes.", "gridded, from tile 1", "Not judged."):
            self.assertIn(text, page)
        self.assertEqual(page.count("data:image/png"), 2)
        self.assertNotIn("http", page.replace("http-equiv", ""))

    def test_on_paper_each_surface_begins_a_page_and_the_text_is_there(self):
        pdf = PdfReader(io.BytesIO(report.pdf_of(report.html_of(self.report()))))
        pages = [page.extract_text() for page in pdf.pages]
        for text in ("Avel, first delivery", "Ines Marr, 26 November 2026", "Use with care.", "Middle of the frame"):
            self.assertIn(text, pages[0])
        # each part with the page that it begins on
        self.assertRegex(pages[0], r"Surfaces[ .]+2\s")
        self.assertRegex(pages[0], rf"Slope[ .]+{len(pages)}\s")
        self.assertIn("tile.laz", pages[1])
        self.assertIn("Lidar <ground>", pages[2])
        self.assertIn("Accuracy at checkpoints", " ".join(pages[2:-1]))
        self.assertIn("Slope", pages[-1])
        self.assertIn(f"{len(pages)} of {len(pages)}", pages[-1])

    def test_a_package_without_surfaces_and_a_surface_without_heights(self):
        page = report.html_of(self.report(sheets=[], sources=[]))
        self.assertNotIn("Surfaces", page)
        grid = Grid("EPSG:32741", 0, 0, 2, 2, 20, 30)
        nothing = maps.draw_map(ArraySurface(np.full((20, 30), np.nan), grid), grid, "height")
        self.assertIsNone(nothing.low)
        flat = maps.draw_map(ArraySurface(np.full((20, 30), 7.0), grid), grid, "height")
        self.assertEqual((flat.low, flat.high), (7.0, 7.0))

    def test_a_scale_bar_is_a_round_length_of_a_quarter_or_less(self):
        for cols, wanted in ((200, 100.0), (1_000, 500.0), (1_100, 500.0), (390, 100.0)):
            grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 100, cols)
            length, share = maps.draw_map(ArraySurface(np.zeros((100, cols)), grid), grid, "height").bar
            self.assertEqual(length, wanted)
            self.assertAlmostEqual(share, wanted / (2 * cols), delta=0.002)

    def test_a_map_is_of_where_there_is_something(self):
        heights = np.full((400, 400), np.nan)
        heights[300:340, 100:180] = np.arange(80)
        grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 400, 400)
        length, share = maps.draw_map(ArraySurface(heights, grid), grid, "height").bar
        self.assertAlmostEqual(length / share, 2 * 80 * (1 + 2 / 30), delta=1)

    def test_a_tall_map_is_narrower_than_the_page_and_its_bar_with_it(self):
        grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 800, 200)
        tall = maps.draw_map(ArraySurface(np.zeros((800, 200)), grid), grid, "height")
        self.assertEqual(tall.size[1], maps.MAP_TALL)
        page = maps.MAP_WIDE + maps.RIM + maps.EDGE
        self.assertAlmostEqual(tall.width, (0.25 * maps.MAP_TALL + maps.RIM + maps.EDGE) / page, delta=0.002)
        self.assertAlmostEqual(tall.bar_width, tall.bar[1] * 0.25 * maps.MAP_TALL / page, delta=0.002)
        sheet = report.Sheet("Tall", "t.tif", [], tall, None, "Not judged.", [], [])
        page = report.html_of(self.report(sheets=[sheet]))
        self.assertIn(f'style="width: {round(tall.width * 100, 2)}%"', page)
        self.assertIn(f'style="width: {round(tall.bar_width * 100, 2)}%"', page)

    def test_contours_of_a_cone_are_circles_with_figures_along_them(self):
        grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 500, 500)
        rows, cols = np.indices((500, 500)) - 249.5
        cone = ArraySurface(500 - np.hypot(rows, cols), grid)  # half a metre a metre
        for surface, unit, metres in ((cone, "m", 1.0), (in_unit(cone, "ft"), "ft", 0.3048)):
            found = map_lines(surface, grid)
            self.assertEqual((found.unit, found.index), (unit, 5 * found.every))
            self.assertGreater(len(found.labels), 1)
            for label in found.labels:
                height, said = label.text.replace("\u202f", " ").rsplit(" ", 1)
                height = float(height.replace(" ", ""))
                self.assertEqual((said, height % found.index), (unit, 0))
                x, y = label.x - 250, label.y - 250
                self.assertAlmostEqual(np.hypot(x, y), 500 - height * metres, delta=2.5)
                # along the circle, and never upside down
                self.assertLessEqual(abs(label.turn), 90)
                along = np.array([np.cos(np.radians(label.turn)), np.sin(np.radians(label.turn))])
                self.assertLess(abs(along @ [x, y]) / np.hypot(x, y), 0.1)
        apart = [np.hypot(a.x - b.x, a.y - b.y) for i, a in enumerate(found.labels) for b in found.labels[:i]]
        self.assertGreater(min(apart), 80)
        corners = re.findall(r"-?[\d.]+", found.heavy[0])
        far = np.hypot(*(np.array(corners, float).reshape(-1, 2) - 250).T)
        self.assertLess(np.ptp(far), 1.5)
        sheet = report.Sheet("Cone", "c.tif", [], maps.draw_map(cone, grid, "height"), None, "", [], [])
        text = PdfReader(io.BytesIO(report.pdf_of(report.html_of(self.report(sheets=[sheet]))))).pages[2].extract_text()
        self.assertIn("Contours every 20 m, heavier every 100 m.", text)
        self.assertIn("300 m", text.replace("\u202f", " "))

    def test_level_and_empty_ground_and_what_is_no_height_have_no_contours(self):
        grid = Grid("EPSG:32741", 0, 0, 2, 2, 20, 30)
        for value in (np.nan, 7.0):
            self.assertIsNone(map_lines(ArraySurface(np.full((20, 30), value), grid), grid))
        slope = maps.draw_map(ArraySurface(np.arange(600.0).reshape(20, 30), grid), grid, "slope")
        self.assertIsNone(slope.lines)
        self.assertNotIn("Contours every", report.html_of(self.report(sheets=[])))

    def test_bars_of_errors(self):
        reach, bars = report.bars_of([(0, 0, 0.0)] * 3 + [(0, 0, 100.0)], 0.1)
        self.assertGreaterEqual(reach, 0.4)
        self.assertEqual(max(bars, key=lambda bar: bar[2])[0], 20 / 41)
        self.assertGreater(bars[-1][2], 0)
        self.assertEqual(report.bars_of([(0, 0, float("nan"))], 0.1), (0.0, []))
