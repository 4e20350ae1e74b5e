"""A frame is proposed from what there is, with its reasons; CRSs are found by words, code and place."""

from yama.service.holdings.tests.test_uploads import cloud_bytes, lines_bytes
from yama.service.tests.base import ServiceTest, table


class ProposalTest(ServiceTest):
    def extent(self, data, name, status=200):
        response = self.client.post(f"/api/frames/extent?name={name}", data, content_type="application/octet-stream")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json()

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
        self.assertIn("does not say its CRS", self.extent(table(), "points.csv", 422)["detail"])
        self.assertIn("is empty", self.extent(b"", "none.csv", 422)["detail"])
        response = self.client.post("/api/frames/propose", {"extents": []}, content_type="application/json")
        self.assertEqual(response.status_code, 422)
        self.as_role(None)
        self.assertEqual(self.client.get("/api/frames/crs?q=utm").status_code, 401)

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
