"""Uploads, runs, downloads: what comes in is kept as it came, what is made can be taken away and made again."""

import json

import numpy as np
from django.test import override_settings

from yama.service.holdings.models import Holding, Scorecard
from yama.service.jobs.models import Job
from yama.service.tests.base import GRID, ServiceTest, table
from yama.terrain.cli import main
from yama.terrain.grid import Grid
from yama.terrain.surface import StoredSurface


class UploadTest(ServiceTest):
    def test_points_are_taken_in_and_kept_as_they_came(self):
        data = table()
        holding = self.add_points()
        self.assertEqual(holding.facts["count"], 200)
        self.assertEqual(holding.facts["codes"], {"ground": 160, "spot": 40})
        self.assertEqual(b"".join(self.ask("GET", f"/holdings/{holding.pk}/original").streaming_content), data)
        body = self.ask("GET", f"/holdings/{holding.pk}/points").content
        self.assertEqual(len(body), 200 * 22)
        x = np.frombuffer(body[: 200 * 8], "<f8")
        self.assertTrue(((x >= 448_000) & (x <= 448_600)).all())

    def test_the_same_bytes_are_the_same_holding(self):
        holding = self.add_points()
        self.assertEqual(self.send(table(), "other name.csv", 200)["holding_id"], holding.pk)
        self.assertEqual(Holding.objects.count(), 1)

    def test_a_surface_is_taken_in_with_figures_and_a_picture(self):
        holding = self.add_surface()
        (listed,) = self.ask("GET", "/holdings")
        self.assertEqual(listed["surface"]["statistics"]["cells"], 90_000)
        self.assertTrue(listed["surface"]["on_frame"])
        picture = self.ask("GET", f"/holdings/{holding.pk}/picture")
        self.assertEqual(picture.content[:4], b"\x89PNG")

    def test_unusable_files_are_refused_by_name_and_leave_nothing(self):
        cases = [
            (b"", "void.csv", "void.csv is empty"),
            (b"\xff\xd8\xff\xe0\0\x10JFIF\0", "photo.tif", "not a readable JPEG picture"),
            (b"II*\0" + bytes(40), "broken.tif", "broken.tif is not a readable GeoTIFF"),
        ]
        for data, name, words in cases:
            self.assertIn(words, self.send(data, name, 422)["detail"])
        raster = self.raster()
        late = [
            (b"x,y,code\n1,2,a\n3,4,b\n5,6,c\n", "flat.csv", "flat.csv has no height column"),
            (b"x,y,z\n1,2,3\n", "single.csv", "single.csv holds 1 usable points"),
            (raster[: len(raster) // 2], "short.tif", "short.tif"),
        ]
        for data, name, words in late:
            self.send(data, name)
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "failed")
            self.assertIn(words, job.message)
        self.assertEqual(Holding.objects.count(), 0)
        self.assertEqual(list((self.folder / "store").rglob("*.*")), [])

    def test_a_name_cannot_lead_out_of_the_store(self):
        self.send(table(), "../../../etc/evil.csv")
        holding = self.run_jobs()[0].holding
        self.assertEqual((holding.original, holding.name), ("evil.csv", "evil"))
        names = {path.parent for path in self.folder.rglob("*") if path.is_file()}
        self.assertEqual(names, {self.folder / "store" / str(self.project.pk)})

    def test_a_file_over_the_limit_is_refused_before_it_is_read(self):
        with override_settings(MAX_UPLOAD_BYTES=1000):
            self.assertIn("larger than", self.send(table(), status=413)["detail"])
        self.assertEqual(list((self.folder / "store").rglob("*.part")), [])

    def test_a_crs_nobody_knows(self):
        self.assertIn("is not known", self.send(table(), status=422, crs="EPSG:99")["detail"])


class RunTest(ServiceTest):
    def interpolate(self, points, status=202, live=False, **params):
        body = {"operation": "interpolate_points", "params": params, "inputs": {"points": points.pk}, "live": live}
        return self.ask("POST", "/runs", body, status)

    def test_a_run_makes_a_surface_that_the_core_would_make(self):
        points = self.add_points()
        self.interpolate(points, reach_limit=60)
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.progress), ("done", 1.0), job.message)
        response = self.ask("GET", f"/holdings/{job.holding_id}/geotiff")
        path = self.folder / "got.tif"
        path.write_bytes(b"".join(response.streaming_content))
        surface = StoredSurface(path)
        self.assertEqual(surface.grid, GRID)
        xs, _ = GRID.centres(GRID.whole)
        heights = surface.read_all()
        filled = np.isfinite(heights)
        np.testing.assert_allclose(heights[filled], np.tile(0.1 * (xs - 448_000), (300, 1))[filled], atol=2e-3)

    def test_the_same_recipe_is_the_same_holding(self):
        points = self.add_points()
        first = self.interpolate(points, reach_limit=60)["job"]["id"]
        self.assertEqual(self.interpolate(points, reach_limit=60, whole=False)["job"]["id"], first)
        made = self.run_jobs()[0].holding_id
        self.assertEqual(self.interpolate(points, 200, reach_limit=60)["holding_id"], made)
        self.interpolate(points, 202, reach_limit=61)

    def test_bad_settings_are_refused_and_change_nothing(self):
        points = self.add_points()
        for params, words in (
            ({"method": "inverse_distance", "power": -1}, "power"),
            ({"cell_size": 0}, "cell_size"),
            ({"cell_size": 1e-5}, "Choose a larger cell size"),
            ({"codes": ["none"]}, "points are left"),
        ):
            self.assertIn(words, self.interpolate(points, 422, **params)["detail"])
        self.assertEqual(Job.objects.filter(kind="run").count(), 0)
        body = {"operation": "interpolate_points", "inputs": {"points": 9999}}
        self.assertIn("not in this project", self.ask("POST", "/runs", body, 422)["detail"])

    def test_an_empty_result_is_no_holding(self):
        points = self.add_points()
        self.interpolate(points, reach_limit=1e-6)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "failed")
        self.assertIn("Every cell came out empty", job.message)
        self.assertEqual(Holding.objects.filter(kind="surface").count(), 0)

    def test_live_then_stored_and_in_use(self):
        first, second = self.add_surface(2.0), self.add_surface()
        body = {"operation": "difference", "inputs": {"first": first.pk, "second": second.pk}, "live": True}
        self.ask("POST", "/runs", body, 202)
        live = self.run_jobs()[0].holding
        self.assertTrue(live.live)
        self.assertFalse(live.cells_path.exists())
        self.assertAlmostEqual(live.facts["statistics"]["mean"], 2.0, places=4)
        self.ask("GET", f"/holdings/{live.pk}/geotiff", status=409)
        self.assertIn("computed from it", self.ask("DELETE", f"/holdings/{first.pk}", status=409)["detail"])
        self.ask("POST", f"/holdings/{live.pk}/store", status=202)
        self.assertEqual(self.run_jobs()[0].state, "done")
        live.refresh_from_db()
        self.assertFalse(live.live)
        self.assertTrue(live.cells_path.exists())
        self.ask("DELETE", f"/holdings/{first.pk}?sure=true")
        self.assertEqual([one["name"] for one in self.ask("GET", "/deleted")], [first.name])

    def test_surfaces_are_judged_at_the_projects_checkpoints(self):
        surface = self.add_surface(0.5)
        self.assertIsNone(self.ask("GET", "/holdings")[0]["accuracy"])
        checkpoints = self.add_points(seed=7)
        self.ask("PUT", "/checkpoints", {"holding_id": checkpoints.pk})
        self.run_jobs()
        figures = next(one for one in self.ask("GET", "/holdings") if one["id"] == surface.pk)["accuracy"]
        self.assertAlmostEqual(figures["mean"], 0.5, places=2)
        self.assertAlmostEqual(figures["rmse"], 0.5, places=2)
        self.assertEqual(set(Scorecard.objects.get(surface=surface).figures["by_code"]), {"ground", "spot"})
        later = self.add_surface(1.5)  # made afterwards, judged at once
        self.assertAlmostEqual(Scorecard.objects.get(surface=later).figures["all"]["mean"], 1.5, places=2)
        self.assertIn("no points", self.ask("PUT", "/checkpoints", {"holding_id": surface.pk}, 422)["detail"])

    def test_a_surface_beyond_the_checkpoints_says_why_it_is_not_judged(self):
        checkpoints = self.add_points(seed=7)
        self.ask("PUT", "/checkpoints", {"holding_id": checkpoints.pk})
        self.run_jobs()
        self.add_surface(grid=Grid("EPSG:32741", 460_000.0, 5_438_600.0, 2.0, 2.0, 300, 300))
        self.assertIn("No checkpoint lies", self.ask("GET", "/holdings")[0]["accuracy"]["reason"])

    def test_the_recipe_cooks_the_same_cells_without_a_server(self):
        points = self.add_points()
        self.interpolate(points, reach_limit=60)
        holding = self.run_jobs()[0].holding
        recipe = self.ask("GET", f"/holdings/{holding.pk}/recipe")
        (self.folder / "r.json").write_text(json.dumps(recipe))
        (self.folder / "points1.csv").write_bytes(table())
        self.assertEqual(main(["cook", str(self.folder / "r.json"), "--out", str(self.folder / "again.tif")]), 0)
        np.testing.assert_array_equal(
            StoredSurface(self.folder / "again.tif").read_all(), StoredSurface(holding.cells_path).read_all()
        )

    def test_renaming(self):
        first, second = self.add_surface(), self.add_surface(1.0)
        self.assertEqual(self.ask("PATCH", f"/holdings/{first.pk}", {"name": "Lidar ground"})["name"], "Lidar ground")
        self.ask("PATCH", f"/holdings/{second.pk}", {"name": "Lidar ground"}, 409)
        self.ask("PATCH", f"/holdings/{second.pk}", {"name": ""}, 422)
