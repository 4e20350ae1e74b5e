"""The pictures in docs/screenshots, from a fresh demo: python manage.py test tests.browser.pictures"""

import re

from tests.browser.base import expect
from tests.browser.test_gather import tell
from tests.browser.test_join import Joining
from tests.browser.test_mend import MendTest
from yama.launch import ROOT


class Pictured:
    """Takes pictures once everything is drawn."""

    def shot(self, name: str) -> None:
        self.settle()
        expect(self.page.get_by_label("Loading the map")).to_have_count(0, timeout=120_000)
        self.page.wait_for_timeout(2500)
        self.page.screenshot(path=ROOT / "docs" / "screenshots" / f"{name}.png")

    def bring_pair(self) -> None:
        """Add the demo's image pair, and bring its models together and onto the survey points."""
        page, demo = self.page, self.var / "demo"
        self.stage("Gather")
        page.get_by_role("button", name="Add files").click()
        page.get_by_label("Files to add").set_input_files(
            [demo / "avel_p1.tif", demo / "avel_p2.tif", demo / "sundrel_geoid.tif"]
        )
        for name in ("avel_p1", "avel_p2", "sundrel_geoid"):
            expect(page.get_by_role("region", name=name, exact=True)).to_be_visible(timeout=90_000)
        self.stage("Build")
        page.locator(".ops").get_by_role("button", name="Image pair").click()
        page.get_by_role("button", name="Find tie points").click()
        expect(page.get_by_role("region", name="Residuals")).to_be_visible(timeout=120_000)
        for label, name in (("Control heights", "Survey points 2026"), ("Geoid", "sundrel_geoid")):
            page.get_by_role("combobox", name=label).click()
            page.get_by_role("option", name=name, exact=True).click()
        page.get_by_role("button", name="Adjust models").click()
        expect(page.get_by_text("adjusted", exact=True)).to_be_visible(timeout=180_000)


class MendPicture(Pictured, MendTest):
    """The viaduct mended, with both images through it."""

    test_a_bridge_and_suspects_are_mended_undone_seen_and_stored = None

    def test_take_it(self):
        page = self.page
        self.bring_pair()
        page.get_by_role("button", name="Back to the map").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        for name in ("Survey points 2026", "Checkpoints 2026"):
            page.get_by_label(f"Show {name}").uncheck()
        self.look_at(*self.middle, 0.62)
        self.draw("o", self.corners(1, self.deck.width / 2 + 0.2))
        page.locator("label", has_text="Along").first.click()
        self.settle()
        page.keyboard.press("n")
        lens = page.get_by_role("region", name="Lens")
        lens.get_by_text("Left", exact=True).click()
        head = lens.locator("header").bounding_box()
        page.mouse.move(head["x"] + 20, head["y"] + 14)
        page.mouse.down()
        page.mouse.move(head["x"] - 60, head["y"] + 30, steps=5)
        page.mouse.up()
        expect(lens.get_by_role("status").first).to_contain_text("alike on", timeout=60_000)
        self.mode("Curtain")
        self.shot("mend")


class PicturesTest(Pictured, Joining):
    def test_take_them(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        page.get_by_role("button", name="Leave out").click()
        for name, method in (
            ("Survey IDW", "Inverse distance"),
            ("Survey nearest", "Nearest"),
            ("Survey TIN", "Triangulation"),
        ):
            page.locator(".mt", has_text=method).click()
            page.get_by_label("Name", exact=True).fill(name)
            self.settle()
            page.get_by_role("button", name="Run", exact=True).click()
            expect(page.get_by_role("article", name=name)).to_be_visible(timeout=120_000)
        page.get_by_label("Edge limit").fill("150")
        page.get_by_label("Name", exact=True).fill("Survey TIN, short edges")
        self.put("B", "Survey IDW")
        self.mode("Curtain")
        page.get_by_role("slider", name="Curtain").focus()
        for _ in range(4):
            page.keyboard.press("ArrowLeft")
        self.point_at(0.46, 0.64)
        page.mouse.wheel(0, -500)
        self.point_at(0.45, 0.60)
        self.shot("build")

        page.get_by_role("button", name="All in Build").click()
        self.put("A", "Survey TIN")
        self.put("B", "Beacon 30")
        self.shot("curtain")
        self.mode("Minus")
        self.shot("minus")
        self.mode("Curtain")
        page.get_by_role("button", name="Whole frame").click()
        page.get_by_role("tab", name="Surfaces").click()
        self.stage("Judge")
        page.get_by_role("button", name="Scorecard").click()
        page.wait_for_timeout(2_000)
        self.shot("judge")
        self.gather()

    def gather(self):
        page, demo = self.page, self.var / "demo"
        tell("heron", down_seconds=0)
        tell("skerry", bytes_per_second=0)
        self.to_map()
        self.mode("Alone")
        self.put("A", "Beacon 30")
        self.put("B", "Survey TIN")
        self.stage("Gather")
        page.get_by_role("button", name="Add files").click()
        page.get_by_label("Files to add").set_input_files(
            [demo / "avel_lidar_449_5435.laz", demo / "old_sheet_contours.zip"]
        )
        expect(page.get_by_role("region", name="avel_lidar_449_5435")).to_be_visible(timeout=60_000)
        expect(page.get_by_role("region", name="old_sheet_contours")).to_be_visible(timeout=60_000)
        page.get_by_role("tab", name="Lines, points, pictures").click()
        listed = page.get_by_role("list", name="Points and lines")
        for name in ("Survey points 2026", "Checkpoints 2026"):
            page.get_by_label(f"Show {name}").uncheck()
        listed.get_by_role("button", name="avel_lidar_449_5435").click()
        page.get_by_role("button", name="Go there").click()
        page.get_by_label("coloured by").select_option("class")
        self.shot("gather")
        page.get_by_role("tab", name="Surfaces").click()
        page.get_by_role("button", name="All in Gather").click()
        page.get_by_role("button", name="Order tiles").click()
        page.get_by_label("Place, tile or position").fill("Lantern Water")
        page.get_by_role("switch", name="Quick look").click()
        self.settle()
        tell("skerry", bytes_per_second=30_000)
        page.get_by_role("button", name=re.compile(r"Order \d tiles")).click()
        page.wait_for_timeout(9000)
        page.screenshot(path=ROOT / "docs" / "screenshots" / "order.png")
        tell("skerry", bytes_per_second=0)
        expect(page.get_by_role("region", name="Order of Skerry 5")).to_have_count(0, timeout=90_000)
        page.get_by_role("switch", name="Quick look").click()
        page.get_by_role("button", name="All in Gather").click()
        page.get_by_role("button", name="What came in").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_label("Show old_sheet_contours").uncheck()
        page.get_by_role("tab", name="Surfaces").click()
        self.shot("arrivals")
        self.lines()

    def lines(self):
        page, demo = self.page, self.var / "demo"
        page.get_by_role("button", name="All in Gather").click()
        page.get_by_role("button", name="Edit lines").click()
        page.locator(".row", has_text="Lines").get_by_role("combobox").click()
        page.get_by_role("option", name="Rivers", exact=True).click()
        page.get_by_label("Choose where").fill("kind = river and name contains vel")
        page.get_by_role("button", name="Choose", exact=True).click()
        page.get_by_label("Gap").fill("150")
        page.get_by_role("button", name="Join ends").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_role("list", name="Points and lines").get_by_role("button", name="Rivers").click()
        for _ in range(4):
            page.get_by_role("button", name="Zoom in").click()
            page.wait_for_timeout(400)
        page.get_by_role("table", name="Features of Rivers").get_by_role("row").nth(1).click()
        page.wait_for_timeout(1000)
        page.locator(".tool", has_text="Reshape").click()
        self.shot("lines")

        page.get_by_role("button", name="Whole frame").click()
        page.get_by_role("button", name="All in Gather").click()
        page.get_by_role("button", name="Add files").click()
        page.get_by_label("Files to add").set_input_files(sorted(demo.glob("*.laz")))
        expect(page.locator(".arrival")).to_have_count(6, timeout=120_000)
        self.stage("Build")
        page.get_by_role("button", name="Which method?").click()
        page.locator(".row", has_text="Left out").get_by_role("combobox").click()
        page.get_by_role("option", name="square blocks").click()
        page.get_by_role("button", name="Compare methods").click()
        expect(page.get_by_role("table", name="Errors of every method")).to_be_visible(timeout=120_000)
        self.shot("methods")
        page.get_by_role("button", name="All in Build").click()
        self.pair()
        self.sheets()

    def pair(self):
        """The demo's image pair, its models brought to the survey points, a window tried at Mossgate."""
        page = self.page
        self.bring_pair()
        left = page.get_by_role("application", name="Left image")
        box = left.bounding_box()
        for _ in range(3):
            left.hover(position={"x": box["width"] * 0.6, "y": box["height"] * 0.78})
            page.mouse.wheel(0, -240)
            page.wait_for_timeout(500)
        left.click(position={"x": box["width"] * 0.5, "y": box["height"] * 0.6})
        page.wait_for_timeout(8000)
        left.hover(position={"x": box["width"] * 0.52, "y": box["height"] * 0.62})
        self.shot("pair")
        page.get_by_role("button", name="All in Build").click()

    def sheets(self):
        page, demo = self.page, self.var / "demo"
        self.stage("Gather")
        page.get_by_role("button", name="Add files").click()
        page.get_by_label("Files to add").set_input_files(demo / "old_sheet_spots_streams.gpkg")
        expect(page.get_by_role("region", name="old_sheet_spots_streams")).to_be_visible(timeout=60_000)
        self.stage("Build")
        page.get_by_role("button", name="Surface from contours").click()
        for label, name in (("Streams", "old_sheet_spots_streams"), ("Lakes", "Lakes"), ("Coast, 0 m", "Coast")):
            page.get_by_role("combobox", name=label).click()
            page.get_by_role("option", name=name, exact=True).click()
        page.get_by_role("button", name="Use what fits").click(timeout=60_000)
        expect(page.locator(".tag", has_text="preview")).to_be_visible(timeout=60_000)
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_label("Show old_sheet_contours").check()
        page.get_by_label("Show avel_lidar_449_5435").uncheck()
        self.point_at(0.62, 0.42)
        page.mouse.wheel(0, -700)
        page.wait_for_timeout(45_000)  # parts are solved when first looked at
        self.shot("contours")
        self.joins()

    def joins(self):
        """Tiles of two providers beside the lidar, levelled."""
        page = self.page
        self.order("skerry")
        self.order("plover")
        self.stage("Build")
        back = page.get_by_role("button", name="All in Build")
        if back.count():
            back.click()
        page.get_by_role("button", name="Grid a point cloud").click()
        page.get_by_role("button", name="Bare earth").click()
        page.get_by_label("Name", exact=True).fill("Lidar ground")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("button", name="Put in A")).to_be_visible(timeout=120_000)
        void = next(one["id"] for one in self.api("GET", "/holdings") if one["name"] == "Skerry 5 E448N5438")
        self.api("POST", f"/holdings/{void}/declare", {"declared": {"nodata": -9999.0}})
        page.wait_for_timeout(6000)
        self.forget()
        self.stage("Join")
        page.get_by_role("button", name="Mosaic").click()
        listed = page.get_by_role("list", name="Surfaces, best first")
        expect(listed).to_contain_text("Plover 30")
        self.use_only("Lidar ground", "Skerry 5", "Skerry 5 E448N5436", "Plover 30", "Beacon 30")
        self.choose("Surfaces are", "by an offset each")
        expect(listed.get_by_text("held", exact=True)).to_be_visible()
        for name in ("Rivers", "Coast", "Survey points 2026", "Checkpoints 2026", "old_sheet_contours"):
            page.get_by_role("tab", name="Lines, points, pictures").click()
            box = page.get_by_label(f"Show {name}", exact=True)
            if box.count() and box.is_checked():
                box.uncheck()
        page.get_by_role("tab", name="Overlaps").click()
        self.point_at(0.46, 0.6)
        page.mouse.wheel(0, -500)
        self.point_at(0.46, 0.6)
        page.wait_for_timeout(6000)
        self.shot("join")
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_role("button", name="Put in A").click(timeout=120_000)
        self.delivers()

    def delivers(self):
        """A profile across the levelled mosaic, contours over it, and a package of both."""
        page = self.page
        self.put("B", "Plover 30 S4122E06237")
        self.stage("Deliver")
        page.get_by_role("button", name=re.compile("^Contours")).click()
        page.get_by_role("tab", name="Profile").click()
        page.get_by_role("button", name="Draw a line on the map").click()
        box = page.locator(".map").bounding_box()
        at = [
            (box["x"] + x * box["width"], box["y"] + y * box["height"])
            for x, y in ((0.2, 0.3), (0.5, 0.52), (0.8, 0.4))
        ]
        for x, y in at[:-1]:
            page.mouse.click(x, y)
            page.wait_for_timeout(400)
        page.mouse.dblclick(*at[-1])
        page.wait_for_timeout(2000)
        chart = page.get_by_role("img", name="Heights along the line").bounding_box()
        page.mouse.move(chart["x"] + 0.4 * chart["width"], chart["y"] + 40)
        self.shot("profile")
        page.get_by_label("Name", exact=True).fill("Contours of the mosaic")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("button", name="Dress them")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="All in Deliver").click()
        page.get_by_role("button", name=re.compile("^Package")).click()
        page.get_by_role("tab", name="Surfaces").click()
        for name in ("Mosaic, best first", "Lidar ground"):
            page.get_by_role("checkbox", name=name, exact=True).check()
        page.get_by_label("Note for the report").fill("Heights for the bridge at Mossgate, levelled to the lidar.")
        page.get_by_role("button", name="Build package").click()
        expect(page.get_by_text("The package is built.")).to_be_visible(timeout=60_000)
        self.shot("deliver")
        self.sees()

    def drain(self):
        """Streams of A and B, and the ground above a place on them."""
        page = self.page
        self.stage("Drain")
        page.get_by_role("button", name=re.compile("^Streams")).click()
        page.get_by_label("Sea up to", exact=True).fill("1")
        page.get_by_role("textbox", name="Exactly").fill("12")
        expect(page.get_by_text(re.compile(r"\d+ streams, [\d.]+ km"))).to_have_count(2, timeout=180_000)
        page.get_by_role("button", name="Press an outlet on the map").click()
        box = page.locator(".map").bounding_box()
        page.mouse.click(box["x"] + box["width"] * 0.61, box["y"] + box["height"] * 0.94)
        page.get_by_role("button", name="Press no more outlets").click()
        expect(page.get_by_role("table", name="Catchments")).to_contain_text("km²")
        self.shot("drain")
        page.get_by_role("button", name="All in Drain").click()

    def sees(self):
        """Heights of the mosaic, water over it, others beside it, and a flight over it."""
        page = self.page
        page.get_by_role("button", name="All in Deliver").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        box = page.get_by_label("Show Contours of the mosaic", exact=True)
        if box.count() and box.is_checked():
            box.uncheck()
        self.put("B", "Beacon 30")
        page.get_by_role("tab", name="Heights").click()
        page.locator(".seg label", has_text="Areas and volumes").click()
        page.get_by_label("Lower level").fill("120")
        page.get_by_label("Upper level").fill("300")
        self.shot("heights")
        self.drain()
        page.get_by_role("tab", name="Surfaces").click()
        self.mode("Several")
        for name in ("Survey TIN", "Survey IDW"):
            page.get_by_role("combobox", name="Add a surface").click()
            page.get_by_role("option", name=re.compile(f"^{name}")).first.click()
        page.get_by_label(re.compile("^Contours every")).fill("20")
        page.get_by_role("button", name="Whole frame").click()
        self.shot("several")
        page.get_by_label(re.compile("^Contours every")).fill("")
        self.mode("Alone")
        page.get_by_role("button", name="three dimensions").click()
        expect(page.get_by_role("region", name="Three dimensions")).to_have_attribute(
            "aria-busy", "false", timeout=60_000
        )
        page.locator(".seg label", has_text="Split").click()
        page.wait_for_timeout(1000)
        expect(page.get_by_role("region", name="Three dimensions")).to_have_attribute(
            "aria-busy", "false", timeout=60_000
        )
        page.wait_for_timeout(3000)
        page.screenshot(path=ROOT / "docs" / "screenshots" / "three.png")
