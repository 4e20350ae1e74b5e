import numpy as np
import shapely
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.catchments import area_of, basins, between, catchments, labelled, polygons, simplified, snapped
from yama.terrain.drain.directions import directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.streams import channels
from yama.terrain.drain.tests.made import CRS, grid_of
from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds


def drained(seed=4, shape=(60, 80)):
    return filled(seed, shape)[1:]


def filled(seed, shape):
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.arange(shape[1]), np.arange(shape[0]))
    cells = (x * 0.3 + np.sin(y / 5) * 3 + rng.random(shape)).astype(np.float32)
    grid = grid_of(shape)
    heights = hollows(cells, grid).filled()
    to = directions(heights, grid)
    return heights, to, accumulation(to), grid


class CatchmentsTest(SimpleTestCase):
    def test_a_catchment_has_as_many_cells_as_drain_through_its_outlet(self):
        to, counts, grid = drained()
        for cell in np.random.default_rng(1).choice(to.size, 30, replace=False).tolist():
            labels, window = labelled(to, [cell])
            self.assertEqual((labels == 1).sum(), counts.ravel()[cell])
            inside = labels[window.row : window.row + window.rows, window.col : window.col + window.cols]
            self.assertEqual((inside == 1).sum(), (labels == 1).sum())

    def test_catchments_within_each_other_add_up(self):
        to, counts, grid = drained()
        low = int(np.nanargmax(counts))
        r, c = divmod(low, grid.cols)
        high = int(np.argsort(counts.ravel())[-20])
        outlets = [
            snapped(counts, grid, float(grid.x_of(at % grid.cols)), float(grid.y_of(at // grid.cols)), 0.0, f"at {at}")
            for at in (low, high)
        ]
        self.assertEqual([one.cell for one in outlets], [low, high])
        found = catchments(to, grid, outlets)
        self.assertEqual(found.within, (None, 0))
        ground = float(np.prod(grid.metres_per_cell()))
        self.assertAlmostEqual(found.areas[0] / (counts[r, c] * ground), 1, delta=1e-3)
        self.assertTrue(found.shapes[0].covers(found.shapes[1]))
        told = found.features()
        self.assertEqual(told.attributes["within"], [None, 1])
        self.assertAlmostEqual(told.attributes["area"][0], found.areas[0] / 1e6, places=6)

    def test_all_basins_cover_the_ground_without_gaps(self):
        to, counts, grid = drained(7)
        labels = basins(to)
        sizes = np.bincount(labels.ravel())[1:]
        self.assertEqual(sizes.tolist(), sorted(sizes.tolist(), reverse=True))
        self.assertEqual(sizes.max(), np.nanmax(counts[(to == 8)]))
        shapes = np.array(list(polygons(labels, grid).values()), object)
        self.assertTrue(shapely.coverage_is_valid(shapes))
        self.assertAlmostEqual(shapely.area(shapes).sum(), shapely.box(*grid.bounds).area, places=3)
        fewer = simplified(shapes, 4.0)
        self.assertTrue(shapely.coverage_is_valid(fewer))
        self.assertAlmostEqual(shapely.area(fewer).sum(), shapely.area(shapes).sum(), delta=20)
        self.assertLess(shapely.get_num_coordinates(fewer).sum(), shapely.get_num_coordinates(shapes).sum())

    def test_an_outlet_moves_to_where_most_ground_drains(self):
        _, counts, grid = drained()
        x, y = float(grid.x_of(40)), float(grid.y_of(30))
        still = snapped(counts, grid, x, y, 0.0)
        self.assertEqual((still.cell, still.moved), (30 * grid.cols + 40, 0.0))
        moved = snapped(counts, grid, x, y, 9.0)
        across, _ = grid.metres_per_cell()
        rows, cols = np.indices(counts.shape)
        near = np.hypot(rows - 30, cols - 40) * across <= 9.0
        self.assertEqual(counts.ravel()[moved.cell], counts[near].max())
        self.assertLessEqual(moved.moved, 9.0)

    def test_outlets_that_cannot_be_are_refused(self):
        to, counts, grid = drained()
        with self.assertRaisesMessage(InputError, "Pell Harbour lies outside the surface"):
            snapped(counts, grid, 0.0, 0.0, 10.0, "Pell Harbour")
        empty = np.where(np.arange(grid.cols) > 40, 0, counts)
        with self.assertRaisesMessage(InputError, "such as in the sea"):
            snapped(empty, grid, float(grid.x_of(70)), float(grid.y_of(30)), 10.0)
        with self.assertRaisesMessage(InputError, "Two outlets lie in one cell"):
            catchments(to, grid, 2 * [snapped(counts, grid, float(grid.x_of(3)), float(grid.y_of(3)), 0.0)])
        with self.assertRaisesMessage(InputError, "no outlets"):
            catchments(to, grid, [])

    def test_areas_are_those_on_the_ellipsoid(self):
        # a degree square at the equator of WGS 84: 111 319.5 m by 110 574.4 m at its sides
        area = area_of(shapely.box(0, 0, 1, 1), "EPSG:4326")
        self.assertAlmostEqual(area / 1e6, 12_308.8, delta=0.5)
        at = Bounds(500_000.0, 5_430_000.0, 501_000.0, 5_431_000.0)
        self.assertAlmostEqual(area_of(shapely.box(*at), CRS) / 1e6, 1 / 0.9996**2, delta=1e-5)

    def test_ground_between_junctions_adds_up_along_a_network(self):
        heights, to, counts, grid = filled(9, (60, 80))
        streams = channels(heights, to, counts, grid, 120.0).streams(120.0)
        labels = between(to, streams)
        own = np.bincount(labels.ravel(), minlength=len(streams) + 1)[1:]
        self.assertTrue((own > 0).all())
        total = own.copy()
        for number in np.argsort(streams.magnitude, kind="stable"):  # what is above comes first
            if streams.below[number] >= 0:
                total[streams.below[number]] += total[number]
        # through its last own cell
        inner = streams.below >= 0
        np.testing.assert_array_equal(total[inner], counts.ravel()[streams.cells[streams.starts[1:][inner] - 2]])

    def test_polygons_are_those_of_the_cells_whatever_they_enclose_and_touch(self):
        rng = np.random.default_rng(12)
        for number in range(80):
            shape = tuple(rng.integers(1, 12, 2))
            labels = rng.integers(0, 2 + number % 4, shape).astype(np.int32)
            grid = grid_of(shape)
            found = polygons(labels, grid)
            self.assertEqual(set(found), set(np.unique(labels).tolist()) - {0})
            for value, shape_of in found.items():
                self.assertTrue(shape_of.is_valid, shapely.is_valid_reason(shape_of))
                cells = [
                    shapely.box(x - 1, y - 1, x + 1, y + 1)
                    for x, y in ((grid.x_of(c), grid.y_of(r)) for r, c in np.argwhere(labels == value))
                ]
                self.assertTrue(shape_of.equals(shapely.union_all(cells)), f"{labels}, {value}")
                # parts hang together over edges
                parts = shapely.get_num_geometries(shape_of)
                self.assertEqual(parts, ndimage.label(labels == value)[1])
            self.assertTrue(shapely.coverage_is_valid(list(found.values())))
