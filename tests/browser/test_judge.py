"""Which source can be trusted: the scorecard, read as a technician reads it."""

from __future__ import annotations

import re

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
