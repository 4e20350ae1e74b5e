"""Newer takes of a holding, and everything below made again from them."""

import numpy as np

from yama.service.holdings.models import Holding
from yama.service.tests.base import ServiceTest
from yama.terrain.surface import StoredSurface


class LineageTest(ServiceTest):
    def made(self, operation, params, inputs, name, **more):
        body = {"operation": operation, "params": params, "inputs": inputs, "name": name, **more}
        self.ask("POST", "/runs", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def setUp(self):
        super().setUp()
        self.points = self.add_points()
        self.tin = self.made("interpolate_points", {}, {"points": self.points.pk}, "TIN")
        self.higher = self.made("change_heights", {"offset": 5}, {"surface": self.tin.pk}, "Higher", live=True)
        self.apart = self.made("difference", {}, {"first": self.higher.pk, "second": self.tin.pk}, "Apart")
        self.beside = self.made("slope", {}, {"surface": self.add_surface().pk}, "Beside")

    def by_name(self):
        return {one["name"]: one for one in self.ask("GET", "/holdings")}

    def test_a_newer_take_is_remembered_and_what_is_below_is_made_again(self):
        near = self.made(
            "interpolate_points", {"method": "nearest"}, {"points": self.points.pk}, "Nearest", instead_of=self.tin.pk
        )
        self.assertEqual(self.by_name()["Nearest"]["instead_of"], self.tin.pk)
        job = self.ask("POST", f"/holdings/{self.tin.pk}/remake", {"instead": near.pk}, 202)
        self.assertIn("Remake 2 from Nearest", job["title"])
        done = self.run_jobs()[0]
        self.assertEqual(done.state, "done", done.message + done.log)
        listed = self.by_name()
        self.assertEqual((listed["Higher 2"]["live"], listed["Higher 2"]["instead_of"]), (True, self.higher.pk))
        self.assertEqual(
            listed["Apart 2"]["recipe"]["input_ids"], {"first": listed["Higher 2"]["id"], "second": near.pk}
        )
        self.assertEqual(
            set(listed) & {"TIN", "Higher", "Apart"}, {"TIN", "Higher", "Apart"}
        )  # nothing was overwritten
        self.assertNotIn("Beside 2", listed)
        cells = StoredSurface(Holding.objects.get(pk=listed["Apart 2"]["id"]).cells_path).read_all()
        np.testing.assert_allclose(cells[~np.isnan(cells)], 5.0, atol=1e-4)
        # asked for again it is all there already
        self.ask("POST", f"/holdings/{self.tin.pk}/remake", {"instead": near.pk}, 202)
        self.run_jobs()
        self.assertEqual(set(self.by_name()), set(listed))

    def test_what_cannot_be_is_a_sentence(self):
        for one, other, word in (
            (self.tin, self.tin, "already"), (self.tin, self.points, "another kind"), (self.beside, self.tin, "Nothing here"),
            (self.tin, self.apart, "was made from TIN itself"),
        ):  # fmt: skip
            found = self.ask("POST", f"/holdings/{one.pk}/remake", {"instead": other.pk}, 422)
            self.assertIn(word, found["detail"])
        self.ask("POST", f"/holdings/{self.tin.pk}/remake", {"instead": 99_999}, 404)

    def test_what_went_meanwhile_fails_the_job_with_a_sentence(self):
        near = self.made("interpolate_points", {"method": "nearest"}, {"points": self.points.pk}, "Nearest")
        self.ask("POST", f"/holdings/{self.tin.pk}/remake", {"instead": near.pk}, 202)
        near.delete()
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "failed")
        self.assertIn("no longer in the project", job.message)

    def test_a_step_whose_operation_changed_since_is_outdated(self):
        self.assertFalse(self.by_name()["TIN"]["outdated"])
        Holding.objects.filter(pk=self.tin.pk).update(recipe={**self.tin.recipe, "version": 0})
        self.assertTrue(self.by_name()["TIN"]["outdated"])
