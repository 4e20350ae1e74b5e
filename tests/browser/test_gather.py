"""From nothing to framed, inspected, ordered data: what a technician does in Gather."""

import json
import re
import urllib.request

from tests.browser.base import BrowserTest, Running, expect


def tell(provider: str, **told) -> None:
    """Tell a depot how to behave."""
    request = urllib.request.Request(
        f"{Running.environment['YAMA_DEPOT_URL']}/{provider}/control", json.dumps(told).encode(),
        {"Content-Type": "application/json", "X-Control": Running.control},
    )  # fmt: skip
    urllib.request.urlopen(request).close()


class GatherSheets(BrowserTest):
    """What tests of Gather share."""

    def open_sheet(self, name: str) -> None:
        self.stage("Gather")
        back = self.page.get_by_role("button", name="All in Gather")
        if back.count():
            back.click()
        self.page.locator(".ops").get_by_role("button", name=name).click()

    def choose(self, label: str, option: str) -> None:
        self.page.locator(".row", has_text=label).get_by_role("combobox").click()
        self.page.get_by_role("option", name=option, exact=True).click()

    def arrived(self, name: str):
        card = self.page.get_by_role("region", name=name, exact=True)
        expect(card).to_be_visible(timeout=90_000)
        return card


class GatherTest(GatherSheets):
    def test_from_nothing_to_framed_inspected_ordered_data(self):
        page, demo = self.page, self.var / "demo"
        tell("heron", down_seconds=0)
        tell("skerry", bytes_per_second=120_000, flip=["E448N5436"])

        # a frame proposed from a boundary and the data
        self.open_sheet("New project")
        page.get_by_label("Name", exact=True).fill("Lower Avel")
        page.get_by_label("Files to propose a frame from").set_input_files(demo / "depot" / "waymark_boundary.geojson")
        expect(page.get_by_label("CRS")).to_have_value("EPSG:32741")
        expect(page.get_by_label("Why this frame")).to_contain_text("The boundary in waymark_boundary.geojson")
        page.get_by_label("Cell size").fill("5")
        page.get_by_role("button", name="Make project").click()
        expect(page.locator(".top")).to_contain_text("Lower Avel")

        # files of every kind, dropped at once
        self.open_sheet("Add files")
        page.get_by_label("Files to add").set_input_files([
            demo / "avel_lidar_449_5435.laz", demo / "old_sheet_contours.zip", demo / "old_sheet_spots_streams.gpkg",
            demo / "depot" / "skerry-5" / "E448N5438.tif", demo / "sundrel_geoid.tif", demo / "beacon_30.tif",
        ])  # fmt: skip
        expect(self.arrived("avel_lidar_449_5435")).to_contain_text("bridge deck")
        self.arrived("beacon_30")  # what heights are compared with
        expect(self.arrived("old_sheet_contours")).to_contain_text("319 lines")
        expect(self.arrived("old_sheet_spots_streams")).to_contain_text("also holds the layer spots")
        tile = self.arrived("E448N5438")
        expect(tile).to_contain_text("is not declared as empty")
        tile.get_by_role("button", name="Make empty").click()
        expect(page.get_by_role("article", name="E448N5438, -9999 empty")).to_be_visible(timeout=60_000)
        expect(tile).to_contain_text("Fixed as E448N5438, -9999 empty")

        # a table's columns are looked at before it is taken in
        page.get_by_label("Files to add").set_input_files(demo / "survey_points_2026.csv")
        match = page.get_by_role("region", name="Columns of survey_points_2026.csv")
        expect(match.get_by_role("columnheader")).to_have_text(["id", "X, east", "Y, north", "Height", "Code"])
        expect(match).to_contain_text("would lie among the others with x and y exchanged")
        match.get_by_role("button", name="Exchange them").click()
        expect(match).not_to_contain_text("would lie among the others")
        match.get_by_role("button", name=re.compile("Take in")).click()
        points = self.arrived("survey_points_2026")
        expect(points).to_contain_text("4 808 points".replace(" ", "\u00a0", 1))

        # tiles, though their provider was down for a while and one arrives damaged
        self.open_sheet("Order tiles")
        products = page.get_by_role("region", name="Products")
        expect(products.get_by_role("radio")).to_have_count(4)
        expect(products).to_contain_text("Heron 90")
        page.get_by_label("Place, tile or position").fill("Mossgate")
        expect(page.get_by_role("button", name=re.compile(r"Order \d tiles"))).to_be_enabled()
        page.get_by_role("button", name=re.compile(r"Order \d tiles")).click()
        coming = page.get_by_role("region", name="Order of Skerry 5")
        expect(coming).to_contain_text("arriving", timeout=30_000)
        tell("skerry", down_seconds=8, bytes_per_second=0)
        expect(coming).to_contain_text("down for maintenance", timeout=30_000)
        expect(coming).to_have_count(0, timeout=90_000)
        self.project = int(page.evaluate("localStorage.getItem('yama.project')"))  # that which was made here
        (order,) = self.api("GET", "/orders")
        tries = {part["name"]: part["tries"] for part in order["parts"]}
        self.assertEqual(tries.pop("E448N5436"), 1)  # damaged once, found out, fetched again
        self.assertEqual(set(tries.values()), {0})
        feet = page.get_by_role("article", name="Skerry 5 E448N5436")
        expect(feet).to_contain_text("in feet?")

        # over the limit a cut-out says the finest cell that fits
        page.get_by_role("button", name="Frame", exact=True).click()
        page.get_by_role("combobox", name="How it comes").click()
        page.get_by_role("option", name="as a cut-out").click()
        expect(page.get_by_role("button", name="Order the cut-out")).to_be_disabled()
        page.get_by_role("button", name="Cut at that").click()
        page.get_by_role("button", name="Order the cut-out").click()
        expect(page.get_by_role("article", name="Skerry 5 cut-out 1")).to_be_visible(timeout=90_000)

        # rivers by kind and name
        self.open_sheet("Fetch map features")
        self.choose("Features", "Rivers")
        page.get_by_role("group", name="Kinds").get_by_label(re.compile("^river")).check()
        page.get_by_label("Find a name").fill("avel")
        page.get_by_role("group", name="Names").get_by_label(re.compile("^Avell")).check()
        page.get_by_role("button", name="Fetch", exact=True).click()
        rivers = self.arrived("Rivers river Avell")
        expect(rivers).to_contain_text("lines")

        # and all of it on the map, dressed
        page.get_by_role("tab", name="Lines, points, pictures").click()
        listed = page.get_by_role("list", name="Points and lines")
        listed.get_by_role("button", name="avel_lidar_449_5435").click()
        page.get_by_role("button", name="Go there").click()
        page.get_by_label("coloured by").select_option("class")
        expect(page.get_by_role("table", name="Classes of avel_lidar_449_5435")).to_contain_text("ground")
        listed.get_by_role("button", name="old_sheet_contours").click()
        page.get_by_label("Find features").fill("elev > 500")
        table = page.get_by_role("table", name="Features of old_sheet_contours")
        heights = [float(cell) for cell in table.locator("tbody tr td:nth-child(3)").all_inner_texts()]
        self.assertTrue(heights and min(heights) > 500)

        # after a reload it is all still there
        page.reload()
        expect(page.locator(".top")).to_contain_text("Lower Avel")
        expect(page.get_by_role("tab", name="Surfaces")).to_contain_text(re.compile(r"\d"))

    def test_files_that_cannot_be_used_say_why_and_others_go_on(self):
        page = self.page
        self.open_sheet("Add files")
        bad = self.var / "bad"
        bad.mkdir(exist_ok=True)
        laz = (self.var / "demo" / "avel_lidar_448_5439.laz").read_bytes()
        (bad / "half.laz").write_bytes(laz[: len(laz) // 2])
        (bad / "map.kml").write_text(
            '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><kml>&e;</kml>'
        )
        (bad / "road.shp").write_bytes(b"\0\0\x27\x0a" + bytes(200))
        (bad / "page.html").write_text("<html><body>Sign in first</body></html>")
        page.get_by_label("Files to add").set_input_files([
            bad / "half.laz", bad / "map.kml", bad / "road.shp", bad / "page.html",
            self.var / "demo" / "depot" / "waymark_roads.geojson",
        ])  # fmt: skip
        for words in (
            "half.laz cannot be read as LAS or LAZ", "map.kml defines entities of its own",
            "road.shp is one part of a shapefile", "page.html is an XML or HTML page",
        ):  # fmt: skip
            expect(page.get_by_text(words)).to_be_visible(timeout=60_000)
        expect(self.arrived("waymark_roads")).to_contain_text("6 lines")
