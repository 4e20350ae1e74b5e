"""Every finding both ways: a file that has the fault, and one like it that has not."""

import tempfile
from pathlib import Path

import numpy as np
import rasterio
from affine import Affine
from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.formats import raster
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface

TRANSFORM = Affine(2, 0, 448_000, 0, -2, 5_438_000)
CRS = "EPSG:32741"


class FindingTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        rows, cols = np.indices((120, 150))
        self.hills = 200 + 60 * np.sin(rows / 15) + 40 * np.cos(cols / 12)

    def tif(self, cells, crs=CRS, transform=TRANSFORM, **more):
        path = self.folder / "a.tif"
        profile = {"driver": "GTiff", "height": cells.shape[0], "width": cells.shape[1], "count": 1,
                   "dtype": cells.dtype, "crs": crs, "transform": transform}  # fmt: skip
        with rasterio.open(path, "w", **profile, **more) as dataset:
            dataset.write(cells, 1)
        return path

    def table(self, rows, header="x,y,z"):
        path = self.folder / "a.csv"
        path.write_text(header + "\n" + "\n".join(",".join(str(v) for v in row) for row in rows) + "\n")
        return path

    def found(self, path, declared=NOTHING):
        return {finding.code: finding for finding in formats.inspect(path, declared, frame_crs=CRS).findings}


class RasterFindingsTest(FindingTest):
    def test_hills_are_fine(self):
        self.assertEqual(self.found(self.tif(self.hills.astype(np.float32))), {})

    def test_undeclared_voids_of_any_value(self):
        for value in (-9999.0, -32768.0, 0.0, 12345.0, -3.4e38):
            cells = self.hills.astype(np.float32)
            cells[20:40, 30:60] = value
            facts = raster.inspect(self.tif(cells))
            if value == 0.0:  # not far from such heights: sea or background, which the technician must say
                self.assertEqual([f.code for f in facts.findings], ["zeros"])
                continue
            self.assertEqual([round(v / value, 6) for v, _ in facts.voids], [1.0], value)
            self.assertEqual(facts.voids[0][1], 600)
            self.assertAlmostEqual(
                facts.statistics.lowest,
                float(cells[cells > 0].min()) if value < 0 else self.hills.astype(np.float32).min(),
                places=3,
            )
            self.assertEqual((facts.holes.count, facts.holes.cells), (1, 600))
            declared = self.found(self.tif(cells, nodata=value))
            self.assertNotIn("void_value", declared)

    def test_true_lows_are_no_voids(self):
        lake = self.hills.astype(np.float32)
        lake[lake < 150] = 150  # a lake repeats its level
        self.assertEqual(self.found(self.tif(lake)), {})
        pit = self.hills.astype(np.float32)
        pit[60, 60] = 40  # one quarry hole
        self.assertEqual(self.found(self.tif(pit)), {})
        sea = np.maximum(self.hills - 190, 0).astype(np.float32)
        self.assertEqual(set(self.found(self.tif(sea))), {"zeros"})

    def test_statistics_are_of_all_cells(self):
        cells = self.hills.astype(np.float64)
        cells[119, 149] = 5000.0
        facts = raster.inspect(self.tif(cells))
        self.assertEqual(facts.statistics.highest, 5000.0)
        self.assertAlmostEqual(facts.statistics.mean, cells.mean(), places=6)
        self.assertAlmostEqual(facts.statistics.deviation, cells.std(), places=4)

    def test_holes_are_counted_with_their_places(self):
        cells = self.hills.astype(np.float32)
        cells[10:12, 10:13] = np.nan
        cells[50:60, 100:101] = np.nan
        cells[0:3, 0:3] = np.nan  # at the edge: outside, no hole
        facts = raster.inspect(self.tif(cells))
        self.assertEqual((facts.holes.count, facts.holes.cells, facts.holes.outside), (2, 16, 9))
        (finding,) = facts.findings
        self.assertEqual(finding.places[0], (448_000 + 2 * 100.5, 5_438_000 - 2 * 55.0))
        self.assertEqual([hole.cells for hole in facts.holes.largest], [10, 6])

    def test_feet_by_magnitude_by_their_own_word_and_beside_others(self):
        high = (self.hills * 50).astype(np.float32)
        self.assertIn("feet", self.found(self.tif(high)))
        self.assertNotIn("feet", self.found(self.tif(high), Declared(unit="ft")))
        path = self.tif(self.hills.astype(np.float32))
        with rasterio.open(path, "r+") as dataset:
            dataset.units = ("ft",)
        facts = raster.inspect(path)
        self.assertEqual((facts.unit, [f.code for f in facts.findings]), ("ft", ["feet_said"]))
        self.assertAlmostEqual(facts.statistics.highest, self.hills.max() * 0.3048, places=3)
        read = raster.read(path).read_all()
        np.testing.assert_allclose(read, self.hills * 0.3048, rtol=1e-6)
        grid = Grid.from_transform(CRS, TRANSFORM, *self.hills.shape)
        metres = ArraySurface(self.hills, grid)
        self.assertIsNone(raster.feet_against(ArraySurface(self.hills + 8, grid), metres, "a"))
        self.assertIsNotNone(raster.feet_against(ArraySurface((self.hills + 8) / 0.3048, grid), metres, "a"))

    def test_degrees_behind_a_crs_in_metres_and_metres_behind_degrees(self):
        degrees = Affine(1 / 3600, 0, 62.4, 0, -1 / 3600, -41.2)
        cells = self.hills.astype(np.float32)
        finding = self.found(self.tif(cells, transform=degrees))["degrees"]
        mended = self.found(self.tif(cells, transform=degrees), Declared(**finding.fix.set_params))
        self.assertEqual(mended, {})
        self.assertEqual(self.found(self.tif(cells, "EPSG:4326"))["not_degrees"].weight, "stop")
        self.assertEqual(self.found(self.tif(cells, "EPSG:4326", degrees)), {})

    def test_nothing_but_empty_cells(self):
        cells = np.full((40, 40), np.nan, np.float32)
        self.assertEqual(self.found(self.tif(cells))["all_empty"].weight, "stop")

    def test_ascii_grids_are_surfaces(self):
        path = self.folder / "a.asc"
        rows = "\n".join(" ".join(f"{value:.3f}" for value in row) for row in self.hills)
        path.write_text(
            "ncols 150\nnrows 120\nxllcorner 448000\nyllcorner 5437760\ncellsize 2\nNODATA_value -9999\n" + rows
        )
        self.assertEqual(self.found(path)["no_crs"].weight, "stop")
        surface = formats.read(path, Declared(crs=CRS))
        np.testing.assert_allclose(surface.read_all(), self.hills, atol=0.001)
        self.assertEqual(surface.grid.north, 5_438_000)


class PointFindingsTest(FindingTest):
    def places(self, count=80, seed=2):
        rng = np.random.default_rng(seed)
        x, y = 448_000 + 900 * rng.random(count), 5_438_000 + 900 * rng.random(count)
        return [[round(a, 2), round(b, 2), round(100 + 0.01 * i, 2)] for i, (a, b) in enumerate(zip(x, y, strict=True))]

    def test_plain_points_are_fine(self):
        self.assertEqual(self.found(self.table(self.places())), {})

    def test_swapped_strays_and_duplicates(self):
        rows = self.places()
        rows[3][0], rows[3][1] = rows[3][1], rows[3][0]
        found = self.found(self.table(rows))
        self.assertEqual(set(found), {"swapped"})
        path = self.table(rows)
        self.assertEqual(self.found(path, Declared(**found["swapped"].fix.set_params)), {})
        rows = self.places()
        rows[7][0] += 90_000
        found = self.found(self.table(rows))
        self.assertEqual(set(found), {"strays"})
        self.assertEqual(found["strays"].places, [(rows[7][0], rows[7][1])])
        kept = formats.read(self.table(rows), Declared(leave_out="strays"), frame_crs=CRS)
        self.assertEqual(len(kept), 79)
        rows = [*self.places(), [*self.places()[5][:2], 130.0]]
        self.assertEqual(set(self.found(self.table(rows))), {"duplicates"})

    def test_feet_by_name_and_by_magnitude(self):
        rows = self.places()
        found = self.found(self.table(rows, "x,y,elevation_ft"))
        self.assertNotIn("feet", found)  # no known name: columns must be chosen
        rows = [[a, b, c * 100] for a, b, c in rows]
        found = self.found(self.table(rows))
        self.assertEqual(set(found), {"feet"})
        read = formats.read(self.table(rows), Declared(**found["feet"].fix.set_params), frame_crs=CRS)
        self.assertAlmostEqual(read.z[0], rows[0][2] * 0.3048)

    def test_latitude_first(self):
        rows = [[-41.2 + 0.001 * i, 162.4 + 0.0013 * (i * 7 % 40), 5] for i in range(40)]
        found = self.found(self.table(rows, "x,y,z"))
        self.assertIn("latitude_first", found)

    def test_a_grid_written_out_is_known(self):
        rows = [[448_000 + 5 * c, 5_438_000 + 5 * r, r + c] for r in range(12) for c in range(9)]
        self.assertEqual(set(self.found(self.table(rows))), {"lattice"})
        self.assertEqual(self.found(self.table(self.places(200))), {})
        surface = formats.read(self.table(rows), Declared(grid=True), frame_crs=CRS)
        self.assertEqual((surface.grid.rows, surface.grid.cols, surface.grid.west), (12, 9, 447_997.5))
        self.assertEqual(surface.read_all()[0, 0], 11)
