"""Finding ground as an operation: findings both ways, and its settings."""

from __future__ import annotations

from dataclasses import replace

from yama.terrain.cloud import Reclassified
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.interpolate.tests.test_binning import GRID, CloudTest
from yama.terrain.operations import find, parse_params, take_inputs

FRAME = Frame(GRID, "m", "")
OPERATION = find("find_ground")


class FindGroundTest(CloudTest):
    def found(self, cloud, frame=FRAME, **params):
        taken = take_inputs(OPERATION, {"cloud": cloud})
        return {one.code: one for one in OPERATION.check(taken, parse_params(OPERATION, params), frame)}

    def test_a_dense_cloud_needs_nothing(self):
        self.assertEqual(self.found(self.cloud("dense", count=40_000)[0]), {})

    def test_a_thin_cloud_gets_wider_cells_and_cubes(self):
        thin = self.cloud("thin", count=300)[0]
        found = self.found(thin)
        self.assertEqual({code: one.weight for code, one in found.items()}, {"sparse": "caution", "thin": "caution"})
        mended = {**found["sparse"].mend.set_params, **found["thin"].mend.set_params, "window": 60}
        self.assertEqual(self.found(thin, **mended), {})
        self.assertNotIn("thin", self.found(thin, noise=False))

    def test_a_window_hardly_wider_than_a_cell(self):
        found = self.found(self.cloud("dense", count=40_000)[0], cell=5, window=15)
        self.assertEqual(found["narrow"].mend.set_params, {"window": 20.0, "cell": 1.0})

    def test_a_frame_in_degrees_stops_it(self):
        degrees = replace(FRAME, grid=Grid("EPSG:4326", 62.4, -41.2, 1e-5, 1e-5, 100, 100))
        cloud = self.cloud("dense", count=40_000)[0]
        self.assertEqual(self.found(cloud, degrees)["degrees"].weight, "stop")
        with self.assertRaisesMessage(InputError, "The frame is in degrees"):
            OPERATION.run({"cloud": cloud}, parse_params(OPERATION, {}), degrees)

    def test_the_cloud_itself_is_not_beside_it(self):
        one, other = self.cloud("one")[0], self.cloud("other", seed=2, west=448_100.0)[0]
        made = OPERATION.run({"cloud": one, "beside": [one, other]}, parse_params(OPERATION, {"noise": False}), FRAME)
        self.assertIsInstance(made, Reclassified)
        self.assertEqual([cloud.name for cloud in made.classifier._clouds], ["one.laz", "other.laz"])
