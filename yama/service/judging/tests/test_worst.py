import io
from base64 import b64decode

import numpy as np
from PIL import Image

from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.surface import ArraySurface, store


class WorstPlacesTest(ServiceTest):
    def raised(self):
        """A plane on which something stands."""
        xs, _ = GRID.centres(GRID.whole)
        cells = np.tile(0.1 * (xs - 448_000), (GRID.rows, 1))
        cells[40:80, 60:110] += 6.0
        store(ArraySurface(cells, GRID), self.folder / "raised.tif")
        self.send((self.folder / "raised.tif").read_bytes(), "raised.tif")
        return self.run_jobs()[0].holding

    def test_places_are_told_with_pictures_in_the_frames_unit(self):
        first, second = self.raised(), self.add_surface(0.0)
        found = self.ask("POST", "/worst-places", {"a": first.key, "b": second.key})
        self.assertEqual((found["count"], found["told"]), (1, 1))
        (place,) = found["places"]
        self.assertAlmostEqual(place["mean"], 6.0, places=1)
        self.assertAlmostEqual(place["volume"], 40 * 50 * 4 * 6.0, delta=2000)
        for name in ("png_a", "png_b", "png_minus"):
            self.assertEqual(Image.open(io.BytesIO(b64decode(place[name]))).size, (76, 76))
        self.project.frame_data = {**self.project.frame_data, "unit": "ft"}
        self.project.save()
        in_feet = self.ask("POST", "/worst-places", {"a": first.key, "b": second.key})["places"][0]
        self.assertAlmostEqual(in_feet["mean"], 6.0 / 0.3048, places=0)

    def test_a_view_holds_only_its_own_places(self):
        first, second = self.raised(), self.add_surface(0.0)
        keys = {"a": first.key, "b": second.key}
        west, north = GRID.west, GRID.north
        here = self.ask("POST", "/worst-places", {**keys, "bounds": [west, north - 300, west + 300, north]})
        self.assertEqual(here["count"], 1)
        away = [west + 300, north - 600, west + 590, north - 300]
        self.assertIn("equal all over", self.ask("POST", "/worst-places", {**keys, "bounds": away}, 422)["detail"])
        outside = [west - 900, north - 600, west - 300, north - 300]
        self.assertIn("Neither surface", self.ask("POST", "/worst-places", {**keys, "bounds": outside}, 422)["detail"])

    def test_what_has_no_heights_is_refused(self):
        first, second = self.raised(), self.add_surface(0.0)
        self.ask(
            "POST", "/runs", {"operation": "slope", "inputs": {"surface": first.pk}, "params": {}, "live": True}, 202
        )
        slope = self.run_jobs()[0].holding
        told = self.ask("POST", "/worst-places", {"a": slope.key, "b": second.key}, 422)["detail"]
        self.assertIn("heights only", told)
        self.ask("POST", "/worst-places", {"a": "nothing", "b": second.key}, 404)
