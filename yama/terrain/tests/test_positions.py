"""Positions in every form that people type them in are one place; what is none is refused with a sentence."""

from django.test import SimpleTestCase
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.positions import read_position

GRID = Grid("EPSG:32741", 440_000.0, 5_445_000.0, 2.0, 2.0, 10_000, 10_000)
LON, LAT = Transformer.from_crs(GRID.crs, "EPSG:4326", always_xy=True).transform(448_000, 5_438_000)


def sexagesimal(value: float) -> tuple[int, int, float]:
    degrees = int(abs(value))
    minutes = (abs(value) - degrees) * 60
    return degrees, int(minutes), (minutes - int(minutes)) * 60


class PositionTest(SimpleTestCase):
    def near(self, text: str, grid: Grid = GRID) -> None:
        x, y = read_position(text, grid)
        self.assertAlmostEqual(x, 448_000, delta=0.2, msg=text)
        self.assertAlmostEqual(y, 5_438_000, delta=0.2, msg=text)

    def test_one_place_in_every_form(self):
        (a, b, c), (d, e, f) = sexagesimal(LAT), sexagesimal(LON)
        for text in (
            "448000 5438000", " 448000.0, 5438000 ", "E 448000 N 5438000", "n5438000 e448000", "5438000 N; 448000 E",
            f"{LAT:.7f}, {LON:.7f}", f"{-LAT:.7f} S {LON:.7f} E", f"E {LON:.7f}° S {-LAT:.7f}°", f"{LAT:.7f}° / {LON:.7f}°",
            f"{a}°{b}'{c:.4f}\"S, {d}°{e}'{f:.4f}\"E", f"S{a}° {b}\u2032 {c:.4f}\u2033 E{d}° {e}\u2032 {f:.4f}\u2033",
            f"{a}° {b + c / 60:.6f}' S {d}° {e + f / 60:.6f}' E", f"\u2212{a} {b}' {c:.4f}'' {d} {e}' {f:.4f}''",
        ):  # fmt: skip
            self.near(text)

    def test_in_a_frame_in_degrees_numbers_are_degrees(self):
        grid = Grid("EPSG:4326", LON - 1, LAT + 1, 0.001, 0.001, 2_000, 2_000)
        x, y = read_position(f"{LAT:.7f} {LON:.7f}", grid)
        self.assertAlmostEqual(x, LON, places=6)
        self.assertAlmostEqual(y, LAT, places=6)

    def test_what_is_none_is_refused(self):
        for text, words in (
            ("", "is no position"),
            ("Avel", "is no position"),
            ("448000", "is no position"),
            ("1 2 3", "is no position"),
            ("448000 5438000 Avel", "is no position"),
            ("N 448000 N 5438000", "both east and north"),
            ("448000 N 5438000", "both east and north"),
            ("N 448000 E, 5438000", "is no position"),
            (f"{LON:.6f}° {LAT:.6f}°", "outside the frame"),  # the other way round
            ("95°, 10°", "beyond 90°"),
            ("41°75'S 62°E", "60 minutes"),
            ("1e5 2e5", "is no position"),
            ("0 0", "outside the frame"),
            ("999999999999 1", "outside the frame"),
        ):
            with self.assertRaisesMessage(InputError, words):
                read_position(text, GRID)
