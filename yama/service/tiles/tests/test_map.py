"""What the map gets: tiles equal to the core's cells, previews that keep nothing, readings that agree."""

import gzip
import json
from datetime import timedelta
from unittest import mock
from urllib.parse import quote

import numpy as np
from django.core.cache import cache
from django.core.management import CommandError, call_command
from django.utils import timezone

from yama.service.holdings.deleted import clear
from yama.service.holdings.models import Holding, Preview
from yama.service.jobs.models import Job
from yama.service.surfaces.cells import tile_bands
from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Grid, Window
from yama.terrain.relief.graticule import graticule
from yama.terrain.relief.slope import slope
from yama.terrain.relief.tone import REACH, tone_of
from yama.terrain.surface import ArraySurface, StoredSurface

COARSE = Grid("EPSG:4326", 62.378, -41.198, 1 / 3600, 1 / 3600, 40, 40)


class GraticuleTest(ServiceTest):
    def test_lines_of_a_view_are_those_of_the_core(self):
        view = GRID.bounds
        asked = "&".join(f"{side}={getattr(view, side)}" for side in ("west", "south", "east", "north"))
        for kind in ("coordinates", "degrees"):
            found = self.ask("GET", f"/graticule?kind={kind}&{asked}")
            lines = graticule(GRID.crs, view, kind)
            self.assertEqual([one["text"] for one in found], [one.text for one in lines])
            np.testing.assert_array_equal(found[0]["places"], lines[0].places.ravel())
        self.ask("GET", f"/graticule?kind=hours&{asked}", status=422)
        told = self.ask("GET", "/graticule?kind=degrees&west=2&south=0&east=1&north=1", status=422)
        self.assertIn("west, south, east, north", told["detail"])


class TileTest(ServiceTest):
    def tile(self, key, level, col, row, bands=1, asked=""):
        response = self.ask("GET", f"/tiles/{key}/{level}/{col}/{row}{asked}")
        self.assertEqual(response.headers["Content-Encoding"], "gzip")
        cells = np.frombuffer(gzip.decompress(response.content), "<f4").reshape(258, 258, bands)
        return cells[..., 0] if bands == 1 else cells

    def test_a_tile_is_the_surfaces_cells_with_a_gutter(self):
        holding = self.add_surface()
        stored = StoredSurface(holding.cells_path)
        for level, col, row in ((0, 0, 0), (0, 1, 1), (1, 0, 0), (2, 0, 0)):
            window = Window(row * 256 - 1, col * 256 - 1, 258, 258)
            np.testing.assert_array_equal(self.tile(holding.key, level, col, row), stored.read(window, level))

    def test_tiles_can_be_finer_than_the_frame(self):
        holding = self.add_surface()
        fine = fitted(StoredSurface(holding.cells_path), GRID.finer(2))
        found = self.tile(holding.key, 0, 0, 0, asked="?finer=2")
        np.testing.assert_array_equal(found, fine.read(Window(-1, -1, 258, 258)))
        self.ask("GET", f"/tiles/{holding.key}/0/0/0?finer=9", status=422)

    def test_neighbouring_tiles_share_their_gutter_cells(self):
        holding = self.add_surface()
        left, right = self.tile(holding.key, 0, 0, 0), self.tile(holding.key, 0, 1, 0)
        np.testing.assert_array_equal(left[:, -2:], right[:, :2])

    def test_a_live_tile_is_cached_and_the_same(self):
        first, second = self.add_surface(3.0), self.add_surface()
        body = {"operation": "difference", "inputs": {"first": first.pk, "second": second.pk}}
        key = self.ask("POST", "/previews", body)["key"]
        np.testing.assert_allclose(self.tile(key, 0, 0, 0)[1:, 1:], 3.0, atol=1e-4)
        computed = self.tile(key, 0, 0, 0)
        with mock.patch("yama.service.tiles.tile.tile_bands", wraps=tile_bands) as made:
            np.testing.assert_array_equal(self.tile(key, 0, 0, 0), computed)
            self.assertEqual(made.call_count, 0)
            for other in (f"/tiles/{key}/0/1/0", f"/tiles/{key}/1/0/0", f"/tiles/{key}/0/0/0?shade=sky"):
                self.ask("GET", other)
            self.assertEqual(made.call_count, 3)
        cache.clear()
        np.testing.assert_array_equal(self.tile(key, 0, 0, 0), computed)

    def test_a_coarse_surface_shows_its_own_cells_with_one_gradient_each(self):
        heights = np.arange(1600.0).reshape(40, 40)
        from yama.terrain.surface import store

        store(ArraySurface(heights, COARSE), self.folder / "coarse.tif")
        self.send((self.folder / "coarse.tif").read_bytes(), "coarse.tif")
        holding = self.run_jobs()[0].holding
        (listed,) = self.ask("GET", "/holdings")
        self.assertTrue(listed["surface"]["coarse"])
        cells = self.tile(holding.key, 0, 0, 0, bands=3)
        filled = np.isfinite(cells[..., 0])
        values = np.unique(cells[filled][:, 0])
        self.assertTrue(set(values.tolist()) <= set(heights.ravel().tolist()))
        for value in values[:20]:
            shades = cells[cells[..., 0] == value][:, 1:]
            self.assertEqual(len(np.unique(shades, axis=0)), 1)

        for shade in ("sky", "contrast"):
            shaded = self.tile(holding.key, 0, 0, 0, bands=4, asked=f"?shade={shade}")
            np.testing.assert_array_equal(shaded[..., :3], cells)
            for value in values[:20]:
                self.assertEqual(len(np.unique(shaded[cells[..., 0] == value][:, 3])), 1)
        wide = self.tile(
            holding.key, 4, 0, 0, bands=4, asked="?shade=contrast"
        )  # its cells are wider than the surface's
        np.testing.assert_array_equal(wide[..., :3], self.tile(holding.key, 4, 0, 0, bands=3))

    def test_with_a_shade_a_tone_comes_last(self):
        holding = self.add_surface()
        stored = StoredSurface(holding.cells_path)
        frame = self.project.frame.grid
        for level, col, row in ((0, 0, 0), (1, 0, 0)):
            window = Window(row * 256 - 1, col * 256 - 1, 258, 258)
            for shade in ("sky", "contrast"):
                found = self.tile(holding.key, level, col, row, 2, f"?shade={shade}")
                np.testing.assert_array_equal(found[..., 0], stored.read(window, level))
                around = window.grown(REACH)
                toned = tone_of(stored.read(around, level), frame.at_level(level).part(around), shade)
                np.testing.assert_allclose(found[..., 1], toned, atol=1 / 250)
            np.testing.assert_array_equal(self.tile(holding.key, level, col, row), stored.read(window, level))
        self.ask("GET", f"/tiles/{holding.key}/0/0/0?shade=moon", status=422)

    def test_empty_and_impossible_tiles(self):
        holding = self.add_surface(grid=Grid("EPSG:32741", 470_000.0, 5_438_600.0, 2.0, 2.0, 300, 300))
        self.ask("GET", f"/tiles/{holding.key}/0/0/0", status=204)
        for where in ("0/9/0", "0/0/9", "31/0/0"):
            self.ask("GET", f"/tiles/{holding.key}/{where}", status=404)
        self.ask("GET", "/tiles/ffff/0/0/0", status=404)


class StripPictureTest(ServiceTest):
    def test_pictures_follow_the_look(self):
        holding = self.add_surface()
        path = f"/holdings/{holding.pk}/picture"
        usual = self.ask("GET", path).content

        def dressed(**changes):
            look = {"stops": [[0, "#102030"], [1, "#F0E0D0"]], "low": 0, "high": 60, **changes}
            return self.ask("GET", f"{path}?dress={quote(json.dumps(look))}").content

        plain = dressed()
        self.assertTrue(plain.startswith(b"\x89PNG"))
        self.assertEqual(plain, dressed())
        others = [usual, dressed(high=30), dressed(azimuth=90.0), dressed(stops=[[0, "#FF0000"], [1, "#F0E0D0"]])]
        self.assertEqual(len({plain, *others}), 5)
        self.as_role("viewer")
        self.assertEqual(dressed(), plain)
        self.as_role("outsider")
        self.ask("GET", path + "?dress=1", status=404)

    def test_what_is_no_look_is_refused(self):
        path = f"/holdings/{self.add_surface().pk}/picture?dress="
        for text in ("{", "1", '{"low": 0}', '{"stops": [[0, "red"], [1, "#000000"]], "low": 0, "high": 1}'):
            self.ask("GET", path + quote(text), status=422)


class FeetTest(ServiceTest):
    """A frame in feet: everything on the desk is in its unit, and the land no steeper for it."""

    def setUp(self):
        super().setUp()
        self.metric = self.add_surface(2.0)
        x, y = f"x={448_101.7}", f"y={5_438_200.2}"
        self.where = f"/probe?{x}&{y}&a={self.metric.key}"
        self.before = {
            "probe": self.ask("GET", self.where)["readings"]["a"],
            "view": self.ask("POST", "/views", {"keys": [self.metric.key]})[self.metric.key],
            "tile": self.cells(self.metric.key),
        }
        self.as_role("owner")
        frame = self.ask("GET", "")["frame"]
        grid = GRID.bounds._asdict()
        asked = {"crs": GRID.crs, "cell_size": 2.0, **grid, "unit": "ft"}
        changed = self.ask("PUT", "/frame", asked)["frame"]
        self.assertEqual(changed["unit"], "ft")
        self.assertNotEqual(changed["mark"], frame["mark"])

    def cells(self, key):
        return np.frombuffer(gzip.decompress(self.ask("GET", f"/tiles/{key}/0/0/0").content), "<f4")

    def test_the_desk_shows_feet(self):
        found = self.ask("GET", self.where)["readings"]["a"]
        self.assertAlmostEqual(found["height"] * 0.3048, self.before["probe"]["height"], places=4)
        self.assertAlmostEqual(found["slope"], self.before["probe"]["slope"], places=3)
        view = self.ask("POST", "/views", {"keys": [self.metric.key]})[self.metric.key]
        self.assertAlmostEqual(view["high"] * 0.3048, self.before["view"]["high"], places=3)
        np.testing.assert_allclose(self.cells(self.metric.key) * 0.3048, self.before["tile"], rtol=1e-6)
        line = [[448_010, 5_438_100], [448_400, 5_438_100]]
        course = self.ask("POST", "/profiles", {"keys": [self.metric.key], "line": line})["courses"][self.metric.key]
        self.assertAlmostEqual(course["steepest"], 10.0, places=2)
        self.assertAlmostEqual(course["climb"], 39.0 / 0.3048, places=1)

    def test_what_is_built_and_judged_is_in_feet(self):
        points = self.add_points()
        self.ask("PUT", "/checkpoints", {"holding_id": points.pk})
        body = {"operation": "interpolate_points", "params": {"reach_limit": 60}, "inputs": {"points": points.pk}}
        self.ask("POST", "/runs", body, 202)
        made = next(job.holding for job in self.run_jobs() if job.kind == "run")
        self.assertEqual(made.facts["unit"], "ft")
        held = {one["id"]: one for one in self.ask("GET", "/holdings")}
        self.assertLess(held[made.pk]["accuracy"]["rmse"], 0.05)
        self.assertAlmostEqual(held[self.metric.pk]["accuracy"]["mean"], 2.0 / 0.3048, places=2)
        stored = StoredSurface(made.cells_path)
        self.assertEqual(stored.unit, "ft")
        row = np.nanmean(stored.read(Window(100, 100, 1, 1)))
        self.assertAlmostEqual(float(row) * 0.3048, 0.1 * 201, places=2)


class PreviewTest(ServiceTest):
    def preview(self, points, status=200, **params):
        body = {"operation": "interpolate_points", "params": params, "inputs": {"points": points.pk}}
        return self.ask("POST", "/previews", body, status)

    def test_a_preview_keeps_nothing_and_equals_the_run(self):
        points = self.add_points()
        found = self.preview(points, reach_limit=60)
        self.assertEqual(found["cells"], 90_000)
        self.assertGreater(found["filled"], 0.9)
        self.assertTrue(found["outline"])
        self.assertIsNone(found["holding_id"])
        self.assertEqual((Holding.objects.count(), Job.objects.filter(kind="run").count()), (1, 0))
        tile = self.ask("GET", f"/tiles/{found['key']}/0/0/0").content
        body = {"operation": "interpolate_points", "params": {"reach_limit": 60}, "inputs": {"points": points.pk}}
        self.ask("POST", "/runs", body, 202)
        made = self.run_jobs()[0].holding
        self.assertEqual(made.key, found["key"])
        cache.clear()
        np.testing.assert_array_equal(
            np.frombuffer(gzip.decompress(tile), "<f4"),
            np.frombuffer(gzip.decompress(self.ask("GET", f"/tiles/{made.key}/0/0/0").content), "<f4"),
        )
        self.assertEqual(self.preview(points, reach_limit=60)["holding_id"], made.pk)

    def test_a_slow_preview_is_drawn_roughly_until_it_is_made(self):
        points = self.add_points(count=900)
        found = self.preview(points, method="kriging", reach_limit=60)
        self.assertTrue(found["rough"])
        self.assertGreater(found["seconds"], 0)
        path = f"/tiles/{found['key']}/0/0/0"

        def cells(query=""):
            return np.frombuffer(gzip.decompress(self.ask("GET", path + query).content), "<f4").reshape(258, 258)

        rough, exact = cells("?rough=true"), cells()
        self.assertLess(np.nanmean(np.abs(rough - exact)), 0.5)
        self.assertFalse(np.array_equal(rough, exact, equal_nan=True))
        body = {"operation": "interpolate_points", "params": {"method": "kriging", "reach_limit": 60},
                "inputs": {"points": points.pk}}  # fmt: skip
        self.ask("POST", "/runs", body, 202)
        self.assertEqual(self.run_jobs()[0].holding.key, found["key"])
        cache.clear()
        np.testing.assert_array_equal(cells("?rough=true"), exact)
        self.assertFalse(self.preview(points, method="triangulation", reach_limit=60)["rough"])

    def test_figures_that_take_no_time_come_with_the_preview(self):
        points = self.add_points()
        body = {"operation": "variogram", "params": {}, "inputs": {"points": points.pk}}
        found = self.ask("POST", "/previews", body)
        self.assertIsNone(found["key"])
        self.assertEqual(set(found["table"]["facts"]["fitted"]["spherical"]), {"nugget", "sill", "range"})
        self.assertEqual([one["unit"] for one in found["table"]["columns"]], ["m", "m²", ""])
        self.assertIsNone(self.preview(points)["table"])
        stopped = self.ask("POST", "/previews", {**body, "params": {"codes": ["none"]}})
        self.assertEqual((stopped["table"], stopped["findings"][0]["code"]), (None, "too_few"))

    def test_what_stops_a_run_stops_its_preview(self):
        points = self.add_points()
        found = self.preview(points, codes=["none"])
        self.assertIsNone(found["key"])
        self.assertEqual(found["findings"][0]["weight"], "stop")
        self.assertIn("power", self.preview(points, 422, method="inverse_distance", power=0)["detail"])

    def test_the_address_of_a_preview_stays_good_for_a_season(self):
        key = self.preview(self.add_points())["key"]
        cache.clear()
        self.assertEqual(self.ask("GET", f"/tiles/{key}/0/0/0").status_code, 200)
        clear()
        self.assertEqual(Preview.objects.count(), 1)
        Preview.objects.update(asked_at=timezone.now() - timedelta(days=91))
        clear()
        self.ask("GET", f"/tiles/{key}/0/0/0", status=404)

    def test_another_output_is_looked_at_by_its_name(self):
        points = self.add_points()
        body = {
            "operation": "interpolate_points",
            "params": {"method": "kriging", "reach_limit": 60},
            "inputs": {"points": points.pk},
        }
        first, other = (
            self.ask("POST", "/previews", body),
            self.ask("POST", "/previews", {**body, "output": "uncertainty"}),
        )
        self.assertEqual(other["key"], f"{first['key']}:uncertainty")
        self.assertEqual((first["quantity"], other["quantity"]), ("height", "spread"))
        self.assertEqual(first["outputs"], ["surface", "uncertainty", "distance"])
        self.assertEqual(self.ask("GET", f"/tiles/{other['key']}/0/0/0").status_code, 200)
        self.ask("POST", "/previews", {**body, "output": "nothing"}, 422)
        plain = {**body, "params": {}, "output": "uncertainty"}
        self.assertIn("with these settings", self.ask("POST", "/previews", plain, 422)["detail"])
        self.ask("GET", f"/tiles/{first['key']}:nothing/0/0/0", status=404)


class ReadingTest(ServiceTest):
    def test_the_probe_agrees_with_the_core(self):
        first, second = self.add_surface(2.0), self.add_surface()
        found = self.ask("GET", f"/probe?x=448101.7&y=5438200.2&a={first.key}&b={second.key}")
        self.assertEqual((found["x"], found["y"]), (448_101.0, 5_438_201.0))
        a, b = found["readings"]["a"], found["readings"]["b"]
        self.assertAlmostEqual(a["height"], 0.1 * 101 + 2, places=3)
        self.assertAlmostEqual(a["height"] - b["height"], 2.0, places=4)
        expected = slope(StoredSurface(first.cells_path)).read(Window(199, 50, 1, 1))[0, 0]
        self.assertAlmostEqual(a["slope"], float(expected), places=3)
        self.assertAlmostEqual(a["aspect"], 270.0, places=1)
        self.assertAlmostEqual(found["longitude"], 62.38, places=2)

    def test_outside_there_is_nothing_to_read(self):
        holding = self.add_surface()
        # of others the heights alone
        told = self.ask("GET", f"/probe?x=448101.7&y=5438200.2&others={holding.key}")
        self.assertEqual(told["readings"], {})
        here = self.ask("GET", f"/probe?x=448101.7&y=5438200.2&a={holding.key}")["readings"]["a"]["height"]
        self.assertEqual(told["others"], {holding.key: here})
        self.ask("GET", "/probe?x=448101.7&y=5438200.2" + "&others=1" * 7, status=422)
        found = self.ask("GET", f"/probe?x=100000&y=5438200&a={holding.key}")
        self.assertEqual(found["readings"]["a"], {"height": None, "slope": None, "aspect": None, "source": None})
        self.ask("GET", "/probe?x=nan&y=1", status=422)

    def test_figures_of_a_view(self):
        holding = self.add_surface()
        whole = self.ask("POST", "/views", {"keys": [holding.key]})[holding.key]
        self.assertAlmostEqual(whole["low"], 0.1, places=3)
        self.assertAlmostEqual(whole["high"], 59.9, places=3)
        self.assertAlmostEqual(whole["low2"], 1.2, delta=0.3)
        self.assertEqual(whole["empty"], 0.0)
        self.assertGreater(sum(whole["counts"]), 0.99 * 90_000)
        part = self.ask("POST", "/views", {"keys": [holding.key], "bounds": [448_100, 5_438_100, 448_200, 5_438_200]})
        self.assertTrue(10 < part[holding.key]["low"] < part[holding.key]["high"] < 20.1)
        beside = self.ask("POST", "/views", {"keys": [holding.key], "bounds": [0, 0, 10, 10]})[holding.key]
        self.assertEqual((beside["low"], beside["empty"]), (None, 1.0))

    def test_operations_are_listed_for_the_desk(self):
        names = {one["name"] for one in self.client.get("/api/projects/operations").json()}
        self.assertIn("interpolate_points", names)


class ContoursTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.surface = self.add_surface()
        self.run = {"operation": "contours", "params": {"interval": 5}, "inputs": {"surface": self.surface.pk}}

    def test_of_a_view_they_are_those_that_a_run_keeps(self):
        box = list(self.project.frame.grid.bounds)
        seen = self.ask("POST", "/lines", {"run": self.run, "bounds": box})
        self.ask("POST", "/runs", {**self.run, "name": "Contours"}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        kept = list(job.holding.features.all())
        self.assertEqual(sorted(one["figure"] for one in seen), sorted(one.attributes["height"] for one in kept))
        self.assertEqual({one["index"] for one in seen}, {one.attributes["kind"] == "index" for one in kept})
        for one in seen:
            self.assertEqual(len(one["places"]) % 2, 0)
            self.assertTrue(box[0] <= one["places"][0] <= box[2] and box[1] <= one["places"][1] <= box[3])

    def test_what_stops_a_run_draws_nothing_and_nonsense_is_refused(self):
        box = list(self.project.frame.grid.bounds)
        self.run["params"] = {"interval": 0.0001}
        self.assertEqual(self.ask("POST", "/lines", {"run": self.run, "bounds": box}), [])
        self.run["params"] = {"interval": -1}
        self.ask("POST", "/lines", {"run": self.run, "bounds": box}, 422)
        self.run.update(operation="slope", params={})
        self.ask("POST", "/lines", {"run": self.run, "bounds": box}, 422)
        self.run.update(operation="contours")
        self.assertEqual(self.ask("POST", "/lines", {"run": self.run, "bounds": [0, 0, 1, 1]}), [])


class ExportTest(ServiceTest):
    def test_what_the_front_end_takes_from_the_code_is_current(self):
        try:
            call_command("export_api", check=True)
        except CommandError as error:
            self.fail(str(error))

    def test_the_page_says_where_scripts_may_come_from(self):
        response = self.client.get("/")
        self.assertIn("default-src 'self'", response.headers["Content-Security-Policy"])
        self.assertIn("csrftoken", response.cookies)


class MosaicTest(ServiceTest):
    def test_overlaps_come_at_once_and_the_probe_names_the_source(self):
        first, second = self.add_surface(2.0), self.add_surface()
        body = {"operation": "overlaps", "params": {"rule": "first"}, "inputs": {"surfaces": [first.pk, second.pk]}}
        (pair,) = self.ask("POST", "/previews", body)["table"]["facts"]["pairs"]
        self.assertAlmostEqual(pair["mean"], 2.0, places=3)
        self.assertGreater(pair["cells"], 0)
        run = {**body, "operation": "mosaic"}
        live = self.ask("POST", "/previews", run)
        at = "/probe?x=448101.7&y=5438200.2"
        found = self.ask("GET", f"{at}&a={live['key']}&b={second.key}")["readings"]
        self.assertEqual((found["a"]["source"], found["b"]["source"]), (first.name, None))
        self.ask("POST", "/runs", run, 202)
        made = self.run_jobs()[0].holding
        self.assertEqual(self.ask("GET", f"{at}&a={made.key}")["readings"]["a"]["source"], first.name)
        swapped = {**run, "inputs": {"surfaces": [second.pk, first.pk]}}
        other = self.ask("POST", "/previews", swapped)["key"]
        self.assertNotEqual(other, live["key"])
        self.assertEqual(self.ask("GET", f"{at}&a={other}")["readings"]["a"]["source"], second.name)
        sources = self.ask("POST", "/previews", {**run, "output": "source"})
        self.assertEqual(sources["quantity"], "source")
        self.assertEqual(self.ask("GET", f"{at}&a={sources['key']}")["readings"]["a"]["height"], 1.0)
