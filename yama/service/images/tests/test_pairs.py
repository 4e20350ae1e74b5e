"""Image pairs in the service: from two files to heights, with what the desk shows in between."""

import gzip
from base64 import b64decode

import numpy as np

from yama.service.images.api import TILE
from yama.service.tests.base import ServiceTest
from yama.terrain.formats import image
from yama.terrain.stereo.rays import Sensor
from yama.terrain.stereo.tests import synthetic


class PairTest(ServiceTest):
    def setUp(self):
        super().setUp()
        made = synthetic.pair(self.folder, bias=(1.5, -2.0))
        self.files = [image.read(one.path) for one in made]
        self.ids = []
        for one in self.files:
            self.send(one.path.read_bytes(), one.path.name)
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "done", job.message + job.log)
            self.ids.append(job.holding.pk)

    def body(self, **more):
        return {"left": self.ids[0], "right": self.ids[1], **more}

    def start(self, operation, inputs, **params):
        body = {"operation": operation, "params": params, "name": operation, "inputs": {**self.body(), **inputs}}
        self.ask("POST", "/runs", body, 202)

    def tile(self, level, col, row):
        answer = self.client.get(f"{self.base}/images/{self.ids[0]}/tiles/{level}/{col}/{row}")
        self.assertEqual(answer.status_code, 200)
        return np.frombuffer(gzip.decompress(answer.content), "<f4").reshape(TILE + 2, TILE + 2)

    def test_tiles_are_the_images_cells_and_their_means(self):
        whole = self.files[0].read()
        np.testing.assert_array_equal(self.tile(0, 0, 0)[1:, 1:], whole[:257, :257])
        found = self.tile(1, 0, 0)[1:, 1:]
        np.testing.assert_allclose(found[:160, :140], self.files[0].read(0, 0, 160, 140, 1), atol=0.51)
        self.assertTrue(np.isnan(self.tile(0, 0, 0)[0]).all())  # above the image there is nothing
        self.assertEqual(self.client.get(f"{self.base}/images/{self.ids[0]}/tiles/0/9/9").status_code, 404)

    def test_a_look_says_how_both_see_the_ground(self):
        seen = self.ask("POST", "/pairs/look", self.body())
        self.assertAlmostEqual(seen["angle"], 2 * np.rad2deg(np.arctan(0.22)), delta=0.5)
        self.assertAlmostEqual(seen["height_of_cell"], 1 / 0.44, delta=0.05)
        np.testing.assert_allclose(seen["left"], Sensor(self.files[0].model).packed())
        self.assertIn("same image twice", self.ask("POST", "/pairs/look", self.body(right=self.ids[0]), 422)["detail"])

    def test_the_outline_is_drawn_on_a_surface(self):
        self.add_points()
        self.run_jobs()
        body = {"operation": "interpolate_points", "params": {"method": "nearest"}, "name": "ground",
                "inputs": {"points": self.project.holdings.get(kind="points").pk}}  # fmt: skip
        self.ask("POST", "/runs", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        ring = self.ask("GET", f"/images/{self.ids[0]}/outline?surface={job.holding.key}")["ring"]
        plain = next(one for one in self.ask("GET", "/holdings") if one["id"] == self.ids[0])["image"]["footprint"]
        self.assertEqual(ring[0], ring[-1])
        away = np.abs(np.mean(ring[:-1], axis=0) - np.mean(plain[:-1], axis=0)).max()
        self.assertTrue(0.01 < away < 200, away)  # the ground is not as high as the model's middle
        self.ask("GET", f"/images/{self.ids[0]}/outline?surface=nothing", None, 404)

    def test_rows_of_the_epipolar_view_meet(self):
        plane = self.ask("POST", "/pairs/look", self.body())["plane"]
        self.assertLess(plane["across"], 0.3)
        cells = []
        for side in ("left", "right"):
            answer = self.client.get(f"{self.base}/pairs/{self.ids[0]}/{self.ids[1]}/{side}/0/0/0")
            self.assertEqual(answer.status_code, 200)
            cells.append(np.frombuffer(gzip.decompress(answer.content), "<f4").reshape(TILE + 2, TILE + 2))
        far = f"{self.base}/pairs/{self.ids[0]}/{self.ids[1]}/left/0/99/0"
        self.assertEqual(self.client.get(far).status_code, 404)
        # the biased models put the same ground on rows that are off by what they are biased by, and no more
        known = np.isfinite(cells[0]) & np.isfinite(cells[1])
        self.assertGreater(known.mean(), 0.2)

    def test_a_window_is_tried_and_all_of_it_run(self):
        self.start("tie_points", {}, count=80, low=0, high=200)
        ties = self.run_jobs()[0].holding
        self.start("adjust_models", {"ties": ties.pk})
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        tried = self.ask("POST", "/pairs/try", self.body(model=job.holding.pk, col=160, row=170, size=96))
        heights = np.frombuffer(b64decode(tried["heights"]), "<f4").reshape(96, 96)
        self.assertGreater(np.isfinite(heights).mean(), 0.9)
        self.assertAlmostEqual(tried["empty"], np.isnan(heights).mean(), places=6)
        self.assertAlmostEqual(tried["median"], float(np.nanmedian(heights)), places=3)
        self.assertTrue(60 < tried["median"] < 140)
        self.assertIn("outside", self.ask("POST", "/pairs/try", self.body(col=-5, row=10), 422)["detail"])
        self.assertIn(
            "holds no adjusted models",
            self.ask("POST", "/pairs/try", self.body(model=ties.pk, col=9, row=9), 422)["detail"],
        )
