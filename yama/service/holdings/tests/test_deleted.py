"""What is deleted is kept for a week, can be had back whole, and nothing goes without being named."""

from datetime import timedelta

import numpy as np
from django.utils import timezone

from yama.service.holdings.deleted import KEPT
from yama.service.holdings.models import Holding, Scorecard
from yama.service.jobs.models import Job
from yama.service.jobs.sweeping import sweep
from yama.service.sharing.models import Share
from yama.service.tests.base import ServiceTest
from yama.terrain.surface import StoredSurface


class DeletedTest(ServiceTest):
    def lifted(self, source, live, name="lifted"):
        body = {"operation": "change_heights", "params": {"offset": 2.0}, "inputs": {"surface": source.pk}, "name": name,
                "live": live}  # fmt: skip
        self.ask("POST", "/runs", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def test_it_can_be_had_back_whole(self):
        holding = self.add_surface()
        cells = StoredSurface(holding.cells_path).read_all()
        told = self.ask("DELETE", f"/holdings/{holding.pk}")
        self.assertEqual((told["name"], told["deleted_by"]), (holding.name, "editor"))
        self.assertEqual(self.ask("GET", "/holdings"), [])
        self.ask("GET", f"/holdings/{holding.pk}/picture", status=404)
        self.ask("GET", f"/tiles/{holding.key}/0/0/0", status=404)
        (listed,) = self.ask("GET", "/deleted")
        self.assertEqual((listed["id"], listed["kind"]), (holding.pk, "surface"))
        self.assertEqual(self.ask("POST", f"/deleted/{holding.pk}/restore")["names"], [holding.name])
        (back,) = self.ask("GET", "/holdings")
        self.assertEqual((back["id"], back["name"]), (holding.pk, holding.name))
        np.testing.assert_array_equal(StoredSurface(holding.cells_path).read_all(), cells)
        self.assertEqual(self.ask("GET", "/deleted"), [])
        self.ask("POST", f"/deleted/{holding.pk}/restore", status=404)

    def test_after_a_week_the_sweep_takes_it_for_good(self):
        holding, other = self.add_surface(), self.add_surface(5.0)
        for one in (holding, other):
            self.ask("DELETE", f"/holdings/{one.pk}")
        Holding.everything.filter(pk=holding.pk).update(deleted_at=timezone.now() - KEPT - timedelta(minutes=1))
        self.assertIn(holding.name, sweep()[0])
        self.assertFalse(holding.cells_path.exists() or holding.upload_path.exists())
        self.assertTrue(other.cells_path.exists() and other.upload_path.exists())
        self.assertEqual([one["id"] for one in self.ask("GET", "/deleted")], [other.pk])

    def test_the_same_file_or_the_same_recipe_brings_it_back(self):
        holding = self.add_surface()
        made = self.lifted(holding, live=False)
        self.ask("DELETE", f"/holdings/{made.pk}")
        self.ask("DELETE", f"/holdings/{holding.pk}")
        self.assertEqual(self.send(self.raster(), "again.tif", 200)["holding_id"], holding.pk)
        body = {
            "operation": "change_heights",
            "params": {"offset": 2.0},
            "inputs": {"surface": holding.pk},
            "name": "x",
        }
        self.assertEqual(self.ask("POST", "/runs", body)["holding_id"], made.pk)
        self.assertEqual(len(self.ask("GET", "/holdings")), 2)

    def test_what_depends_on_it_is_named_first(self):
        holding = self.add_surface()
        live = self.lifted(holding, True, "live one")
        told = self.ask("GET", f"/holdings/{holding.pk}/uses")
        self.assertEqual(told["blocked"], ["live one is computed from it. Store or delete that first."])
        self.ask("DELETE", f"/holdings/{holding.pk}?sure=true", status=409)
        self.ask("DELETE", f"/holdings/{live.pk}")
        Share.objects.create(holding=holding, dress={}, created_by=self.people["editor"])
        body = {"operation": "slope", "params": {}, "inputs": {"surface": holding.pk}, "name": "slopes"}
        self.ask("POST", "/runs", body, 202)
        self.run_jobs()
        told = self.ask("GET", f"/holdings/{holding.pk}/uses")
        self.assertEqual(told["blocked"], [])
        self.assertEqual(
            told["loses"],
            [
                "slopes was made from it and cannot be made again without it.",
                "It is open to others by an address, which stops answering.",
            ],
        )
        self.assertIn("slopes was made", self.ask("DELETE", f"/holdings/{holding.pk}", status=409)["detail"])
        self.ask("DELETE", f"/holdings/{holding.pk}?sure=true")
        token = Share.objects.get().token
        self.assertEqual(self.client.get(f"/open/{token}/surface.tif").status_code, 404)
        self.assertEqual(self.ask("GET", "/shares"), [])
        self.ask("POST", f"/deleted/{holding.pk}/restore")
        self.assertEqual(self.client.get(f"/open/{token}/surface.tif").status_code, 200)

    def test_a_job_that_uses_it_is_named_and_not_cancelled(self):
        holding, other = self.add_surface(), self.add_surface(3.0)
        body = {"operation": "slope", "params": {}, "inputs": {"surface": holding.pk}, "name": "slopes"}
        self.ask("POST", "/runs", body, 202)
        said = self.ask("DELETE", f"/holdings/{holding.pk}?sure=true", status=409)["detail"]
        self.assertIn("slopes is under way and may use it", said)
        self.assertEqual(Job.objects.get(state=Job.State.QUEUED).cancel_requested, False)
        self.ask("DELETE", f"/holdings/{other.pk}")  # one that it does not use

    def test_a_live_surface_comes_back_with_what_it_is_computed_from(self):
        holding = self.add_surface()
        live = self.lifted(holding, live=True)
        self.ask("DELETE", f"/holdings/{live.pk}")
        self.ask("DELETE", f"/holdings/{holding.pk}")
        self.assertEqual(self.ask("POST", f"/deleted/{live.pk}/restore")["names"], [holding.name, live.name])
        self.assertEqual(len(self.ask("GET", "/holdings")), 2)

    def test_checkpoints_judge_again_when_they_are_back(self):
        surface, points = self.add_surface(), self.add_points()
        self.ask("PUT", "/checkpoints", {"holding_id": points.pk})
        self.run_jobs()
        self.assertEqual(Scorecard.objects.count(), 1)
        self.assertIn("checkpoints", self.ask("DELETE", f"/holdings/{points.pk}", status=409)["detail"])
        self.ask("DELETE", f"/holdings/{points.pk}?sure=true")
        self.assertIsNone(self.ask("GET", "")["checkpoints_id"])
        self.ask("POST", f"/deleted/{points.pk}/restore")
        self.assertEqual(self.ask("GET", "")["checkpoints_id"], points.pk)
        self.assertIsNotNone(next(one for one in self.ask("GET", "/holdings") if one["id"] == surface.pk)["accuracy"])

    def test_its_name_may_be_taken_meanwhile(self):
        holding = self.add_surface()
        self.ask("DELETE", f"/holdings/{holding.pk}")
        other = self.add_surface(4.0)
        self.ask("PATCH", f"/holdings/{other.pk}", {"name": holding.name})
        self.assertEqual(self.ask("POST", f"/deleted/{holding.pk}/restore")["names"], [f"{holding.name} 2"])

    def test_on_another_frame_it_stays_away_and_says_why(self):
        holding = self.add_surface()
        made = self.lifted(holding, live=False)
        self.ask("DELETE", f"/holdings/{made.pk}")
        self.project.frame_data = {**self.project.frame_data, "vertical_datum": "another"}
        self.project.save()
        self.assertIn("another frame", self.ask("POST", f"/deleted/{made.pk}/restore", status=422)["detail"])
