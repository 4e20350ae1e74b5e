"""Dressing a surface until its form speaks, reading its heights, making it again, flying over it, and opening it to others."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import rasterio

from tests.browser.base import expect
from tests.browser.test_join import Joining, number
from yama.launch import ROOT

LIBRARY = ROOT / "web" / "node_modules" / "ol" / "dist" / "ol.js"
OTHER = """
async (address) => {
  const text = await (await fetch(address)).text();
  const told = new ol.format.WMTSCapabilities().read(text);
  const options = ol.source.WMTS.optionsFromCapabilities(told, {layer: "surface", matrixSet: "frame", projection: shown});
  document.body.innerHTML = '<div id="m" style="width:400px;height:320px"></div>';
  const extent = options.tileGrid.getExtent() ?? shown.getExtent();
  const layer = new ol.layer.Tile({source: new ol.source.WMTS(options)});
  const map = new ol.Map({target: "m", controls: [], layers: [layer],
    view: new ol.View({projection: shown, center: ol.extent.getCenter(extent), resolution: 26})});
  await new Promise((done) => map.once("rendercomplete", done));
  const canvas = document.querySelector("#m canvas");
  const context = canvas.getContext("2d");
  const middle = context.getImageData(canvas.width / 2, canvas.height / 2, 1, 1).data;
  return [told.Contents.Layer[0].Title, options.tileGrid.getMaxZoom(), [...middle]];
}
"""


class SeeTest(Joining):
    def pixels(self, selector: str) -> np.ndarray:
        """Red, green and blue of a part of the page."""
        with rasterio.open(io.BytesIO(self.page.locator(selector).screenshot())) as dataset:
            return dataset.read()[:3].astype(float)

    def test_the_look(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.settle()
        page.wait_for_timeout(1500)
        plain = self.pixels(".map")
        page.get_by_role("button", name="Look: Foreshore").click()
        page.get_by_role("radio", name="Slate").check()
        page.wait_for_timeout(1500)
        grey = self.pixels(".map")
        self.assertGreater(np.abs(plain - grey).mean(), 8)
        asked: list[str] = []
        page.on("request", lambda request: asked.append(request.url) if "/tiles/" in request.url else None)
        page.get_by_label("From", exact=True).fill("135")
        page.get_by_label("Four lights").check()
        page.wait_for_timeout(1500)
        self.assertGreater(np.abs(self.pixels(".map") - grey).mean(), 1)
        self.assertEqual(asked, [])  # light is the shader's alone
        page.get_by_label("Reversed").check()
        page.get_by_role("combobox", name="Classes").click()
        page.get_by_role("option", name=re.compile("about 6")).click()
        expect(page.get_by_label("Breaks, m")).to_have_value(re.compile("100; 200; 300"))
        page.get_by_label("Keep look as").fill("Steps")
        page.get_by_role("button", name="Keep", exact=True).last.click()
        page.get_by_role("combobox", name="Show").click()
        page.get_by_role("option", name="slope").click()
        expect(page.locator(".rampname")).to_have_text(re.compile("Steep"))
        page.get_by_role("combobox", name="Show").click()
        page.get_by_role("option", name="heights").click()
        page.get_by_role("radio", name="Foreshore").check()
        page.get_by_role("button", name="Steps", exact=True).click()
        page.keyboard.press("Escape")
        page.wait_for_timeout(1500)
        page.reload()
        expect(page.get_by_role("button", name="Look: Slate")).to_be_visible()  # the desk remembers
        self.settle()
        page.wait_for_timeout(1500)
        plain = self.pixels(".map")
        page.get_by_role("button", name="Look: Slate").click()
        page.get_by_role("combobox", name="Graticule").click()
        with page.expect_response(re.compile("/graticule")) as answer:
            page.get_by_role("option", name="east and north of the frame").click()
        figures = [line["text"] for line in answer.value.json()]
        self.assertTrue(any(text.endswith(" E") for text in figures) and any(text.endswith(" N") for text in figures))
        page.keyboard.press("Escape")
        page.wait_for_timeout(1500)
        changed = np.abs(self.pixels(".map") - plain).max(axis=0) > 12
        # lines of equal east stand upright, of equal north lie level
        self.assertGreater(changed.mean(axis=0).max(), 0.6)
        self.assertGreater(changed.mean(axis=1).max(), 0.6)

    def test_heights_of_a_polygon_and_volumes_about_levels(self):
        page = self.page
        self.put("A", "Beacon 30")
        page.get_by_role("tab", name="Heights").click()
        lakes = next(one for one in self.api("GET", "/holdings") if one["name"] == "Lakes")
        page.get_by_label("Area", exact=True).select_option(str(lakes["id"]))
        row = page.get_by_role("table", name="Heights").get_by_role("row").nth(1)
        key = next(one["key"] for one in self.api("GET", "/holdings") if one["name"] == "Beacon 30")
        told = self.api("POST", "/heights", {"a": key, "area": lakes["id"], "levels": [100, 140]})["a"]
        expect(row.get_by_role("cell").nth(3)).to_contain_text(f"{told['quantiles'][3]:.2f}")
        self.assertAlmostEqual(number(row.get_by_role("cell").nth(6).inner_text()), told["highest"], delta=0.006)
        page.locator(".seg label", has_text="Areas and volumes").click()
        page.get_by_label("Lower level").fill("100")
        page.get_by_label("Upper level").fill("140")
        table = page.get_by_role("table", name="Areas and volumes").get_by_role("row").nth(1)
        area = told["below"]["area"]
        words = f"{area / 1e6:.2f}" if area >= 1e6 else f"{area / 1e3:.0f}" if area >= 1e4 else f"{area:.0f}"
        expect(table.get_by_role("cell").nth(1)).to_contain_text(words)
        before = self.pixels(".map")
        page.get_by_label("Upper level").fill("600")
        page.get_by_label("Lower level").fill("590")
        page.wait_for_timeout(1500)
        self.assertGreater(np.abs(self.pixels(".map") - before).mean(), 3)  # what lies below is seen as under water

    def test_made_again_and_what_is_below_with_it(self):
        page = self.page
        points = next(one for one in self.api("GET", "/holdings") if one["name"].startswith("Survey points"))
        for body in (
            {"operation": "interpolate_points", "params": {"method": "nearest", "reach_limit": 60}, "inputs": {"points": points["id"]}, "name": "First take", "live": True},
        ):  # fmt: skip
            self.api("POST", "/runs", body)
        first = self.held("First take")
        self.api("POST", "/runs", {"operation": "slope", "params": {}, "inputs": {"surface": first["id"]}, "name": "Its slope", "live": True})  # fmt: skip
        self.held("Its slope")
        page.reload()
        self.put("A", "First take")
        page.get_by_role("tab", name="Recipe").click()
        graph = page.get_by_role("group", name="What was made from what")
        expect(graph.get_by_role("button", name=re.compile("Its slope"))).to_be_visible()
        page.get_by_role("button", name="Run again with one thing changed").click()
        expect(page.get_by_text("A newer take of")).to_be_visible()
        page.locator(".mt", has_text="Inverse distance").click()
        page.get_by_label("Name", exact=True).fill("Second take")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        second = self.held("Second take")
        self.assertEqual(second["instead_of"], first["id"])
        page.get_by_role("tab", name="Recipe").click()
        expect(graph.get_by_text("out of date")).to_be_visible()
        page.get_by_role("button", name="Remake everything below").click()
        again = self.held("Its slope 2")
        self.assertEqual(again["recipe"]["input_ids"], {"surface": second["id"]})

    def held(self, name: str):
        """A holding once it is there."""
        found = None
        for _ in range(120):
            found = next((one for one in self.api("GET", "/holdings") if one["name"] == name), None)
            if found:
                break
            self.page.wait_for_timeout(500)
        assert found, f"{name} did not come"
        return found

    def test_three_dimensions(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.settle()
        page.locator(".probe").click()  # away from the list, where letters choose
        page.keyboard.press("g")
        view = page.get_by_role("region", name="Three dimensions")
        expect(view).to_have_attribute("aria-busy", "false", timeout=60_000)
        page.wait_for_timeout(800)
        seen = self.pixels(".three canvas:not(.board3d)")
        middle = seen[:, seen.shape[1] // 2 :]
        self.assertGreater(middle.std(), 8)  # land, and not the sky alone
        page.get_by_label("Surface in three dimensions").focus()
        for _ in range(4):
            page.keyboard.press("ArrowRight")
        page.wait_for_timeout(800)
        self.assertGreater(np.abs(self.pixels(".three canvas:not(.board3d)") - seen).mean(), 2)
        with page.expect_download() as given:
            view.get_by_role("button", name="PNG").click()
        self.assertTrue(Path(given.value.path()).read_bytes().startswith(b"\x89PNG"))
        page.get_by_role("button", name="Back to the map").click()
        expect(page.get_by_role("region", name="Map", exact=True)).to_be_visible()

    def test_a_split_shows_which_surface_is_higher(self):
        page = self.page
        beacon = self.held("Beacon 30")
        body = {"operation": "change_heights", "params": {"offset": 150}, "inputs": {"surface": beacon["id"]}, "name": "Raised", "live": True}  # fmt: skip
        self.api("POST", "/runs", body)
        self.held("Raised")
        page.reload()
        self.put("A", "Beacon 30")
        self.put("B", "Raised")
        self.settle()
        page.locator(".probe").click()
        page.keyboard.press("g")
        view = page.get_by_role("region", name="Three dimensions")
        view.get_by_text("Split", exact=True).click()
        expect(view).to_have_attribute("aria-busy", "false", timeout=60_000)
        higher = np.array([0x3C, 0x4E, 0x9E])[:, None, None]

        def walled() -> float:
            return float((np.abs(self.pixels(".three canvas:not(.board3d)") - higher).max(axis=0) < 6).mean())

        page.get_by_label("Surface in three dimensions").focus()
        shares = []
        for key, times in (("ArrowRight", 8), ("ArrowLeft", 16)):  # from one of the sides the step is seen
            for _ in range(times):
                page.keyboard.press(key)
            page.wait_for_timeout(1500)
            shares.append(walled())
        view.get_by_text("A", exact=True).last.click()
        page.wait_for_timeout(1500)
        self.assertGreater(max(shares), walled() + 0.005)  # the letter of B has that colour always

    def test_a_shade_comes_with_the_tiles_and_its_depth_without(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.settle()
        plain = self.pixels(".map")
        page.get_by_role("button", name=re.compile("^Look: ")).click()
        page.locator(".look .row", has_text="Shade").get_by_role("combobox").click()
        page.get_by_role("option", name="where little sky is seen").click()
        page.wait_for_timeout(500)
        self.settle()
        asked = []
        page.on("request", lambda request: asked.append(request.url) if "/tiles/" in request.url else None)
        page.get_by_label("Depth").fill("0")
        page.keyboard.press("Escape")
        page.wait_for_timeout(1500)
        np.testing.assert_allclose(self.pixels(".map"), plain, atol=2)  # a shade of no depth is none
        page.get_by_role("button", name=re.compile("^Look: ")).click()
        page.get_by_label("Depth").fill("2")
        page.keyboard.press("Escape")
        page.wait_for_timeout(1500)
        self.assertLess(self.pixels(".map").mean(), plain.mean() - 1)
        self.assertEqual(asked, [])

    def test_another_program_reads_it_until_it_is_closed(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Deliver")
        page.get_by_role("button", name="Open to other programs").click()
        page.get_by_role("button", name="Open it").click()
        address = page.get_by_label("WMTS address").first.input_value()
        file = page.get_by_label("Cells address").first.input_value()
        stranger = self.browser.new_context()
        self.addCleanup(stranger.close)
        other = stranger.new_page()
        other.goto(self.root + "/open/none/surface.tif")  # a page of this origin without the desk's script
        other.add_script_tag(path=LIBRARY)
        frame = self.api("GET", "")["frame"]["grid"]
        east = frame["west"] + frame["cols"] * frame["cell_width"]
        south = frame["north"] - frame["rows"] * frame["cell_height"]
        other.evaluate(
            "(extent) => { globalThis.shown = new ol.proj.Projection({code: 'EPSG:32741', units: 'm', extent}); "
            "ol.proj.addProjection(shown); }",
            [frame["west"], south, east, frame["north"]],
        )
        title, finest, middle = other.evaluate(OTHER, address)
        self.assertEqual((title, finest), ("Beacon 30", 5))
        self.assertEqual(middle[3], 255)
        got = stranger.request.get(file, headers={"Range": "bytes=0-3"})
        self.assertEqual((got.status, got.body()[:2]), (206, b"II"))
        page.get_by_role("button", name="Close").click()
        expect(page.get_by_label("WMTS address")).to_have_count(0)
        self.assertEqual(stranger.request.get(address).status, 404)
