"""Tables of points: every usual layout is read, every unusable file gets a sentence."""

import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.errors import InputError
from yama.terrain.formats import delimited
from yama.terrain.points import Points

CRS = "EPSG:32741"


class TableTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def file(self, text, name="points.csv", encoding="utf-8"):
        path = self.folder / name
        path.write_bytes(text.encode(encoding))
        return path


class LayoutTest(TableTest):
    def test_usual_layouts_give_the_same_points(self):
        rows = [(448_000.25, 5_438_000.5, 12.75, "ground"), (448_010.0, 5_438_020.0, -3.5, "spot"),
                (448_020.5, 5_438_005.0, 7.0, "ground"), (448_031.0, 5_438_017.0, 9.25, "spot")]  # fmt: skip

        def table(separator, header, order=(0, 1, 2, 3), comma=False, number=False):
            lines = [header] if header else []
            for i, row in enumerate(rows):
                cells = [f"{row[c]:.2f}" if c < 3 else row[c] for c in order]
                cells = [cell.replace(".", ",") if comma else cell for cell in cells]
                lines.append(separator.join(([str(i + 1)] if number else []) + cells))
            return "\n".join(lines) + "\n"

        variants = [
            table(",", "x,y,z,code"),
            table(";", "id;x_m;y_m;z_m;code", number=True, comma=True),
            table("\t", "Easting\tNorthing\tElevation\tType"),
            table(",", "h,north,east,code", order=(2, 1, 0, 3)),
            table(" ", ""),
            table(",", "", number=True),
            table("|", "east|north|height|feature").replace("\n", "\r\n"),
            "\ufeff" + table(",", "X,Y,Z,CODE"),
        ]
        for text in variants:
            points = delimited.read(self.file(text), frame_crs=CRS)
            np.testing.assert_allclose(points.x, [row[0] for row in rows], err_msg=text)
            np.testing.assert_allclose(points.y, [row[1] for row in rows], err_msg=text)
            np.testing.assert_allclose(points.z, [row[2] for row in rows], err_msg=text)
            self.assertEqual(points.codes.tolist(), [row[3] for row in rows], text)

    def test_degrees_are_known_by_their_size(self):
        path = self.file("lon,lat,h\n62.41,-41.2,5\n62.42,-41.21,6\n62.43,-41.2,7\n")
        facts = delimited.inspect(path, frame_crs=CRS)
        self.assertEqual(facts.crs, "EPSG:4326")
        self.assertEqual([finding.code for finding in facts.findings], ["degrees"])

    def test_unusable_rows_are_counted_and_left_out(self):
        text = "x,y,z\n1,2,3\n4,oops,6\n7,8,nan\n9,10,1e300\n11,12,13\n14,15,16\n17\n"
        facts = delimited.inspect(self.file(text), frame_crs=CRS)
        (finding,) = [finding for finding in facts.findings if finding.code == "bad_rows"]
        self.assertIn("4 of 7 rows", finding.sentence)
        self.assertIn("row 3", finding.why)
        self.assertEqual(len(delimited.read(self.file(text), frame_crs=CRS)), 3)

    def test_written_tables_are_read_again(self):
        points = Points(
            CRS, np.array([1.0, 2, 3]), np.array([4.0, 6, 5]), {"z": np.array([7.5, 8, 9])}, np.array(list("abc"))
        )
        delimited.write(points, self.folder / "out.csv")
        again = delimited.read(self.folder / "out.csv", frame_crs=CRS)
        np.testing.assert_array_equal(again.z, points.z)
        self.assertEqual(again.codes.tolist(), ["a", "b", "c"])
        points.save(self.folder / "held")
        kept = Points.load(self.folder / "held")
        np.testing.assert_array_equal(kept.x, points.x)
        self.assertEqual((kept.crs, kept.height_field), (CRS, "z"))


class RefusalTest(TableTest):
    def test_each_unusable_file_gets_a_sentence_with_its_name(self):
        cases = {
            "no_height.csv": ("x,y,code\n1,2,a\n3,4,b\n5,7,c\n", "has no height column"),
            "no_place.csv": ("name,colour\none,red\ntwo,blue\n", "has no column for x and y"),
            "one_row.csv": ("x,y,z\n1,2,3\n", "holds 1 usable points"),
            "only_text.csv": ("x,y,z\na,b,c\nd,e,f\ng,h,i\n", "no column for x and y"),
            "empty.csv": ("", "is empty"),
            "blank.csv": ("\n\n\n", "is empty"),
        }
        for name, (text, words) in cases.items():
            with self.assertRaises(InputError, msg=name) as caught:
                path = self.file(text, name)
                formats.family_of(path)
                delimited.read(path, frame_crs=CRS)
            self.assertIn(words, str(caught.exception))
            self.assertIn(name, str(caught.exception))

    def test_binary_files_are_not_read_as_tables(self):
        path = self.folder / "picture.csv"
        path.write_bytes(b"GIF89a\x10\0\x10\0\xf0\0\0")
        with self.assertRaisesMessage(InputError, "of a kind that is not read."):
            formats.family_of(path)

    def test_an_unclosed_quote_does_not_swallow_the_program(self):
        path = self.file('x,y,z\n1,2,"3\n4,5,6\n7,8,9\n')
        with self.assertRaises(InputError):
            delimited.read(path, frame_crs=CRS)
