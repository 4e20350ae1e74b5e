"""Suspects, outlines and previews of previews, through the API."""

import numpy as np

from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.surface import ArraySurface, store

_RING = [[448_100.0, 5_438_100.0], [448_160.0, 5_438_100.0], [448_160.0, 5_438_160.0], [448_100.0, 5_438_160.0]]
_ALL = [448_000, 5_438_000, 448_600, 5_438_600]


class EvidenceTest(ServiceTest):
    def setUp(self):
        super().setUp()
        xs, _ = GRID.centres(GRID.whole)
        heights = np.tile(0.1 * (xs - 448_000), (GRID.rows, 1)) + np.random.default_rng(1).normal(0, 0.03, (300, 300))
        heights[100:102, 150:152] += 9
        heights[200, 60] -= 7
        heights[250:256, 250:256] = np.nan
        store(ArraySurface(heights.astype(np.float32), GRID), self.folder / "rough.tif")
        self.send((self.folder / "rough.tif").read_bytes(), "rough.tif")
        self.surface = self.run_jobs()[0].holding
        self.one = f"/holdings/{self.surface.pk}"

    def suspects(self, **more):
        return self.ask("POST", f"{self.one}/suspects", {"bounds": _ALL} | more)

    def mended(self, patches):
        body = {
            "operation": "mend",
            "inputs": {"surface": self.surface.pk},
            "params": {"patches": patches, "leave_out": True},
        }
        return self.ask("POST", "/previews", body)

    def test_suspects_of_a_view_have_a_picture_a_profile_and_a_patch(self):
        told = self.suspects()
        self.assertEqual(told["counts"], {"spike": 1, "pit": 1, "hole": 1})
        spike = told["suspects"][0]
        self.assertEqual((spike["kind"], spike["cells"]), ("spike", 4))
        self.assertTrue(spike["png"].startswith("iVBOR"))
        before, after = (np.array(spike[name], float) for name in ("before", "after"))
        self.assertGreater(np.nanmax(before) - np.nanmax(after), 5)
        self.assertEqual([one["kind"] for one in self.suspects(kind="pit")["suspects"]], ["pit"])
        self.assertEqual(self.suspects(first=1, count=1)["suspects"][0]["kind"], "pit")

    def test_what_is_repaired_or_real_is_told_no_more(self):
        one, two = self.suspects()["suspects"][:2]
        key = self.mended([one["patch"]])["key"]
        self.assertEqual(self.suspects(key=key)["counts"], {"pit": 1, "hole": 1})
        real = {"name": "well, IM", "ring": two["ring"], "real": True}
        self.ask("POST", f"{self.one}/patches", {"says": [{"name": "r", "kind": "keep_out", "content": real}]})
        self.assertEqual(self.suspects(key=key)["counts"], {"hole": 1})

    def test_a_run_finds_them_on_every_cell_and_they_are_listed_from_there(self):
        body = {"operation": "suspects", "inputs": {"surface": self.surface.pk}, "params": {}}
        self.ask("POST", "/runs", body, status=202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        told = self.suspects(bounds=None, found=job.holding_id)
        self.assertEqual(told["counts"], {"spike": 1, "pit": 1, "hole": 1})
        patch = told["suspects"][0]["patch"]
        self.ask("POST", f"{self.one}/patches", {"says": [{"name": "p", "content": patch}]})
        self.assertEqual(self.suspects(bounds=None, found=job.holding_id)["counts"], {"pit": 1, "hole": 1})

    def test_where_nothing_can_be_looked_for_is_said(self):
        refused = self.ask("POST", f"{self.one}/suspects", {}, status=422)
        self.assertIn("Say where to look", refused["detail"])
        self.assertEqual(self.suspects(bounds=[0, 0, 10, 10])["total"], 0)
        points = self.add_points()
        self.ask("POST", f"{self.one}/suspects", {"found": points.pk}, status=422)

    def test_outlines_are_changed_and_grown(self):
        ask = lambda status=200, **body: self.ask("POST", f"{self.one}/patches/shape", body, status)  # noqa: E731
        (wide,) = ask(how="offset", rings=[_RING], metres=5)["rings"]
        self.assertEqual(min(x for x, _ in wide), 448_095)
        self.assertEqual(
            len(ask(how="split", rings=[_RING], line=[[448_130, 5_438_000], [448_130, 5_438_300]])["rings"]), 2
        )
        self.assertEqual(len(ask(how="square", rings=[_RING])["rings"][0]), 4)
        (grown,) = ask(how="grow", x=448_300, y=5_438_300, height=1, slope=20)["rings"]
        width = max(x for x, _ in grown) - min(x for x, _ in grown)
        self.assertAlmostEqual(width, 20, delta=4)  # a metre up and down at one in ten
        self.assertIn(
            "crosses itself", ask(422, how="square", rings=[[_RING[0], _RING[2], _RING[1], _RING[3]]])["detail"]
        )
        self.assertIn("no outline", ask(422, how="square")["detail"])

    def test_what_is_looked_at_is_looked_at_through_other_operations_and_not_run(self):
        patch = {"name": "Field", "ring": _RING, "operator": {"kind": "height", "height": 50.0}}
        key = self.mended([patch])["key"]
        difference = {"operation": "difference", "inputs": {"first": key, "second": self.surface.pk}, "params": {}}
        shown = self.ask("POST", "/previews", difference)
        self.assertGreater(shown["filled"], 0)
        inside = self.ask("GET", f"/probe?x=448130&y=5438130&a={shown['key']}&b={key}")["readings"]
        self.assertEqual(inside["b"]["height"], 50.0)
        self.assertAlmostEqual(inside["a"]["height"], 50.0 - 13.1, delta=0.2)
        self.assertIn("Keep it first", self.ask("POST", "/runs", difference, status=422)["detail"])
        unknown = difference | {"inputs": {"first": "0" * 32, "second": self.surface.pk}}
        self.assertIn("no longer in the project", self.ask("POST", "/previews", unknown, status=422)["detail"])

    def test_a_patch_that_cannot_be_done_is_told_and_the_others_are_shown(self):
        good = {"name": "Field", "ring": _RING, "operator": {"kind": "height", "height": 50.0}}
        river = {"name": "Avel", "ring": _RING, "operator": {"kind": "falling"}}
        crossed = {"name": "Bow", "ring": [_RING[0], _RING[2], _RING[1], _RING[3]], "operator": {"kind": "plane"}}
        told = self.mended([good, river, crossed])
        sentences = [one["sentence"] for one in told["findings"]]
        self.assertTrue(any("Avel: The outline is nearly as wide as it is long" in one for one in sentences), sentences)
        self.assertTrue(any("Bow crosses itself" in one for one in sentences), sentences)
        value = self.ask("GET", f"/probe?x=448130&y=5438130&a={told['key']}&b=")["readings"]["a"]["height"]
        self.assertEqual(value, 50.0)
        table = self.ask(
            "POST",
            "/previews",
            {
                "operation": "mend",
                "inputs": {"surface": self.surface.pk},
                "output": "patches",
                "params": {"patches": [good, river, crossed], "leave_out": True},
            },
        )["table"]
        rows = {row[1]: dict(zip([one["name"] for one in table["columns"]], row, strict=True)) for row in table["rows"]}
        self.assertEqual(rows["Avel"]["cells"], 0)
        self.assertIn("nearly as wide as it is long", rows["Avel"]["problem"])
        self.assertEqual((rows["Field"]["cells"], rows["Field"]["problem"]), (900, None))
