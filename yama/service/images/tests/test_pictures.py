"""Pictures in the service: a question answered, tiles where the picture lies, and nothing of it taken for heights."""

import cv2
import numpy as np
import rasterio
from affine import Affine

from yama.service.images.api import TILE
from yama.service.tests.base import ServiceTest


class PictureTest(ServiceTest):
    """A picture that lies askew over the middle of the frame: red grows to its east."""

    def setUp(self):
        super().setUp()
        self.grid = self.project.frame.grid
        box = self.grid.bounds
        wide, high = (box.east - box.west) / 2, (box.north - box.south) / 2
        place = Affine.translation(box.west + wide / 2, box.north - high / 2) * Affine.rotation(3)
        place *= Affine.scale(wide / 200, -high / 160)
        cells = np.zeros((3, 160, 200), np.uint8)
        cells[0] = np.arange(200)
        path = self.folder / "shot.tif"
        with rasterio.open(path, "w", driver="GTiff", dtype="uint8", count=3, height=160, width=200, crs=self.grid.crs,
                           transform=place, photometric="RGB") as dataset:  # fmt: skip
            dataset.write(cells)
        asked = self.send(path.read_bytes(), path.name, 200)["question"]
        answers = [one["set_params"] for finding in asked["findings"] for one in finding["answers"]]
        self.assertEqual(answers[0], {"picture": True})
        self.ask("POST", f"/uploads/{asked['file_key']}/take", {"name": path.name, "declared": answers[0]}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        self.holding = job.holding
        self.top = max(0, int(np.ceil(np.log2(max(self.grid.rows, self.grid.cols) / TILE))))

    def tile(self, level, col, row):
        return self.client.get(f"{self.base}/pictures/{self.holding.pk}/tiles/{level}/{col}/{row}")

    def test_it_is_told_as_a_picture(self):
        told = next(one for one in self.ask("GET", "/holdings") if one["id"] == self.holding.pk)
        self.assertEqual((told["kind"], told["picture"]["cols"], told["picture"]["bands"]), ("picture", 200, 3))
        self.assertEqual(self.client.get(f"{self.base}/holdings/{self.holding.pk}/original").status_code, 200)

    def test_tiles_lie_on_the_frame(self):
        answer = self.tile(self.top, 0, 0)
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "image/webp"))
        pixels = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_UNCHANGED)
        self.assertEqual(pixels.shape, (TILE + 2, TILE + 2, 4))
        at = self.grid.at_level(self.top)
        middle = pixels[1 + at.rows // 2, 1 + at.cols // 2]
        self.assertEqual(middle[3], 255)
        self.assertAlmostEqual(int(middle[2]), 100, delta=8)
        self.assertEqual(pixels[1 + at.rows // 9, 1 + at.cols // 9, 3], 0)
        self.assertEqual(self.tile(0, 9999, 0).status_code, 404)

    def test_it_is_never_taken_for_heights(self):
        body = {"operation": "slope", "params": {}, "name": "s", "inputs": {"surface": self.holding.pk}}
        self.assertIn("must be surface", self.ask("POST", "/runs", body, 422)["detail"])
