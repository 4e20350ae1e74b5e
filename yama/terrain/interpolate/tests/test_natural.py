"""Natural neighbours: Sibson's weights as areas of polygons, and what follows from them."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.natural import natural_neighbour
from yama.terrain.interpolate.tests.test_surfaces_from_points import GRID, cells, scattered
from yama.terrain.interpolate.triangulation import triangulated

NEAR = Grid("EPSG:32741", 0.0, 40.0, 2.0, 2.0, 20, 20)


def nearer_side(a, b, size=1e4):
    """The half plane of places nearer to a than to b, as a polygon."""
    middle, along = (a + b) / 2, (b - a) / np.hypot(*(b - a))
    across = np.array([-along[1], along[0]])
    corners = [middle + across * size, middle - across * size]
    return shapely.Polygon([*corners, corners[1] - along * 2 * size, corners[0] - along * 2 * size])


def cell_of(i, places):
    """The Voronoi cell of one place among all."""
    cell = shapely.box(-5e3, -5e3, 5e3, 5e3)
    for j in range(len(places)):
        if j != i:
            cell = cell.intersection(nearer_side(places[i], places[j]))
    return cell


def by_polygons(places, z, spot):
    """Twin: the mean of heights weighted by what the spot's cell takes from each point's cell."""
    mine = cell_of(len(places), np.vstack([places, spot]))
    taken = np.array([mine.intersection(cell_of(i, places)).area for i in range(len(places))])
    return float((taken * z).sum() / taken.sum())


class NaturalNeighbourTest(SimpleTestCase):
    def test_equal_to_areas_of_polygons(self):
        rng = np.random.default_rng(3)
        places = rng.uniform(-20, 60, (45, 2))
        z = rng.uniform(0, 100, 45)
        found = natural_neighbour(places[:, 0], places[:, 1], z, NEAR).read_all()
        xs, ys = NEAR.centres(NEAR.whole)
        for r in range(1, 20, 5):
            for c in range(0, 20, 4):
                wanted = by_polygons(places, z, np.array([xs[c], ys[r]]))
                self.assertAlmostEqual(float(found[r, c]), wanted, delta=1e-4)

    def test_gridded_points_with_four_on_each_circle(self):
        """Every cell of four points is one circle; cells on edges and at corners are no special cases."""
        gx, gy = (axis.ravel() for axis in np.meshgrid(np.arange(-6.0, 50, 4), np.arange(-6.0, 50, 4)))
        z = np.random.default_rng(4).uniform(0, 50, gx.size)
        found = natural_neighbour(gx, gy, z, NEAR).read_all()
        self.assertTrue(np.isfinite(found).all())
        places = np.column_stack([gx, gy])
        xs, ys = NEAR.centres(NEAR.whole)
        for r, c in ((3, 3), (4, 7), (9, 9), (10, 4)):
            near = np.hypot(gx - xs[c], gy - ys[r]) < 14
            wanted = by_polygons(places[near], z[near], np.array([xs[c], ys[r]]) + 1e-7)
            self.assertAlmostEqual(float(found[r, c]), wanted, delta=1e-4)

    def test_a_plane_stays_a_plane(self):
        x, y, _ = scattered()
        z = 0.3 * (x - 448_000) - 0.2 * (y - 5_438_000) + 50
        found = natural_neighbour(x, y, z, GRID).read_all()
        cx, cy = cells()
        filled = np.isfinite(found)
        self.assertGreater(filled.mean(), 0.9)
        np.testing.assert_allclose(
            found[filled], (0.3 * (cx - 448_000) - 0.2 * (cy - 5_438_000) + 50)[filled], atol=2e-4
        )

    def test_it_fills_the_hull_as_triangulation_does_and_stays_within_the_points_range(self):
        x, y, z = scattered(800)
        found, facets = natural_neighbour(x, y, z, GRID).read_all(), triangulated(x, y, z, GRID).read_all()
        np.testing.assert_array_equal(np.isnan(found), np.isnan(facets))
        self.assertTrue(np.nanmin(found) >= z.min() - 1e-4 and np.nanmax(found) <= z.max() + 1e-4)

    def test_it_passes_through_the_points(self):
        x, y, z = scattered(150)
        xs, ys = GRID.centres(GRID.whole)
        x[:40], y[:40] = xs[np.arange(40) % 77], ys[np.arange(40) % 53]
        found = natural_neighbour(x, y, z, GRID).read_all()
        np.testing.assert_allclose(found[np.arange(40) % 53, np.arange(40) % 77], z[:40], atol=1e-4)

    def test_any_window_reads_the_same_cells(self):
        surface = natural_neighbour(*scattered(), GRID, reach=9.0, edge_limit=40.0)
        whole = surface.read_all()
        self.assertTrue(0 < np.isnan(whole).mean() < 0.9)
        rng = np.random.default_rng(2)
        for _ in range(20):
            row, col = int(rng.integers(0, 50)), int(rng.integers(0, 70))
            np.testing.assert_array_equal(surface.read(Window(row, col, 10, 10)), whole[row : row + 10, col : col + 10])

    def test_one_point_moves_only_what_lies_near_it(self):
        x, y, z = scattered(400)
        before = natural_neighbour(x, y, z, GRID).read_all()
        z[200] += 50
        moved = np.abs(natural_neighbour(x, y, z, GRID).read_all() - before) > 1e-3
        cx, cy = cells()
        far = np.hypot(cx - x[200], cy - y[200]) > 40
        self.assertTrue(moved.any())
        self.assertFalse(moved[far].any())

    def test_many_points_on_one_circle_leave_a_cell_empty_rather_than_wrong(self):
        turn = np.linspace(0, 2 * np.pi, 400, endpoint=False)
        x, y = 20 + 15 * np.cos(turn), 20 + 15 * np.sin(turn)
        found = natural_neighbour(x, y, np.full(400, 7.0), NEAR).read_all()
        filled = found[np.isfinite(found)]
        np.testing.assert_allclose(filled, 7.0, atol=1e-4)
