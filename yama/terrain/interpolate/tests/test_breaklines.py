"""Breaklines with and without heights, crossing and not, in a triangulation of points."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain import operations
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.interpolate.breaklines import MOST_SOFT, along, lines_of, mesh_with
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.points import Points

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_100.0, 1.0, 1.0, 100, 100)


def features(*shapes, crs=CRS):
    return Features(crs, np.array(shapes, dtype=object), {"n": list(range(len(shapes)))})


def plane(x, y):
    return 0.1 * (x - 448_000) + 0.05 * (y - 5_438_000)


def ground(count=200, seed=3):
    rng = np.random.default_rng(seed)
    x, y = 448_000 + 100 * rng.random(count), 5_438_000 + 100 * rng.random(count)
    return x, y, plane(x, y)


def ditch(depth=6.0):
    """A ditch along the middle, between two banks: three lines with heights."""
    west, east = 447_990.0, 448_110.0
    return [
        shapely.LineString([(a, b, plane(a, b) + fall) for a in np.linspace(west, east, 7)])
        for b, fall in ((5_438_048.0, 0.0), (5_438_050.0, -depth), (5_438_052.0, 0.0))
    ]


class LinesTest(SimpleTestCase):
    def test_lines_are_cut_where_they_cross_and_clashes_are_named(self):
        across = shapely.LineString([(448_010, 5_438_010, 5), (448_030, 5_438_030, 7)])
        other = shapely.LineString([(448_010, 5_438_030, 9), (448_030, 5_438_010, 9)])
        lines = lines_of([features(across, other)], CRS, *ground())
        self.assertEqual((lines.x.size, len(lines.pieces), lines.draped), (5, 4, 0))
        ((x, y, difference),) = lines.clashes
        self.assertAlmostEqual(difference, 3.0, places=6)
        self.assertEqual((round(x, 6), round(y, 6)), (448_020, 5_438_020))
        middle = int(np.argmin(np.hypot(lines.x - x, lines.y - y)))
        self.assertAlmostEqual(lines.z[middle], 7.5, places=6)

    def test_lines_without_heights_lie_on_the_facets_and_end_with_them(self):
        long = shapely.LineString([(x, 5_438_050) for x in np.linspace(447_800, 448_300, 51)])
        lines = lines_of([features(long)], CRS, *ground())
        self.assertEqual(lines.draped, lines.x.size)
        self.assertTrue(lines.x.min() > 447_990 and lines.x.max() < 448_110)
        np.testing.assert_allclose(lines.z, plane(lines.x, lines.y), atol=1e-6)

    def test_rims_of_polygons_and_other_crss_count_too(self):
        lake = shapely.box(448_020, 5_438_020, 448_060, 5_438_060)
        lines = lines_of([features(lake)], CRS, *ground())
        self.assertEqual((lines.x.size, len(lines.pieces)), (4, 4))
        degrees = features(lake).in_crs("EPSG:4326")
        again = lines_of([degrees], CRS, *ground())
        np.testing.assert_allclose(np.sort(again.x), np.sort(lines.x), atol=1e-5)

    def test_nothing_usable_gives_no_pieces(self):
        far = shapely.LineString([(0, 0), (1, 1)])
        self.assertEqual(len(lines_of([features(far, shapely.Point(448_010, 5_438_010))], CRS, *ground()).pieces), 0)

    def test_a_vertexs_height_counts_where_a_point_lies_at_its_place(self):
        x, y, z = ground(50)
        line = shapely.LineString([(x[0], y[0], 99.0), (x[1], y[1], 99.0)])
        xs, ys, zs, mesh = mesh_with(x, y, z, lines_of([features(line)], CRS, x, y, z))
        used = np.unique(mesh.triangles)
        self.assertEqual(sorted(zs[used][zs[used] > 90].tolist()), [99.0, 99.0])


class OperationTest(SimpleTestCase):
    def made(self, lines, method="triangulation", **params):
        operation = operations.find("interpolate_points")
        x, y, z = ground()
        beside = np.abs(y - 5_438_050) > 3  # nobody measured in the ditch
        x, y, z = x[beside], y[beside], z[beside]
        given = {"points": [Points(CRS, x, y, {"z": z})]}
        if lines:
            given["breaklines"] = [features(*lines)]
        taken = given
        parsed = operations.parse_params(operation, {"method": method, "reach_limit": 40, **params})
        frame = Frame(GRID, "m", "")
        return {f.code: f for f in task_for(operation.name, taken, frame, parsed).findings}, lambda: first_of(
            task_for(operation.name, taken, frame, parsed)
        )

    def test_a_ditch_is_kept_sharp(self):
        found, run = self.made(ditch())
        self.assertEqual(set(found), {"reach"})
        cells = run().read_all()
        xs, ys = np.meshgrid(*GRID.centres(GRID.whole))
        depth = plane(xs, ys) - cells
        bottom = np.abs(ys - 5_438_050) < 0.6
        beside = (np.abs(ys - 5_438_050) > 2.1) & np.isfinite(cells)
        np.testing.assert_allclose(depth[bottom], 6.0 - 3.0 * np.abs(ys - 5_438_050)[bottom], atol=1e-3)
        np.testing.assert_allclose(depth[beside], 0.0, atol=1e-3)
        _, plain = self.made([])
        self.assertLess(np.nanmax(np.abs(plane(xs, ys) - plain().read_all())), 1e-3)

    def test_soft_ones_bring_their_heights_to_every_method(self):
        xs, ys = np.meshgrid(*GRID.centres(GRID.whole))
        bottom = np.abs(ys - 5_438_050) < 0.6
        for method in ("natural_neighbour", "nearest", "inverse_distance", "spline", "kriging", "triangulation"):
            with self.subTest(method):
                found, run = self.made(ditch(), method, breaklines_are="soft")
                self.assertNotIn("no_breaklines", found)
                depth = (plane(xs, ys) - run().read_all())[bottom]
                self.assertGreater(np.nanmedian(depth), 1.5)
                _, hard = self.made(ditch(), method)
                if method != "triangulation":
                    self.assertLess(np.nanmedian((plane(xs, ys) - hard().read_all())[bottom]), 1.0)

    def test_soft_points_lie_on_the_lines_no_farther_apart_than_asked(self):
        lines = lines_of([features(shapely.LineString([(0, 0, 10), (100, 0, 20), (100, 7, 20)]))], CRS, *ground())
        x, y, z = along(lines, 8.0)
        on = y == 0
        order = np.sort(x[on])
        self.assertLessEqual(np.diff(order).max(), 8.0)
        np.testing.assert_allclose(z[on], 10 + x[on] / 10)
        self.assertEqual(x.size, len(set(zip(x.tolist(), y.tolist(), strict=True))))
        few = along(lines_of([features(shapely.LineString([(0, 0, 1), (1e9, 0, 1)]))], CRS, *ground()), 1.0)
        self.assertLessEqual(few[0].size, MOST_SOFT + 2)
        self.assertEqual(along(lines_of([], CRS, *ground()), 1.0)[0].size, 0)

    def test_findings_both_ways(self):
        crossing = shapely.LineString([(448_040, 5_438_000, 50), (448_040, 5_438_100, 50)])
        flat = shapely.LineString([(448_020, 5_438_020), (448_060, 5_438_030)])
        far = shapely.LineString([(0, 0), (1, 1)])
        for lines, method, wanted in (
            (ditch(), "triangulation", set()),
            ([*ditch(), crossing], "triangulation", {"clashes"}),
            ([flat], "triangulation", {"draped"}),
            ([far], "triangulation", {"empty_breaklines"}),
            (ditch(), "nearest", {"no_breaklines"}),
            ([], "triangulation", set()),
        ):
            with self.subTest(wanted):
                found, run = self.made(lines, method)
                self.assertEqual(set(found) - {"reach"}, wanted)
                self.assertTrue(np.isfinite(run().read_all()).any())

    def test_points_are_asked_for_and_breaklines_may_be_missing(self):
        held = Points(CRS, *ground()[:2], {"z": ground()[2]})
        taken = task_for("interpolate_points", {"points": held}, Frame(GRID, "m", "")).inputs
        self.assertEqual((taken.points("points"), taken.features("breaklines")), (held, []))
        with self.assertRaisesRegex(InputError, "needs points"):
            task_for("interpolate_points", {"breaklines": [features(*ditch())]}, Frame(GRID, "m", ""))
