"""Lines of equal coordinates: they are where they say, and a few of them at round figures."""

import unittest

import numpy as np
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds
from yama.terrain.relief.graticule import degrees_in_words, ends_of, graticule

CRS = "EPSG:32741"
VIEW = Bounds(440_000.0, 5_430_000.0, 450_240.0, 5_438_192.0)


class GraticuleTest(unittest.TestCase):
    def test_coordinates_stand_at_round_figures_from_side_to_side(self):
        lines = graticule(CRS, VIEW, "coordinates")
        self.assertEqual([line.value for line in lines if line.axis == "x"], [440_000, 442_000, 444_000, 446_000,
                                                                             448_000, 450_000])  # fmt: skip
        self.assertEqual(
            [line.text for line in lines if line.axis == "y"][:2], ["5\u202f430\u202f000 N", "5\u202f432\u202f000 N"]
        )
        for line in lines:
            column = 0 if line.axis == "x" else 1
            self.assertEqual(set(line.places[:, column]), {line.value})
            along = line.places[:, 1 - column]
            self.assertEqual((along.min(), along.max()), (VIEW[1 - column], VIEW[3 - column]))

    def test_degrees_are_where_they_say(self):
        rng = np.random.default_rng(3)
        back = Transformer.from_crs(CRS, "EPSG:4326", always_xy=True)
        for _ in range(40):
            x, y = rng.uniform(300_000, 700_000), rng.uniform(1_500_000, 8_500_000)
            wide, shape = 10 ** rng.uniform(0.7, 4.9), rng.uniform(0.3, 3)
            view = Bounds(x, y, x + wide, y + wide * shape)
            longer, counts = wide * max(shape, 1), {"x": set(), "y": set()}
            for line in graticule(CRS, view, "degrees"):
                told = np.column_stack(back.transform(*line.places.T))[:, 0 if line.axis == "x" else 1]
                # a chord leaves the arc by far less than a thousandth of the view
                self.assertLess(np.abs(told - line.value).max() * 111_000, 1e-3 * longer)
                counts[line.axis].add(line.value)
                self.assertGreaterEqual(line.places[:, 0].min(), view.west - 1e-6)
                self.assertLessEqual(line.places[:, 1].max(), view.north + 1e-6)
            self.assertLessEqual(max(len(values) for values in counts.values()), 7)
            self.assertGreaterEqual(max(len(values) for values in counts.values()), 2)

    def test_ends_stand_along_the_sides(self):
        ends = ends_of(graticule(CRS, VIEW, "coordinates"), VIEW)
        self.assertEqual(ends["north"], ends["south"])
        self.assertEqual(ends["north"][1], (2_000 / 10_240, "442\u202f000 E"))
        self.assertEqual(ends["west"][0], ((5_438_192 - 5_438_000) / 8_192, "5\u202f438\u202f000 N"))
        bent = ends_of(graticule(CRS, VIEW, "degrees"), VIEW)
        self.assertEqual([text for _, text in bent["north"]], [text for _, text in bent["south"]])
        self.assertNotEqual([at for at, _ in bent["north"]], [at for at, _ in bent["south"]])  # meridians converge

    def test_a_view_over_the_rim_of_longitude(self):
        texts = [
            line.text for line in graticule("EPSG:3832", Bounds(2e6, -1e6, 5e6, 1e6), "degrees") if line.axis == "x"
        ]
        self.assertIn("180° W", [text.replace("180° E", "180° W") for text in texts])
        self.assertTrue(any(text.endswith("E") for text in texts) and any(text.endswith("W") for text in texts))
        self.assertLess(len(texts), 8)

    def test_around_a_pole_every_meridian_is_drawn(self):
        lines = graticule("EPSG:3031", Bounds(-2e6, -2e6, 2e6, 2e6), "degrees", 12)
        values = {line.value % 360 for line in lines if line.axis == "x"}
        self.assertEqual(values, {float(one) for one in range(0, 360, 30)})

    def test_degrees_of_a_geographic_frame(self):
        view = Bounds(62.30, -41.25, 62.45, -41.15)
        for kind in ("coordinates", "degrees"):
            lines = graticule("EPSG:4326", view, kind)
            self.assertEqual([line.text for line in lines if line.axis == "x"],
                             ["62°18\u2032 E", "62°20\u2032 E", "62°22\u2032 E", "62°24\u2032 E", "62°26\u2032 E"])  # fmt: skip
            self.assertEqual([line.text[-1] for line in lines if line.axis == "y"], ["S"] * 3)

    def test_words(self):
        for value, axis, step, text in (
            (62.5, "x", 0.5, "62°30\u2032 E"), (-41.0, "y", 1.0, "41° S"), (0.0, "y", 1.0, "0°"), (190.0, "x", 10.0, "170° W"),
            (62.0, "x", 0.5, "62°00\u2032 E"), (1 / 3600, "y", 1 / 3600, "0°00\u203201\u2033 N"),
            (10.2 / 3600, "y", 0.2 / 3600, "0°00\u203210.2\u2033 N"), (59.99999999 / 60, "y", 1 / 60, "1°00\u2032 N"),
        ):  # fmt: skip
            self.assertEqual(degrees_in_words(value, axis, step), text)

    def test_what_is_no_view_is_refused(self):
        for bounds in (Bounds(1, 1, 1, 2), Bounds(0, 5, 1, 2), Bounds(0, 0, float("nan"), 1)):
            with self.assertRaisesRegex(InputError, "west, south, east, north"):
                graticule(CRS, bounds, "degrees")
        with self.assertRaisesRegex(InputError, "does not hold all over"):
            graticule("EPSG:32741", Bounds(-1e9, -1e9, 1e9, 1e9), "degrees")
