"""Clouds to cells against obvious twins, and gaps closed up to a width."""

import tempfile
from pathlib import Path
from unittest import mock

import laspy
import numpy as np
import pyproj
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.formats import las
from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.binning import Filter, GriddedCloud, closed
from yama.terrain.interpolate.triangulation import triangulated

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_100.0, 2.0, 2.0, 50, 60)


class CloudTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def cloud(self, name, count=6000, seed=1, west=448_000.0, wide=120.0, crs=CRS):
        rng = np.random.default_rng(seed)
        header = laspy.LasHeader(version="1.4", point_format=6)
        header.scales, header.offsets = np.full(3, 0.001), np.array([448_000.0, 5_438_000.0, 0.0])
        header.add_crs(pyproj.CRS.from_user_input(crs))
        made = laspy.LasData(header)
        x, y = west + wide * rng.random(count), 5_438_000 + 100 * rng.random(count)
        if crs != CRS:
            x, y = pyproj.Transformer.from_crs(CRS, crs, always_xy=True).transform(x, y)
            header.scales, header.offsets = np.array([1e-8, 1e-8, 1e-3]), np.array([62.0, -41.0, 0.0])
            made = laspy.LasData(header)
        made.x, made.y, made.z = x, y, 10 + 30 * rng.random(count)
        made.classification = rng.choice([1, 2, 5, 7], count).astype(np.uint8)
        made.return_number = rng.integers(1, 4, count).astype(np.uint8)
        made.number_of_returns = np.maximum(np.asarray(made.return_number), rng.integers(1, 4, count)).astype(np.uint8)
        made.intensity = rng.integers(0, 3000, count).astype(np.uint16)
        made.scan_angle = rng.integers(-3000, 3000, count).astype(np.int16)
        made.withheld = rng.random(count) < 0.02
        path = self.folder / f"{name}.laz"
        made.write(str(path))
        return las.read(path), laspy.read(path)


def twin(clouds, grid, rule, wanted, share=0.5):
    """A dictionary of lists, one a cell."""
    held = {}
    for cloud in clouds:
        keep = wanted(cloud) & (np.asarray(cloud.withheld) == 0)
        values = np.asarray(cloud.intensity if rule == "intensity" else cloud.z)
        for x, y, value in zip(np.asarray(cloud.x)[keep], np.asarray(cloud.y)[keep], values[keep], strict=True):
            cell = int((grid.north - y) // grid.cell_height), int((x - grid.west) // grid.cell_width)
            if 0 <= cell[0] < grid.rows and 0 <= cell[1] < grid.cols:
                held.setdefault(cell, []).append(float(value))
    how = {
        "lowest": min, "highest": max, "mean": np.mean, "intensity": np.mean, "median": np.median, "count": len,
        "percentile": lambda values: np.quantile(values, share),
        "deviation": lambda values: np.std(values) if len(values) > 1 else np.nan,
    }[rule]  # fmt: skip
    result = np.full((grid.rows, grid.cols), np.nan, np.float32)
    for cell, values in held.items():
        result[cell] = how(values)
    return result


class GriddedCloudTest(CloudTest):
    def test_every_rule_is_what_a_plain_loop_finds(self):
        pairs = [self.cloud("a"), self.cloud("b", seed=2, west=448_060.0)]
        clouds, points = [one for one, _ in pairs], [one for _, one in pairs]
        ground = Filter(classes=(2, 5))
        for rule in ("lowest", "mean", "highest", "median", "percentile", "deviation", "count", "intensity"):
            with self.subTest(rule):
                found = GriddedCloud(clouds, GRID, rule, ground, share=0.9).read_all()
                wanted = twin(points, GRID, rule, lambda one: np.isin(np.asarray(one.classification), (2, 5)), 0.9)
                np.testing.assert_allclose(found, wanted, rtol=2e-6, atol=2e-5)

    def test_filters(self):
        cloud, points = self.cloud("a")
        z, number, of = (np.asarray(values) for values in (points.z, points.return_number, points.number_of_returns))
        angle = np.asarray(points.scan_angle) * 0.006
        for keep, flags in (
            (Filter(), np.ones(len(z), bool)),
            (Filter(returns="first"), number == 1),
            (Filter(returns="last"), number == of),
            (Filter(returns="single"), of == 1),
            (Filter(low=15, high=20), (z >= 15) & (z <= 20)),
            (Filter(scan_angle=10), np.abs(angle) <= 10),
            (Filter(classes=(7,), low=15), (np.asarray(points.classification) == 7) & (z >= 15)),
        ):
            with self.subTest(keep):
                found = GriddedCloud([cloud], GRID, "count", keep).read_all()
                np.testing.assert_array_equal(found, twin([points], GRID, "count", lambda _, flags=flags: flags))

    def test_bands_and_order_of_files_do_not_matter(self):
        clouds = [self.cloud(name, seed=i)[0] for i, name in enumerate("abc")]
        for rule, gap in (("mean", 0.0), ("median", 9.0), ("highest", 5.0)):
            whole = GriddedCloud(clouds, GRID, rule, gap=gap).read_all()
            with mock.patch("yama.terrain.interpolate.binning._BAND_CELLS", 60 * 7):
                banded = GriddedCloud(clouds[::-1], GRID, rule, gap=gap)
                np.testing.assert_allclose(banded.read_all(), whole, rtol=2e-6)
                part = banded.read(Window(5, 20, 23, 60))
            np.testing.assert_allclose(part[:, :40], whole[5:28, 20:], rtol=2e-6)
            self.assertTrue(np.isnan(part[:, 40:]).all())

    def test_a_cloud_in_degrees_falls_into_the_same_cells(self):
        plain = GriddedCloud([self.cloud("a")[0]], GRID, "count").read_all()
        degrees = GriddedCloud([self.cloud("b", crs="EPSG:4326")[0]], GRID, "count").read_all()
        self.assertGreater((np.nan_to_num(plain) == np.nan_to_num(degrees)).mean(), 0.99)

    def test_clouds_beside_the_grid_leave_it_empty(self):
        far = self.cloud("far", west=500_000.0)[0]
        self.assertTrue(np.isnan(GriddedCloud([far], GRID, "mean").read_all()).all())

    def test_a_coarser_level_is_the_mean_of_its_cells(self):
        surface = GriddedCloud([self.cloud("a")[0]], GRID, "mean")
        whole = surface.read_all()
        coarse = surface.read(Window(3, 4, 2, 2), 1)
        self.assertAlmostEqual(float(coarse[0, 0]), float(np.nanmean(whole[6:8, 8:10])), places=4)

    def test_gaps_of_counts_are_not_closed(self):
        with self.assertRaisesRegex(InputError, "Only gaps between heights"):
            GriddedCloud([self.cloud("a")[0]], GRID, "count", gap=4)


class ClosedTest(SimpleTestCase):
    def plane(self, grid=GRID):
        xs, ys = np.meshgrid(*grid.centres(grid.whole))
        return (0.3 * (xs - 448_000) + 0.2 * (ys - 5_438_000)).astype(np.float32)

    def test_narrow_gaps_are_filled_exactly_and_wide_ones_stay(self):
        heights = self.plane()
        heights[10:13, 5:50] = np.nan  # 6 m wide
        heights[25:45, 15:45] = np.nan  # 40 m by 60 m
        found = closed(heights, GRID, 12.0)
        self.assertTrue(np.isfinite(found[10:13, 5:50]).all())
        np.testing.assert_allclose(found[10:13, 5:50], self.plane()[10:13, 5:50], atol=1e-4)
        self.assertTrue(np.isnan(found[29:41, 19:41]).all())
        kept = np.isfinite(heights)
        np.testing.assert_array_equal(found[kept], heights[kept])

    def test_the_width_is_in_metres_not_cells(self):
        heights = self.plane()
        heights[20:24, 5:55] = np.nan  # 8 m
        self.assertTrue(np.isnan(closed(heights, GRID, 7.9)[22, 20:40]).all())
        self.assertTrue(np.isfinite(closed(heights, GRID, 10.1)[20:24, 20:40]).all())

    def test_what_lies_outside_stays_outside(self):
        heights = np.full((50, 60), np.nan, np.float32)
        heights[10:30, 10:30] = self.plane()[10:30, 10:30]
        found = closed(heights, GRID, 14.0)
        np.testing.assert_array_equal(np.isfinite(found), np.isfinite(heights))
        nothing = np.full((5, 5), np.nan, np.float32)
        self.assertTrue(np.isnan(closed(nothing, GRID, 9.0)).all())

    def test_scattered_cells_a_few_metres_apart_become_one_surface(self):
        heights = self.plane()
        rng = np.random.default_rng(5)
        heights[rng.random(heights.shape) < 0.6] = np.nan
        found = closed(heights, GRID, 20.0)
        inner = found[8:-8, 8:-8]
        self.assertTrue(np.isfinite(inner).all())
        np.testing.assert_allclose(inner, self.plane()[8:-8, 8:-8], atol=1e-3)


class FacetsTest(CloudTest):
    def test_are_those_between_all_points(self):
        (one, first), (two, second) = self.cloud("a", count=900), self.cloud("b", count=700, seed=4, west=448_080.0)
        keep = [
            np.isin(np.asarray(each.classification), (2, 5)) & (np.asarray(each.withheld) == 0)
            for each in (first, second)
        ]
        x, y, z = (
            np.concatenate(
                [np.asarray(getattr(each, axis))[kept] for each, kept in zip((first, second), keep, strict=True)]
            )
            for axis in "xyz"
        )
        expected = triangulated(x, y, z, GRID, edge_limit=20.0).read_all()
        found = GriddedCloud([one, two], GRID, "facets", Filter((2, 5)), gap=20.0)
        whole = found.read_all()
        # at the window's own rim the outer facets are those of the points within twice the gap
        np.testing.assert_allclose(whole, expected, atol=2e-3)
        with mock.patch("yama.terrain.interpolate.binning._FACET_POINTS", 300):
            bands = GriddedCloud([one, two], GRID, "facets", Filter((2, 5)), gap=20.0)
            self.assertGreater(len({number // bands._rows for number in range(GRID.rows)}), 2)
            differing = np.nan_to_num(np.abs(bands.read_all() - whole)) > 2e-3
            self.assertLess(differing.mean(), 0.005)

    def test_without_a_width_or_enough_points(self):
        cloud = self.cloud("a", count=2)[0]
        with self.assertRaisesMessage(InputError, "width"):
            GriddedCloud([cloud], GRID, "facets")
        self.assertTrue(np.isnan(GriddedCloud([cloud], GRID, "facets", gap=10.0).read_all()).all())
