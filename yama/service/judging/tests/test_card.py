from yama.service.holdings.kinds import TABLE
from yama.service.holdings.models import Holding
from yama.service.judging.models import Judgement
from yama.service.tests.base import ServiceTest
from yama.terrain.grid import Grid
from yama.terrain.recipe import Step
from yama.terrain.table import Column, Table


class ScorecardTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.one, self.other = self.add_surface(0.5), self.add_surface(2.0)
        self.points = self.add_points(seed=7)
        self.body = {"surfaces": [self.one.pk, self.other.pk], "points": self.points.pk}

    def judged(self, **change):
        body = {**self.body, **change}
        while self.ask("POST", "/scorecard", body)["waiting"]:  # as delivered first, then put right
            self.ask("POST", "/scorecard/judge", body, 202)
            for job in self.run_jobs():
                self.assertEqual(job.state, "done", job.message)
        return self.ask("POST", "/scorecard", body)

    def test_surfaces_wait_until_they_are_judged_and_then_have_figures(self):
        waiting = self.ask("POST", "/scorecard", self.body)
        self.assertEqual(waiting["waiting"], [self.one.pk, self.other.pk])
        self.assertEqual([row["whole"] for row in waiting["rows"]], [None, None])
        card = self.judged(split="cover")
        self.assertEqual(card["waiting"], [])
        for row, mean in zip(card["rows"], (0.5, 2.0), strict=True):
            self.assertAlmostEqual(row["whole"]["mean"], mean, places=2)
            self.assertEqual(len(row["parts"]), len(card["split"]["names"]))
            self.assertEqual(max(row["shape"]), 1)
        self.assertEqual(sorted(card["split"]["names"]), ["ground", "spot"])
        self.assertIn(f"{self.one.name} errs least", card["sentence"])
        self.assertEqual(self.ask("POST", "/scorecard/judge", self.body), {"job": None})
        self.assertEqual(Judgement.objects.count(), 2)

    def test_roughness_and_noise_are_told_without_known_heights(self):
        third = self.add_surface(3.0)
        card = self.judged(surfaces=[self.one.pk, self.other.pk, third.pk])
        for row in card["rows"]:
            self.assertGreaterEqual(row["roughness"], 0)
            self.assertAlmostEqual(row["noise"], 0, places=3)  # they differ by constants alone
        two = self.judged()
        self.assertEqual([row["noise"] for row in two["rows"]], [None, None])

    def test_errors_on_slopes_have_a_curve_for_each_ground(self):
        self.judged()
        told = self.ask("POST", "/scorecard/slopes", self.body)
        one, other = told["models"]
        self.assertEqual([curve["ground"] for curve in one["curves"]], ["all ground", "ground", "spot"])
        for curve in (*one["curves"], *other["curves"]):
            self.assertEqual(len(curve["sigma"]), len(told["slopes"]))
            self.assertEqual(curve["sigma"], sorted(curve["sigma"]))
        self.assertAlmostEqual(other["curves"][0]["bias"] - one["curves"][0]["bias"], 1.5, places=2)
        few = self.ask("POST", "/scorecard/slopes", {**self.body, "points": self.add_points(seed=3).pk})
        self.assertEqual(few["models"], [])  # nobody has judged them there

    def test_every_split_has_figures(self):
        for split in ("slope", "aspect", "height"):
            card = self.judged(split=split, second="cover")
            counts = [[part["count"] if part else 0 for part in parts] for parts in card["rows"][0]["crossed"]]
            # at the rim no slope can be told
            self.assertTrue(0.95 * 200 <= sum(map(sum, counts)) <= 200, split)

    def test_the_points_of_a_part_come_worst_first(self):
        self.judged(split="cover")
        body = {**self.body, "split": "cover", "surface": self.other.pk, "part": 0}
        found = self.ask("POST", "/scorecard/places", body)
        sizes = [abs(error) for _, _, error in found["places"]]
        self.assertEqual(sizes, sorted(sizes, reverse=True))
        self.assertEqual(found["total"], len(found["numbers"]))

    def test_against_a_surface(self):
        card = self.judged(points=None, reference=self.one.pk, surfaces=[self.other.pk])
        self.assertAlmostEqual(card["rows"][0]["whole"]["mean"], 1.5, places=3)
        self.assertGreater(card["places"], 1000)

    def test_a_reference_that_is_worse_than_what_is_judged_is_told(self):
        self.ask("PUT", "/checkpoints", {"holding_id": self.points.pk})
        self.run_jobs()
        card = self.judged(points=None, reference=self.other.pk, surfaces=[self.one.pk])
        self.assertIn("reference", [one["cause"] for one in card["findings"]])

    def test_how_far_the_rays_of_an_image_pair_miss_each_other_is_told(self):
        models = Holding(project=self.project, name="Models", key="models")
        facts = {"rms": 0.25, "used": 180, "metres_per_cell": 1.2}
        TABLE.keep_made(models, Table((Column("image", "Image", type="text"),), [("left",)], facts), [])
        step = Step("image_pair", 1, {}, {"model": [models.key]}, None)
        Holding.objects.filter(pk=self.one.pk).update(recipe=vars(step))
        matched, other = self.judged()["rows"]
        self.assertEqual(matched["parallax"], {"cells": 0.25, "ties": 180, "height": 0.3})
        self.assertIsNone(other["parallax"])

    def test_points_that_made_a_surface_are_left_out_of_its_row(self):
        asked = {"operation": "interpolate_points", "inputs": {"points": self.points.pk}, "params": {}, "name": "TIN"}
        self.ask("POST", "/runs", asked, 202)
        made = self.run_jobs()[0].holding
        card = self.judged(surfaces=[self.one.pk, made.pk])
        own = next(row for row in card["rows"] if row["id"] == made.pk)
        self.assertIsNone(own["whole"])
        self.assertGreater(own["left_out"], 150)
        self.assertEqual(card["rows"][0]["left_out"], 0)

    def test_a_shift_is_taken_off_before(self):
        card = self.judged(removed=True)
        self.assertEqual(card["onto"], self.one.pk)
        other = card["rows"][1]
        # the ground of the tests is a plane: what lies beside it cannot be told, which is said
        self.assertIsNone(other["moved"])
        self.assertIn("look one way", other["not_moved"])

    def test_heights_in_feet_are_told_in_the_frames_unit(self):
        metric = self.judged()["rows"][0]["whole"]["rmse"]
        self.project.frame_data = {**self.project.frame_data, "unit": "ft"}
        self.project.save()
        self.assertAlmostEqual(self.judged()["rows"][0]["whole"]["rmse"], metric / 0.3048, places=3)

    def test_what_cannot_be_judged_is_said(self):
        for change, words in (
            ({"points": None}, "at checkpoints or against a surface"),
            ({"reference": self.one.pk}, "at checkpoints or against a surface"),
            ({"surfaces": [999_999]}, "None of these surfaces"),
            ({"points": self.one.pk}, "of another kind"),
            ({"surfaces": [self.points.pk]}, "no heights"),
        ):
            self.assertIn(words, self.ask("POST", "/scorecard", {**self.body, **change}, 422)["detail"])
        self.judged()
        for change, words in (
            ({"split": "polygon"}, "Choose the polygons"),
            ({"split": "cover", "second": "cover"}, "two different things"),
            ({"split": "cover", "by_area": True}, "Choose the polygons whose areas"),
            ({"split": "distance"}, "no points to which"),
        ):
            self.assertIn(words, self.ask("POST", "/scorecard", {**self.body, **change}, 422)["detail"])

    def test_points_that_lie_elsewhere_are_said(self):
        away = self.add_surface(grid=Grid("EPSG:32741", 460_000.0, 5_438_600.0, 2.0, 2.0, 300, 300))
        body = {**self.body, "surfaces": [away.pk]}
        self.ask("POST", "/scorecard/judge", body, 202)
        self.run_jobs()
        self.assertIn("None of the places", self.ask("POST", "/scorecard", body, 422)["detail"])
        mixed = self.judged(surfaces=[self.one.pk, away.pk])
        self.assertEqual([row["whole"] is None for row in mixed["rows"]], [False, True])
