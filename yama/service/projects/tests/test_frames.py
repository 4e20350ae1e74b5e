"""A frame is proposed from what there is, with its reasons; CRSs are found by words, code and place."""

import json
from urllib.parse import urlencode

from yama.service.arrivals.tests.test_uploads import cloud_bytes, lines_bytes
from yama.service.jobs.queue import submit
from yama.service.tests.base import ServiceTest, table
from yama.terrain.errors import InputError


class ProposalTest(ServiceTest):
    def extent(self, data, name, status=200):
        response = self.client.post(f"/api/frames/extent?name={name}", data, content_type="application/octet-stream")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json()["extent"] if status == 200 else response.json()

    def propose(self, *extents, **more):
        response = self.client.post(
            "/api/frames/propose", {"extents": extents, **more}, content_type="application/json"
        )
        self.assertEqual(response.status_code, 200, response.content[:300])
        return response.json()

    def test_a_boundary_says_the_area_and_points_the_cell(self):
        boundary = self.extent(lines_bytes(".gpkg"), "area.gpkg")
        self.assertTrue(boundary["boundary"])
        self.assertEqual(boundary["bounds"], [448_100, 5_438_400, 448_200, 5_438_500])
        points = self.extent(cloud_bytes(), "tile.laz")
        self.assertAlmostEqual(points["spacing"], (600 * 600 / 5000) ** 0.5, delta=0.2)
        found = self.propose(boundary, points)
        self.assertEqual((found["crs"], found["cell_size"]), ("EPSG:32741", 5.0))
        self.assertTrue(found["west"] <= 448_050 and found["east"] >= 448_250)
        self.assertLess(found["east"] - found["west"], 300)
        self.assertIn("boundary in area.gpkg", found["reasons"][1])
        self.assertIn("half the points' mean spacing", found["reasons"][2])
        self.assertEqual(found["west"] % found["cell_size"], 0)
        self.assertEqual(self.propose(boundary, cell_size=1)["cell_size"], 1)

    def test_degrees_get_the_zone_of_their_middle(self):
        degrees = self.extent(b"lon,lat,h\n62.41,-41.2,5\n62.42,-41.21,6\n62.43,-41.2,7\n", "spots.csv")
        found = self.propose(degrees)
        self.assertEqual(found["crs"], "EPSG:32741")
        self.assertIn("41.20° S", found["reasons"][0])

    def test_what_says_no_place_is_refused_and_nothing_is_kept(self):
        self.assertIn("plan.pdf", self.extent(b"a word\n", "plan.pdf", 422)["detail"])
        self.assertIn("is empty", self.extent(b"", "none.csv", 422)["detail"])
        response = self.client.post("/api/frames/propose", {"extents": []}, content_type="application/json")
        self.assertEqual(response.status_code, 422)
        self.as_role(None)
        self.assertEqual(self.client.get("/api/frames/crs?q=utm").status_code, 401)

    def test_a_table_that_does_not_say_its_place_is_shown_and_placed_once_its_crs_is_declared(self):
        def ask(data, **query):
            address = f"/api/frames/extent?{urlencode({'name': 'points.csv', **query})}"
            return self.client.post(address, data, content_type="application/octet-stream")

        found = ask(table()).json()
        self.assertIsNone(found["extent"])
        self.assertIn("does not say its CRS", found["reason"])
        self.assertEqual(found["table"]["layout"]["columns"][:2], ["x", "y"])
        declared = json.dumps({"crs": "EPSG:32741"})
        looked = ask(table(), declared=declared, look="true").json()
        self.assertEqual((looked["table"]["crs"], looked["extent"]), ("EPSG:32741", None))
        placed = ask(table(), declared=declared).json()
        self.assertEqual(placed["extent"]["crs"], "EPSG:32741")
        for strange in ("{", "[]", "3", "null", '{"crs": 5}'):
            self.assertEqual(ask(table(), declared=strange).status_code, 422, strange)

    def test_from_what_a_project_holds(self):
        self.ask("GET", "/frame/proposal", status=422)
        self.add_points()
        found = self.ask("GET", "/frame/proposal")
        self.assertEqual(found["crs"], "EPSG:32741")
        self.assertTrue(600 < found["east"] - found["west"] < 1100)


class RegisterTest(ServiceTest):
    def codes(self, query):
        return [one["code"] for one in self.client.get(f"/api/frames/crs?{query}").json()]

    def test_by_code_by_words_and_by_place(self):
        self.assertEqual(self.codes("q=32741")[0], "EPSG:32741")
        self.assertEqual(self.codes("q=EPSG:32741")[0], "EPSG:32741")
        self.assertIn("EPSG:32741", self.codes("q=wgs 84 utm 41s"))
        self.assertIn("EPSG:32741", self.codes("q=wgs utm&longitude=62.4&latitude=-41.2"))
        self.assertEqual(self.codes("q=no such thing anywhere"), [])
        (found,) = [one for one in self.client.get("/api/frames/crs?q=32741").json() if one["code"] == "EPSG:32741"]
        self.assertEqual((found["unit"], found["projected"]), ("metre", True))
        self.assertEqual(found["bounds"][:1], [60.0])

    def test_a_lake_is_no_boundary_and_a_stray_point_no_extent(self):
        self.add_points()
        corners = [[62.3850, -41.2100], [62.3852, -41.2100], [62.3852, -41.2102], [62.3850, -41.2100]]
        lake = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [corners]}}
        self.send(json.dumps({"type": "FeatureCollection", "features": [lake]}).encode(), "lake.geojson")
        far = table() + b"5438100.0,448300.0,12.0,ground\n"
        self.send(far, "with a swapped pair.csv")
        self.run_jobs()
        found = self.ask("GET", "/frame/proposal")
        self.assertLess(found["east"] - found["west"], 1100)
        self.assertEqual(found["cell_size"], 20)
        self.assertNotIn("boundary", found["reasons"][1])


class AreaOfUseTest(ServiceTest):
    def use(self, crs, area=None, status=200):
        response = self.client.post("/api/frames/use", {"crs": crs, "area": area}, content_type="application/json")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json()

    def test_an_area_lies_where_the_crs_is_meant_for_or_does_not(self):
        here = self.use("EPSG:32741", [443_520, 5_434_368, 453_760, 5_442_560])
        self.assertEqual((here["unit"], here["bounds"]), ("metre", [60.0, -80.0, 66.0, 0.0]))
        self.assertTrue(here["inside"])
        self.assertAlmostEqual(here["place"][0], 62.39, delta=0.05)
        beside = self.use("EPSG:32741", [43_520, 5_434_368, 53_760, 5_442_560])
        self.assertFalse(beside["inside"])

    def test_degrees_typed_for_metres_are_outside(self):
        self.assertFalse(self.use("EPSG:32741", [62.3, -41.3, 62.5, -41.1])["inside"])

    def test_what_is_not_known_is_left_open(self):
        self.assertIsNone(self.use("EPSG:32741")["inside"])
        own = self.use("+proj=tmerc +lat_0=-41 +lon_0=62 +x_0=5000 +y_0=5000 +ellps=GRS80", [0, 0, 100, 100])
        self.assertIsNone(own["bounds"])
        self.assertIsNone(own["inside"])
        self.assertIn("is not known", self.use("EPSG:1", status=422)["detail"])

    def test_a_crs_that_stretches_the_ground_is_told_with_another(self):
        x, y = 6_900_000, 6_446_275
        mercator = self.use("EPSG:3857", [x, y, x + 8_000, y + 8_000])
        self.assertAlmostEqual(mercator["stretch"], 1.555, delta=0.005)
        self.assertEqual(mercator["instead"], "EPSG:32641")
        zone = self.use("EPSG:32741", [443_520, 5_434_368, 453_760, 5_442_560])
        self.assertEqual((zone["stretch"], zone["instead"]), (None, None))
        degrees = self.use("EPSG:4326", [62, -42, 63, -41])
        self.assertIsNone(degrees["stretch"])
        # the fix: the same area in a zone whose metres are those of the ground
        body = {"extents": [{"name": "the area", "crs": "EPSG:3857", "bounds": [x, y, x + 8_000, y + 8_000], "boundary": True}], "cell_size": 5}  # fmt: skip
        found = self.client.post("/api/frames/propose", body, content_type="application/json").json()
        self.assertEqual(found["crs"], "EPSG:32641")
        self.assertAlmostEqual(found["east"] - found["west"], 8_000 / 1.555, delta=400)

    def test_a_frame_is_not_changed_under_work_that_goes_on(self):
        self.add_points()
        self.send(table(seed=5), "more.csv")
        self.as_role("owner")
        body = {
            "crs": "EPSG:32741",
            "west": 448_000,
            "south": 5_438_000,
            "east": 448_600,
            "north": 5_438_600,
            "cell_size": 5,
        }
        said = self.ask("PUT", "/frame", body, 409)["detail"]
        self.assertIn("Take in more.csv", said)
        self.run_jobs()
        self.ask("PUT", "/frame", body)
        # a job asked for with the frame of before is not put into the queue
        with self.assertRaisesMessage(InputError, "frame was changed"):
            submit(self.project, "run", "Late", {}, None)
