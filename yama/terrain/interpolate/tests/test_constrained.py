"""Breaklines become edges, everything else stays as Delaunay as they allow."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.interpolate.constrained import constrain
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.interpolate.predicates import in_circle, orient
from yama.terrain.interpolate.triangulation import triangulated


def edges_of(triangles):
    pairs = np.sort(np.vstack([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    return {tuple(pair) for pair in pairs.tolist()}


class ConstrainTest(SimpleTestCase):
    def whole(self, x, y, found):
        """It is a triangulation of the same hull: turned right, fitting together, its areas adding up."""
        triangles, neighbours = found.triangulation.triangles, found.triangulation.neighbours
        areas = [orient(x[a], y[a], x[b], y[b], x[c], y[c]) / 2 for a, b, c in triangles]
        self.assertGreater(min(areas), 0)
        hull = shapely.MultiPoint(np.column_stack([x, y])).convex_hull.area
        self.assertAlmostEqual(sum(areas) / hull, 1.0, places=9)
        for t, corners in enumerate(triangles):
            for k in range(3):
                n = neighbours[t, k]
                if n >= 0:
                    shared = set(corners) - {corners[k]}
                    self.assertTrue(shared <= set(triangles[n]))
                    j = next(j for j in range(3) if triangles[n, j] not in shared)
                    self.assertEqual(neighbours[n, j], t)
                    self.assertEqual(found.fixed[n, j], found.fixed[t, k])

    def delaunay_but_for_pieces(self, x, y, found):
        triangles, neighbours = found.triangulation.triangles, found.triangulation.neighbours
        for t, (a, b, c) in enumerate(triangles):
            for k in range(3):
                n = neighbours[t, k]
                if n >= 0 and not found.fixed[t, k]:
                    (q,) = set(triangles[n]) - {a, b, c}
                    self.assertLessEqual(in_circle(x[a], y[a], x[b], y[b], x[c], y[c], x[q], y[q]), 0)

    def test_random_lines_through_random_points(self):
        rng = np.random.default_rng(2)
        for count in (12, 60, 400):
            x, y = rng.uniform(0, 100, (2, count))
            pieces, drawn = [], []
            for _ in range(count):
                a, b = rng.integers(0, count, 2)
                line = shapely.LineString([(x[a], y[a]), (x[b], y[b])]) if a != b else None
                if line is not None and not any(line.crosses(other) for other in drawn):
                    pieces.append((a, b))
                    drawn.append(line)
            found = constrain(x, y, triangulate(x, y), pieces)
            self.assertEqual(len(found.crossing), 0)
            self.assertTrue(
                {tuple(sorted(map(int, piece))) for piece in pieces} <= edges_of(found.triangulation.triangles)
            )
            self.whole(x, y, found)
            self.delaunay_but_for_pieces(x, y, found)

    def test_gridded_points_and_a_piece_through_many_of_them(self):
        gx, gy = (axis.ravel().astype(float) for axis in np.meshgrid(np.arange(9), np.arange(7)))
        mesh = triangulate(gx, gy)
        corner, far = 0, 6 * 9 + 6  # the diagonal meets a point at every step
        found = constrain(gx, gy, mesh, [(corner, far), (8, 9 * 3)])
        self.assertTrue({(i * 10, i * 10 + 10) for i in range(6)} <= edges_of(found.triangulation.triangles))
        self.whole(gx, gy, found)
        self.delaunay_but_for_pieces(gx, gy, found)

    def test_no_pieces_change_nothing(self):
        rng = np.random.default_rng(4)
        x, y = rng.uniform(0, 100, (2, 50))
        mesh = triangulate(x, y)
        found = constrain(x, y, mesh, np.empty((0, 2)))
        np.testing.assert_array_equal(found.triangulation.triangles, mesh.triangles)
        self.assertFalse(found.fixed.any())

    def test_a_piece_across_another_is_left_out_and_named(self):
        x, y = np.array([0.0, 10, 0, 10, 5]), np.array([0.0, 10, 10, 0, 1])
        found = constrain(x, y, triangulate(x, y), [(0, 1), (2, 3)])
        np.testing.assert_array_equal(found.crossing, [[2, 3]])
        self.assertIn((0, 1), edges_of(found.triangulation.triangles))
        self.whole(x, y, found)

    def test_facets_do_not_reach_across_a_breakline(self):
        """A wall 4 m high: without its line, facets run through it; with it, each side keeps its height."""
        rng = np.random.default_rng(6)
        x, y = rng.uniform(0, 60, 90), rng.uniform(0, 60, 90)
        x, y = x[np.abs(x - 30) > 4], y[np.abs(x - 30) > 4]
        z = np.where(x < 30, 0.0, 4.0)
        for side, height in ((29.99, 0.0), (30.01, 4.0)):
            x, y, z = np.append(x, [side] * 2), np.append(y, [0.0, 60.0]), np.append(z, [height] * 2)
        n = x.size
        mesh = triangulate(x, y)
        grid = Grid("EPSG:32741", 0.0, 60.0, 1.0, 1.0, 60, 60)
        plain = triangulated(x, y, z, grid, triangulation=mesh).read_all()
        found = constrain(x, y, mesh, [(n - 4, n - 3), (n - 2, n - 1)])
        kept = triangulated(x, y, z, grid, triangulation=found.triangulation).read_all()
        inner = np.isfinite(kept)
        xs = np.broadcast_to(grid.centres(grid.whole)[0], kept.shape)
        wrong = np.abs(kept - np.where(xs < 30, 0, 4)) > 0.05
        self.assertFalse((wrong & inner).any())
        self.assertTrue((np.abs(plain - np.where(xs < 30, 0, 4)) > 0.5).any())

    def test_points_at_one_place_and_nonsense(self):
        x, y = np.array([0.0, 9, 9, 0, 0]), np.array([0.0, 0, 9, 9, 0])
        mesh = triangulate(x, y)
        found = constrain(x, y, mesh, [(4, 2)])  # the last lies where the first does
        self.assertIn((0, 2), edges_of(found.triangulation.triangles))
        for pieces, words in (([(0, 9)], "not there"), ([(0, 4)], "one place")):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                constrain(x, y, mesh, pieces)
