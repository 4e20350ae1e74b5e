"""Operations that give tables: run as a job, kept as a holding, not run twice, taken away as CSV."""

import csv
from io import StringIO

from yama.service.jobs.models import Job
from yama.service.tests.base import ServiceTest


class TablesTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.points = self.add_points()
        self.body = {"operation": "which_method", "params": {"folds": 5}, "inputs": {"points": self.points.pk}}

    def test_methods_are_compared_on_the_same_points(self):
        seen = self.ask("POST", "/previews", self.body)
        self.assertEqual((seen["key"], [f["code"] for f in seen["findings"]]), (None, ["flatters"]))
        self.ask("POST", "/runs", self.body, 202)
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.holding.kind), ("done", "table"), job.message + job.log)
        table = self.ask("GET", f"/holdings/{job.holding_id}/table")
        found = table["facts"]
        self.assertEqual([one["name"] for one in table["columns"]][:3], ["method", "seconds", "count"])
        self.assertEqual([row[0] for row in table["rows"]], list(found["methods"]))
        self.assertEqual(
            set(found["methods"]),
            {"triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"},
        )
        # a plane of 0.1 m a metre: facets meet it, the nearest of 200 points over 600 m does not
        self.assertLess(found["methods"]["natural_neighbour"]["figures"]["rmse"], 0.01)
        self.assertGreater(found["methods"]["nearest"]["figures"]["rmse"], 0.5)
        self.assertEqual((len(found["points"]), found["folds"]), (200, 5))
        self.assertEqual(self.ask("POST", "/runs", self.body)["holding_id"], job.holding_id)
        self.assertEqual(Job.objects.filter(kind="run").count(), 1)
        told = next(one for one in self.ask("GET", "/holdings") if one["id"] == job.holding_id)
        self.assertEqual((told["kind"], told["table"]["rows"], told["bounds"]), ("table", 6, None))

    def test_a_table_is_taken_away_as_csv(self):
        self.ask("POST", "/runs", self.body, 202)
        held = self.run_jobs()[0].holding
        lines = list(csv.reader(StringIO(self.ask("GET", f"/holdings/{held.pk}/csv").content.decode())))
        self.assertEqual(lines[0][:4], ["Method", "Time (s)", "Points", "Outliers"])
        self.assertEqual((len(lines), lines[1][0]), (7, "triangulation"))
        self.assertIn("is not a table", self.ask("GET", f"/holdings/{self.points.pk}/csv", status=422)["detail"])
        self.ask("DELETE", f"/holdings/{held.pk}")
        self.assertTrue(held.table_path.exists())  # for a week

    def test_what_cannot_be_compared_is_refused_with_its_fix(self):
        body = {**self.body, "params": {"folds": 100, "codes": ["spot"]}}
        self.assertIn("too few", self.ask("POST", "/runs", body, 422)["detail"])
        self.assertEqual(self.ask("POST", "/previews", body)["findings"][0]["weight"], "stop")

    def test_blocks_and_each_point_alone(self):
        for params, folds in (({"scheme": "blocks", "folds": 4, "block": 80}, 4), ({"scheme": "each"}, 200)):
            self.ask("POST", "/runs", {**self.body, "params": params}, 202)
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "done", job.message + job.log)
            found = self.ask("GET", f"/holdings/{job.holding_id}/table")["facts"]
            self.assertEqual((found["folds"], found["scheme"]), (folds, params["scheme"]))
