from unittest import mock

import numpy as np
import shapely

from yama.service.draining.models import KeptNetwork
from yama.service.draining.tests.valley import CRS, ValleyTest
from yama.service.holdings.features import keep_features
from yama.service.holdings.models import Holding
from yama.terrain.features import Features


class NetworksTest(ValleyTest):
    def test_networks_are_kept_beside_each_other_until_they_are_removed(self):
        first = self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 2.0})
        self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 2.0, "method": "breach"})
        # the same again is the one that is there
        again = self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 2.0})
        self.assertEqual(again["id"], first["id"])
        held = self.ask("GET", "/drainage/networks")
        self.assertEqual([one["content"]["method"] for one in held], ["fill", "breach"])
        self.ask("DELETE", f"/drainage/networks/{first['id']}", status=204)
        self.assertEqual(len(self.ask("GET", "/drainage/networks")), 1)
        self.ask("DELETE", f"/drainage/networks/{first['id']}", status=404)
        # more than can be looked at are refused, and what is kept stays
        for number in range(29):
            KeptNetwork.objects.create(project=self.project, content=first["content"], mark=str(number))
        refused = self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 7.0}, 422)
        self.assertIn("Remove one", refused["detail"])
        self.assertEqual(len(self.ask("GET", "/drainage/networks")), 30)

    def test_figures_of_a_network_are_those_of_its_streams(self):
        asked = {**self.body, "begins_at": 0.5}
        self.assertFalse(self.ask("POST", "/drainage/figures", asked)["known"])
        body = {**self.worked_out(), "begins_at": 0.5}
        streams = self.ask("POST", "/drainage/streams", body)
        told = self.ask("POST", "/drainage/figures", body)
        for name in ("count", "length", "orders", "begins_at", "unsure_length"):
            self.assertEqual(told[name], streams[name], name)
        ground = 100 * 160 * 4 / 1e6
        self.assertAlmostEqual(told["density"], told["length"] / 1000 / ground, delta=0.02 * told["density"])
        self.assertEqual((told["found"], told["catchment"]), (None, None))
        river = Holding(project=self.project, name="Rivers", key="rivers")
        way = shapely.LineString([(448_080, 5_438_101), (448_319, 5_438_101)])
        keep_features(river, Features(CRS, np.array([way], object), {"name": ["one"]}), {}, [])
        outlet = {"x": 448_319.0, "y": 5_438_095.0, "name": "mouth"}
        against = {**body, "reference": river.pk, "within": 10, "outlet": outlet, "snap": 12}
        told = self.ask("POST", "/drainage/figures", against)
        alike = self.ask("POST", "/drainage/likeness", {**body, "reference": river.pk, "within": 10})
        self.assertEqual(
            (told["found"], told["own_near"], told["mean"]), tuple(alike[x] for x in ("found", "own_near", "mean"))
        )
        (mouth,) = self.ask("POST", "/drainage/catchments", {**body, "outlets": [outlet], "snap": 12})["catchments"]
        self.assertEqual(told["catchment"], mouth["area"])
        # asked for again it is known, and not worked out once more
        with mock.patch("yama.service.draining.figures.likeness") as counted:
            self.assertEqual(self.ask("POST", "/drainage/figures", against), told)
        counted.assert_not_called()
        nowhere = self.ask("POST", "/drainage/figures", {**against, "outlet": {"x": 0, "y": 0, "name": "far"}})
        self.assertIn("far lies outside", nowhere["reason"])


class HollowsTest(ValleyTest):
    def listed(self, **more):
        return self.ask("POST", "/drainage/hollows/list", {**self.body, **more})

    def found(self, **more):
        body = {**self.body, **more}
        self.assertIsNotNone(self.ask("POST", "/drainage/hollows", body, 202)["job"])
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        self.assertEqual(self.ask("POST", "/drainage/hollows", body), {"job": None})

    def test_hollows_are_listed_and_somebody_says_what_they_are(self):
        self.assertFalse(self.listed()["known"])
        self.found()
        told = self.listed()
        (one,) = told["hollows"]
        self.assertEqual((told["total"], one["number"], one["said"]), (1, 1, False))
        self.assertAlmostEqual(one["depth"], 4.0, delta=0.8)
        self.assertTrue(shapely.Polygon(one["rings"][0]).intersects(shapely.Point(448_161, 5_438_101)))
        self.assertEqual(told["counts"][one["kind"]], 1)
        # the hollows are those before conditioning, whatever that does
        self.assertTrue(self.listed(method="breach")["known"])
        place = {"x": one["x"], "y": one["y"]}
        self.assertEqual(len(self.ask("PUT", "/drainage/hollows/said", {**place, "kind": "error"})), 1)
        said = self.ask("PUT", "/drainage/hollows/said", {**place, "kind": "water"})
        self.assertEqual(said, [{**place, "kind": "water"}])
        told = self.listed()
        self.assertEqual((told["hollows"][0]["kind"], told["hollows"][0]["said"]), ("water", True))
        self.assertEqual(self.listed(kind="water")["total"], 1)
        self.assertEqual(self.listed(kind="culvert")["total"], 0)
        self.assertEqual(self.ask("GET", "/drainage/hollows/said"), said)
        self.assertEqual(self.ask("PUT", "/drainage/hollows/said", {**place, "kind": None}), [])
        self.assertFalse(self.listed()["hollows"][0]["said"])

    def test_a_hollow_that_is_said_to_hold_water_keeps_it(self):
        body = self.worked_out(waters_at=[[448_161.0, 5_438_101.0]])
        told = self.ask("POST", "/drainage/streams", body)
        self.assertEqual((told["left"] > 0, told["missed"]), (True, 0))
        body = self.worked_out(waters_at=[[448_030.0, 5_438_150.0]])
        told = self.ask("POST", "/drainage/streams", body)
        self.assertEqual((told["left"], told["missed"]), (0, 1))

    def test_a_lake_that_is_kept_names_its_hollow(self):
        lake = Holding(project=self.project, name="Pond", key="pond")
        keep_features(lake, Features(CRS, np.array([self.hollow], object), {"name": ["Pond"]}), {}, [])
        self.found(kept=lake.pk)
        (one,) = self.listed(kept=lake.pk)["hollows"]
        self.assertEqual(one["kind"], "water")
        self.assertIn("Pond covers most of it", one["why"])
