"""A profile, contours and a package: what a technician does before a surface leaves the house."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path

from pypdf import PdfReader
from rasterio import MemoryFile

from tests.browser.base import expect
from tests.browser.test_join import Joining, number

CORNERS = ((0.35, 0.40), (0.50, 0.55), (0.66, 0.45))


class DeliverTest(Joining):
    def corners(self) -> list[tuple[float, float]]:
        box = self.page.locator(".map").bounding_box()
        return [(box["x"] + x * box["width"], box["y"] + y * box["height"]) for x, y in CORNERS]

    def test_a_profile_contours_and_a_package(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.settle()

        # a profile along a line drawn on the map; the pointer on it is a place on the map
        page.get_by_role("tab", name="Profile").click()
        page.get_by_role("button", name="Draw a line on the map").click()
        for x, y in self.corners()[:-1]:
            page.mouse.click(x, y)
            page.wait_for_timeout(400)
        page.mouse.dblclick(*self.corners()[-1])
        page.mouse.move(640, 20)  # near the line the pointer would be a place on it
        table = page.get_by_role("table", name="Profile")
        expect(table).to_contain_text("m long")
        row = table.get_by_role("row").nth(1)
        expect(row).to_contain_text("Beacon 30")
        page.wait_for_timeout(1500)  # the desk is kept a moment after it is changed
        asked = self.api("GET", "/desk")["line"]
        self.assertEqual(len(asked), 3)
        key = next(one["key"] for one in self.api("GET", "/holdings") if one["name"] == "Beacon 30")
        course = self.api("POST", "/profiles", {"keys": [key], "line": asked})["courses"][key]
        lowest, highest, up = (number(row.get_by_role("cell").nth(i).inner_text()) for i in (1, 2, 3))
        self.assertAlmostEqual(lowest, course["lowest"], delta=0.006)
        self.assertAlmostEqual(highest, course["highest"], delta=0.006)
        self.assertAlmostEqual(up, course["climb"], delta=0.06)
        box = page.get_by_role("img", name="Heights along the line").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        expect(table).to_contain_text("gradient")
        with page.expect_download() as given:
            page.get_by_role("button", name="CSV").click()
        lines = Path(given.value.path()).read_text().splitlines()
        self.assertEqual(lines[0], '"distance m","x","y","Beacon 30 m"')
        self.assertEqual(len(lines) - 1, len(course["heights"]))

        # contours are there at once, and stay when they are run
        self.stage("Deliver")
        page.get_by_role("button", name=re.compile("^Contours")).click()
        page.get_by_label("Every", exact=True).fill("40")
        expect(page.get_by_text(re.compile(r"^\d+ lines$"))).to_be_visible()
        page.get_by_label("Minimum length").fill("200")
        page.get_by_label("Name", exact=True).fill("Beacon, 40 m")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("button", name="Dress them")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Dress them").click()
        expect(page.get_by_role("tabpanel")).to_contain_text("Contours of Beacon 30")
        made = next(one for one in self.api("GET", "/holdings") if one["name"] == "Beacon, 40 m")
        lines = self.api("GET", f"/holdings/{made['id']}/features")["features"]
        self.assertGreater(len(lines), 20)
        self.assertTrue(all(line["properties"]["height"] % 40 == 0 for line in lines))

        # both leave in one package, heights as whole numbers that hold them
        page.get_by_role("button", name="All in Deliver").click()
        page.get_by_role("button", name=re.compile("^Package")).click()
        page.locator("summary", has_text="Surfaces as they came").click()
        page.get_by_role("checkbox", name="Beacon 30", exact=True).check()
        page.locator("summary", has_text="Lines and areas").click()
        page.get_by_role("checkbox", name="Beacon, 40 m", exact=True).check()
        self.choose("Cells", "whole numbers of 16 bits")
        page.get_by_label("Step", exact=True).fill("0.001")
        expect(page.get_by_text("holds", exact=False).first).to_be_visible()
        expect(page.get_by_role("button", name="Build package")).to_be_disabled()
        page.get_by_role("button", name=re.compile(r"^Take 0\.\d+ m$")).click()
        page.get_by_label("Note for the report").fill("For the bridge at Mossgate.")
        page.get_by_label("Name", exact=True).fill("Bridge, first delivery")
        self.settle()
        page.get_by_role("button", name="Build package").click()
        with page.expect_download(timeout=60_000) as given:
            page.get_by_role("link", name="Download", exact=True).first.click(timeout=60_000)
        self.assertEqual(given.value.suggested_filename, "Bridge, first delivery.zip")
        archive = zipfile.ZipFile(given.value.path())
        said = json.loads(archive.read("package.json"))
        self.assertEqual(said["note"], "For the bridge at Mossgate.")
        with MemoryFile(archive.read("surfaces/Beacon 30.tif")) as file, file.open() as dataset:
            self.assertEqual(dataset.dtypes[0], "int16")
            heights = dataset.read(1, masked=True) * dataset.scales[0]
            self.assertTrue(500 < heights.max() < 800)
        text = "".join(sheet.extract_text() for sheet in PdfReader(io.BytesIO(archive.read("report.pdf"))).pages)
        for told in (
            "Bridge, first delivery",
            "For the bridge at Mossgate.",
            "Beacon 30",
            "Accuracy at checkpoints",
            "Middle of the frame",
        ):
            self.assertIn(told, text)
        self.assertIn("Bridge, first delivery", page.get_by_role("list", name="Packages").inner_text())
