"""The whole work, from raw files to a package, in no more actions than it needs. An action is a click, something
typed, or files."""

import re

from tests.browser.base import expect
from tests.browser.test_gather import GatherSheets, tell

MOST_ACTIONS = 51


class StoryTest(GatherSheets):
    actions = 0

    def press(self, name, role: str = "button", within=None, exact: bool = True) -> None:
        place = within or self.page
        name = re.compile(f"^{re.escape(name)}") if role == "button" and not exact else name
        place.get_by_role(role, name=name, exact=exact).first.click()
        self.actions += 1

    def go(self, stage: str, sheet: str) -> None:
        """Open a worksheet: its stage, where another one is open, and the worksheet."""
        rail = self.page.get_by_role("navigation", name="Stages")
        button = rail.get_by_role("button", name=re.compile(rf"^\d\s*{stage}\b"))
        if button.get_attribute("aria-current"):
            self.press(f"All in {stage}", exact=False)
        else:
            button.click()
            self.actions += 1
        self.page.locator(".ops").get_by_role("button", name=sheet).click()
        self.actions += 1
        expect(self.page.get_by_role("heading", level=1, name=sheet)).to_be_visible()

    def files(self, label: str, *names: str) -> None:
        demo = self.var / "demo"
        self.page.get_by_label(label).set_input_files([demo / name for name in names])
        self.actions += 1

    def type_in(self, label: str, text: str) -> None:
        self.page.get_by_label(label, exact=True).fill(text)
        self.actions += 1

    def run_it(self) -> None:
        """Run the open worksheet and wait until what it makes is there."""
        button = self.page.get_by_role("button", name="Run", exact=True)
        expect(button).to_be_enabled(timeout=60_000)
        button.click()
        self.actions += 1
        made = self.page.get_by_role("status").filter(has_text=re.compile(r"is made|lines\."))
        expect(made).to_be_visible(timeout=180_000)

    def test_from_raw_files_to_a_package(self):
        page = self.page
        tell("heron", down_seconds=0)
        tell("skerry", bytes_per_second=0, flip=[])

        # a project with its frame, and every raw file of one drop
        self.go("Gather", "New project")
        self.type_in("Name", "Lower Avel")
        self.files("Files to propose a frame from", "depot/waymark_boundary.geojson")
        expect(page.get_by_label("CRS")).to_have_value("EPSG:32741")
        self.type_in("Cell size", "5")
        self.press("Make project")
        expect(page.locator(".top")).to_contain_text("Lower Avel")
        self.go("Gather", "Add files")
        self.files(
            "Files to add", "avel_lidar_449_5435.laz", "avel_lidar_449_5436.laz", "old_sheet_contours.zip",
            "old_sheet_spots_streams.gpkg", "beacon_30.tif", "survey_points_2026.csv", "checkpoints_2026.csv",
        )  # fmt: skip
        for table in ("survey_points_2026.csv", "checkpoints_2026.csv"):
            match = page.get_by_role("region", name=f"Columns of {table}")
            expect(match).to_be_visible(timeout=60_000)
            if match.get_by_role("button", name="Exchange them").count():
                self.press("Exchange them", within=match)
                expect(match).not_to_contain_text("would lie among the others")
            self.press("Take in", within=match, exact=False)
            self.arrived(table.removesuffix(".csv"))
        self.arrived("avel_lidar_449_5436")
        self.arrived("old_sheet_contours")

        # tiles of the provider over the same ground
        self.go("Gather", "Order tiles")
        self.type_in("Place, tile or position", "Mossgate")
        order = page.get_by_role("button", name=re.compile(r"^Order \d tiles?"))
        expect(order).to_be_enabled(timeout=60_000)
        order.click()
        self.actions += 1
        expect(page.get_by_role("article", name=re.compile("^Skerry 5 E448N5436"))).to_be_visible(timeout=90_000)

        # surfaces from points, from lidar and from contours
        self.go("Build", "Interpolate points")
        self.run_it()
        self.go("Build", "Grid a point cloud")
        self.run_it()
        self.go("Build", "Surface from contours")
        self.run_it()

        # joined, filled, cut to what is wanted
        self.go("Join", "Mosaic")
        self.run_it()
        self.press("Put in A")
        self.go("Join", "Fill holes")
        self.run_it()
        self.press("Put in A")
        self.go("Fit", "Clip and mask")
        self.press("This view")
        self.run_it()

        # judged, with lines, delivered
        self.go("Judge", "Scorecard")
        page.locator(".row", has_text="Points").get_by_role("combobox").click()
        page.get_by_role("option", name=re.compile("^checkpoints_2026")).first.click()
        self.actions += 2
        table = page.get_by_role("table", name="Scorecard")
        expect(table).to_contain_text(re.compile(r"\d\.\d"), timeout=60_000)
        self.go("Deliver", "Contours")
        self.run_it()
        self.go("Deliver", "Package")
        page.get_by_role("checkbox", name=re.compile("clipped$")).check()
        page.locator("summary", has_text="Lines and areas").click()
        page.get_by_role("checkbox", name=re.compile("contours$")).last.check()
        self.actions += 3
        self.press("Build package")
        expect(page.get_by_role("list", name="Packages").get_by_role("link", name="Download")).to_be_visible(
            timeout=120_000
        )
        self.assertLessEqual(self.actions, MOST_ACTIONS)
