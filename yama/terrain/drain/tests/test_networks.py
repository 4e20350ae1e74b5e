import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.networks import apart_from, likeness
from yama.terrain.errors import InputError


def straight(y=0.0, begin=0.0, end=1000.0):
    return shapely.LineString([(begin, y), (end, y)])


class LikenessTest(SimpleTestCase):
    def test_two_lines_beside_each_other_are_as_far_as_they_are(self):
        told = likeness([straight(12.0)], [straight()], 20.0)
        self.assertEqual((told.found, told.own_near), (1.0, 1.0))
        self.assertAlmostEqual(told.mean, 12)
        self.assertAlmostEqual(told.median, 12)
        self.assertEqual(told.partings, ())
        far = likeness([straight(25.0)], [straight()], 20.0)
        self.assertEqual((far.found, far.own_near), (0.0, 0.0))
        self.assertEqual([(round(one.away), round(one.length)) for one in far.partings], [(25, 1000)] * 2)

    def test_what_is_missing_and_what_is_too_much_are_told_apart(self):
        told = likeness([straight(end=400.0), straight(500.0, 0, 300)], [straight()], 20.0)
        self.assertAlmostEqual(told.found, 0.42, delta=0.005)
        self.assertAlmostEqual(told.own_near, 4 / 7, delta=0.005)
        self.assertAlmostEqual(told.length, 700)
        missing, more = told.partings
        self.assertEqual((missing.of_reference, more.of_reference), (True, False))
        self.assertAlmostEqual(missing.length, 580, delta=6)
        self.assertAlmostEqual(missing.away, 600, delta=5)
        self.assertAlmostEqual(more.away, 500)

    def test_figures_are_those_of_many_places_measured_one_by_one(self):
        rng = np.random.default_rng(3)
        lines = [shapely.LineString(rng.uniform(0, 900, (6, 2))) for _ in range(5)]
        reference = [shapely.LineString(rng.uniform(0, 900, (6, 2))) for _ in range(5)]
        told = likeness(lines, reference, 60.0)
        union = shapely.union_all(reference)
        places = [one.interpolate(at) for one in lines for at in np.arange(0.25, one.length, 0.5)]
        away = shapely.distance(np.array(places, object), union)
        self.assertAlmostEqual(told.mean, away.mean(), delta=0.3)
        self.assertAlmostEqual(told.median, np.median(away), delta=1.0)
        self.assertAlmostEqual(told.own_near, (away <= 60).mean(), delta=0.005)
        near = union.intersection(shapely.union_all(lines).buffer(60, 64)).length / union.length
        self.assertAlmostEqual(told.found, near, delta=0.005)

    def test_degrees_are_measured_in_metres(self):
        told = likeness([straight(1e-4, 0, 0.01)], [straight(0, 0, 0.01)], 20.0, (85_000.0, 111_000.0))
        self.assertAlmostEqual(told.mean, 11.1, delta=0.01)
        self.assertAlmostEqual(told.length, 850, delta=0.1)
        missing = likeness([straight(0, 0, 0.001)], [straight(0, 0, 0.01)], 20.0, (85_000.0, 111_000.0)).partings[0]
        self.assertAlmostEqual(missing.x, 0.01, delta=1e-4)

    def test_what_cannot_be_compared_is_refused(self):
        for lines, reference, within, words in (
            ([], [straight()], 20.0, "no lines to compare"),
            ([straight()], [shapely.Point(0, 0)], 20.0, "The reference has no lines"),
            ([straight()], [straight()], 0.0, "above 0 m"),
            ([straight(end=1e9)], [straight()], 1.0, "Choose a larger one"),
        ):
            with self.assertRaisesMessage(InputError, words):
                likeness(lines, reference, within)


class ApartTest(SimpleTestCase):
    """The stretches of lines that are away from others."""

    def test_only_what_lies_farther_is_left(self):
        lines = np.array([straight(), straight(5.0, 0, 300), straight(60.0, 100, 200)], object)
        stretches, of = apart_from(lines, np.array([straight(0.0, 400, 1000)], object), 20.0)
        self.assertEqual(of.tolist(), [0, 1, 2])
        self.assertAlmostEqual(stretches[0].length, 380, delta=6)
        self.assertEqual(stretches[0].coords[0], (0.0, 0.0))
        self.assertTrue(stretches[1].equals_exact(straight(5.0, 0, 300), 1e-6) or stretches[1].length == 300)
        self.assertEqual(stretches[2].length, 100)

    def test_a_line_in_the_middle_of_which_another_comes_near_is_left_in_two(self):
        other = shapely.LineString([(500, -300), (500, 300)])
        stretches, of = apart_from(np.array([straight()], object), np.array([other], object), 30.0)
        self.assertEqual(of.tolist(), [0, 0])
        self.assertAlmostEqual(sum(one.length for one in stretches), 940, delta=16)

    def test_nothing_is_left_of_the_same_and_all_where_there_is_no_other(self):
        lines = np.array([straight(), straight(90.0)], object)
        self.assertEqual(len(apart_from(lines, lines, 20.0)[0]), 0)
        self.assertEqual(len(apart_from(lines, lines[:0], 20.0)[0]), 2)
        with self.assertRaisesMessage(InputError, "Choose a larger one"):
            apart_from(lines, lines, 1e-4)

    def test_degrees_are_measured_in_metres(self):
        line, other = straight(1e-4, 0, 0.01), straight(0, 0, 0.01)
        scale = (85_000.0, 111_000.0)
        self.assertEqual(len(apart_from(np.array([line]), np.array([other]), 12.0, scale)[0]), 0)
        (left,), _ = apart_from(np.array([line]), np.array([other]), 10.0, scale)
        self.assertAlmostEqual(left.length, 0.01, delta=1e-9)
