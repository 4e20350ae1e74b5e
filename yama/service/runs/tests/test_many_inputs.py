"""Operations that take several holdings: previewed, run, listed and made again."""

import gzip
from base64 import b64decode

import numpy as np
from rasterio import MemoryFile

from yama.service.arrivals.tests.test_uploads import cloud_bytes, lines_bytes
from yama.service.surfaces import keys
from yama.service.tests.base import ServiceTest


class ManyInputsTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.clouds = []
        for seed in (1, 2):
            self.send(cloud_bytes(seed=seed), f"tile{seed}.laz")
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "done", job.message + job.log)
            self.clouds.append(job.holding)
        self.body = {
            "operation": "grid_cloud",
            "params": {"gap": 30},
            "inputs": {"clouds": [c.pk for c in self.clouds]},
        }

    def test_a_preview_shows_what_a_run_keeps(self):
        seen = self.ask("POST", "/previews", self.body)
        self.assertEqual((seen["quantity"], seen["findings"]), ("height", []))
        self.assertGreater(seen["filled"], 0.9)
        tile = self.ask("GET", f"/tiles/{seen['key']}/0/0/0").content
        self.ask("POST", "/runs", {**self.body, "name": "Ground"}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        kept = self.ask("GET", f"/tiles/{job.holding.key}/0/0/0").content
        live, stored = (np.frombuffer(gzip.decompress(one), "<f4") for one in (tile, kept))
        np.testing.assert_array_equal(live, stored)
        surface = keys.surface_of_holding(job.holding)
        self.assertTrue(99.9 < np.nanmean(surface.read_all()) < 101.1)
        listed = next(one for one in self.ask("GET", "/holdings") if one["id"] == job.holding.pk)
        self.assertEqual(listed["recipe"]["inputs"], {"clouds": "tile1, tile2"})
        self.assertEqual(listed["recipe"]["input_ids"], {"clouds": [c.pk for c in self.clouds]})
        self.assertEqual(len(self.ask("GET", f"/holdings/{job.holding.pk}/recipe")["files"]), 2)

    def test_pictures_of_one_area_side_by_side(self):
        box = self.project.frame.grid.bounds
        middle = ((box.west + box.east) / 2, (box.south + box.north) / 2)
        asked = {
            "runs": [
                self.body,
                {**self.body, "params": {"rule": "count"}},
                {**self.body, "params": {"rule": "facets", "gap": 0}},
                {"operation": "contour_surface", "params": {}, "inputs": {"contours": [self.clouds[0].pk]}},
            ],
            "bounds": [middle[0] - 20, middle[1] - 10, middle[0] + 20, middle[1] + 10],
            "width": 40,
            "height": 20,
        }
        self.assertIn("must be features", self.ask("POST", "/pictures", asked, 422)["detail"])
        asked["runs"].pop()
        heights, counts, stopped = self.ask("POST", "/pictures", asked)
        for one in (heights, counts):
            with MemoryFile(b64decode(one["png"])) as file, file.open() as png:
                self.assertEqual((png.width, png.height, png.count), (40, 20, 3))
                self.assertGreater(png.read().std(), 0)
        self.assertIsNone(stopped["png"])
        self.assertTrue(stopped["said"])
        self.ask("POST", "/pictures", {**asked, "bounds": [1, 1, 1, 1]}, 422)

    def test_one_of_many_is_still_a_list_and_breaklines_may_be_missing(self):
        self.ask("POST", "/runs", {**self.body, "inputs": {"clouds": self.clouds[0].pk}, "name": "One"}, 202)
        one = self.run_jobs()[0].holding
        points = self.add_points()
        self.send(lines_bytes(), "banks.gpkg")
        banks = self.run_jobs()[0].holding
        body = {"operation": "interpolate_points", "params": {}, "inputs": {"points": points.pk}}
        plain = self.ask("POST", "/previews", body)
        body["inputs"]["breaklines"] = [banks.pk]
        broken = self.ask("POST", "/previews", body)
        self.assertNotEqual(plain["key"], broken["key"])
        self.assertIn("draped", [finding["code"] for finding in broken["findings"]])
        self.ask("POST", "/runs", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        listed = {each["id"]: each for each in self.ask("GET", "/holdings")}
        self.assertEqual(listed[one.pk]["recipe"]["input_ids"], {"clouds": [self.clouds[0].pk]})
        made = listed[job.holding.pk]["recipe"]
        self.assertEqual(made["input_ids"], {"points": points.pk, "breaklines": [banks.pk]})
        self.assertEqual(made["inputs"]["breaklines"], "banks")

    def test_counts_are_no_heights_and_are_not_judged(self):
        body = {**self.body, "params": {"rule": "count"}, "name": "Count"}
        self.ask("POST", "/runs", body, 202)
        holding = self.run_jobs()[0].holding
        listed = next(one for one in self.ask("GET", "/holdings") if one["id"] == holding.pk)
        self.assertEqual((listed["surface"]["quantity"], listed["surface"]["unit"]), ("count", "points"))
        asked = {"surfaces": [holding.pk], "points": self.add_points().pk}
        self.assertIn("no heights", self.ask("POST", "/scorecard", asked, 422)["detail"])

    def test_strangers_and_missing_inputs_are_refused(self):
        for inputs, words in (
            ({"clouds": [self.clouds[0].pk, 999_999]}, "is not in this project"),
            ({"clouds": []}, "needs point clouds"),
            ({}, "needs point clouds"),
        ):
            answer = self.ask("POST", "/previews", {**self.body, "inputs": inputs}, 422)
            self.assertIn(words, answer["detail"])
        self.assertIn("noise", [f["code"] for f in self.ask(
            "POST", "/previews", {**self.body, "params": {"classes": [2, 7]}})["findings"]])  # fmt: skip

    def test_a_cloud_with_ground_is_a_new_cloud(self):
        first, second = self.clouds
        body = {
            "operation": "find_ground", "params": {"window": 12}, "inputs": {"cloud": first.pk, "beside": [second.pk]},
            "name": "tile1 with ground",
        }  # fmt: skip
        seen = self.ask("POST", "/previews", {key: body[key] for key in ("operation", "params", "inputs")})
        self.assertIsNone(seen["key"], "nothing of it can be looked at before it is made")
        self.ask("POST", "/runs", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        made = job.holding
        self.assertEqual((made.kind, made.name, made.original), ("cloud", "tile1 with ground", "tile1 with ground.laz"))
        self.assertEqual(made.facts["count"], first.facts["count"])
        self.assertTrue(made.overview_path.exists() and made.upload_path.exists())
        self.assertNotEqual(made.file_key, first.file_key)
        self.assertFalse(list(made.upload_path.parent.glob("*.laz")), "nothing is left beside it")
        self.assertEqual(self.ask("POST", "/runs", body), {"holding_id": made.pk, "job": None})
        listed = next(one for one in self.ask("GET", "/holdings") if one["id"] == made.pk)
        self.assertEqual(listed["recipe"]["operation"], "find_ground")
        grid = {"operation": "grid_cloud", "params": {"gap": 30}, "inputs": {"clouds": [made.pk]}, "name": "Ground"}
        self.ask("POST", "/runs", grid, 202)
        gridded = self.run_jobs()[0]
        self.assertEqual(gridded.state, "done", gridded.message + gridded.log)
        recipe = self.ask("GET", f"/holdings/{gridded.holding.pk}/recipe")
        self.assertEqual(len(recipe["files"]), 2, "both clouds it goes back to")
        self.assertEqual(len(recipe["steps"]), 2)

    def test_facets_of_a_preview_of_what_was_made_and_of_other_surfaces(self):
        points = self.add_points()
        self.send(lines_bytes(), "area.gpkg")  # a wood among them
        area = self.run_jobs()[0].holding
        body = {"operation": "interpolate_points", "params": {}, "inputs": {"points": points.pk, "area": [area.pk]}}
        key = self.ask("POST", "/previews", body)["key"]
        box = self.project.frame.grid.bounds
        view = f"west={box.west}&south={box.south}&east={box.east}&north={box.north}"
        seen = self.ask("GET", f"/facets/{key}?{view}")
        self.assertGreater(seen["count"], 3)
        self.assertEqual(sum(len(seen[name]) for name in ("sloping", "level", "left_out")), seen["count"])
        self.ask("POST", "/runs", {**body, "name": "TIN"}, 202)
        made = self.run_jobs()[0].holding
        self.assertEqual(self.ask("GET", f"/facets/{made.key}?{view}"), seen)
        self.assertEqual(self.ask("GET", f"/facets/{made.key}?west=0&south=0&east=1&north=1")["count"], 0)
        body["params"] = {"method": "nearest", "reach_limit": 60}
        other = self.ask("POST", "/previews", body)["key"]
        self.assertIsNone(self.ask("GET", f"/facets/{other}?{view}")["count"])
        self.ask("GET", f"/facets/{'0' * 32}?{view}", status=404)
