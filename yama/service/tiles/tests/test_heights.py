"""Heights over an area: quick figures for anybody who may look, exact ones as a job, and the two agree."""

import numpy as np

from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.surface import StoredSurface


class HeightsTest(ServiceTest):
    def test_figures_of_both_and_of_their_difference(self):
        low, high = self.add_surface(), self.add_surface(4.0)
        asked = {"a": high.key, "b": low.key, "levels": [20, 40], "about": [0, 0]}
        found = self.ask("POST", "/heights", asked)
        cells = StoredSurface(high.cells_path).read_all()
        self.assertEqual(found["a"]["cells"], GRID.rows * GRID.cols)
        np.testing.assert_allclose(found["a"]["quantiles"][3], np.median(cells), atol=1e-3)
        np.testing.assert_allclose(found["minus"]["mean"], 4.0, atol=1e-4)
        np.testing.assert_allclose(found["minus"]["above"]["volume"], 4.0 * 600 * 600, rtol=1e-4)
        np.testing.assert_allclose(found["a"]["above"]["volume"], (np.maximum(cells - 40, 0) * 4).sum(), rtol=1e-4)
        self.assertIsNone(self.ask("POST", "/heights", {"a": low.key})["b"])
        run = {"operation": "heights", "params": {"levels": [20, 40]}, "inputs": {"first": high.pk, "second": low.pk}}
        self.ask("POST", "/runs", {**run, "name": "Heights"}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        self.assertEqual(self.ask("GET", f"/holdings/{job.holding_id}/table")["facts"], {**found, "unit": "m"})

    def test_areas_meet(self):
        held = self.add_surface()
        box = [448_100, 5_438_100, 448_300, 5_438_300]
        ring = [[448_200, 5_438_000], [448_600, 5_438_000], [448_600, 5_438_600], [448_200, 5_438_600]]
        found = self.ask("POST", "/heights", {"a": held.key, "bounds": box, "ring": ring})["a"]
        self.assertEqual(found["cells"], 50 * 100)
        np.testing.assert_allclose([found["lowest"], found["highest"]], [20.1, 29.9], atol=0.01)

    def test_nonsense_is_a_sentence(self):
        held = self.add_surface()
        for body in (
            {"levels": [9, 1]}, {"bounds": [5, 5, 1, 9]}, {"ring": [[0, 0], [1, 1]]}, {"area": 9_999}, {"area": held.pk},
        ):  # fmt: skip
            self.assertTrue(self.ask("POST", "/heights", {"a": held.key, **body}, 422)["detail"])
        self.ask("POST", "/heights", {"a": "f" * 32}, 404)

    def test_a_surface_of_one_height_has_figures(self):
        flat = self.add_surface()
        run = {"operation": "calculate", "params": {"expression": "a * 0 + 612.34"}, "inputs": {"surfaces": [flat.pk]}}
        self.ask("POST", "/runs", {**run, "name": "flat"}, 202)
        key = self.run_jobs()[0].holding.key
        found = self.ask("POST", "/heights", {"a": key})["a"]
        self.assertEqual((found["deviation"], found["skew"], sum(found["counts"])), (0.0, 0.0, GRID.rows * GRID.cols))
        self.assertEqual(sum(self.ask("POST", "/views", {"keys": [key]})[key]["counts"]), GRID.rows * GRID.cols)
