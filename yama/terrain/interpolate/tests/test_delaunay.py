"""The Delaunay property itself, on easy and on degenerate points."""

import numpy as np
from django.test import SimpleTestCase
from scipy.spatial import ConvexHull, Delaunay

from yama.terrain.errors import InputError
from yama.terrain.interpolate.delaunay import triangulate
from yama.terrain.interpolate.predicates import in_circle, orient


def _area(x, y, triangles):
    a, b, c = triangles.T
    return 0.5 * ((x[b] - x[a]) * (y[c] - y[a]) - (x[c] - x[a]) * (y[b] - y[a]))


class DelaunayTest(SimpleTestCase):
    def check(self, x, y, hull_area=None):
        mesh = triangulate(x, y)
        areas = _area(x, y, mesh.triangles)
        self.assertTrue((areas > 0).all(), "every triangle turns anticlockwise")
        hull = hull_area if hull_area is not None else ConvexHull(np.column_stack([x, y])).volume
        np.testing.assert_allclose(areas.sum(), hull, rtol=1e-9)
        used = np.unique(mesh.triangles)
        places = np.unique(mesh.first_of)
        np.testing.assert_array_equal(used, places, "every place is a corner")
        for t in range(len(mesh.triangles)):
            a, b, c = mesh.triangles[t]
            for corner in range(3):
                other = mesh.neighbours[t, corner]
                if other < 0:
                    continue
                self.assertIn(t, mesh.neighbours[other])
                shared = set(mesh.triangles[t]) & set(mesh.triangles[other])
                self.assertEqual(len(shared), 2)
                self.assertNotIn(mesh.triangles[t, corner], shared)
                (d,) = set(mesh.triangles[other]) - shared
                # locally Delaunay everywhere is Delaunay everywhere
                self.assertLessEqual(in_circle(x[a], y[a], x[b], y[b], x[c], y[c], x[d], y[d]), 0.0)
        return mesh

    def test_random_points_give_the_triangles_scipy_gives(self):
        rng = np.random.default_rng(1)
        x, y = rng.uniform(0, 1000, (2, 800))
        mesh = self.check(x, y)
        mine = {tuple(sorted(t)) for t in mesh.triangles.tolist()}
        theirs = {tuple(sorted(t)) for t in Delaunay(np.column_stack([x, y])).simplices.tolist()}
        self.assertEqual(mine, theirs)

    def test_no_point_lies_inside_any_circle(self):
        rng = np.random.default_rng(2)
        x, y = rng.normal(0, 1, (2, 60))
        for a, b, c in self.check(x, y).triangles:
            for d in range(60):
                if d not in (a, b, c):
                    self.assertLessEqual(in_circle(x[a], y[a], x[b], y[b], x[c], y[c], x[d], y[d]), 0.0)

    def test_a_grid_where_every_four_points_are_cocircular(self):
        x, y = (values.ravel().astype(float) for values in np.meshgrid(np.arange(31), np.arange(17)))
        mesh = self.check(x, y, 30 * 16)
        self.assertEqual(len(mesh.triangles), 2 * 30 * 16)

    def test_points_on_one_circle_and_its_centre(self):
        angle = np.arange(64) * 2 * np.pi / 64
        x, y = np.append(np.cos(angle), 0.0), np.append(np.sin(angle), 0.0)
        self.assertEqual(len(self.check(x * 500 + 448_000, y * 500 + 5_438_000).triangles), 64)

    def test_duplicates_count_once(self):
        rng = np.random.default_rng(3)
        x, y = rng.integers(0, 12, (2, 500)).astype(float)
        mesh = self.check(x, y)
        for i, first in enumerate(mesh.first_of):
            self.assertEqual((x[i], y[i]), (x[first], y[first]))

    def test_a_long_line_with_one_point_beside_it(self):
        x = np.append(np.arange(50.0), 20.0)
        y = np.append(np.zeros(50), 1e-9)
        self.assertEqual(len(self.check(x, y, 49 * 1e-9 / 2).triangles), 49)

    def test_two_threads_give_a_triangulation_too(self):
        rng = np.random.default_rng(4)
        x, y = rng.uniform(0, 1, (2, 25_000))
        mesh = triangulate(x, y, workers=2)
        np.testing.assert_allclose(_area(x, y, mesh.triangles).sum(), ConvexHull(np.column_stack([x, y])).volume)
        alone = triangulate(x, y, workers=1)
        self.assertEqual(
            {tuple(sorted(t)) for t in mesh.triangles.tolist()}, {tuple(sorted(t)) for t in alone.triangles.tolist()}
        )

    def test_what_forms_no_triangle_is_refused_with_a_sentence(self):
        line = np.arange(10.0)
        for x, y, words in (
            (line, 2 * line, "one line"),
            (np.ones(9), np.ones(9), "there are 1"),
            (line[:2], line[:2], "there are 2"),
            (np.array([0, 1, np.nan]), np.zeros(3), "not numbers"),
            (np.array([0, 1, 1e300]), np.array([0.0, 1, 0]), "larger than 1e60"),
            (line, line[:4], "needs both"),
        ):
            with self.assertRaisesMessage(InputError, words):
                triangulate(x, y)
        self.assertEqual(orient(0.0, 0.0, 1.0, 2.0, 2.0, 4.0), 0.0)
