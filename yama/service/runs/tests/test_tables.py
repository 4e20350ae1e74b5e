"""Operations that give tables: run as a job, kept as a holding, not run twice, taken away as CSV."""

import csv
import json
from io import StringIO

from yama.service.holdings.models import Holding
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
        self.assertEqual([row[0].lower().replace(" ", "_") for row in table["rows"]], list(found["methods"]))
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
        self.assertEqual((len(lines), lines[1][0]), (7, "Triangulation"))
        self.assertIn("is not a table", self.ask("GET", f"/holdings/{self.points.pk}/csv", status=422)["detail"])
        self.ask("DELETE", f"/holdings/{held.pk}")
        self.assertTrue(held.table_path.exists())  # for a week

    def test_a_table_that_was_taken_away_can_be_added_again(self):
        self.ask("POST", "/runs", self.body, 202)
        held = self.run_jobs()[0].holding
        self.send(held.table_path.read_bytes(), "errors.json")
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.holding.kind), ("done", "table"), job.message + job.log)
        listed = next(one for one in self.ask("GET", "/holdings") if one["id"] == job.holding_id)
        self.assertEqual((listed["name"], listed["table"]["rows"]), ("errors", 6))
        self.assertEqual(*(self.ask("GET", f"/holdings/{one}/table") for one in (held.pk, job.holding_id)))

    def test_a_table_that_is_none_is_refused_and_leaves_nothing(self):
        column = {"name": "error", "title": "Error", "unit": "m", "type": "number", "decimals": 2}
        for columns, rows, words in (
            ([column], [["much"]], "'much' in the column Error is no number"),
            ([column], [[[1, 2]]], "is no number"),
            ([{**column, "type": "date"}], [[1]], "a type that there is"),
            ([{**column, "colour": "red"}], [[1]], "This is not a table as it is kept"),
            ([column], [[1, 2]], "Row 1 of this table has 2 values"),
            (7, [], "This is not a table as it is kept"),
        ):
            self.send(json.dumps({"format": "yama-table/1", "columns": columns, "rows": rows}).encode(), "bad.json")
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "failed")
            self.assertIn(words, job.message)
        self.assertEqual(Holding.objects.filter(kind="table").count(), 0)
        self.ask("GET", "/holdings")

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
