"""Profiles over HTTP: what the core says, for any number of surfaces, and lines that are none."""

import numpy as np

from yama.service.surfaces import keys
from yama.service.tests.base import ServiceTest
from yama.terrain.surface import sample


class ProfilesTest(ServiceTest):
    def test_surfaces_along_a_line_are_what_the_core_reads(self):
        stored = self.add_surface()
        self.ask("POST", "/runs", {"operation": "slope", "params": {}, "name": "Slope", "live": True,
                                   "inputs": {"surface": stored.pk}}, 202)  # fmt: skip
        live = self.run_jobs()[0].holding
        line = [[448_050.0, 5_438_100.0], [448_300.0, 5_438_250.0], [447_900.0, 5_438_400.0]]
        found = self.ask("POST", "/profiles", {"keys": [stored.key, live.key, stored.key], "line": line})
        self.assertEqual(set(found["courses"]), {stored.key, live.key})
        for holding in (stored, live):
            course = found["courses"][holding.key]
            heights = np.array([np.nan if value is None else value for value in course["heights"]])
            wanted = sample(keys.surface_of_holding(holding), found["x"], found["y"])
            np.testing.assert_allclose(heights, wanted, atol=0.005)
            self.assertAlmostEqual(course["highest"], np.nanmax(heights), delta=0.001)
        self.assertIsNone(found["courses"][stored.key]["heights"][-1])  # its end lies beyond the surface
        self.assertEqual(found["distance"][0], 0)
        self.assertAlmostEqual(found["distance"][-1], np.hypot(250, 150) + np.hypot(400, 150), places=2)

    def test_lines_and_surfaces_that_are_none_are_refused(self):
        key = self.add_surface().key
        good = [[448_050.0, 5_438_100.0], [448_300.0, 5_438_250.0]]
        for line in ([], good[:1], [good[0], good[0]]):
            self.assertTrue(self.ask("POST", "/profiles", {"keys": [key], "line": line}, 422)["detail"])
        self.ask("POST", "/profiles", {"keys": [], "line": good}, 422)
        self.ask("POST", "/profiles", {"keys": ["f" * 32], "line": good}, 404)
        far = [[0.0, 0.0], [100.0, 0.0]]
        course = self.ask("POST", "/profiles", {"keys": [key], "line": far})["courses"][key]
        self.assertIsNone(course["lowest"])

    def test_lines_of_very_many_corners_are_read_or_refused_in_a_sentence(self):
        key = self.add_surface().key
        line = [[448_000.0 + i * 3e-3, 5_438_100.0] for i in range(100_000)]
        found = self.ask("POST", "/profiles", {"keys": [key], "line": line})
        self.assertAlmostEqual(found["distance"][-1], 299.997, places=3)
        body = {"keys": [key], "line": line * 10}
        self.assertIn(
            "at most 100000 corners, and this one 1000000", self.ask("POST", "/profiles", body, 422)["detail"]
        )
        with self.settings(DATA_UPLOAD_MAX_MEMORY_SIZE=3_000_000):
            self.assertIn("larger than 3 MB", self.ask("POST", "/profiles", body, 413)["detail"])
