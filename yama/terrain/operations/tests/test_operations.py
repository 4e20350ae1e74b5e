"""The catalogue: descriptions, checks and results of every operation."""

from dataclasses import replace

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain import operations
from yama.terrain.errors import GridError, InputError
from yama.terrain.features import Features
from yama.terrain.frame import Frame, extent_of_points, propose, utm_zone
from yama.terrain.grid import Bounds, Grid
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.points import Points, merge_duplicates
from yama.terrain.surface import ArraySurface, Surface

FRAME = Frame(Grid("EPSG:32741", 448_000, 5_438_200, 2, 2, 100, 100), "m", "Sundrel mean sea level")


def points(count=80, codes=True, crs="EPSG:32741"):
    """Points of a plane over FRAME."""
    rng = np.random.default_rng(1)
    x, y = rng.uniform(448_000, 448_200, count), rng.uniform(5_438_000, 5_438_200, count)
    z = 0.1 * (x - 448_000) + 10
    names = np.where(np.arange(count) % 4 == 0, "spot", "ground") if codes else np.empty(0, "U1")
    return Points(crs, x, y, {"z": z}, names)


def plane_of(grid):
    """The heights of `points` at the cells of a grid."""
    return np.broadcast_to(0.1 * (grid.x_of(np.arange(grid.cols)) - 448_000) + 10, (grid.rows, grid.cols))


def interpolate(held, **values):
    """Findings by code, and the surface."""
    operation = operations.find("interpolate_points")
    params = operations.parse_params(operation, values)
    inputs = {"points": held}
    found = {finding.code: finding for finding in task_for(operation.name, inputs, FRAME, params).findings}
    return found, lambda: first_of(task_for(operation.name, inputs, FRAME, params))


class CatalogueTest(SimpleTestCase):
    def test_each_operation_describes_itself(self):
        for name, operation in operations.catalogue().items():
            described = operations.describe(operation)
            self.assertEqual(described["name"], name)
            self.assertTrue(described["summary"].endswith("."), name)
            self.assertTrue(described["inputs"])
            self.assertEqual(described["params"]["type"], "object")

    def test_bad_parameters_name_the_parameter(self):
        operation = operations.find("interpolate_points")
        for values, words in (
            ({"power": -1}, "power"),
            ({"cell_size": 0}, "cell_size"),
            ({"neighbours": 2.5}, "neighbours"),
            ({"method": "magic"}, "method"),
            ({"colour": 3}, "colour"),
            ({"reach_limit": float("inf")}, "reach_limit"),
        ):
            with self.assertRaisesMessage(InputError, words):
                operations.parse_params(operation, values)

    def test_missing_wrong_and_surplus_inputs(self):
        surface = ArraySurface(np.zeros((100, 100)), FRAME.grid)
        for given, words in (
            ({"first": surface}, "needs second surface"),
            ({"first": surface, "second": points()}, "must be surface"),
            ({"first": surface, "second": surface, "third": surface}, "takes no input 'third'"),
        ):
            with self.assertRaisesMessage(InputError, words):
                task_for("difference", given, FRAME)
        with self.assertRaisesMessage(InputError, "There is no operation"):
            operations.find("guess")

    def test_a_step_is_the_same_whether_defaults_are_named_or_not(self):
        operation = operations.find("interpolate_points")
        keys = {"points": "k"}

        def key(**values):
            return operations.make_step(operation, operations.parse_params(operation, values), keys, FRAME).key

        self.assertEqual(key(), key(method="triangulation", whole=False))
        self.assertEqual(key(method="inverse_distance"), key(method="inverse_distance", power=2.0))
        self.assertNotEqual(key(method="inverse_distance"), key(method="inverse_distance", power=3.0))
        self.assertNotEqual(key(), key(method="inverse_distance"))

    def test_a_parameter_of_another_method_is_refused_with_the_methods_that_have_it(self):
        operation = operations.find("interpolate_points")
        with self.assertRaisesMessage(
            InputError,
            "The method nearest has no parameter 'edge_limit'. Those that have it: triangulation, natural_neighbour.",
        ):
            operations.parse_params(operation, {"method": "nearest", "edge_limit": 4})
        with self.assertRaisesMessage(InputError, "There is no parameter 'colour'. There are: "):
            operations.parse_params(operation, {"colour": 4})


class InterpolateTest(SimpleTestCase):
    def test_every_method_makes_a_surface_on_the_frame(self):
        for method in ("triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"):
            _, run = interpolate(points(), method=method, reach_limit=50)
            surface = run()
            self.assertIsInstance(surface, Surface)
            self.assertEqual(surface.grid, FRAME.grid)
            self.assertEqual(surface.vertical_datum, "Sundrel mean sea level")
            self.assertGreater(np.isfinite(surface.read_all()).mean(), 0.8)

    def test_kriging_fits_what_is_not_given_and_can_tell_its_own_error(self):
        _, fitted = interpolate(points(), method="kriging", reach_limit=50)
        _, variogram = interpolate(points(), method="kriging", reach_limit=50, nugget=0.5, sill=90.0, range=80.0)
        self.assertGreater(float(np.nanmax(np.abs(fitted().read_all() - variogram().read_all()))), 1e-3)
        given = {"method": "kriging", "sill": 90.0, "range": 80.0}
        task = task_for("interpolate_points", {"points": points()}, FRAME, given)
        self.assertEqual(task.outputs["uncertainty"].quantity, "spread")
        made = task.run()
        cells = made.surface("uncertainty").read_all()
        np.testing.assert_array_equal(made.surface("surface").companions["uncertainty"].read_all(), cells)
        self.assertNotIn("uncertainty", task_for("interpolate_points", {"points": points()}, FRAME).outputs)
        self.assertTrue((cells >= 0).all() and cells.max() <= 1.1 * 90**0.5)

    def test_points_are_left_out_by_their_place_and_come_back(self):
        held = points()
        wild = replace(held, fields={"z": np.where(np.arange(len(held)) == 7, 900.0, held.z)})
        spot = [round(float(held.x[7]), 2), round(float(held.y[7]), 2)]
        _, wrong = interpolate(wild, method="nearest", reach_limit=50)
        _, without = interpolate(wild, method="nearest", reach_limit=50, left_out=[spot])
        self.assertEqual(float(np.nanmax(wrong().read_all())), 900.0)
        self.assertLess(float(np.nanmax(without().read_all())), 899)
        beside = [spot[0] + 0.05, spot[1]]
        _, kept = interpolate(wild, method="nearest", reach_limit=50, left_out=[beside])
        self.assertEqual(float(np.nanmax(kept().read_all())), 900.0)

    def test_smoothing_is_proposed_from_points_left_out(self):
        operation = operations.find("spline_smoothing")
        self.assertEqual(operation.previews, "exact")
        found = first_of(task_for(operation.name, {"points": points()}, FRAME, {"tension": 2}))
        self.assertEqual(found.facts["best"], found.column("smoothing")[int(np.argmin(found.column("rmse")))])
        self.assertEqual(found.columns[1].unit, "m")
        few = points()
        few = few.kept(np.arange(len(few)) < 5)
        with self.assertRaisesMessage(InputError, "needs 10 points"):
            first_of(task_for(operation.name, {"points": few}, FRAME, {}))

    def test_a_variogram_is_found_at_once_for_every_model(self):
        operation = operations.find("variogram")
        params = operations.parse_params(operation, {})
        found = first_of(task_for(operation.name, {"points": points()}, FRAME, params))
        self.assertEqual(set(found.facts["fitted"]), {"spherical", "exponential", "gaussian", "matern"})
        self.assertGreater(len(found), 5)
        self.assertEqual(operation.previews, "exact")
        few = task_for(operation.name, {"points": points().kept(np.arange(len(points())) < 5)}, FRAME, params).findings
        self.assertEqual(few[0].weight, "stop")

    def test_codes_and_cell_size(self):
        _, run = interpolate(points(), codes=["spot"], cell_size=5, reach_limit=500)
        self.assertEqual((run().grid.rows, run().grid.cell_width), (40, 5))
        found, _ = interpolate(points(), codes=["nothing of the kind"])
        self.assertEqual(found["too_few"].weight, "stop")

    def test_duplicates_are_found_and_mended(self):
        held = points()
        twice = Points(held.crs, np.append(held.x, held.x[:3]), np.append(held.y, held.y[:3]),
                       {"z": np.append(held.z, held.z[:3] + 1.5)})  # fmt: skip
        found, _ = interpolate(twice)
        self.assertIn("At 3 places", found["duplicates"].sentence)
        self.assertIn("1.50 m", found["duplicates"].sentence)
        self.assertEqual(len(found["duplicates"].places), 3)
        found, _ = interpolate(twice, **found["duplicates"].fix.set_params)
        self.assertNotIn("duplicates", found)

    def test_duplicate_rules(self):
        x = y = np.array([0.0, 1, 0, 0])
        z = np.array([4.0, 9, 1, 7])
        for rule, height in (("mean", 4.0), ("first", 4.0), ("lowest", 1.0), ("highest", 7.0)):
            _, _, merged = merge_duplicates(x, y, z, rule)
            self.assertEqual(merged.tolist(), [height, 9.0])

    def test_a_swapped_pair_is_found_and_left_out(self):
        held = points(codes=False)
        swapped = Points(
            held.crs, np.append(held.x, held.y[0]), np.append(held.y, held.x[0]), {"z": np.append(held.z, 1)}
        )
        found, _ = interpolate(swapped)
        self.assertIn("1 point lies far outside", found["strays"].sentence)
        self.assertIn("swapped", found["strays"].why)
        found, run = interpolate(swapped, **found["strays"].fix.set_params)
        self.assertNotIn("strays", found)
        x, y = np.meshgrid(*FRAME.grid.centres(FRAME.grid.whole))
        heights = run().read_all()
        filled = np.isfinite(heights)
        np.testing.assert_allclose(heights[filled], (0.1 * (x - 448_000) + 10)[filled], atol=1e-3)

    def test_degrees_are_put_into_the_frame(self):
        held = points(codes=False).in_crs("EPSG:4326")
        found, run = interpolate(held)
        self.assertEqual(found["degrees"].weight, "note")
        heights = run().read_all()
        x, _ = np.meshgrid(*FRAME.grid.centres(FRAME.grid.whole))
        filled = np.isfinite(heights)
        np.testing.assert_allclose(heights[filled], (0.1 * (x - 448_000) + 10)[filled], atol=0.01)

    def test_points_elsewhere_and_on_a_line_are_refused(self):
        held = points(codes=False)
        away = Points(held.crs, held.x + 1e5, held.y, held.fields)
        found, run = interpolate(away)
        self.assertEqual(found["outside"].weight, "stop")
        with self.assertRaisesMessage(InputError, "No point lies within the frame"):
            run()
        line = Points(held.crs, held.x, held.x - 448_000 + 5_438_000, held.fields)
        with self.assertRaisesMessage(InputError, "All points lie on one line"):
            interpolate(line)[1]()
        heap = Points(held.crs, np.full(9, 448_100.0), np.full(9, 5_438_100.0), {"z": np.arange(9.0)})
        self.assertEqual(interpolate(heap)[0]["line"].weight, "stop")

    def test_a_cell_size_that_makes_too_many_cells(self):
        with self.assertRaisesMessage(GridError, "Choose a larger cell size"):
            interpolate(points(), cell_size=1e-5)[1]()


class OtherOperationsTest(SimpleTestCase):
    def surface(self, offset=0.0, unit="m", datum=""):
        xs, _ = FRAME.grid.centres(FRAME.grid.whole)
        return ArraySurface(np.tile((xs - 448_000) * 0.5 + offset, (100, 1)), FRAME.grid, unit, datum)

    def run_one(self, name, **inputs):
        operation = operations.find(name)
        return first_of(task_for(operation.name, inputs, FRAME, {}))

    def test_difference_refuses_other_units_and_warns_of_other_zero_levels(self):
        operation = operations.find("difference")
        params = operations.parse_params(operation, {})
        found = task_for(
            operation.name, {"first": self.surface(), "second": self.surface(unit="points")}, FRAME, params
        ).findings
        self.assertEqual([finding.weight for finding in found], ["stop"])
        found = task_for(
            operation.name, {"first": self.surface(datum="a"), "second": self.surface(datum="b")}, FRAME, params
        ).findings
        self.assertEqual([finding.code for finding in found], ["datum"])
        np.testing.assert_allclose(
            self.run_one("difference", first=self.surface(1.5), second=self.surface()).read_all(), 1.5, atol=1e-5
        )

    def test_heights_below_the_ground_and_zeros_in_both_are_told_with_their_places(self):
        grid = FRAME.grid
        ground = np.zeros((grid.rows, grid.cols), np.float32)
        ground[:, :40] = 10.0
        ground[0, :5] = np.nan
        first = ground + 3.0
        first[10:20, 10:20] = 4.0  # 6 m below the ground
        first[50:, 60:] = 0.0  # the sea, which nobody measured
        given = {"surface": ArraySurface(first, grid), "ground": ArraySurface(ground, grid)}
        found = {one.code: one for one in task_for("height_above_ground", given, FRAME, {}).findings}
        self.assertIn("In 100 cells the first surface lies below the ground, down to -6.0 m", found["below"].sentence)
        self.assertEqual(found["below"].fix.set_params, {"below": "zero"})
        self.assertTrue(all(grid.west + 20 < x < grid.west + 40 for x, _ in found["below"].places))
        self.assertIn(
            f"In {(grid.rows - 50) * (grid.cols - 60)} cells both surfaces are exactly 0", found["zero"].sentence
        )
        made = first_of(task_for("height_above_ground", given, FRAME, {"below": "zero"})).read_all()
        self.assertEqual(float(np.nanmin(made)), 0.0)
        self.assertTrue(np.isnan(made[0, :5]).all())
        kept = first_of(task_for("height_above_ground", given, FRAME, {})).read_all()
        np.testing.assert_array_equal(kept[kept > 0], made[made > 0])
        self.assertEqual(float(np.nanmin(kept)), -6.0)
        away = {**given, "ground": ArraySurface(np.full_like(ground, np.nan), grid)}
        self.assertEqual([one.code for one in task_for("height_above_ground", away, FRAME, {}).findings], ["nothing"])

    def test_slope_of_the_plane(self):
        inner = self.run_one("slope", surface=self.surface()).read_all()[1:-1, 1:-1]
        np.testing.assert_allclose(inner, np.degrees(np.arctan(0.5)), atol=1e-2)

    def test_the_scorecard_gives_figures(self):
        rng = np.random.default_rng(2)
        x, y = rng.uniform(448_010, 448_190, 30), rng.uniform(5_438_010, 5_438_190, 30)
        checkpoints = Points("EPSG:32741", x, y, {"z": (x - 448_000) * 0.5})
        figures = self.run_one("scorecard", surfaces=[self.surface(0.25), self.surface()], checkpoints=checkpoints)
        self.assertEqual(figures.column("count"), [30, 30])
        self.assertAlmostEqual(figures.column("mean")[0], 0.25, places=3)
        self.assertAlmostEqual(figures.column("mean")[1], 0.0, places=3)


class FrameTest(SimpleTestCase):
    def test_a_frame_is_proposed_from_points(self):
        frame = propose([extent_of_points(points(400).in_crs("EPSG:4326"))]).frame
        self.assertEqual(frame.grid.crs, "EPSG:32741")
        self.assertIn(frame.grid.cell_width, (2.0, 5.0))
        self.assertEqual(Frame.from_dict(frame.to_dict()), frame)
        held = points(400)
        self.assertIsNotNone(frame.grid.bounds.intersection(held.bounds))

    def test_utm_zones(self):
        self.assertEqual(utm_zone(62.4, -41.2), "EPSG:32741")
        self.assertEqual(utm_zone(-179.9, 10), "EPSG:32601")
        self.assertEqual(utm_zone(179.9, 10), "EPSG:32660")
        with self.assertRaisesMessage(GridError, "polar"):
            utm_zone(0, 88)

    def test_bounds(self):
        self.assertTrue(Bounds(0, 0, 2, 2).holds(2, 0))
        self.assertIsNone(Bounds(0, 0, 1, 1).intersection(Bounds(1, 0, 2, 1)))


class BesideThePointsTest(SimpleTestCase):
    """Lakes, an area, whole numbers and the distance to the nearest point."""

    def shape(self, *shapes):
        return Features(FRAME.grid.crs, np.array(shapes, dtype=object), {})

    def made(self, values, output="surface", **beside):
        task = task_for("interpolate_points", {"points": points(600), **beside}, FRAME, values)
        return {one.code: one for one in task.findings}, task, lambda: task.run()[output]

    def test_a_lake_is_level_with_every_method(self):
        lake = shapely.box(448_060, 5_438_060, 448_120, 5_438_120)
        for method in ("triangulation", "natural_neighbour", "inverse_distance", "nearest", "spline", "kriging"):
            surface = self.made({"method": method, "reach_limit": 80}, lakes=[self.shape(lake)])[2]()
            x, y = np.meshgrid(*FRAME.grid.centres(FRAME.grid.whole))
            level = surface.read_all()[shapely.contains_xy(lake, x, y)]
            self.assertEqual(np.ptp(level), 0.0, method)
            self.assertAlmostEqual(float(level[0]), 16.0, delta=1.5, msg=method)

    def test_facets_come_down_to_the_rim_of_a_lake(self):
        lake = shapely.box(448_060, 5_438_060, 448_120, 5_438_120)
        surface = self.made({"reach_limit": 80}, lakes=[self.shape(lake)])[2]()
        row = surface.read_all()[50].astype(float)
        east = row[60] - row[59]  # over the rim: from the lake's level on, not from where the slope was
        self.assertLess(abs(east), 1.5)
        self.assertGreater(row[66], row[59] + 3)

    def test_an_area_and_what_is_none(self):
        area = shapely.box(448_000, 5_438_000, 448_100, 5_438_200)
        found, *_, run = self.made({"reach_limit": 50}, area=[self.shape(area)])
        self.assertNotIn("no_area", found)
        cells = run().read_all()
        self.assertTrue(np.isnan(cells[:, 50:]).all() and np.isfinite(cells[20:-20, 10:50]).all())
        line = self.shape(shapely.LineString([(448_000, 5_438_000), (448_100, 5_438_100)]))
        found = self.made({"reach_limit": 50}, area=[line], lakes=[line])[0]
        self.assertEqual((found["no_area"].weight, found["no_lakes"].weight), ("stop", "caution"))

    def test_whole_numbers_warn_where_they_lose_relief(self):
        found, *_, run = self.made({"whole": True, "reach_limit": 50})
        self.assertIn("differ by about 0.1", found["whole"].sentence)
        cells = run().read_all()
        np.testing.assert_array_equal(cells, np.rint(cells))
        self.assertNotIn("whole", self.made({"whole": True, "cell_size": 50})[0])
        self.assertNotIn("whole", self.made({})[0])

    def test_the_distance_to_the_nearest_point(self):
        _, task, run = self.made({"reach_limit": 60}, "distance")
        self.assertEqual(task.outputs["distance"].quantity, "distance")
        cells = run().read_all()
        self.assertTrue(0 <= np.nanmin(cells) < 3 and np.nanmax(cells) <= 60)

    def test_sectors_share_the_neighbours(self):
        one = self.made({"method": "inverse_distance", "neighbours": 8, "reach_limit": 50})[2]().read_all()
        four = self.made({"method": "inverse_distance", "neighbours": 8, "sectors": 4, "reach_limit": 50})[
            2
        ]().read_all()
        self.assertFalse(np.array_equal(one, four, equal_nan=True))
        with self.assertRaisesMessage(InputError, "sectors"):
            operations.parse_params(operations.find("interpolate_points"), {"sectors": 3})

    def test_a_spline_without_tension_is_a_thin_plate_up_to_a_number_of_points(self):
        found, *_, run = self.made({"method": "spline", "tension": 0, "smoothing": 0, "reach_limit": 50})
        cells = run().read_all()
        self.assertNotIn("plate", found)
        np.testing.assert_allclose(cells[np.isfinite(cells)], plane_of(FRAME.grid)[np.isfinite(cells)], atol=1e-3)
        many = interpolate(points(5_001), method="spline", tension=0)[0]
        self.assertEqual((many["plate"].weight, many["plate"].fix.set_params), ("stop", {"tension": 0.5}))
        with self.assertRaisesMessage(InputError, "0 for a thin plate, or 0.5 or more"):
            operations.parse_params(operations.find("interpolate_points"), {"method": "spline", "tension": 0.2})

    def test_simple_kriging_and_what_its_error_holds(self):
        given = {"method": "kriging", "reach_limit": 50, "nugget": 4.0, "sill": 9.0, "range": 8.0}
        ordinary = self.made(given)[2]().read_all()
        simple = self.made({**given, "kriging": "simple", "kriging_mean": 500.0})[2]().read_all()
        self.assertGreater(np.nanmean(simple), np.nanmean(ordinary) + 100)  # drawn to a mean that is far off
        surface, measurement = (
            self.made({**given, "error_of": of}, "uncertainty")[2]().read_all() for of in ("surface", "measurement")
        )
        np.testing.assert_allclose(measurement**2, surface**2 + 4.0, rtol=1e-4)


class FeetOfGroundTest(SimpleTestCase):
    """A length in metres is one of metres, whatever the frame's CRS measures the ground in."""

    METRES = "+proj=tmerc +lat_0=-41 +lon_0=62.4 +x_0=500000 +y_0=500000 +datum=WGS84 +units=m"
    FEET = "+proj=tmerc +lat_0=-41 +lon_0=62.4 +x_0=500000 +y_0=500000 +datum=WGS84 +units=us-ft"
    FOOT = 1200 / 3937

    def made(self, crs, unit, **values):
        rng = np.random.default_rng(8)
        x, y = rng.uniform(500_000, 500_400, (2, 90))
        z = 20 + 8 * np.sin(x / 60) + 5 * np.cos(y / 45)
        frame = Frame(Grid(crs, 500_000 / unit, 500_400 / unit, 4 / unit, 4 / unit, 100, 100), "m")
        held = Points(crs, x / unit, y / unit, {"z": z}, np.full(90, "a"))
        output = values.pop("output", "surface")
        return task_for("interpolate_points", {"points": held}, frame, values).run()[output]

    def test_limits_radii_reaches_and_cells(self):
        for values in (
            {"method": "triangulation", "reach_limit": 20, "edge_limit": 60},
            {"method": "natural_neighbour", "reach_limit": 25},
            {"method": "inverse_distance", "search_radius": 30, "reach_limit": 30},
            {"method": "nearest", "reach_limit": 15},
            {"method": "spline", "reach_limit": 20},
            {"method": "spline", "tension": 0, "reach_limit": 20},
            {"method": "kriging", "nugget": 1.0, "sill": 30.0, "range": 90.0, "reach_limit": 20},
            {"method": "triangulation", "cell_size": 10, "reach_limit": 20},
            {"output": "distance", "reach_limit": 20},
        ):  # fmt: skip
            metres, feet = (
                self.made(crs, unit, **dict(values)) for crs, unit in ((self.METRES, 1.0), (self.FEET, self.FOOT))
            )
            one, other = metres.read_all(), feet.read_all()
            with self.subTest(values):
                self.assertEqual(one.shape, other.shape)
                self.assertLess(float((np.isnan(one) != np.isnan(other)).mean()), 0.002)
                both = np.isfinite(one) & np.isfinite(other)
                self.assertTrue(0.05 < both.mean() < 0.999)
                np.testing.assert_allclose(one[both], other[both], atol=0.02)

    def test_a_variogram_is_told_in_metres(self):
        rng = np.random.default_rng(8)
        x, y = rng.uniform(500_000, 500_400, (2, 200))
        z = 20 + 8 * np.sin(x / 60) + 5 * np.cos(y / 45)
        operation = operations.find("variogram")
        found = []
        for crs, unit in ((self.METRES, 1.0), (self.FEET, self.FOOT)):
            frame = Frame(Grid(crs, 500_000 / unit, 500_400 / unit, 4 / unit, 4 / unit, 100, 100), "m")
            held = Points(crs, x / unit, y / unit, {"z": z}, np.full(200, "a"))
            found.append(first_of(task_for(operation.name, {"points": held}, frame, {"farthest": 150})))
        np.testing.assert_allclose(found[0].column("distance"), found[1].column("distance"), rtol=1e-6)
        metres, feet = (one.facts["fitted"]["spherical"]["range"] for one in found)
        self.assertAlmostEqual(metres, feet, delta=0.5)

    def test_the_cells_of_a_frame_in_feet_and_in_degrees(self):
        feet = Frame(Grid(self.FEET, 500_000 / self.FOOT, 500_400 / self.FOOT, 4 / self.FOOT, 4 / self.FOOT, 100, 100))
        self.assertAlmostEqual(feet.cell_size, 4.0)
        self.assertIs(feet.with_cell_size(feet.cell_size), feet)
        wide = feet.with_cell_size(10)
        self.assertAlmostEqual(wide.grid.cell_width, 10 / self.FOOT)
        self.assertEqual((wide.grid.cols, wide.grid.rows), (40, 40))
        degrees = Frame(Grid("EPSG:4326", 62.0, -41.0, 0.0005, 0.0005, 100, 100)).with_cell_size(30)
        across, up = degrees.grid.metres_per_cell()
        self.assertAlmostEqual((across * up) ** 0.5, 30.0, delta=0.01)
