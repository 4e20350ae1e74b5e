"""Water over a surface: streams that follow the threshold, what drains through a place, hollows as areas."""

from __future__ import annotations

import re

from tests.browser.base import expect
from tests.browser.test_join import Joining, number


class DrainTest(Joining):
    def test_streams_and_a_catchment_are_read_off_and_made(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Drain")
        page.get_by_role("button", name=re.compile("^Streams")).click()

        # water is followed once; from then on streams answer at once
        figures = page.get_by_text(re.compile(r"\d+ streams, [\d.]+ km"))
        expect(figures.first).to_be_visible(timeout=120_000)
        many = number(figures.first.inner_text())
        threshold = page.get_by_role("textbox", name="Exactly")
        threshold.fill("40")
        expect(figures.first).not_to_have_text(re.compile(rf"^{many:g} streams"))
        few = number(figures.first.inner_text())
        self.assertLess(few, many)
        told = self.api("POST", "/drainage/streams", {"surface": self.holding("Beacon 30")["id"], "begins_at": 40})
        self.assertEqual(told["count"], few)

        # a press on the map: the outlet moves onto the stream, and its catchment has an area
        largest = max(told["streams"], key=lambda one: (one["order"], len(one["line"])))
        x, y = largest["line"][len(largest["line"]) // 2]
        page.get_by_label("Move up to").fill("200")
        page.get_by_role("button", name="Press an outlet on the map").click()
        self.point_at(0.5, 0.5)
        box = page.locator(".map").bounding_box()
        page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
        table = page.get_by_role("table", name="Catchments")
        expect(table.get_by_role("row").nth(1)).to_contain_text(re.compile(r"Outlet 1\s*\d+ m\s*\d+\.\d+"))
        area = number(table.get_by_role("cell").nth(2).inner_text())
        self.assertGreater(area, 0)
        body = {"surface": self.holding("Beacon 30")["id"], "outlets": [{"x": x, "y": y}], "snap": 200}
        (there,) = self.api("POST", "/drainage/catchments", body)["catchments"]
        self.assertGreater(there["area"], 0.4)  # what begins at 40 ha drains as much

        # made as lines, with their orders
        page.get_by_label("Name", exact=True).fill("Streams, 40 ha")
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_text("is made.")).to_be_visible(timeout=120_000)
        made = self.holding("Streams, 40 ha")
        self.assertEqual(made["features"]["counts"], {"lines": len(told["streams"])})
        self.assertEqual(made["recipe"]["params"]["begins_at"], 40)

        # hollows, each with what it probably is
        page.get_by_role("button", name="All in Drain").click()
        page.get_by_role("button", name=re.compile("^Hollows")).click()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_text("is made.")).to_be_visible(timeout=120_000)
        hollows = self.holding("Hollows of Beacon 30")
        self.assertGreater(hollows["features"]["counts"]["polygons"], 5)
        self.assertLessEqual({"kind", "why", "depth", "volume"}, set(hollows["features"]["attributes"]))
