"""The island's files: what is wrong with them is there, and nothing else is."""

import tempfile
from pathlib import Path

import numpy as np
import rasterio
from django.test import SimpleTestCase

from yama.demo import files
from yama.demo.terrain import COVERS, FRAME, island
from yama.terrain import formats
from yama.terrain.fit.reproject import fitted
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.points import duplicate_places
from yama.terrain.surface import StoredSurface, sample


class DemoTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.held.cleanup)
        cls.paths = files.make(Path(cls.held.name))
        cls.truth = island()

    def survey(self):
        return formats.read(self.paths["survey"], "EPSG:32741")

    def test_the_island_lies_whole_within_its_frame(self):
        heights = self.truth.heights
        rim = np.concatenate([heights[0], heights[-1], heights[:, 0], heights[:, -1]])
        self.assertLess(rim.max(), 0)
        self.assertGreater((heights > 0).mean(), 0.3)
        self.assertTrue(550 < heights.max() < 650)

    def test_the_avel_falls_from_the_lake_to_the_sea(self):
        x, y = self.truth.river.T
        bed = sample(self.truth.surface, x, y)
        self.assertLess(bed[-1], 3)
        smooth = np.convolve(bed, np.ones(9) / 9, "valid")
        self.assertLess((np.diff(smooth) > 0.5).sum(), 4)
        lake = self.truth.heights[self.truth.cover == COVERS.index("water")]
        self.assertEqual(np.ptp(lake), 0)

    def test_survey_points_lie_on_the_truth_but_for_their_faults(self):
        points = self.survey()
        self.assertTrue(4500 < len(points) < 5200)
        error = points.z - sample(self.truth.surface, points.x, points.y)
        swapped = np.isnan(error)
        self.assertEqual(swapped.sum(), files.FAULTS["swapped"])
        self.assertEqual((np.abs(error) > 10).sum(), files.FAULTS["blunders"])
        good = error[np.abs(error) < 0.2]
        self.assertAlmostEqual(float(np.std(good)), 0.02, places=2)
        found = duplicate_places(points)
        self.assertEqual(found["differing"], files.FAULTS["duplicates"])
        self.assertLess(found["largest"], 2.0)
        self.assertEqual(set(points.code_counts()), {"ground", "breakline", "spot", "water"})

    def test_checkpoints_have_decimal_commas_and_land_cover(self):
        self.assertIn(",", self.paths["checkpoints"].read_text().splitlines()[1].split(";")[1])
        points = formats.read(self.paths["checkpoints"], "EPSG:32741")
        self.assertEqual(len(points), 200)
        self.assertLess(accuracy(self.truth.surface, points).all.rmse, 0.05)
        self.assertLessEqual(set(points.code_counts()), set(COVERS))

    def test_beacon_is_whole_metres_with_voids_trees_and_half_a_cell_off(self):
        with rasterio.open(self.paths["beacon"]) as dataset:
            self.assertEqual((dataset.dtypes[0], dataset.nodata), ("int16", -32768))
            self.assertGreater((dataset.read(1) == -32768).sum(), 100)
        beacon = StoredSurface(self.paths["beacon"])
        shown = fitted(beacon, FRAME)
        heights = shown.read(FRAME.at_level(2).whole, 2)[:, :1280]
        truth = self.truth.surface.read(FRAME.at_level(2).whole, 2)
        cover = self.truth.cover[2::4, 2::4]
        land = np.isfinite(heights) & (truth > 2)
        wood = heights[land & (cover == COVERS.index("wood"))] - truth[land & (cover == COVERS.index("wood"))]
        grass = heights[land & (cover == COVERS.index("grass"))] - truth[land & (cover == COVERS.index("grass"))]
        self.assertGreater(np.median(wood) - np.median(grass), 6)

        # moved by columns, it fits the truth best half a cell to the west
        def misfit(cells):
            step = round(cells * beacon.grid.metres_per_cell()[0] / 8)
            moved = np.roll(heights, step, axis=1)
            good = np.isfinite(moved) & (truth > 2) & (cover == COVERS.index("grass"))
            return np.std(moved[good] - truth[good])

        self.assertLess(misfit(-0.5), misfit(0.0))
        self.assertLess(misfit(-0.5), misfit(-1.3))

    def test_made_again_it_is_the_same_to_the_byte(self):
        with tempfile.TemporaryDirectory() as folder:
            again = files.make(Path(folder))
            for name, path in self.paths.items():
                self.assertEqual(path.read_bytes(), again[name].read_bytes(), name)
