import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.judge.accuracy import figures_of
from yama.terrain.judge.places import Judged, Places, at_points, judged_at, spread_over
from yama.terrain.judge.scorecard import SHAPE, Axis, Subject, axis_of, best_of, scorecard, shape_of
from yama.terrain.judge.shares import shares_of
from yama.terrain.judge.splits import (
    by_aspect,
    by_cover,
    by_distance,
    by_height,
    by_polygons,
    by_slope,
    none_of,
    split_by,
)
from yama.terrain.judge.suspicions import lean, suspicions
from yama.terrain.judge.verdict import verdict
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_400.0, 2.0, 2.0, 200, 200)


def ground(x, y):
    """Hills whose slopes look in every direction."""
    return 120 + 30 * np.sin((x - 448_000) / 40) + 25 * np.cos((y - 5_438_000) / 35)


def surface(heights=ground, grid=GRID, east=0.0, north=0.0, up=0.0, unit="m", name=""):
    x, y = np.meshgrid(*grid.centres(grid.whole))
    made = ArraySurface((heights(x - east, y - north) + up).astype(np.float32), grid, unit)
    made.name = name
    return made


def places(count=400, covers=None, seed=1):
    x, y = np.random.default_rng(seed).uniform((448_010, 5_438_010), (448_390, 5_438_390), (count, 2)).T
    return Places(CRS, x, y, ground(x, y), np.empty(0, "U1") if covers is None else covers)


def subject(errors, name="one", rises=None, left_out=None):
    errors = np.asarray(errors, np.float64)
    return Subject(name, Judged(errors, np.zeros((2, errors.size)) if rises is None else rises), left_out)


class PlacesTest(SimpleTestCase):
    def test_errors_and_slopes_of_a_plane(self):
        at = places()
        plane = surface(lambda x, y: 0.3 * (x - 448_000) - 0.4 * (y - 5_438_000))
        judged = judged_at(plane, at)
        np.testing.assert_allclose(
            judged.errors + at.heights, 0.3 * (at.x - 448_000) - 0.4 * (at.y - 5_438_000), atol=1e-3
        )
        np.testing.assert_allclose(judged.rises, np.array([[0.3], [-0.4]]).repeat(400, 1), atol=1e-4)
        np.testing.assert_allclose(judged.slopes, np.degrees(np.arctan(0.5)), atol=1e-3)
        np.testing.assert_allclose(judged.aspects, np.degrees(np.arctan2(-0.3, 0.4)) % 360, atol=1e-2)

    def test_units_and_crs_do_not_matter(self):
        metric = places(60)
        feet = Points(CRS, metric.x, metric.y, {"z": metric.heights / 0.3048}, unit="ft").in_crs("EPSG:4326")
        there = at_points(feet, CRS)
        np.testing.assert_allclose(there.heights, metric.heights, atol=1e-9)
        in_feet = surface(lambda x, y: (ground(x, y) + 1.5) / 0.3048, unit="ft")
        np.testing.assert_allclose(judged_at(in_feet, there).errors, 1.5, atol=0.1)

    def test_what_is_kept_of_a_judgement_is_read_again(self):
        judged = judged_at(surface(up=0.5), places(50))
        again = Judged.from_dict(judged.to_dict())
        np.testing.assert_allclose(again.errors, judged.errors, atol=5e-5)
        np.testing.assert_allclose(again.rises, judged.rises, atol=5e-5)
        holed = Judged(np.array([np.nan, 1.0]), np.full((2, 2), np.nan))
        np.testing.assert_array_equal(Judged.from_dict(holed.to_dict()).errors, holed.errors)

    def test_places_spread_over_a_reference_have_its_heights(self):
        spread = spread_over(surface(up=2.0), GRID, 900)
        self.assertTrue(700 < len(spread) <= 900)
        np.testing.assert_allclose(spread.heights, ground(spread.x, spread.y) + 2.0, atol=1e-3)
        np.testing.assert_allclose(judged_at(surface(), spread).errors, -2.0, atol=1e-3)
        with self.assertRaisesRegex(InputError, "empty all over the frame"):
            spread_over(surface(grid=Grid(CRS, 460_000.0, 5_438_400.0, 2.0, 2.0, 9, 9)), GRID)

    def test_points_that_are_among_others_are_found(self):
        at = places(40)
        used = Points(CRS, at.x[:7] + 0.005, at.y[:7], {"z": at.heights[:7]})
        self.assertEqual(np.flatnonzero(at.among(used)).tolist(), list(range(7)))
        self.assertEqual(np.flatnonzero(at.among(used.in_crs("EPSG:4326"))).tolist(), list(range(7)))

    def test_what_has_no_heights_is_refused(self):
        with self.assertRaisesRegex(InputError, "no heights that could be judged"):
            judged_at(surface(unit="degrees"), places(5))
        with self.assertRaisesRegex(InputError, "holds no points"):
            at_points(Points(CRS, np.empty(0), np.empty(0), {"z": np.empty(0)}), CRS)


class SplitsTest(SimpleTestCase):
    def test_every_place_is_in_the_class_it_belongs_to(self):
        slopes = by_slope(np.array([0.0, 4.9, 5.0, 20.0, 44.0, 60.0, np.nan]))
        self.assertEqual(slopes.of.tolist(), [0, 0, 1, 2, 3, 4, -1])
        self.assertEqual(slopes.counts, [2, 1, 1, 1, 1])
        self.assertEqual(
            by_aspect(np.array([0.0, 44.9, 45.0, 180.0, 270.0, 359.0, np.nan])).of.tolist(), [0, 0, 1, 2, 3, 0, -1]
        )
        covers = by_cover(np.array(["wood", "grass", "grass", "", "rock"]))
        self.assertEqual((covers.names[0], covers.counts, covers.of[3]), ("grass", [2, 1, 1], -1))

    def test_many_covers_are_told_as_others(self):
        covers = by_cover(np.array([f"cover {k}" for k in range(20) for _ in range(20 - k)]))
        self.assertEqual((len(covers.names), covers.names[-1]), (13, "others"))
        self.assertEqual(sum(covers.counts), 210)

    def test_heights_and_distances_are_parted_at_round_numbers(self):
        heights = by_height(np.linspace(0, 480, 1000))
        self.assertEqual(heights.names[:2], ("below 100 m", "100–200 m"))
        self.assertEqual(sum(heights.counts), 1000)
        distances = by_distance(np.concatenate([np.linspace(0, 100, 500), [np.inf]]))
        self.assertIn("20–50 m", distances.names)
        self.assertEqual(distances.of[-1], -1)

    def test_polygons_and_distances_from_points(self):
        at = places(300)
        west = Features(
            CRS, np.array([shapely.box(448_000, 5_438_000, 448_200, 5_438_400)], object), {"kind": ["west"]}
        )
        found = by_polygons([west], "kind", at)
        np.testing.assert_array_equal(found.of == 0, at.x < 448_200)
        corner = Points(CRS, np.array([448_000.0]), np.array([5_438_000.0]), {"z": np.zeros(1)})
        judged = judged_at(surface(), at)
        by = split_by("distance", at, judged, data=[corner])
        far = np.hypot(at.x - 448_000, at.y - 5_438_000)
        np.testing.assert_array_equal(
            by.of == len(by.names) - 1, far * 1.0004 >= 200
        )  # the grid's scale, on the ground
        with self.assertRaisesRegex(InputError, "Choose the polygons"):
            split_by("polygon", at, judged)
        with self.assertRaisesRegex(InputError, "have no codes"):
            split_by("cover", at, judged)

    def test_shares_of_the_ground(self):
        boxes = [
            shapely.box(448_000, 5_438_000, 448_100, 5_438_400),
            shapely.box(448_100, 5_438_000, 448_400, 5_438_400),
        ]
        areas = Features(CRS, np.array(boxes, object), {"kind": ["wood", "grass"]})
        found = shares_of([areas], "kind", GRID, ["grass", "wood", "rock"])
        self.assertAlmostEqual(found["grass"], 0.75, places=2)
        self.assertEqual(found["rock"], 0.0)
        with self.assertRaisesRegex(InputError, "None is the same"):
            shares_of([areas], "kind", GRID, ["town"])


class ScorecardTest(SimpleTestCase):
    def test_figures_of_classes_are_those_of_their_points_alone(self):
        rng = np.random.default_rng(3)
        errors = rng.normal(0.1, 0.3, 400)
        covers = np.where(np.arange(400) % 4 == 0, "wood", "grass")
        at = places(covers=covers)
        card = scorecard([subject(errors)], at, by_cover(covers), by_height(at.heights))
        (row,) = card.rows
        self.assertEqual(row.whole.figures, figures_of(errors))
        self.assertEqual(row.parts[0].figures, figures_of(errors[covers == "grass"]))
        self.assertEqual(sum(part.figures.count for parts in row.crossed for part in parts if part.figures), 400)
        for part in (row.whole, *row.parts):
            low, high = part.sure.intervals["le95"]
            self.assertTrue(low <= part.figures.le95 <= high)

    def test_shared_points_are_those_that_all_surfaces_have(self):
        one, other = np.ones(100), np.full(100, 2.0)
        one[:30], other[60:] = np.nan, np.nan
        card = scorecard([subject(one), subject(other)], places(100), none_of(places(100)), shared=True)
        self.assertEqual(([row.whole.figures.count for row in card.rows], card.shared), ([30, 30], 30))

    def test_points_that_a_surface_was_made_from_do_not_count(self):
        errors = np.zeros(50)
        errors[:10] = 9.0
        card = scorecard([subject(errors, left_out=errors == 0)], places(50), none_of(places(50)))
        self.assertEqual((card.rows[0].whole.figures.count, card.rows[0].left_out), (10, 40))

    def test_classes_weighed_by_their_ground(self):
        covers = np.array(["wood"] * 80 + ["grass"] * 20)
        errors = np.where(covers == "wood", 4.0, 1.0)
        card = scorecard([subject(errors)], places(100), by_cover(covers), shares={"wood": 0.25, "grass": 0.75})
        figures = card.rows[0].whole.figures
        self.assertAlmostEqual(figures.mean, 0.25 * 4 + 0.75)
        self.assertAlmostEqual(figures.rmse, np.sqrt(0.25 * 16 + 0.75))
        self.assertAlmostEqual(figures.median, 1.0)

    def test_weights_that_are_all_alike_change_next_to_nothing(self):
        errors = np.random.default_rng(5).normal(0, 1, 4000)
        plain, weighed = figures_of(errors), figures_of(errors, np.full(4000, 2.5))
        for name in ("mean", "median", "rmse", "nmad", "le68", "le90", "le95"):
            self.assertAlmostEqual(getattr(plain, name), getattr(weighed, name), delta=0.01)

    def test_outliers_are_listed_worst_first(self):
        errors = np.random.default_rng(6).normal(0, 0.1, 200)
        errors[[7, 90]] = 3.0, -5.0
        card = scorecard([subject(errors)], places(200), none_of(places(200)))
        self.assertEqual(card.rows[0].outliers[:2], [90, 7])

    def test_the_axis_holds_the_errors_and_is_stretched_where_surfaces_differ_much(self):
        small, large = np.random.default_rng(7).normal(0, (0.1, 9.0), (1000, 2)).T
        axis = axis_of([small, large])
        self.assertTrue(axis.knee and axis.reach >= np.quantile(np.abs(large), 0.99))
        self.assertEqual(axis_of([np.linspace(-0.4, 0.4, 99)]).knee, 0.0)
        self.assertEqual(axis_of([small, large], even=True).knee, 0.0)
        place = axis.place(np.linspace(-axis.reach, axis.reach, 99))
        self.assertTrue((np.diff(place) > 0).all())
        self.assertEqual((place[0], place[49], place[-1]), (-1, 0, 1))

    def test_the_shape_of_a_normal_law_is_its_density(self):
        shape = shape_of(np.random.default_rng(8).normal(0, 1, 100_000), Axis(4.0, 0.0))
        at = np.linspace(-4, 4, SHAPE)
        np.testing.assert_allclose(shape, np.exp(-0.5 * at**2), atol=0.03)
        self.assertFalse(shape_of(np.full(3, np.nan), Axis(1, 0)).any())

    def test_the_best_has_heights_nearly_everywhere_unless_that_is_not_asked(self):
        wide, narrow = np.full(200, 0.5), np.full(200, np.nan)
        narrow[:40] = 0.1
        both = [subject(wide), subject(narrow)]
        self.assertEqual((best_of(both), best_of(both, 0.0)), (0, 1))

    def test_the_answer_in_a_sentence(self):
        covers = np.array(["grass"] * 60 + ["wood"] * 40)
        one = subject(np.where(covers == "grass", 0.1, 1.2), "Lidar")
        other = subject(np.where(covers == "grass", 2.0, 1.0), "Survey")
        card = scorecard([one, other], places(100), by_cover(covers))
        self.assertEqual(
            verdict(card), "Lidar errs least: 95 % of its errors stay within 1.20 m. Survey does better in wood."
        )
        few = scorecard([one], places(100), by_cover(covers))
        self.assertEqual(verdict(few), "95 % of the errors of Lidar stay within 1.20 m.")

    def test_nothing_to_judge_by_is_said(self):
        with self.assertRaisesRegex(InputError, "None of the places lies on a filled cell"):
            scorecard([subject(np.full(5, np.nan))], places(5), none_of(places(5)))
        with self.assertRaisesRegex(InputError, "Choose the surfaces"):
            scorecard([], places(5), none_of(places(5)))


class SuspicionsTest(SimpleTestCase):
    def said(self, made, at):
        subjects = [Subject(one.name, judged_at(one, at)) for one in made]
        card = scorecard(subjects, at, by_cover(at.covers) if at.covers.size else none_of(at))
        return suspicions(subjects, at, card)

    def noisy(self, name, noise=0.15, **moved):
        made = surface(name=name, **moved)
        cells = made.read_all() + np.random.default_rng(len(name)).normal(0, noise, (200, 200))
        again = ArraySurface(cells.astype(np.float32), GRID)
        again.name = name
        return again

    def test_nothing_is_said_of_a_good_surface(self):
        covers = np.where(np.arange(400) % 2 == 0, "grass", "wood")
        self.assertEqual(self.said([self.noisy("good")], places(covers=covers)), [])

    def test_a_shift_an_offset_and_feet_have_their_names(self):
        feet = surface(lambda x, y: ground(x, y) / 0.3048, name="feet")
        made = [self.noisy("beside", east=5.0, north=-3.0), self.noisy("above", up=1.7), feet]
        found = {one.subject: one for one in self.said(made, places())}
        self.assertEqual([found[k].cause for k in range(3)], ["shift", "offset", "feet"])
        self.assertAlmostEqual(found[0].values["east"], 5.0, delta=0.4)
        self.assertAlmostEqual(found[0].values["north"], -3.0, delta=0.4)
        self.assertAlmostEqual(found[1].values["up"], 1.7, delta=0.05)
        self.assertIn("stands 1.7", found[1].finding.sentence)

    def test_a_part_in_feet_is_found(self):
        made = surface(lambda x, y: np.where(x < 448_100, ground(x, y) / 0.3048, ground(x, y)), name="tile")
        (found,) = self.said([made], places())
        self.assertEqual(found.cause, "feet")
        self.assertIn("at ", found.finding.sentence)

    def test_trees_are_told_from_an_offset(self):
        at = places()
        at = Places(CRS, at.x, at.y, at.heights, np.where(at.x > 448_200, "wood", "grass"))
        crowns = self.noisy("first")
        x, _ = np.meshgrid(*GRID.centres(GRID.whole))
        made = ArraySurface((crowns.read_all() + np.where(x > 448_200, 11.0, 0)).astype(np.float32), GRID)
        made.name = "first"
        causes = [one.cause for one in self.said([made], at)]
        self.assertIn("cover", causes)
        self.assertNotIn("offset", causes)

    def test_the_uncertainty_of_a_shift_is_honest(self):
        rng = np.random.default_rng(9)
        hits = 0
        for turn in range(60):
            at = places(300, seed=turn)
            judged = judged_at(surface(east=1.0), at)
            found = lean(judged.errors + rng.normal(0, 1.0, 300), judged.rises, *at.in_metres())
            hits += abs(found.east - 1.0) < 1.96 * found.errors[0]
        self.assertTrue(50 <= hits <= 60, hits)

    def test_few_points_and_clusters_are_cautioned(self):
        few = self.said([self.noisy("good")], places(9))
        self.assertEqual([one.cause for one in few], ["few"])
        x, y = np.random.default_rng(2).uniform(0, 4, (2, 60))
        middles = np.arange(60) % 3 * 100.0
        clusters = Places(CRS, 448_050 + middles + x, 5_438_050 + y, ground(448_050 + middles + x, 5_438_050 + y))
        self.assertIn("clustered", [one.cause for one in self.said([self.noisy("good")], clusters)])
