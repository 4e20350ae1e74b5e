"""Triangulation, inverse distance and nearest against slow twins and closed forms."""

import numpy as np
from django.test import SimpleTestCase
from scipy.interpolate import LinearNDInterpolator

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, Grid, Window
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.interpolate.idw import distance_to_nearest, inverse_distance, nearest
from yama.terrain.interpolate.point_index import PointIndex, gather, nearest_k, nearest_of
from yama.terrain.interpolate.triangulation import triangulated

GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 60, 80)


def scattered(count=300, seed=1):
    """Points over and around GRID with rough heights."""
    rng = np.random.default_rng(seed)
    x = rng.uniform(447_990, 448_170, count)
    y = rng.uniform(5_437_870, 5_438_010, count)
    return x, y, 100 + 20 * np.sin(x / 15) + 12 * np.cos(y / 11) + rng.normal(0, 1, count)


def cells(grid=GRID):
    """x, y of every centre `(rows, cols)`."""
    return np.meshgrid(*grid.centres(grid.whole))


class TriangulationTest(SimpleTestCase):
    def test_a_plane_stays_a_plane(self):
        x, y, _ = scattered()
        z = 0.3 * (x - 448_000) - 0.2 * (y - 5_438_000) + 50
        found = triangulated(x, y, z, GRID).read_all()
        cx, cy = cells()
        filled = np.isfinite(found)
        self.assertGreater(filled.mean(), 0.9)
        np.testing.assert_allclose(
            found[filled], (0.3 * (cx - 448_000) - 0.2 * (cy - 5_438_000) + 50)[filled], atol=2e-5
        )

    def test_equal_to_scipys_linear_interpolation(self):
        # near the origin: far from it that library's own triangulation is not Delaunay to the last facet
        x, y, z = scattered(900)
        x, y = x - 448_000, y - 5_438_000
        near = Grid(GRID.crs, 0.0, 0.0, 2.0, 2.0, GRID.rows, GRID.cols)
        found = triangulated(x, y, z, near).read_all()
        expected = LinearNDInterpolator(np.column_stack([x, y]), z)(*cells(near))
        np.testing.assert_array_equal(np.isnan(found), np.isnan(expected))
        np.testing.assert_allclose(found, expected, atol=1e-6 * np.ptp(z) + 1e-5)

    def test_any_window_reads_the_same_cells(self):
        surface = triangulated(*scattered(), GRID, reach=9.0)
        whole = surface.read_all()
        rng = np.random.default_rng(2)
        for _ in range(20):
            row, col = int(rng.integers(0, 50)), int(rng.integers(0, 70))
            part = surface.read(Window(row, col, 10, 10))
            np.testing.assert_array_equal(part, whole[row : row + 10, col : col + 10])

    def test_no_cell_between_facets_is_left_out_where_centres_lie_on_edges(self):
        # points on cell centres: every centre lies on a corner, and edges run through centres
        cx, cy = cells()
        x, y = cx[::4, ::4].ravel(), cy[::4, ::4].ravel()
        found = triangulated(x, y, x - 448_000, GRID).read(Window(0, 0, 57, 77))
        self.assertFalse(np.isnan(found).any())
        np.testing.assert_allclose(found, cx[:57, :77] - 448_000, atol=1e-5)

    def test_limits_leave_cells_empty(self):
        x, y, z = scattered(40)
        cx, cy = cells()
        distance = np.sqrt(((cx[..., None] - x) ** 2 + (cy[..., None] - y) ** 2).min(-1))
        free = triangulated(x, y, z, GRID).read_all()
        near = triangulated(x, y, z, GRID, reach=7.0).read_all()
        np.testing.assert_array_equal(np.isnan(near), np.isnan(free) | (distance > 7.0))
        short = triangulated(x, y, z, GRID, edge_limit=25.0).read_all()
        self.assertLess(np.isfinite(short).sum(), np.isfinite(free).sum())
        self.assertTrue(np.isnan(short[np.isnan(free)]).all())

    def test_one_stray_point_changes_nothing_near_the_others(self):
        x, y, z = scattered(500)
        far = triangulated(np.append(x, 5.4e6), np.append(y, 4.4e5), np.append(z, 10.0), GRID, reach=12)
        plain = triangulated(x, y, z, GRID, reach=12)
        inner = Window(15, 15, 30, 50)
        np.testing.assert_allclose(far.read(inner), plain.read(inner), atol=1e-4)


class InverseDistanceTest(SimpleTestCase):
    def expected(self, x, y, z, k, power, radius=np.inf, reach=np.inf):
        cx, cy = cells()
        distance = np.sqrt((cx[..., None] - x) ** 2 + (cy[..., None] - y) ** 2)
        order = np.argsort(distance, -1)[..., :k]
        near = np.take_along_axis(distance, order, -1)
        weights = np.where(near <= radius, np.maximum(near, 1e-12) ** -power, 0)
        with np.errstate(invalid="ignore"):
            result = (weights * z[order]).sum(-1) / weights.sum(-1)
        return np.where((near[..., 0] <= reach) & (weights.sum(-1) > 0), result, np.nan)

    def test_equal_to_the_formula(self):
        x, y, z = scattered()
        for k, power, radius, reach in ((12, 2.0, np.inf, np.inf), (5, 3.5, 20.0, np.inf), (1, 1.0, np.inf, 6.0)):
            found = inverse_distance(x, y, z, GRID, k, power, radius, reach).read_all()
            np.testing.assert_allclose(found, self.expected(x, y, z, k, power, radius, reach), rtol=1e-5)

    def test_exact_at_points(self):
        cx, cy = cells()
        x, y = cx[5::9, 4::7].ravel(), cy[5::9, 4::7].ravel()
        z = np.arange(x.size, dtype=float)
        np.testing.assert_array_equal(inverse_distance(x, y, z, GRID).read_all()[5::9, 4::7].ravel(), z)

    def test_heights_stay_within_those_of_the_points(self):
        x, y, z = scattered(60)
        found = inverse_distance(x, y, z, GRID, power=6.0).read_all()
        self.assertGreaterEqual(found.min(), np.float32(z.min()))
        self.assertLessEqual(found.max(), np.float32(z.max()))

    def test_any_window_reads_the_same_cells_to_the_last_bit(self):
        """However a cell came by its points: alone, or from those gathered for its neighbours."""
        rng = np.random.default_rng(6)
        dense = scattered(20_000, 3)
        lattice = [
            axis.ravel() for axis in np.meshgrid(np.arange(447_990, 448_170, 3.0), np.arange(5_437_870, 5_438_010, 3.0))
        ]
        heap = np.concatenate(
            [np.vstack(dense[:2]), rng.normal(0, 0.2, (2, 5_000)) + np.array([[448_080], [5_437_940]])], axis=1
        )
        for x, y in (dense[:2], lattice, heap, scattered(200)[:2]):
            z = rng.normal(100, 20, len(x))
            for settings in ({}, {"neighbours": 5, "radius": 4.0}, {"neighbours": 40, "reach": 6.0, "power": 1.5}):
                surface = inverse_distance(np.asarray(x), np.asarray(y), z, GRID, **settings)
                whole = surface.read_all()
                for _ in range(10):
                    row, col = int(rng.integers(0, 50)), int(rng.integers(0, 70))
                    part = surface.read(Window(row, col, 7, 9))
                    np.testing.assert_array_equal(part, whole[row : row + 7, col : col + 9])

    def test_equal_to_the_formula_where_points_lie_dense_and_in_heaps(self):
        rng = np.random.default_rng(8)
        x, y, _ = scattered(6_000, 4)
        x = np.concatenate([x, rng.normal(448_060, 0.5, 400)])
        y = np.concatenate([y, rng.normal(5_437_950, 0.5, 400)])
        z = rng.normal(100, 20, x.size)
        cx, cy = cells()
        for neighbours, radius in ((8, np.inf), (30, 7.0)):
            found = inverse_distance(x, y, z, GRID, neighbours=neighbours, radius=radius).read_all()
            square = (cx.ravel()[:, None] - x) ** 2 + (cy.ravel()[:, None] - y) ** 2
            order = np.argsort(square, axis=1, kind="stable")[:, :neighbours]
            near = np.take_along_axis(square, order, 1)
            weights = np.where(near <= radius**2, 1 / near, 0)
            with np.errstate(invalid="ignore"):
                expected = (weights * z[order]).sum(1) / weights.sum(1)
            np.testing.assert_allclose(found.ravel(), expected, rtol=1e-6)

    def test_nearest_takes_the_nearest_points_height(self):
        x, y, z = scattered()
        np.testing.assert_allclose(nearest(x, y, z, GRID).read_all(), self.expected(x, y, z, 1, 1.0), rtol=1e-6)

    def test_impossible_parameters(self):
        with self.assertRaisesMessage(InputError, "greater than 0"):
            inverse_distance(*scattered(), GRID, power=-1)
        with self.assertRaisesMessage(InputError, "takes 1 to 1000"):
            inverse_distance(*scattered(), GRID, neighbours=0)
        with self.assertRaisesMessage(InputError, "no points"):
            inverse_distance(np.empty(0), np.empty(0), np.empty(0), GRID)


class PointIndexTest(SimpleTestCase):
    def test_the_nearest_k_are_those_of_a_full_search(self):
        rng = np.random.default_rng(6)
        clusters = rng.normal(0, 1, (2, 400)) * rng.choice([0.01, 1, 30], 400)
        strays = np.array([[1e6, -1e6, 3.0], [2.0, 5e5, -1e6]])
        for x, y in (clusters, np.hstack([clusters, strays]), np.vstack([np.arange(50.0), np.zeros(50)])):
            index = PointIndex.of(x, y)
            squares, found = np.empty(7), np.empty(7, np.int64)
            for qx, qy in np.vstack([rng.normal(0, 40, (60, 2)), [[9e5, 3.0], [-2e6, 6e5], [x[3], y[3]]]]):
                count = nearest_k(qx, qy, 7, np.inf, index.x, index.y, index.starts, index.layout, squares, found)
                self.assertEqual(count, 7)
                expected = np.sort((x - qx) ** 2 + (y - qy) ** 2)[:7]
                np.testing.assert_allclose(squares, expected, rtol=1e-12)


class GatheredTest(SimpleTestCase):
    def test_the_nearest_of_gathered_points_are_those_of_the_search(self):
        rng = np.random.default_rng(5)
        x, y = np.round(rng.uniform(0, 60, (2, 4_000)), 1)  # many points equally far
        index = PointIndex.of(x, y)
        near_x, near_y, near, apart = np.empty(900), np.empty(900), np.empty(900, np.int64), np.empty(900)
        squares, found = np.empty(901), np.empty(901, np.int64)
        expected_squares, expected = np.empty(12), np.empty(12, np.int64)
        for qx, qy in rng.uniform(0, 60, (300, 2)):
            held = gather(
                qx - 4, qy - 4, qx + 4, qy + 4, index.x, index.y, index.starts, index.layout, near_x, near_y, near
            )
            self.assertTrue(np.all(np.diff(near[:held]) > 0))
            nearest_k(qx, qy, 12, np.inf, index.x, index.y, index.starts, index.layout, expected_squares, expected)
            bound = expected_squares[-1] * 1.1
            count = nearest_of(qx, qy, 12, bound, near_x, near_y, near, held, apart, squares, found)
            self.assertEqual(count, 12)
            np.testing.assert_array_equal(found[:12], np.sort(expected))
            np.testing.assert_array_equal(np.sort(squares[:12]), expected_squares)

    def test_what_does_not_fit_is_told(self):
        index = PointIndex.of(*np.random.default_rng(1).uniform(0, 10, (2, 500)))
        small, places = np.empty(20), np.empty(20, np.int64)
        all_of_it = (-1.0, -1.0, 11.0, 11.0, index.x, index.y, index.starts, index.layout)
        self.assertEqual(gather(*all_of_it, small, small.copy(), places), -1)
        large, ids = np.empty(500), np.empty(500, np.int64)
        other = large.copy()
        held = gather(*all_of_it, large, other, ids)
        self.assertEqual(held, 500)
        count = nearest_of(
            5.0, 5.0, 12, 50.0, large, other, ids, held, np.empty(500), np.empty(501), np.empty(501, np.int64)
        )
        self.assertEqual(count, 25)


class SectorsTest(SimpleTestCase):
    def test_hundreds_of_neighbours(self):
        x, y, z = scattered(700)
        small = Grid(GRID.crs, GRID.west, GRID.north, 16.0, 16.0, 7, 10)
        cx, cy = cells(small)
        for count in (65, 300, 1_000):
            found = inverse_distance(x, y, z, small, count, 1.0).read_all()
            for (r, c), value in np.ndenumerate(found):
                away = np.hypot(x - cx[r, c], y - cy[r, c])
                used = np.argsort(away)[:count]
                self.assertAlmostEqual(
                    float(value), float((z[used] / away[used]).sum() / (1 / away[used]).sum()), places=4
                )

    def test_equal_to_looking_at_every_point(self):
        x, y, z = scattered(400)
        small = Grid(GRID.crs, GRID.west, GRID.north, 8.0, 8.0, 15, 20)
        cx, cy = cells(small)
        for sectors, each, radius in ((4, 2, 40.0), (8, 1, np.inf), (4, 3, 15.0)):
            found = inverse_distance(x, y, z, small, each * sectors - 1, 2.0, radius, sectors=sectors).read_all()
            for (r, c), value in np.ndenumerate(found):
                away = np.hypot(x - cx[r, c], y - cy[r, c])
                turn = np.degrees(np.arctan2(x - cx[r, c], y - cy[r, c])) % 360
                used = []
                for sector in range(sectors):
                    there = np.flatnonzero((turn // (360 / sectors) == sector) & (away <= radius))
                    used += there[np.argsort(away[there])][:each].tolist()
                if not used:
                    self.assertTrue(np.isnan(value))
                    continue
                weights = away[used] ** -2.0
                self.assertAlmostEqual(float(value), float((weights * z[used]).sum() / weights.sum()), places=4)

    def test_a_cluster_on_one_side_does_not_outweigh_the_other(self):
        rng = np.random.default_rng(3)
        x = np.append(448_060 + rng.uniform(0, 4, 40), 448_090.0)
        y = np.append(5_437_950 + rng.uniform(-2, 2, 40), 5_437_950.0)
        z = np.append(np.full(40, 10.0), 20.0)
        at = Window(24, 38, 2, 1)
        plain = inverse_distance(x, y, z, GRID, 20).read(at)
        sectors = inverse_distance(x, y, z, GRID, 4, sectors=4).read(at)
        self.assertGreater(sectors.min(), plain.max() + 1)


class DistanceTest(SimpleTestCase):
    def test_is_the_distance_to_the_nearest_point(self):
        x, y, _ = scattered(60)
        cx, cy = cells()
        expected = np.hypot(cx[..., None] - x, cy[..., None] - y).min(-1)
        np.testing.assert_allclose(distance_to_nearest(x, y, GRID).read_all(), expected, rtol=1e-6)
        near = distance_to_nearest(x, y, GRID, reach=9.0, metres=0.5).read_all()
        np.testing.assert_array_equal(np.isnan(near), expected > 9.0)
        np.testing.assert_allclose(near[expected <= 9], 0.5 * expected[expected <= 9], rtol=1e-6)


class FacetsTest(SimpleTestCase):
    def test_sides_of_the_facets_in_a_rectangle(self):
        x, y, z = scattered(200)
        z[x < 448_060] = 100.0
        surface = triangulated(x, y, z, GRID, edge_limit=14.0)
        box = Bounds(448_040.0, 5_437_900.0, 448_100.0, 5_437_960.0)
        edges, kinds, count = surface.edges(box, 10_000)
        self.assertEqual((len(edges), len(kinds)), (count, count))
        mesh = triangulate(x, y)
        expected = {0: set(), 1: set(), 2: set()}
        for corners in mesh.triangles:
            px, py = x[corners], y[corners]
            if px.min() > box.east or px.max() < box.west or py.min() > box.north or py.max() < box.south:
                continue
            sides = [np.hypot(px[k] - px[k - 1], py[k] - py[k - 1]) for k in range(3)]
            kind = 2 if max(sides) > 14 else 1 if np.ptp(z[corners]) == 0 else 0
            expected[kind] |= {frozenset([(px[k], py[k]), (px[k - 1], py[k - 1])]) for k in range(3)}
        for kind, wanted in expected.items():
            found = {frozenset([(a, b), (c, d)]) for a, b, c, d in edges[kinds == kind]}
            self.assertEqual(found, wanted)
        self.assertTrue(all(expected.values()), "all three kinds occur")

    def test_too_many_are_counted_and_not_given(self):
        surface = triangulated(*scattered(200), GRID)
        edges, kinds, count = surface.edges(GRID.bounds, 50)
        self.assertEqual((len(edges), len(kinds)), (0, 0))
        self.assertGreater(count, 50)
