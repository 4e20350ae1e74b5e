import numpy as np

from yama.service.holdings.features import keep_features
from yama.service.holdings.models import Holding
from yama.service.judging.models import Answered, ProjectBrief
from yama.service.tests.base import ServiceTest
from yama.terrain.features import Features
from yama.terrain.grid import Grid


class BriefTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.surface = self.add_surface(0.5)
        self.points = self.add_points(seed=7)
        self.grid = Grid.from_dict(self.surface.facts["grid"])

    def add_area(self, name="Boundary"):
        import shapely

        west, south, east, north = self.grid.bounds
        ring = shapely.box(west + 20, south + 20, east - 20, north - 20)
        held = Holding(project=self.project, name=name, key=f"area-{name}")
        keep_features(held, Features(self.grid.crs, np.array([ring], dtype=object), {}), {}, [])
        return held

    def change(self, *demands, version=0, status=200, **more):
        return self.ask("PUT", "/brief", {"version": version, "demands": list(demands), **more}, status)

    def answered(self, surface=None):
        path = f"/brief/{(surface or self.surface).pk}"
        if None in self.ask("GET", path)["answers"]:
            self.ask("POST", path, None, 202)
            for job in self.run_jobs():
                self.assertEqual(job.state, "done", job.message)
        return self.ask("GET", path)

    def test_what_is_asked_is_kept_in_words_and_answered_with_figures(self):
        self.assertEqual(self.ask("GET", "/brief"), {"version": 0, "demands": [], "vegetated": []})
        self.ask("PUT", "/checkpoints", {"holding_id": self.points.pk})
        self.run_jobs()
        area = self.add_area()
        told = self.change(
            {"kind": "error", "within": 0.8},
            {"kind": "error", "figure": "mean", "within": 0.1},
            {"kind": "holes", "features": area.pk},
            {"kind": "cells", "size": 0.5},
        )
        titles = [one["title"] for one in told["demands"]]
        self.assertEqual(titles[0], "95 % of errors within 0.80 m")
        self.assertEqual(titles[2], "No hole inside Boundary")
        path = f"/brief/{self.surface.pk}"
        # what must be read from its cells waits
        self.assertEqual([one is None for one in self.ask("GET", path)["answers"]], [True, True, True, False])
        self.assertFalse(self.ask("GET", path)["answers"][3]["met"])
        found = self.answered()
        self.assertEqual([one["met"] for one in found["answers"]], [True, False, True, False])
        self.assertAlmostEqual(found["answers"][1]["figure"], 0.5, places=2)
        self.assertEqual(found["answers"][2]["shown"], "no hole")
        self.assertEqual(len(found["statement"]), 1)
        self.assertEqual(self.ask("POST", path), {"job": None})

    def test_only_what_is_new_is_worked_out_again(self):
        area = self.add_area()
        self.change({"kind": "holes", "features": area.pk})
        self.answered()
        self.assertEqual(Answered.objects.count(), 1)
        self.change({"kind": "holes", "features": area.pk}, {"kind": "area", "features": area.pk}, version=1)
        path = f"/brief/{self.surface.pk}"
        self.assertEqual([one is None for one in self.ask("GET", path)["answers"]], [False, True])
        self.answered()
        self.assertEqual(Answered.objects.count(), 2)

    def test_nobody_overwrites_what_they_have_not_seen(self):
        self.change({"kind": "cells", "size": 2})
        told = self.change({"kind": "cells", "size": 5}, status=422)
        self.assertIn("Somebody has changed the brief meanwhile", told["detail"])
        self.assertEqual(ProjectBrief.objects.get().content["demands"][0]["size"], 2)

    def test_what_means_nothing_is_refused_and_changes_nothing(self):
        for demands, said in (
            ([{"kind": "cells", "size": 2}, {"kind": "cells", "size": 5}], "Two demands speak of the same"),
            ([{"kind": "holes", "features": 0}], "speaks of features that are not in this project"),
            ([{"kind": "error", "within": -1}], "greater than 0"),
            ([{"kind": "beauty"}], "does not match any of the expected tags"),
            ([{"kind": "cells", "size": 2 + n} for n in range(41)], "40"),
        ):
            with self.subTest(said):
                self.assertIn(said, self.change(*demands, status=422)["detail"])
        self.assertFalse(ProjectBrief.objects.exists())

    def test_features_that_were_deleted_leave_a_demand_that_cannot_be_told(self):
        area = self.add_area()
        self.change({"kind": "holes", "features": area.pk})
        area.delete()
        (found,) = self.answered()["answers"]
        self.assertIsNone(found["met"])
        self.assertIn("no longer in the project", found["told"])
        self.assertEqual(self.ask("GET", "/brief")["demands"][0]["title"], "No hole inside what is no longer there")

    def test_without_checkpoints_errors_cannot_be_told_and_nothing_waits(self):
        self.change({"kind": "error", "within": 1})
        (found,) = self.ask("GET", f"/brief/{self.surface.pk}")["answers"]
        self.assertEqual((found["met"], found["told"][:26]), (None, "There are no checkpoints. "))

    def test_points_that_made_a_surface_do_not_prove_it(self):
        self.ask("PUT", "/checkpoints", {"holding_id": self.points.pk})
        asked = {"operation": "interpolate_points", "inputs": {"points": self.points.pk}, "params": {}, "name": "TIN"}
        self.ask("POST", "/runs", asked, 202)
        made = next(job.holding for job in self.run_jobs() if job.holding)
        self.change({"kind": "error", "within": 5.0})
        (found,) = self.answered(made)["answers"]
        self.assertIsNone(found["met"])
        self.assertEqual(self.answered(made)["statement"], [])

    def test_a_package_says_what_was_asked_and_whether_it_is_met(self):
        self.ask("PUT", "/checkpoints", {"holding_id": self.points.pk})
        self.run_jobs()
        area = self.add_area()
        self.change(
            {"kind": "error", "within": 0.1},
            {"kind": "holes", "features": area.pk},
            {"kind": "format", "format": "asc"},
        )
        body = {"name": "Handed over", "holdings": [self.surface.pk]}
        checked = self.ask("POST", "/packages/check", body)["findings"]
        self.assertIn("Handed over as ASCII grid", " ".join(one["sentence"] for one in checked))
        self.ask("POST", "/packages", body, 202)
        job = next(one for one in self.run_jobs() if one.kind == "package")
        self.assertEqual(job.state, "done", job.message)
        page = self.client.get(f"{self.base}/packages/{job.pk}/report").content.decode()
        self.assertIn("What was asked of it", page)
        self.assertRegex(page, r"95 % of errors within 0\.10 m</td><td class=\"missed\">not met")
        self.assertRegex(page, r"No hole inside Boundary</td><td class=\"met\">met")
        self.assertIn("Tested vertical accuracy", page)
        findings = [one["sentence"] for one in job.findings]
        self.assertTrue(any("does not meet the brief: 95 % of errors within 0.10 m" in one for one in findings))
