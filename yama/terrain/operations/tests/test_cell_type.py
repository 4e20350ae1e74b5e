"""Cells as whole numbers, and a value of one's own for empty."""

import numpy as np
import rasterio

from yama.terrain import operations
from yama.terrain.cog import Encoding
from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations.cell_type import Encoded
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import ArraySurface, StoredSurface, store
from yama.terrain.tests.test_surface import FolderTest, rough


class CellTypeTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.grid = Grid("EPSG:32741", 448_000, 5_438_600, 2, 2, 300, 400)
        self.heights = rough(300, 400).read_all()
        self.heights[40:60, 50:90] = np.nan

    def made(self, **values):
        """Findings by code, and the surface."""
        operation = operations.find("cell_type")
        params = operations.parse_params(operation, values)
        inputs = {"surface": ArraySurface(self.heights, self.grid, "m", "sea")}
        frame = Frame(self.grid, "m")
        return {one.code: one for one in task_for(operation.name, inputs, frame, params).findings}, first_of(
            task_for(operation.name, inputs, frame, params)
        )

    def test_live_is_stored_for_every_type(self):
        for values, nodata in (
            ({"cell_type": "int16", "step": 0.1}, -32768),
            ({"cell_type": "int16", "step": 0.1, "nodata": -9999}, -9999),
            ({"cell_type": "uint16", "step": 0.25}, 65535),
            ({"cell_type": "int32", "step": 0.001}, -(2**31)),
            ({"cell_type": "float32", "nodata": -9999}, -9999),
        ):
            with self.subTest(values):
                findings, surface = self.made(**values)
                self.assertEqual(findings, {})
                live = surface.read_all()
                path = self.folder / f"{len(list(self.folder.iterdir()))}.tif"
                store(surface, path)
                stored = StoredSurface(path)
                np.testing.assert_array_equal(stored.read_all(), live)
                self.assertEqual(stored.vertical_datum, "sea")
                self.assertLessEqual(np.nanmax(np.abs(live - self.heights)), values.get("step", 0) / 2 + 1e-4)
                with rasterio.open(path) as dataset:
                    self.assertEqual((dataset.dtypes[0], dataset.nodata), (values["cell_type"], nodata))
                    self.assertEqual(dataset.scales[0], values.get("step", 1.0))

    def test_what_a_type_cannot_hold_is_said_before_and_never_written(self):
        self.heights[100:, 100:] = 4_500.0
        held = ArraySurface(self.heights, self.grid, "m", "sea")
        task = task_for("cell_type", {"surface": held}, Frame(self.grid, "m"), {"step": 0.1})
        (finding,) = task.findings
        self.assertEqual((finding.code, finding.weight, finding.fix.set_params), ("range", "stop", {"step": 0.2}))
        with self.assertRaisesRegex(InputError, "heights run from"):
            task.run()
        surface = Encoded(held, Encoding("int16", 0.1, -32768.0))
        with self.assertRaisesRegex(InputError, "4500.00 m as int16 in steps of 0.1 m lies outside"):
            store(surface, self.folder / "no.tif")
        self.assertEqual(list(self.folder.iterdir()), [])
        self.assertEqual(self.made(step=0.2)[0], {})

    def test_a_height_that_would_mean_empty_is_refused(self):
        self.heights[7, 9] = 12.0
        for values in ({"cell_type": "int16", "step": 1.0, "nodata": 12}, {"cell_type": "float32", "nodata": 12}):
            with self.assertRaisesRegex(InputError, "mean empty"):
                self.made(**values)[1].read_all()

    def test_lost_relief_and_values_there_are_none_of_are_findings(self):
        self.assertEqual(self.made(step=5.0)[0]["steps"].weight, "caution")
        self.assertEqual(self.made(cell_type="float32")[0]["same"].weight, "note")
        operation = operations.find("cell_type")
        inputs = {"surface": ArraySurface(self.heights, self.grid)}
        for nodata in (99_999, 0.5):
            params = operations.parse_params(operation, {"nodata": nodata})
            self.assertEqual(task_for(operation.name, inputs, Frame(self.grid, "m"), params).findings[0].weight, "stop")
        with self.assertRaisesRegex(InputError, "step"):
            operations.parse_params(operation, {"step": 0})
