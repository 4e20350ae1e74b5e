"""Finding ground as an operation: findings both ways, and its settings."""

from __future__ import annotations

import numpy as np
from pyproj import Transformer

from yama.terrain.cloud import Reclassified
from yama.terrain.formats import las
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.interpolate.tests.test_binning import GRID, CloudTest
from yama.terrain.operations import find
from yama.terrain.operations.tests.running import first_of, task_for

FRAME = Frame(GRID, "m", "")
OPERATION = find("find_ground")


class FindGroundTest(CloudTest):
    def found(self, cloud, frame=FRAME, **params):
        taken = {"cloud": cloud}
        return {one.code: one for one in task_for(OPERATION.name, taken, frame, params).findings}

    def test_a_dense_cloud_needs_nothing(self):
        self.assertEqual(self.found(self.cloud("dense", count=40_000)[0]), {})

    def test_a_thin_cloud_gets_wider_cells_and_cubes(self):
        thin = self.cloud("thin", count=300)[0]
        found = self.found(thin)
        self.assertEqual({code: one.weight for code, one in found.items()}, {"sparse": "caution", "thin": "caution"})
        mended = {**found["sparse"].fix.set_params, **found["thin"].fix.set_params, "window": 60}
        self.assertEqual(self.found(thin, **mended), {})
        self.assertNotIn("thin", self.found(thin, noise=False))

    def test_a_window_hardly_wider_than_a_cell(self):
        found = self.found(self.cloud("dense", count=40_000)[0], cell=5, window=15)
        self.assertEqual(found["narrow"].fix.set_params, {"window": 20.0, "cell": 1.0})

    def test_ground_is_the_same_whatever_the_frame_measures_in(self):
        cloud = self.cloud("dense", count=40_000)[0]
        turn = Transformer.from_crs(GRID.crs, "EPSG:4326", always_xy=True)
        lon, lat = turn.transform(*GRID.middle)
        feet = "+proj=utm +zone=41 +south +datum=WGS84 +units=us-ft"
        frames = [
            FRAME,
            Frame(Grid("EPSG:4326", lon - 0.001, lat + 0.001, 1e-5, 1e-5, 200, 200)),
            Frame(Grid(feet, GRID.west * 3937 / 1200, GRID.north * 3937 / 1200, 6, 6, 100, 100)),
        ]
        made = []
        for frame in frames:
            self.assertEqual(self.found(cloud, frame), {})
            classifier = first_of(task_for(OPERATION.name, {"cloud": cloud}, frame, {})).classifier
            classifier.prepare()
            made.append(np.concatenate([classifier.classes(chunk) for chunk in las.chunks_of(cloud)]))
        for other in made[1:]:
            self.assertGreater((made[0] == other).mean(), 0.995)
        self.assertGreater((made[0] == 2).mean(), 0.01)

    def test_the_cloud_itself_is_not_beside_it(self):
        one, other = self.cloud("one")[0], self.cloud("other", seed=2, west=448_100.0)[0]
        made = first_of(task_for(OPERATION.name, {"cloud": one, "beside": [one, other]}, FRAME, {"noise": False}))
        self.assertIsInstance(made, Reclassified)
        self.assertEqual([cloud.name for cloud in made.classifier._clouds], ["one.laz", "other.laz"])
