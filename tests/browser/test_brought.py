"""Files as a technician has them, some of which belong together or do not say enough; and things deleted and had back."""

from __future__ import annotations

import tempfile
import time
import warnings
from pathlib import Path

import numpy as np
import rasterio
import shapely
from affine import Affine

from tests.browser.base import BrowserTest, expect
from yama.terrain.features import Features
from yama.terrain.formats import vector

CRS = "EPSG:32741"
WEST, NORTH, CELL = 446_000.0, 5_440_000.0, 10.0


class BroughtTest(BrowserTest):
    def setUp(self):
        super().setUp()
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)

    def write(self, name, cells, driver="GTiff", **more):
        with rasterio.open(self.folder / name, "w", driver=driver, width=cells.shape[2], height=cells.shape[1],
                           count=cells.shape[0], dtype=cells.dtype, **more) as dataset:  # fmt: skip
            dataset.write(cells)

    def choose(self, *names: str) -> None:
        self.stage("Gather")
        self.page.get_by_role("button", name="Add files").click()
        self.page.get_by_label("Files to add").set_input_files([str(self.folder / name) for name in names])

    def test_what_belongs_together_goes_in_together(self):
        page = self.page
        heights = np.full((1, 60, 80), 120.0, np.float32)
        heights[0, :, 40:] = 180.0
        self.write("lone.tif", heights)
        (self.folder / "lone.tfw").write_text(f"{CELL}\n0\n0\n{-CELL}\n{WEST + CELL / 2}\n{NORTH - CELL / 2}\n")
        (self.folder / "lone.prj").write_text(rasterio.CRS.from_user_input(CRS).to_wkt())
        lines = np.array([shapely.LineString([(WEST, NORTH), (WEST + 800, NORTH - 90)])], object)
        vector.write(Features(CRS, lines, {"elev_ft": [300.0]}), self.folder / "walls.shp")
        self.choose(*(path.name for path in sorted(self.folder.iterdir())))
        walls = page.get_by_role("region", name="walls", exact=True)
        expect(walls).to_contain_text("1 line", timeout=60_000)
        expect(walls).to_contain_text("Heights in feet are 3.28 times too high")
        expect(page.get_by_role("article", name="lone")).to_be_visible(timeout=60_000)
        self.put("A", "lone")
        # its middle line lies where the world file says
        page.get_by_role("region", name="lone", exact=True).get_by_text("120.00 to 180.00 m").wait_for()

    def test_what_a_file_does_not_say_is_asked(self):
        page = self.page
        cells = np.stack([np.full((60, 80), value, np.float32) for value in (3, 75, 9)])
        self.write("bands.tif", cells, crs=CRS, transform=Affine(CELL, 0, WEST, 0, CELL, NORTH - 60 * CELL))
        whole = np.full((32, 32), (250 + 32_768) * 256)
        self.write("coded.png", np.stack([whole // 65_536, whole // 256 % 256, whole % 256]).astype(np.uint8), "PNG")
        self.choose("bands.tif", "coded.png")
        asked = page.get_by_role("region", name="Question about bands.tif")
        expect(asked).to_contain_text("Which holds the heights?", timeout=60_000)
        asked.get_by_role("button", name="Band 2").click()
        page.get_by_role("region", name="bands", exact=True).get_by_text("75.00 to 75.00 m").wait_for(timeout=60_000)
        expect(page.get_by_role("region", name="bands", exact=True)).to_contain_text("run the other way round")
        asked = page.get_by_role("region", name="Question about coded.png")
        asked.get_by_role("button", name="Heights are 256 R").click()
        expect(asked.get_by_role("button", name="Use this tile")).to_be_disabled()
        asked.get_by_role("textbox", name="Use this tile").fill("12/2757/2554")
        asked.get_by_role("button", name="Use this tile").click()
        page.get_by_role("region", name="coded", exact=True).get_by_text("250.00 to 250.00 m").wait_for(timeout=60_000)

    def redness(self, left: float = 0.24, top: float = 0.7, size: float = 0.05, until=lambda _: True) -> float:
        """How much redder than green a part of the map is, the sea in the south-west where none is named; once that is
        as wanted, since drawing may take a while without a GPU."""
        latest = time.monotonic() + 30
        while True:
            self.settle()
            self.page.wait_for_timeout(700)
            colours = np.array(self.map_colours(left, top, left + size, top + size), float)
            found = float(np.median(colours[:, 0] - colours[:, 1]))
            if until(found) or time.monotonic() > latest:
                return found

    def test_a_picture_lies_over_and_under_surfaces_and_is_never_heights(self):
        page = self.page
        plain = self.redness(until=lambda found: found < 0)  # the sea is drawn, which is no red at all
        red = np.zeros((3, 900, 1100), np.uint8)
        red[0] = 220
        place = Affine(10, 0, 443_000, 0, -10, 5_442_500)
        self.write("red.tif", red, crs=CRS, transform=place, photometric="RGB")
        self.choose("red.tif")
        page.get_by_role("region", name="Question about red.tif").get_by_role("button", name="It is a picture").click()
        arrived = page.get_by_role("region", name="red", exact=True)
        expect(arrived).to_contain_text("1 100 × 900", timeout=60_000)
        self.assertLess(
            abs(self.redness(until=lambda found: abs(found - plain) < 5) - plain), 5
        )  # nothing is shown before it is asked for
        arrived.get_by_role("button", name="Show on the map").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_role("button", name="red picture of").click()
        mixed = self.redness(until=lambda found: plain + 100 < found < 215)
        self.assertTrue(plain + 100 < mixed < 215, (plain, mixed))
        page.get_by_role("slider", name="Opacity").press("End")
        self.assertGreater(self.redness(until=lambda found: found > 215), 215)
        page.get_by_label("lies").select_option("under")
        self.assertLess(
            abs(self.redness(until=lambda found: abs(found - plain) < 5) - plain), 5
        )  # the surface fills the middle
        # it cannot be put in a slot, nor be given to what wants heights
        page.get_by_role("combobox", name="Surface in B").click()
        expect(page.get_by_role("option", name="Beacon 30")).to_be_visible()
        expect(page.get_by_role("option", name="red")).to_have_count(0)
        page.keyboard.press("Escape")
        page.get_by_label("lies").select_option("over")
        page.get_by_role("button", name="3D, three dimensions").click()
        expect(page.get_by_role("region", name="Three dimensions")).to_have_attribute(
            "aria-busy", "false", timeout=90_000
        )
        self.assertGreater(self.redness(0.4, 0.5, 0.2, lambda found: found > 100), 100)
        page.get_by_role("checkbox", name="Show red").uncheck()
        page.wait_for_timeout(1500)
        expect(page.get_by_role("region", name="Three dimensions")).to_have_attribute(
            "aria-busy", "false", timeout=90_000
        )
        self.assertLess(self.redness(0.4, 0.5, 0.2, lambda found: found < 60), 60)

    def test_what_is_deleted_can_be_had_back(self):
        page = self.page
        card = page.get_by_role("article", name="Beacon 30")
        card.hover()
        page.get_by_role("button", name="More about Beacon 30").click()
        page.get_by_role("menuitem", name="Delete").click()
        expect(card).to_have_count(0)
        expect(page.get_by_role("status").filter(has_text="Beacon 30 is deleted.")).to_be_visible()
        page.get_by_role("button", name="1 deleted").click()
        page.get_by_role("button", name="Restore Beacon 30").click()
        expect(card).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_role("button", name="Checkpoints 2026").click()
        page.get_by_role("button", name="Delete", exact=True).click()
        expect(page.get_by_role("dialog")).to_contain_text("surfaces are not judged any more")
        page.get_by_role("dialog").get_by_role("button", name="Keep it").click()
        expect(page.get_by_role("button", name="Checkpoints 2026")).to_be_visible()
