import numpy as np
from django.test import SimpleTestCase

from yama.terrain.deliver.scored import SWING_HIGH, SWING_WIDE, WIDE, lying, scored
from yama.terrain.judge.places import Judged, Places
from yama.terrain.judge.scorecard import Subject

CRS = "EPSG:32741"
RNG = np.random.default_rng(5)
PLACES = Places(
    CRS,
    RNG.uniform(448_000, 452_000, 160),
    RNG.uniform(5_434_000, 5_438_000, 160),
    RNG.uniform(0, 200, 160),
    np.where(np.arange(160) < 150, "grass", "rock"),
)


def subject(name, spread, up=0.0, there=160):
    errors = np.random.default_rng(7).normal(up, spread, 160)
    errors[there:] = np.nan
    return Subject(name, Judged(errors, np.random.default_rng(1).normal(0, 0.3, (2, 160))))


class ScoredTest(SimpleTestCase):
    def test_rows_are_sorted_by_error_and_have_what_the_figures_say(self):
        card = scored([subject("coarse", 4.0, 2.0), subject("fine", 0.3)], PLACES, [False, True])
        self.assertEqual([(row.name, row.handed_over) for row in card.rows], [("fine", True), ("coarse", False)])
        fine, coarse = card.rows
        self.assertAlmostEqual(fine.rmse, 0.3, delta=0.05)
        self.assertAlmostEqual(coarse.mean, 2.0, delta=0.7)
        self.assertTrue(fine.between[0] < fine.le95 < fine.between[1])
        self.assertEqual(card.classes, [("grass", 150), ("rock", 10)])
        self.assertEqual([few for _, few in fine.parts], [False, True])
        self.assertIn("fine errs least", card.sentence)
        # the mean stands where the axis has it
        self.assertAlmostEqual(fine.middle, WIDE / 2, delta=WIDE / 8)
        self.assertGreater(coarse.middle, fine.middle)
        texts = [mark.text for mark in card.marks]
        self.assertEqual(texts[len(texts) // 2], "0")
        self.assertEqual(len(texts) % 2, 1)
        self.assertEqual(sorted(mark.at for mark in card.marks), [mark.at for mark in card.marks])

    def test_figures_are_in_the_unit_of_the_report(self):
        metres, feet = (scored([subject("one", 1.0)], PLACES, [True], unit).rows[0] for unit in ("m", "ft"))
        self.assertAlmostEqual(feet.rmse * 0.3048, metres.rmse, places=6)
        self.assertAlmostEqual(feet.parts[0][0] * 0.3048, metres.parts[0][0], places=6)

    def test_what_has_no_height_at_any_place_is_left_out(self):
        self.assertIsNone(scored([subject("none", 1.0, there=0)], PLACES, [True]))
        card = scored([subject("none", 1.0, there=0), subject("one", 1.0)], PLACES, [False, True])
        self.assertEqual([(row.name, row.handed_over) for row in card.rows], [("one", True)])

    def test_where_a_surface_lies_is_drawn_as_the_cosine_that_says_so(self):
        moved = {
            "distance": 40.0,
            "direction": 90.0,
            "up": 1.7,
            "errors": [3.0, 4.0, 0.1],
            "swing": [None, 30.0, -41.0],
            "dots": [(90.0, 40.0), (180.0, 0.0), (10.0, 900.0)],
        }
        told = lying("Heron", "Lidar", moved)
        self.assertEqual((told.error, told.reach), (5.0, 56.0))
        curve = [tuple(map(float, point.split(","))) for point in told.curve.split()]
        highest = min(curve, key=lambda point: point[1])
        self.assertAlmostEqual(highest[0], 6 + (SWING_WIDE - 12) / 4, delta=0.1)  # towards the east
        self.assertAlmostEqual(curve[0][1], SWING_HIGH / 2)
        self.assertEqual(len(told.dots), 2)  # one is beyond the axis
        self.assertEqual(told.dots[0], highest)
        self.assertEqual(scored([subject("one", 1.0)], PLACES, [True], lie=[told]).lying, [told])
