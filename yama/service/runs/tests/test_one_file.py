"""An operation that is one file has its preview and its run over the API without a line written for it."""

from unittest import mock

import numpy as np

from yama.service.arrivals.tests.test_uploads import lines_bytes
from yama.service.holdings.models import Holding
from yama.service.surfaces import keys
from yama.service.tests.base import ServiceTest
from yama.terrain.operations.register import _REGISTER
from yama.terrain.operations.tests.example import ChangeAlongLines


class OneFileTest(ServiceTest):
    def setUp(self):
        super().setUp()
        added = mock.patch.dict(_REGISTER, {ChangeAlongLines.name: ChangeAlongLines()})
        added.start()
        self.addCleanup(added.stop)
        before, after = self.add_surface(), self.add_surface(2.5)
        self.send(lines_bytes(), "lines.geojson")
        lines = self.run_jobs()[0].holding
        inputs = {"before": before.pk, "after": after.pk, "lines": lines.pk}
        self.body = {"operation": "change_along_lines", "params": {"step": 20}, "inputs": inputs}

    def test_the_desk_is_told_of_it(self):
        told = next(
            one for one in self.client.get("/api/projects/operations").json() if one["name"] == "change_along_lines"
        )
        self.assertEqual(list(told["outputs"]), ["change", "lines", "figures"])
        self.assertEqual(told["params"]["properties"]["step"]["unit"], "m")

    def test_each_output_can_be_seen_before_it_is_made(self):
        seen = self.ask("POST", "/previews", self.body)
        self.assertEqual((seen["quantity"], seen["findings"], seen["filled"]), ("difference", [], 1.0))
        self.assertEqual(self.ask("GET", f"/tiles/{seen['key']}/0/0/0").status_code, 200)
        table = self.ask("POST", "/previews", {**self.body, "output": "figures"})["table"]
        self.assertEqual([one["unit"] for one in table["columns"]], ["m", "m"])
        self.assertEqual({round(row[1], 4) for row in table["rows"]}, {2.5})
        box = list(self.project.frame.grid.bounds)
        lines = self.ask("POST", "/lines", {"run": self.body, "bounds": box, "output": "lines"})
        self.assertEqual(len(lines), len(table["rows"]))
        self.assertEqual(self.ask("POST", "/lines", {"run": self.body, "bounds": [0, 0, 9, 9]}), [])

    def test_a_run_makes_a_holding_of_each_output(self):
        asked = {**self.body, "name": "Change", "outputs": ["figures"]}
        self.ask("POST", "/runs", asked, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        made = {one.name: one for one in Holding.objects.order_by("-pk")[:3]}
        self.assertEqual(set(made), {"Change", "Change, changed lines", "Change, change of each line"})
        self.assertEqual({one.kind for one in made.values()}, {"surface", "features", "table"})
        self.assertEqual({one.key.split(":")[0] for one in made.values()}, {made["Change"].key})
        heights = keys.surface_of_holding(made["Change"]).read_all()
        self.assertAlmostEqual(float(np.nanmean(heights)), 2.5, places=3)
        self.assertEqual(made["Change, changed lines"].facts["units"]["change"], "m")
        table = self.ask("GET", f"/holdings/{made['Change, change of each line'].pk}/table")
        self.assertEqual(len(table["rows"]), made["Change, changed lines"].features.count())
        again = self.ask("POST", "/runs", asked)  # all of it is there
        self.assertEqual(again["holding_id"], made["Change"].pk)

    def test_what_it_refuses_is_refused(self):
        self.assertIn("step", self.ask("POST", "/runs", {**self.body, "params": {"step": 0}}, 422)["detail"])
