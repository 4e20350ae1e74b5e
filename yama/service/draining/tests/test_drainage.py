import shutil
from unittest import mock

import numpy as np
import shapely

from yama.service.draining.drained import folder_of
from yama.service.draining.tests.valley import CRS, GRID, ValleyTest
from yama.service.holdings.features import keep_features
from yama.service.holdings.models import Holding
from yama.terrain.features import Features


class DrainageTest(ValleyTest):
    def test_streams_are_told_at_any_threshold_once_water_was_worked_out(self):
        self.assertEqual(self.ask("POST", "/drainage/streams", self.body)["known"], False)
        body = self.worked_out()
        self.assertEqual(self.ask("POST", "/drainage", body), {"job": None})
        told = self.ask("POST", "/drainage/streams", {**body, "begins_at": 1.0})
        self.assertTrue(told["known"])
        self.assertEqual((told["filled"], told["breached"], told["left"]), (1, 0, 0))
        self.assertGreater(told["moved"], 100)
        fewer = self.ask("POST", "/drainage/streams", {**body, "begins_at": 3.0})
        self.assertLess(fewer["length"], told["length"])
        self.assertEqual(sum(one["length"] for one in told["orders"]), told["length"])
        self.assertEqual(sum(one["count"] for one in told["orders"] if one["order"] == 1), told["count"])
        begins, counts, lengths = zip(*told["curve"], strict=True)
        self.assertEqual(list(begins), sorted(begins))
        self.assertEqual(list(lengths), sorted(lengths, reverse=True))
        self.assertEqual(len(counts), len(begins))
        # only what is in view, not finer than a pixel
        west = self.ask(
            "POST",
            "/drainage/streams",
            {**body, "begins_at": 1.0, "bounds": [448_000, 5_438_000, 448_040, 5_438_200], "pixel": 20.0},
        )
        corners = [sum(len(one["line"]) for one in each["streams"]) for each in (west, told)]
        self.assertLess(corners[0], corners[1])
        # beyond what there can be, the nearest there is, which is said
        beyond = self.ask("POST", "/drainage/streams", {**body, "begins_at": 1e6})
        self.assertEqual((beyond["count"], beyond["begins_at"]), (0, told["most"]))
        self.assertEqual(told["begins_at"], 1.0)

    def test_a_catchment_is_as_large_as_what_drains_through_its_outlet(self):
        body = self.worked_out()
        outlets = [
            {"x": 448_319.0, "y": 5_438_095.0, "name": "Pell Harbour"},
            {"x": 440_000.0, "y": 5_438_095.0, "name": "far"},
        ]
        told = self.ask("POST", "/drainage/catchments", {**body, "outlets": outlets, "snap": 12})["catchments"]
        mouth, far = told
        self.assertAlmostEqual(mouth["y"], 5_438_101, delta=1.5)
        self.assertAlmostEqual(mouth["moved"], 6, delta=2.5)
        ground = GRID.cell_count * float(np.prod(GRID.metres_per_cell())) / 1e6
        self.assertGreater(mouth["area"], 0.7 * ground)
        self.assertLess(mouth["area"], 1.01 * ground)
        self.assertTrue(mouth["rings"])
        self.assertIsNone(far["area"])
        self.assertIn("far lies outside", far["reason"])
        way = self.ask("POST", "/drainage/way", {**body, "x": 448_051.0, "y": 5_438_151.0})
        self.assertTrue(way["leaves"])
        self.assertGreater(way["length"], 250)
        self.assertGreater(way["drained"], 0)
        self.assertAlmostEqual(way["line"][-1][0], 448_319, delta=1)

    def test_the_end_of_a_way_is_told_by_a_name(self):
        body = {**self.worked_out(), "x": 448_051.0, "y": 5_438_151.0}
        mouths = Holding(project=self.project, name="Names", key="names")
        places = [shapely.Point(448_330, 5_438_100), shapely.Point(448_000, 5_438_199)]
        keep_features(mouths, Features(CRS, np.array(places, object), {"name": ["Pell Harbour", "Harrow"]}), {}, [])
        way = self.ask("POST", "/drainage/way", {**body, "drawn": False, "named": mouths.pk})
        self.assertEqual((way["ends"], way["line"]), ("Pell Harbour", []))
        self.assertEqual(way["length"], self.ask("POST", "/drainage/way", body)["length"])
        outlet = {"outlets": [{"x": 448_319.0, "y": 5_438_101.0, "name": "Outlet 1"}], "snap": 4}
        asked = {**self.body, **outlet}
        for named, near in ((mouths.pk, "Pell Harbour"), (None, "")):
            (mouth,) = self.ask("POST", "/drainage/catchments", {**asked, "named": named})["catchments"]
            self.assertEqual((mouth["name"], mouth["near"]), ("Outlet 1", near))
        far = Holding(project=self.project, name="Far", key="far")
        keep_features(
            far, Features(CRS, np.array([shapely.Point(452_000, 5_438_100)], object), {"name": ["Isle"]}), {}, []
        )
        self.assertEqual(self.ask("POST", "/drainage/way", {**body, "named": far.pk})["ends"], "")

    def test_hollows_that_keep_their_water_end_it(self):
        lake = Holding(project=self.project, name="Pond", key="pond")
        keep_features(lake, Features(CRS, np.array([self.hollow], object), {"name": ["Pond"]}), {}, [])
        body = self.worked_out(kept=lake.pk)
        self.assertEqual(self.ask("POST", "/drainage/streams", body)["left"], 1)
        way = self.ask("POST", "/drainage/way", {**body, "x": 448_051.0, "y": 5_438_101.0})
        self.assertFalse(way["leaves"])
        # what was worked out without the pond is something else
        self.assertFalse(self.ask("POST", "/drainage/streams", self.body)["known"])

    def test_streams_are_held_against_known_ones(self):
        body = {**self.worked_out(), "begins_at": 0.5}
        river = Holding(project=self.project, name="Rivers", key="rivers")
        ways = [
            shapely.LineString([(448_080, 5_438_101), (448_319, 5_438_101)]),
            shapely.LineString([(448_080, 5_438_180), (448_319, 5_438_180)]),
            shapely.LineString(
                [(440_000, 5_438_180), (441_000, 5_438_180)]
            ),  # beyond the surface: it counts for nothing
        ]
        keep_features(river, Features(CRS, np.array(ways, object), {"name": ["one", "two", "far"]}), {}, [])
        told = self.ask("POST", "/drainage/likeness", {**body, "reference": river.pk, "within": 10})
        self.assertTrue(told["known"])
        self.assertAlmostEqual(told["found"], 0.5, delta=0.05)
        self.assertGreater(told["own_near"], 0.5)
        self.assertEqual(told["parted"], len(told["partings"]))
        missing = next(one for one in told["partings"] if one["of_reference"])
        self.assertAlmostEqual(missing["y"], 5_438_180, delta=1)
        self.assertAlmostEqual(missing["length"], 239, delta=5)
        asked = {**body, "reference": self.valley.pk}
        self.assertIn("holds no lines or polygons", self.ask("POST", "/drainage/likeness", asked, 422)["detail"])

    def brook(self):
        river = Holding(project=self.project, name="Brook", key="brook")
        way = shapely.LineString([(448_020, 5_438_180), (448_319, 5_438_150)])
        keep_features(river, Features(CRS, np.array([way], object), {"name": ["Brook"]}), {}, [])
        return river

    def test_rivers_can_be_burned_in(self):
        river = self.brook()
        plain = self.worked_out()
        burned = self.worked_out(burned=river.pk, bed_depth=8.0, bed_width=4.0)
        outlet = [{"x": 448_317.0, "y": 5_438_150.0}]
        areas = [
            self.ask("POST", "/drainage/catchments", {**body, "outlets": outlet, "snap": 6})["catchments"][0]["area"]
            for body in (plain, burned)
        ]
        self.assertGreater(areas[1], 3 * areas[0])
        pond = Holding(project=self.project, name="Pond", key="pond")
        keep_features(pond, Features(CRS, np.array([self.hollow], object), {"name": ["Pond"]}), {}, [])
        self.assertIn("holds no lines", self.ask("POST", "/drainage", {**self.body, "burned": pond.pk}, 422)["detail"])

    def test_what_became_of_burned_lines_is_told(self):
        river = Holding(project=self.project, name="Brook", key="brook")
        ways = [
            shapely.LineString([(448_300, 5_438_101), (448_200, 5_438_101)]),  # drawn uphill
            shapely.LineString([(440_000, 5_438_101), (440_100, 5_438_101)]),  # beyond the surface
        ]
        keep_features(river, Features(CRS, np.array(ways, object), {"name": ["up", "far"]}), {}, [])
        body = self.worked_out(burned=river.pk)
        up, far = self.ask("POST", "/drainage/streams", body)["burned"]
        self.assertEqual((up["number"], up["turned"], up["outside"]), (1, True, False))
        self.assertEqual((far["number"], far["turned"], far["outside"]), (2, False, True))

    def test_ways_over_filled_ground_are_told_and_can_be_left_out(self):
        x, y = np.meshgrid(*GRID.centres(GRID.whole))
        cells = 60 - 0.02 * (x - GRID.west) + 0.1 * np.abs(y - 5_438_101)
        long = (np.abs(x - 448_160) < 75) & (np.abs(y - 5_438_101) < 20)
        pan = self.add_surface(np.where(long, cells - 5, cells), "pan")
        body = {**self.worked_out(surface=pan.pk), "begins_at": 0.2}
        told = self.ask("POST", "/drainage/streams", body)
        self.assertGreater(told["unsure_length"], 100)
        self.assertLess(told["unsure_length"], told["length"])
        at = shapely.Point(told["unsure"][0][0])
        self.assertTrue(shapely.box(448_070, 5_438_070, 448_250, 5_438_130).contains(at))
        fewer = self.ask("POST", "/drainage/streams", {**body, "over_level": False})
        self.assertLess(fewer["unsure_length"], told["unsure_length"])

    def test_only_where_two_networks_part_is_drawn(self):
        x, y = np.meshgrid(*GRID.centres(GRID.whole))
        aside = self.add_surface(60 - 0.1 * (x - GRID.west) + 0.2 * np.abs(y - 5_438_061), "aside")
        body = {**self.worked_out(), "begins_at": 1.0}
        other = {**self.worked_out(surface=aside.pk), "begins_at": 1.0}
        whole = self.ask("POST", "/drainage/streams", body)
        for within, parts in ((60.0, False), (20.0, True)):
            told = self.ask("POST", "/drainage/streams", {**body, "apart_from": other, "within": within})
            self.assertEqual(told["length"], whole["length"])
            self.assertEqual(bool(told["streams"]), parts)
        same = self.ask("POST", "/drainage/streams", {**body, "apart_from": body})
        self.assertEqual(same["streams"], [])
        # water over the other one was not worked out: nothing to hold them against
        unknown = {**body, "method": "breach"}
        told = self.ask("POST", "/drainage/streams", {**body, "apart_from": unknown})
        self.assertEqual(told["streams"], whole["streams"])

    def test_above_an_outlet_are_only_streams_that_flow_through_it(self):
        body = {**self.worked_out(), "begins_at": 1.0}
        whole = self.ask("POST", "/drainage/streams", body)
        mouth = {"x": 448_319.0, "y": 5_438_095.0}
        middle = {"x": 448_161.0, "y": 5_438_095.0}
        lengths = [
            self.ask("POST", "/drainage/streams", {**body, "above": one, "snap": 12})["length"]
            for one in ([mouth], [middle], [middle, mouth])
        ]
        self.assertAlmostEqual(lengths[0], whole["length"], delta=0.05 * whole["length"])
        self.assertLess(lengths[1], 0.7 * lengths[0])
        self.assertGreater(lengths[1], 0)
        self.assertEqual(lengths[2], lengths[0])
        # through a place outside the surface nothing flows
        told = self.ask("POST", "/drainage/streams", {**body, "above": [{"x": 440_000.0, "y": 5_438_095.0}]})
        self.assertEqual((told["count"], told["streams"]), (0, []))

    def test_heads_stand_by_slope_too(self):
        body = {**self.worked_out(), "begins_at": 1.0}
        plain, steep = (self.ask("POST", "/drainage/streams", {**body, "heads": one}) for one in ("area", "slope"))
        # the floor falls 10 %, on which both are the same, and its sides 22 %: there they begin earlier
        self.assertGreaterEqual(steep["length"], plain["length"])
        self.assertIn("area", self.ask("POST", "/drainage/streams", {**body, "heads": "width"}, 422)["detail"])

    def test_a_surface_of_more_cells_than_are_held_at_once_is_looked_at_too(self):
        whole = self.worked_out(method="lesser")
        outlets = [{"x": 448_319.0, "y": 5_438_101.0}]
        told = [self.ask("POST", path, {**whole, **more}) for path, more in self.looks(outlets)]
        shutil.rmtree(folder_of(self.project))
        with mock.patch("yama.terrain.drain.drainage._MOST_CELLS", 1_000):
            self.assertIsNotNone(self.ask("POST", "/drainage", whole, 202)["job"])
            self.assertIsNotNone(self.ask("POST", "/drainage/hollows", whole, 202)["job"])
            self.assertEqual({one.state for one in self.run_jobs()}, {"done"})
        again = [self.ask("POST", path, {**whole, **more}) for path, more in self.looks(outlets)]
        self.assertEqual(told, again)
        self.assertEqual(self.ask("POST", "/drainage/hollows/list", whole)["total"], 1)

    def looks(self, outlets):
        return (
            ("/drainage/streams", {"begins_at": 0.5}),
            ("/drainage/catchments", {"outlets": outlets, "snap": 4}),
            ("/drainage/way", {"x": 448_100.0, "y": 5_438_101.0}),
        )

    def test_catchments_of_two_surfaces_are_held_against_each_other(self):
        body = self.worked_out()
        breached = self.worked_out(method="breach")
        outlets = [{"x": 448_319.0, "y": 5_438_101.0}, {"x": 448_161.0, "y": 5_438_101.0}]
        for beside in (body, breached):
            mouth, within = self.ask(
                "POST", "/drainage/catchments", {**body, "outlets": outlets, "snap": 4, "beside": beside}
            )["catchments"]
            if beside is body:
                self.assertEqual((mouth["common"], within["common"]), (1.0, 1.0))
            else:
                self.assertGreater(mouth["common"], 0.9)
                self.assertLessEqual(within["common"], 1.0)
        alone = self.ask("POST", "/drainage/catchments", {**body, "outlets": outlets, "snap": 4})["catchments"]
        self.assertIsNone(alone[0]["common"])

    def test_what_cannot_be_is_refused_in_a_sentence(self):
        points = self.add_points(seed=2)
        for path, body, words in (
            ("/drainage", {"surface": points.pk}, "Choose a surface of heights"),
            ("/drainage", {**self.body, "kept": points.pk}, "holds no lines or polygons"),
            ("/drainage", {**self.body, "kept": self.brook().pk}, "holds no polygons"),
            ("/drainage", {**self.body, "most_depth": 0}, "greater than 0"),
        ):
            self.assertIn(words, self.ask("POST", path, body, 422)["detail"])
        body = self.worked_out()
        sea = self.ask("POST", "/drainage/way", {**body, "x": 0.0, "y": 0.0}, 422)
        self.assertIn("no height at this place", sea["detail"])

    def test_what_was_not_looked_at_for_longest_is_dropped(self):
        for depth in range(1, 15):
            self.worked_out(most_depth=float(depth))
        known = [
            self.ask("POST", "/drainage/streams", {**self.body, "most_depth": float(depth)})["known"]
            for depth in range(1, 15)
        ]
        self.assertEqual(known, [False] * 2 + [True] * 12)
        # of what is large fewer are kept, but the last one always
        with mock.patch("yama.service.draining.drained._MOST_BYTES", 1):
            self.worked_out(most_depth=20.0)
        self.assertEqual(len(list(folder_of(self.project).iterdir())), 1)
        self.assertTrue(self.ask("POST", "/drainage/streams", {**self.body, "most_depth": 20.0})["known"])
