"""The technician's first task from start to finish, with the figures on the screen checked against the core."""

import re

import numpy as np

from tests.browser.base import BrowserTest, expect
from yama.demo.files import frame
from yama.terrain import formats
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Window
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.relief.slope import aspect, slope
from yama.terrain.surface import StoredSurface

FRAME = frame().grid


class FromPointsToASurfaceTest(BrowserTest):
    def download(self, name):
        self.stage("Deliver")
        self.page.get_by_role("button", name="Download surfaces").click()
        with self.page.expect_download() as started:
            self.page.get_by_role("link", name=f"Download {name} as GeoTIFF").click()
        path = self.var / f"{name}.tif"
        started.value.save_as(path)
        return StoredSurface(path)

    def cell(self, surface, x, y):
        row, col = round(float(FRAME.row_of(y))), round(float(FRAME.col_of(x)))
        return float(fitted(surface, FRAME).read(Window(row, col, 1, 1))[0, 0])

    def test_the_page_is_light_and_comes_compressed(self):
        told = self.page.context.new_cdp_session(self.page)
        told.send("Network.enable")
        told.send("Network.setCacheDisabled", {"cacheDisabled": True})
        addresses: dict[str, str] = {}
        weights: dict[str, float] = {}
        told.on("Network.responseReceived", lambda got: addresses.update({got["requestId"]: got["response"]["url"]}))
        told.on(
            "Network.loadingFinished",
            lambda got: weights.update({addresses.get(got["requestId"], "?"): got["encodedDataLength"]}),
        )
        self.page.reload()
        self.settle()
        # what a project holds is as heavy as it is
        data = re.compile(r"/tiles/|/picture|/points|/features|/cloud")
        page = sum(weight for address, weight in weights.items() if not data.search(address))
        self.assertGreater(page, 200_000)
        self.assertLess(page, 900_000)
        (script,) = (weight for address, weight in weights.items() if re.search(r"/index-[\w-]+\.js$", address))
        self.assertLess(script, 500_000)

    def test_the_whole_task(self):
        page = self.page
        # the survey points are there as dots, and Beacon 30 stands in the strip
        expect(page.get_by_role("article", name="Beacon 30")).to_be_visible()
        # which A holds at first sight
        expect(page.get_by_role("combobox", name="Surface in A")).to_contain_text("Beacon 30")

        # interpolate them: a preview appears, with findings and what a run would cost
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        expect(page.get_by_text("East and north look swapped there")).to_be_visible()
        expect(page.get_by_text(re.compile("At 23 places several points differ"))).to_be_visible()
        expect(page.get_by_text("21.0 million cells")).to_be_visible()
        page.get_by_role("button", name="Leave out").click()
        expect(page.get_by_text("East and north look swapped there")).to_be_hidden()
        expect(page.locator(".tag", has_text="preview")).to_be_visible()
        expect(page.get_by_role("combobox", name="Surface in A")).to_contain_text("preview of interpolate points")
        page.get_by_role("button", name="Show Beacon 30").click()
        expect(page.get_by_role("combobox", name="Surface in A")).to_contain_text("Beacon 30")
        page.get_by_role("switch", name="Preview").click()
        expect(page.get_by_role("combobox", name="Surface in A")).to_contain_text("preview of interpolate points")
        for method in ("Inverse distance", "Nearest", "Triangulation"):
            page.locator(".mt", has_text=method).click()
            expect(page.get_by_placeholder(f"{method} of Survey points 2026")).to_be_visible()
            self.settle()
        page.get_by_label("Name", exact=True).fill("Survey TIN")
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_role("button", name="Put in A").click()
        self.put("B", "Beacon 30")
        page.get_by_role("button", name="All in Build").click()

        # read it under the pointer, and compare with the core on the downloaded file
        self.mode("Curtain")
        readings = []
        for x, y in ((0.50, 0.60), (0.53, 0.75), (0.45, 0.70)):
            self.point_at(x, y)
            readings.append(self.probe())
        tin = self.download("Survey TIN")
        beacon = formats.read(self.var / "demo" / "beacon_30.tif")
        self.assertEqual(tin.grid, FRAME)
        for found in readings:
            a, b = self.cell(tin, found["x"], found["y"]), self.cell(beacon, found["x"], found["y"])
            self.assertAlmostEqual(found["a"], a, delta=0.006)
            self.assertAlmostEqual(found["b"], b, delta=0.006)
            self.assertAlmostEqual(found["minus"], a - b, delta=0.006)
            self.assertAlmostEqual(found["slope"], self.cell(slope(tin), found["x"], found["y"]), delta=0.06)
            self.assertAlmostEqual(found["aspect"], self.cell(aspect(tin), found["x"], found["y"]), delta=0.6)

        # see its accuracy beside the other's
        self.stage("Judge")
        page.get_by_role("button", name="Scorecard").click()
        table = page.get_by_role("table", name="Scorecard")
        checkpoints = formats.read(self.var / "demo" / "checkpoints_2026.csv", frame_crs=FRAME.crs)
        for name, surface in (("Survey TIN", tin), ("Beacon 30", beacon)):
            expected = accuracy(surface, checkpoints).all
            row = table.get_by_role("row", name=re.compile(name))
            expect(row.get_by_role("cell").nth(6)).to_contain_text("m", timeout=60_000)
            cells = row.get_by_role("cell").all_inner_texts()[2:7]
            numbers = [float(re.findall(r"[-\d.]+", text.replace("\u2212", "-"))[0]) for text in cells]
            # from 10 on they have one decimal
            np.testing.assert_allclose(
                numbers, [expected.count, expected.mean, expected.nmad, expected.rmse, expected.le95], atol=0.051
            )
        page.get_by_role("tab", name="Surfaces").click()
        expect(
            page.get_by_role("article", name="Survey TIN").get_by_text(f"{accuracy(tin, checkpoints).all.rmse:.2f}")
        ).to_be_visible()

        # minus centres its ramp on zero; a reload brings all of it back
        self.to_map()
        self.mode("Minus")
        expect(page.get_by_role("button", name="Look: Seesaw")).to_be_visible()
        upper, lower = (page.get_by_label(f"{end} end of the ramp") for end in ("Upper", "Lower"))
        expect(upper).not_to_have_value("10")
        self.settle()
        self.assertEqual(upper.input_value(), lower.input_value().replace("\u2212", ""))
        page.wait_for_timeout(1200)
        page.reload()
        expect(page.get_by_role("heading", name="Scorecard")).to_be_visible()
        self.to_map()
        expect(page.get_by_role("button", name="Look: Seesaw")).to_be_visible()
        expect(page.get_by_role("combobox", name="Surface in A")).to_have_text(re.compile("Survey TIN"))

    def test_comparing_by_eye_and_by_keys(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.put("B", "Beacon 30")
        page.locator(".map").click(position={"x": 400, "y": 300})
        expect(page.get_by_role("tab", name=re.compile("Readings"))).to_have_attribute("aria-selected", "true")
        page.get_by_role("button", name="Remove all").click()
        page.keyboard.press("c")
        slider = page.get_by_role("slider", name="Curtain")
        expect(slider).to_be_visible()
        before = int(slider.get_attribute("aria-valuenow"))
        slider.focus()
        page.keyboard.press("ArrowLeft")
        expect(slider).to_have_attribute("aria-valuenow", str(before - 2))
        box = slider.bounding_box()
        page.mouse.move(box["x"] + 7, box["y"] + 300)
        page.mouse.down()
        page.mouse.move(box["x"] - 193, box["y"] + 300, steps=4)
        page.mouse.up()
        self.assertLess(int(slider.get_attribute("aria-valuenow")), before - 15)
        page.locator(".probe").click()
        page.keyboard.press("t")
        expect(page.get_by_role("application", name="Map of B")).to_be_visible()
        page.keyboard.press("m")
        expect(page.get_by_role("button", name="Look: Seesaw")).to_be_visible()
        self.settle()
        # a surface minus itself is zero: the middle of the ramp, and nowhere else. Looked at off the coast, where no
        # lines are, whatever other tests have brought to the project
        self.expect_colours(
            (0.09, 0.7, 0.14, 0.9),
            lambda shown: (np.abs(np.array(shown) - (0xF4, 0xF0, 0xE6)).sum(axis=1) < 6).mean() > 0.95,
            "all of it is the middle of the ramp",
        )
        self.point_at(0.5, 0.5)
        self.assertEqual(self.probe()["minus"], 0)
        page.keyboard.press("?")
        expect(page.get_by_role("list", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
        page.keyboard.press("6")
        expect(page.get_by_role("heading", name="Judge")).to_be_visible()
        page.keyboard.press("5")
        expect(page.get_by_role("heading", name="Mend")).to_be_visible()

    def test_the_key_stretches_the_colours(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.mode("Alone")
        valley = (0.45, 0.55, 0.6, 0.75)
        self.expect_colours(valley, lambda shown: np.mean(shown) < 150, "the island is drawn")
        before = self.map_colours(*valley)
        page.get_by_label("Upper end of the ramp").fill("120")
        page.keyboard.press("Enter")
        self.expect_colours(
            valley,
            lambda after: np.mean(after) > np.mean(before) + 15,
            "a valley stretched to 120 m turns light",
        )
        handle = page.get_by_role("slider", name="Upper end", exact=True)
        box = handle.bounding_box()
        page.mouse.move(box["x"] + 13, box["y"] + 8)
        page.mouse.down()
        page.mouse.move(box["x"] + 13, box["y"] - 60, steps=5)
        page.mouse.up()
        self.assertGreater(float(handle.get_attribute("aria-valuenow")), 150)
        page.locator(".rng label", has_text="whole").click()
        expect(page.get_by_label("Upper end of the ramp")).to_have_value("610")

    def test_nothing_stale_is_left_beside_the_curtain(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.put("B", "Beacon 30")
        self.mode("Curtain")
        self.point_at(0.5, 0.5)
        page.mouse.wheel(0, -900)
        self.settle()
        page.get_by_role("button", name="Whole frame").click()
        self.settle()
        page.wait_for_timeout(600)
        for left, right in ((0.0, 0.06), (0.94, 1.0)):
            self.expect_colours(
                (left, 0.3, right, 0.6), lambda shown: min(map(min, shown)) > 0xB0, "beyond the frame is hatch"
            )

    def test_empty_cells_are_hatched_not_coloured(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.put("B", "empty")
        page.get_by_role("button", name="Whole frame").click()
        self.settle()
        self.expect_colours(
            (0.0, 0.3, 0.06, 0.6), lambda shown: min(map(min, shown)) > 0xB0, "beyond the frame is hatch"
        )


class OwnFilesTest(BrowserTest):
    def add(self, name, data):
        path = self.var / name
        path.write_bytes(data)
        self.page.get_by_label("Files to add").set_input_files(path)
        return self.page.get_by_role("region", name=name)

    def test_own_csv_and_own_geotiff(self):
        page = self.page
        self.stage("Gather")
        page.get_by_role("button", name="Add files").click()
        rng = np.random.default_rng(1)
        x, y = rng.uniform(447_000, 449_000, 300), rng.uniform(5_437_000, 5_439_000, 300)
        rows = [f"{a:.2f};{b:.2f};{(a - 447_000) / 10:.2f}".replace(".", ",") for a, b in zip(x, y, strict=True)]
        self.add("my points.csv", ("east;north;height\n" + "\n".join(rows)).encode())
        match = page.get_by_role("region", name="Columns of my points.csv")
        match.get_by_role("button", name="Take in 300 rows").click()
        expect(page.get_by_role("region", name="my points", exact=True)).to_contain_text("300 points")
        tif = (self.var / "demo" / "beacon_30.tif").read_bytes()
        self.add("beacon again.tif", tif)
        expect(page.get_by_role("region", name="Beacon 30", exact=True)).to_contain_text("was here already")
        # a broken file says what is wrong with it, by name
        broken = self.add("half.tif", tif[:2000])
        expect(broken.get_by_role("alert")).to_contain_text("half.tif")
        self.add("flat.csv", b"x,y,colour\n1,2,red\n3,4,blue\n5,6,green\n")
        flat = page.get_by_role("region", name="Columns of flat.csv")
        expect(flat).to_contain_text("flat.csv has no height column")
        expect(flat.get_by_role("button", name="Take in")).to_be_disabled()
        # and the own points become a surface
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        page.get_by_role("combobox", name="Points").click()
        page.get_by_role("option", name="my points").click()
        page.get_by_label("Reach limit").fill("300")
        page.get_by_label("Name", exact=True).fill("Own plane")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_role("button", name="Put in A").click()
        page.get_by_role("button", name="All in Build").click()
        self.point_at(0.5, 0.5)
        found = self.probe()
        self.assertAlmostEqual(found["a"], (found["x"] - 447_000) / 10, delta=0.02)

    def test_a_spent_link_leads_to_the_sign_in_form(self):
        context = self.browser.new_context()
        self.addCleanup(context.close)
        page = context.new_page()
        page.goto(f"{self.root}/enter/used-before")
        expect(page.get_by_text("This sign-in link was used already")).to_be_visible()
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("guess")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_have_text("Name or password is wrong.")

    def test_a_new_project_is_made_and_opened(self):
        page = self.page
        page.get_by_role("button", name=re.compile("^Project")).click()
        page.get_by_role("menuitem", name="New project").click()
        for label, value in (
            ("Name", "Quarry"),
            ("Cell size", "2"),
            ("West", "447000"),
            ("South", "5437000"),
            ("East", "447000"),
            ("North", "5438000"),
        ):
            page.get_by_label(label, exact=True).fill(value)
        page.get_by_label("CRS").fill("wgs 84 utm 41s")
        page.get_by_role("list", name="CRSs found").get_by_role(
            "button", name="WGS 84 / UTM zone 41S EPSG:32741"
        ).click()
        expect(page.get_by_label("CRS")).to_have_value("EPSG:32741")
        page.get_by_label("East", exact=True).fill("446000")
        page.get_by_role("button", name="Make project").click()
        expect(page.get_by_role("alert")).to_contain_text("not a rectangle")
        page.get_by_label("East", exact=True).fill("448000")
        page.get_by_role("button", name="Make project").click()
        expect(page.get_by_role("button", name="Project: Quarry")).to_be_visible()
        expect(page.get_by_text("No surface yet. Add files in")).to_be_visible()
