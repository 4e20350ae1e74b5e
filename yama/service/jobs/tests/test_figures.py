"""Operations that give figures: run as a job, kept with it, not run twice."""

from yama.service.jobs.models import Job
from yama.service.tests.base import ServiceTest


class FiguresTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.points = self.add_points()
        self.body = {"operation": "which_method", "params": {"folds": 5}, "inputs": {"points": self.points.pk}}

    def test_methods_are_compared_on_the_same_points(self):
        seen = self.ask("POST", "/previews", self.body)
        self.assertEqual((seen["key"], [f["code"] for f in seen["findings"]]), (None, ["flatters"]))
        started = self.ask("POST", "/runs", self.body, 202)["job"]
        self.assertIn("left no figures", self.ask("GET", f"/jobs/{started['id']}/figures", status=404)["detail"])
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.holding_id), ("done", None), job.message + job.log)
        found = self.ask("GET", f"/jobs/{job.pk}/figures")
        self.assertEqual(
            set(found["methods"]),
            {"triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"},
        )
        # a plane of 0.1 m a metre: facets meet it, the nearest of 200 points over 600 m does not
        self.assertLess(found["methods"]["natural_neighbour"]["figures"]["rmse"], 0.01)
        self.assertGreater(found["methods"]["nearest"]["figures"]["rmse"], 0.5)
        self.assertEqual((len(found["points"]), found["folds"]), (200, 5))
        again = self.ask("POST", "/runs", self.body)["job"]
        self.assertEqual(again["id"], str(job.pk))
        self.assertEqual(Job.objects.filter(kind="run").count(), 1)
        self.assertNotIn("figures", self.ask("GET", "/jobs")[0])

    def test_what_cannot_be_compared_is_refused_with_its_mend(self):
        body = {**self.body, "params": {"folds": 100, "codes": ["spot"]}}
        self.assertIn("too few", self.ask("POST", "/runs", body, 422)["detail"])
        self.assertEqual(self.ask("POST", "/previews", body)["findings"][0]["weight"], "stop")

    def test_blocks_and_each_point_alone(self):
        for params, folds in (({"scheme": "blocks", "folds": 4, "block": 80}, 4), ({"scheme": "each"}, 200)):
            self.ask("POST", "/runs", {**self.body, "params": params}, 202)
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "done", job.message + job.log)
            found = self.ask("GET", f"/jobs/{job.pk}/figures")
            self.assertEqual((found["folds"], found["scheme"]), (folds, params["scheme"]))
