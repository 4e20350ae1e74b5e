"""The valley over which tests of draining let water run."""

import numpy as np
import shapely

from yama.service.tests.base import ServiceTest
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, store

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_200.0, 2.0, 2.0, 100, 160)


class ValleyTest(ServiceTest):
    """A valley that falls to the east, with a hollow in its floor."""

    def setUp(self):
        super().setUp()
        x, y = np.meshgrid(*GRID.centres(GRID.whole))
        cells = 60 - 0.1 * (x - GRID.west) + 0.2 * np.abs(y - 5_438_101)
        self.hollow = shapely.Point(448_161, 5_438_101).buffer(15)
        cells[np.hypot(x - 448_161, y - 5_438_101) < 13] -= 4.0
        self.valley = self.add_surface(cells)
        self.body = {"surface": self.valley.pk, "method": "fill"}

    def add_surface(self, cells, name="valley"):
        path = self.folder / f"{name}.tif"
        store(ArraySurface(cells.astype(np.float32), GRID), path)
        self.send(path.read_bytes(), path.name)
        return self.run_jobs()[0].holding

    def worked_out(self, **change):
        body = {**self.body, **change}
        self.assertIsNotNone(self.ask("POST", "/drainage", body, 202)["job"])
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return body
