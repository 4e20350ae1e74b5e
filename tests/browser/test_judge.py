"""Which source can be trusted: the scorecard, read as a technician reads it."""

from __future__ import annotations

import io
import re
import zipfile

from pypdf import PdfReader

from tests.browser.base import expect
from tests.browser.test_gather import tell
from tests.browser.test_join import Joining, number

LAND = [446_100, 5_434_100, 456_100, 5_442_100]


class JudgeTest(Joining):
    def cut_out(self, depot: str) -> None:
        """A product over the island, in one piece."""
        (offer,) = [one for one in self.api("GET", "/depots") if one["depot"] == depot]
        asked = {"depot": depot, "kind": "cut_out", "bounds": LAND, "cell_size": offer["cell_size"]}
        self.api("POST", "/orders", asked)
        self.wait_for_orders()

    def row(self, name: str):
        return self.page.get_by_role("table", name="Scorecard", exact=True).get_by_role("row", name=re.compile(name))

    def figure(self, name: str, column: int) -> float:
        """A figure of a row: 2 is the count, then mean, NMAD, RMSE, LE95."""
        return number(self.row(name).get_by_role("cell").nth(column).inner_text())

    def test_the_brief_is_held_against_a_and_changed(self):
        page = self.page
        self.stage("Judge")
        page.get_by_role("button", name=re.compile("^Brief")).click()
        expect(page.get_by_role("heading", name="The brief asks of A, Beacon 30")).to_be_visible()
        demands = page.get_by_role("list", name="Demands").get_by_role("listitem")
        expect(demands).to_have_count(8)
        # what is told from its file is there at once, the rest as its cells are read
        expect(demands.filter(has_text="Cells of 2 m")).to_contain_text(re.compile(r"not met\s*30\.\d\d m"))
        wood = demands.filter(has_text="95 % of errors in wood within 1.50 m")
        expect(wood).to_contain_text(re.compile(r"not met\s*1\d\.\d\d m.*At 74 checkpoints; between"), timeout=60_000)
        expect(demands.filter(has_text="No hole inside the project area")).to_contain_text(
            re.compile(r"\d+ holes?|no hole")
        )
        expect(demands.filter(has_text="Lantern Water lies level")).to_contain_text(
            re.compile(r"It lies at 1\d\d\.\d\d m")
        )
        # its file says nothing of zero, and nobody has
        expect(demands.filter(has_text="Heights above Sundrel mean sea level")).to_contain_text("not told")
        river = demands.filter(has_text="The Avel falls")
        expect(river).to_contain_text("not met")
        river.get_by_role("button", name=re.compile("Go there")).click()

        # another limit, and the verdict with it
        page.get_by_role("button", name="Change: Cells of 2 m").click()
        page.get_by_label("At most", exact=True).fill("32")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(demands.filter(has_text="Cells of 32 m")).to_contain_text(re.compile(r"32 m\s*met"))
        page.get_by_role("button", name=re.compile("^Remove: Handed over")).click()
        expect(demands).to_have_count(7)

        # a second demand for one thing is refused, and what was typed stays
        page.get_by_role("combobox", name="Ask for").click()
        page.get_by_role("option", name="cell size").click()
        page.get_by_label("At most", exact=True).fill("5")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.get_by_role("alert").filter(has_text="Two demands speak of the same")).to_be_visible()
        expect(page.get_by_label("At most", exact=True)).to_have_value("5")
        page.get_by_role("button", name="Cancel").click()

        # the same stands beside the scorecard, and on its axis
        page.get_by_role("button", name="All in Judge").click()
        page.get_by_role("button", name="Scorecard").click()
        expect(page.get_by_text("the brief, ± 0.50 m in open ground")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("^Beacon 30 in wood.*beyond the brief"))).to_be_visible()
        expect(page.get_by_text("The brief asks of A, Beacon 30")).to_be_visible()

    def test_water_at_any_level_and_where_a_height_comes_from(self):
        page = self.page
        tell("plover", down_seconds=0)
        self.cut_out("plover")
        self.forget()
        self.put("A", "Beacon 30")
        self.stage("Judge")
        page.get_by_role("button", name=re.compile("^Water level")).click()
        table = page.get_by_role("table", name="Water in each surface")
        rows = {name: table.get_by_role("row", name=re.compile(name)) for name in ("Beacon 30", "Plover 30")}
        expect(rows["Plover 30"]).to_contain_text(re.compile(r"14\d\.\d\d m"), timeout=60_000)
        # 1.7 m above the island's zero, as it was made
        lies = {name: number(row.get_by_role("cell").nth(1).inner_text().split("m")[0]) for name, row in rows.items()}
        self.assertTrue(0.8 < lies["Plover 30"] - lies["Beacon 30"] < 2.6, lies)
        area = rows["Beacon 30"].get_by_role("cell").nth(2)
        before = number(area.inner_text().split("ha")[0])
        page.get_by_label("Exactly").fill(f"{lies['Beacon 30'] + 3:.2f}")
        self.settle()
        self.assertGreater(number(area.inner_text().split("ha")[0]), before + 1)
        page.get_by_role("button", name="Go there").click()

        # a reading tells where it comes from
        self.settle()
        self.point_at(0.5, 0.5)
        box = page.locator(".map").bounding_box()
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.get_by_role("tab", name=re.compile("^Readings")).click()
        page.get_by_role("button", name="Where does reading 1 of A come from?").click()
        told = page.get_by_role("table", name="Where it comes from")
        expect(told.get_by_role("row").nth(1)).to_contain_text(re.compile(r"Beacon 30.*\d m.*beacon_30\.tif"))

    def test_the_scorecard_from_figures_to_a_shift_that_is_removed(self):
        page = self.page
        tell("heron", down_seconds=0)
        self.cut_out("heron")
        self.forget()
        self.stage("Judge")
        page.get_by_role("button", name="Scorecard").click()

        # a row a surface, the best first; what errs most stands last
        table = page.get_by_role("table", name="Scorecard", exact=True)
        expect(self.row("Heron 90").get_by_role("cell").nth(6)).to_contain_text("m", timeout=60_000)
        expect(page.get_by_text("Beacon 30 errs least")).to_be_visible()
        before = self.figure("Heron 90", 5)
        self.assertGreater(before, self.figure("Beacon 30", 5))
        expect(page.get_by_text(re.compile(r"Beacon 30 stands 1\d.\d m too high in wood"))).to_be_visible()

        # how wrong each is on slopes
        page.get_by_text("Error and slope").click()
        models = page.get_by_role("table", name="Error models")
        expect(models.get_by_role("row", name=re.compile("Heron 90"))).to_contain_text(re.compile(r"\d+ %"))
        page.get_by_role("radiogroup", name="What stands in the middle").get_by_text("Scorecard").click()

        # a part of a row, in figures and on the map
        page.get_by_role("button", name=re.compile("^Heron 90.* in wood")).click()
        foot = page.get_by_role("status", name="Pressed part")
        expect(foot).to_contain_text(re.compile(r"Wood: Heron 90.*points 74.*worst .* at point \d+"))
        foot.get_by_role("button", name="Show them on the map").click()
        expect(page.get_by_role("region", name="Map")).to_be_visible()
        page.get_by_role("button", name="Back to the scorecard").click()

        # split by two things at once
        page.get_by_role("combobox", name="And by").click()
        page.get_by_role("option", name="slope").click()
        self.row("Heron 90").get_by_role("button").first.click()
        grid = page.get_by_role("table", name=re.compile("Heron 90 .* by land cover and slope"))
        expect(grid.get_by_role("row")).to_have_count(5)

        # the shift is found, taken off, and every figure falls
        expect(page.get_by_text(re.compile(r"Heron 90 .* lies about \d+\.\d m towards \d+°")).first).to_be_visible()
        page.get_by_role("button", name="Remove the shift").first.click()
        expect(page.get_by_text("Taken off here")).to_be_visible(timeout=120_000)
        expect(page.get_by_role("img", name=re.compile("by aspect"))).to_have_count(2)
        self.assertLess(self.figure("Heron 90", 5), 0.9 * before)
        page.get_by_role("button", name="Keep it so").click()
        expect(page.get_by_role("heading", name="Move")).to_be_visible()
        east = page.get_by_label("To the east")
        # 40 m to the east of the truth, and less than that of Beacon 30, which lies half a cell to the east itself
        self.assertTrue(-50 < float(east.input_value().replace("\u2212", "-")) < -15)

        # kept as a table, which opens in the strip
        page.get_by_role("button", name="All in Judge").click()
        page.get_by_role("button", name="Scorecard").click()
        page.get_by_role("button", name="Keep as a table").click()
        expect(page.get_by_role("status").filter(has_text="is made")).to_be_visible(timeout=60_000)
        expect(table).to_be_visible()

        # the worst places of both are walked
        self.put("A", "Beacon 30")
        self.put("B", "Heron 90")
        page.get_by_role("tab", name=re.compile("^Worst places")).click()
        places = page.get_by_role("list", name="Worst places")
        expect(places.get_by_role("listitem").first).to_contain_text(re.compile(r"ha.* m"))
        places.get_by_role("button", name="Go to place 1").click()
        expect(page.get_by_role("region", name="Map")).to_be_visible()

        # a report says what the scorecard said, as delivered
        heron = self.holding("Heron 90 cut-out 1")
        job = self.api("POST", "/packages", {"name": "Judged", "holdings": [heron["id"]]})
        while (now := self.api("GET", f"/jobs/{job['id']}"))["state"] in ("queued", "running"):
            page.wait_for_timeout(500)
        self.assertEqual(now["state"], "done", now["message"])
        package = page.request.get(f"{self.root}/api/projects/{self.project}/packages/{job['id']}/file").body()
        with zipfile.ZipFile(io.BytesIO(package)) as archive:
            sheets = PdfReader(io.BytesIO(archive.read("report.pdf"))).pages
        text = re.sub(r"\s+", " ", " ".join(sheet.extract_text() for sheet in sheets))
        self.assertIn(f"{before:g}", text)
        for told in (
            "Scorecard",
            "Beacon 30 errs least",
            "Where surfaces lie",
            "against Beacon 30",
            "What was asked of it",
        ):
            self.assertIn(told, text)
