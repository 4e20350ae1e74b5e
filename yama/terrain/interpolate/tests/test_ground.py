"""Ground and noise in clouds whose truth is known."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import laspy
import numpy as np
from scipy import ndimage

from yama.terrain.cloud import Cloud, Reclassified
from yama.terrain.errors import InputError
from yama.terrain.formats import las
from yama.terrain.formats.declared import Declared
from yama.terrain.interpolate import ground
from yama.terrain.interpolate.ground import (
    GROUND,
    HIGH_NOISE,
    LOW_NOISE,
    UNCLASSIFIED,
    GroundFinder,
    Settings,
    ground_surface,
    opening,
)
from yama.terrain.kinds import write

CRS = "EPSG:32741"


class OpeningTest(unittest.TestCase):
    def test_is_the_opening_by_squares(self) -> None:
        rng = np.random.default_rng(2)
        for shape in ((1, 9), (14, 3), (23, 31)):
            heights = rng.normal(0, 5, shape)
            for radius in (1, 2, 5, 12):
                size = 2 * radius + 1
                low = ndimage.minimum_filter(heights, size, mode="constant", cval=np.inf)
                slow = ndimage.maximum_filter(low, size, mode="constant", cval=-np.inf)
                np.testing.assert_array_equal(opening(heights, radius), slow)


class GroundSurfaceTest(unittest.TestCase):
    def test_a_house_on_a_slope_is_taken_off(self) -> None:
        y, x = np.mgrid[:80, :90].astype(np.float64)
        slope = 50 + 0.1 * x + 0.05 * y
        lowest = slope.copy()
        lowest[30:42, 40:55] += 6
        lowest[60, 20] = np.nan
        ground, allowed = ground_surface(lowest, 1.0, Settings())
        self.assertLess(float(np.abs(ground - slope).max()), 0.15)
        np.testing.assert_allclose(allowed[5:-5, 5:-5], 0.4 + 1.25 * np.hypot(0.1, 0.05), atol=0.08)

    def test_a_pit_of_one_cell_is_no_ground(self) -> None:
        lowest = np.full((40, 40), 20.0)
        lowest[17, 12] = 5.0
        self.assertLess(float(np.abs(ground_surface(lowest, 1.0, Settings())[0] - 20).max()), 0.1)

    def test_a_steep_hillside_stays(self) -> None:
        y, _ = np.mgrid[:60, :60].astype(np.float64)
        ground, _ = ground_surface(1.2 * y, 1.0, Settings())
        self.assertLess(float(np.abs(ground - 1.2 * y)[12:-12].max()), 0.1)

    def test_nothing_comes_of_nothing(self) -> None:
        ground, allowed = ground_surface(np.full((20, 20), np.nan), 1.0, Settings())
        self.assertTrue(np.isnan(ground).all() and np.isnan(allowed).all())


class CloudsTest(unittest.TestCase):
    """A hillside with a house, trees, a bird and a point under ground."""

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        rng = np.random.default_rng(11)
        x, y = rng.uniform(0, 120, (2, 30_000))
        z = 100 + 0.15 * x + 2 * np.sin(y / 20) + rng.normal(0, 0.03, x.size)
        house = (np.abs(x - 40) < 7) & (np.abs(y - 50) < 5)
        tree = (np.hypot(x - 85, y - 80) < 12) & (rng.random(x.size) < 0.7)
        z[house] += 6
        z[tree] += rng.uniform(2, 9, int(tree.sum()))
        truth = np.where(house | tree, UNCLASSIFIED, GROUND)
        strange = [(60.0, 60.0, 190.0), (30.0, 90.0, 70.0)]
        self.x, self.y, self.z = (np.append(v, [s[i] for s in strange]) for i, v in enumerate((x, y, z)))
        self.truth = np.append(truth, [HIGH_NOISE, LOW_NOISE])

    def cloud(
        self, name: str = "bare.laz", classes: np.ndarray | None = None, crs: str = CRS, **change: float
    ) -> Cloud:
        made = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        made.header.scales, made.header.offsets = [0.001] * 3, [450_000, 5_400_000, 0]
        made.x, made.y = self.x + 450_000 + change.get("east", 0.0), self.y + 5_400_000
        made.z = self.z / change.get("factor", 1.0)
        made.return_number[:] = made.number_of_returns[:] = 1
        made.classification = np.ones(self.x.size, np.uint8) if classes is None else classes
        made.write(str(self.folder / name))
        return las.read(self.folder / name, Declared(crs=crs, unit="ft" if "factor" in change else ""))

    def found(self, cloud: Cloud, settings: Settings | None = None) -> np.ndarray:
        finder = GroundFinder(cloud, [], CRS, settings or Settings())
        finder.prepare()
        return np.concatenate([finder.classes(chunk) for chunk in las.chunks(cloud.path)])

    def test_ground_house_trees_and_noise(self) -> None:
        found = self.found(self.cloud())
        ground = self.truth == GROUND
        self.assertGreater((found[ground] == GROUND).mean(), 0.99)
        self.assertLess((found[self.truth == UNCLASSIFIED] == GROUND).mean(), 0.03)
        self.assertEqual(found[-2:].tolist(), [HIGH_NOISE, LOW_NOISE])
        self.assertLess(np.isin(found[:-2], (LOW_NOISE, HIGH_NOISE)).mean(), 0.001)

    def test_heights_in_feet_are_as_good(self) -> None:
        one, other = self.found(self.cloud()), self.found(self.cloud("feet.laz", factor=0.3048))
        self.assertGreater((one == other).mean(), 0.999)

    def test_without_noise_none_is_found(self) -> None:
        found = self.found(self.cloud(), Settings(few=0))
        self.assertEqual(set(found.tolist()), {UNCLASSIFIED, GROUND})

    def test_classes_that_somebody_gave_stay(self) -> None:
        given = np.ones(self.x.size, np.uint8)
        given[:100], given[100:200], given[200:300] = 9, 6, 0
        found = self.found(self.cloud(classes=given))
        self.assertEqual(set(found[:100].tolist()), {9})
        self.assertEqual(set(found[100:200].tolist()), {6})
        self.assertNotIn(0, found.tolist())

    def test_blocks_and_their_edges_do_not_show(self) -> None:
        cloud = self.cloud()
        whole = self.found(cloud)
        with mock.patch.object(ground, "_BLOCK", 50):
            parts = self.found(cloud)
        self.assertGreater((whole == parts).mean(), 0.998)

    def test_written_as_a_new_cloud_with_everything_else_as_it_was(self) -> None:
        cloud = self.cloud()
        before = cloud.path.read_bytes()
        finder = GroundFinder(cloud, [], CRS, Settings())
        shares: list[float] = []
        write(Reclassified(cloud, finder), self.folder / "found.laz", shares.append)
        self.assertEqual(cloud.path.read_bytes(), before)
        made, given = laspy.read(self.folder / "found.laz"), laspy.read(cloud.path)
        for name in ("X", "Y", "Z", "return_number", "intensity"):
            np.testing.assert_array_equal(made[name], given[name])
        np.testing.assert_array_equal(np.asarray(made.classification), self.found(cloud))
        self.assertEqual(sorted(shares), shares)
        self.assertAlmostEqual(shares[-1], 1.0)

    def test_points_on_one_line_and_few_points(self) -> None:
        for count in (1, 3, 60):
            self.x, self.y, self.z = np.arange(count, dtype=float), np.zeros(count), np.full(count, 5.0)
            self.assertEqual(set(self.found(self.cloud(), Settings(few=0)).tolist()), {GROUND})

    def test_only_noise_and_too_many_cells(self) -> None:
        noise = self.cloud("noise.laz", np.full(self.x.size, 7, np.uint8))
        with self.assertRaisesRegex(InputError, "no last returns but noise"):
            GroundFinder(noise, [], CRS, Settings()).prepare()
        with self.assertRaisesRegex(InputError, "Choose larger cells"):
            GroundFinder(self.cloud(), [], CRS, Settings(cell=0.005))
