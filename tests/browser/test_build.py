"""From measurements to surfaces with the evidence for choosing: lidar gridded, methods compared, a spline previewed."""

import re

from tests.browser.base import expect
from tests.browser.test_gather import GatherSheets


class BuildTest(GatherSheets):
    def sheet(self, name: str) -> None:
        self.stage("Build")
        back = self.page.get_by_role("button", name="All in Build")
        if back.count():
            back.click()
        self.page.locator(".ops").get_by_role("button", name=name).click()

    def test_lidar_and_survey_become_surfaces_that_are_compared(self):
        page, demo = self.page, self.var / "demo"
        self.open_sheet("Add files")
        page.get_by_label("Files to add").set_input_files(
            [demo / "avel_lidar_448_5438.laz", demo / "avel_lidar_448_5437.laz"]
        )
        for name in ("avel_lidar_448_5438", "avel_lidar_448_5437"):
            self.arrived(name)

        # bare earth from two tiles: narrow gaps closed, the reservoir not
        self.sheet("Grid a point cloud")
        expect(page.get_by_role("button", name="Bare earth")).to_have_attribute("aria-pressed", "true")
        page.get_by_label("Cell size").fill("4")
        page.get_by_label("Name", exact=True).fill("Bare earth 4 m")
        expect(page.locator(".panelabel, .tag", has_text="preview")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Run", exact=True).click()
        card = page.get_by_role("article", name="Bare earth 4 m")
        expect(card).to_be_visible(timeout=120_000)
        page.get_by_role("button", name="Point count").click()
        expect(page.get_by_label("Close gaps")).to_have_count(0)
        listed = self.api("GET", "/holdings")
        earth = next(one for one in listed if one["name"] == "Bare earth 4 m")
        cloud = {one["id"] for one in listed if one["kind"] == "cloud"}
        self.assertLessEqual(set(earth["recipe"]["input_ids"]["clouds"]), cloud)
        # the checkpoints in the tiles tell that it is the ground: canopy would be metres off
        self.assertLess(abs(earth["accuracy"]["median"]), 0.6)
        self.assertGreater(earth["accuracy"]["count"], 20)

        # every method on the same points
        self.sheet("Which method?")
        page.get_by_role("button", name="Compare methods").click()
        table = page.get_by_role("table", name="Errors of every method")
        expect(table.get_by_role("row")).to_have_count(7, timeout=120_000)
        expect(table).to_contain_text("Natural neighbour")
        figures = [float(cell) for cell in table.locator("tbody tr td:nth-child(2)").all_inner_texts()]
        self.assertEqual(figures, sorted(figures))
        page.get_by_role("button", name=re.compile("^Interpolate with")).click()

        # a parameter that is changed is seen
        expect(page.get_by_role("button", name="Run", exact=True)).to_be_enabled(timeout=60_000)
        page.locator(".mt", has_text="Kriging").click()
        knob = page.get_by_role("slider", name="Range and sill")
        expect(knob).to_be_visible()
        before = knob.get_attribute("aria-valuetext")
        knob.focus()
        page.keyboard.press("ArrowRight")
        expect(knob).not_to_have_attribute("aria-valuetext", before)
        expect(page.get_by_role("button", name="Back to the fitted model")).to_be_visible()
        page.locator(".mt", has_text="Spline").click()
        expect(page.get_by_label("Tension")).to_have_value("2")

    def test_an_old_sheet_becomes_a_surface(self):
        page, demo = self.page, self.var / "demo"
        self.open_sheet("Add files")
        page.get_by_label("Files to add").set_input_files(
            [demo / "old_sheet_contours.zip", demo / "old_sheet_spots_streams.gpkg"]
        )
        for name in ("old_sheet_contours", "old_sheet_spots_streams"):
            self.arrived(name)

        self.sheet("Surface from contours")
        for label, name in (("Streams", "old_sheet_spots_streams"), ("Lakes", "Lakes"), ("Coast, 0 m", "Coast")):
            page.get_by_role("combobox", name=label).click()
            page.get_by_role("option", name=name, exact=True).click()
        # what is wrong with the sheet is said, and mended at a press
        page.get_by_role("button", name="Use what fits").click(timeout=60_000)
        page.get_by_role("button", name=re.compile("^Join up to")).click(timeout=60_000)
        expect(page.get_by_role("button", name=re.compile("^Join up to"))).to_have_count(0, timeout=60_000)
        page.get_by_label("Cell size").fill("8")
        page.get_by_label("Name", exact=True).fill("Old sheet 8 m")
        expect(page.locator(".panelabel, .tag", has_text="preview")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("article", name="Old sheet 8 m")).to_be_visible(timeout=180_000)
        # what only the made surface could tell stands among the findings
        expect(page.locator(".find", has_text="hollows that no contour asks for were opened")).to_be_visible()
        sheet = self.holding("Old sheet 8 m")
        self.assertLess(sheet["accuracy"]["rmse"], 4.5)
        self.assertEqual(set(sheet["recipe"]["input_ids"]), {"contours", "streams", "lakes", "coast"})
