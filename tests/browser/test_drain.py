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
        expect(table.get_by_role("row").nth(1)).to_contain_text(re.compile(r"1\s*\S.*\d+ m\s*\d+\.\d+"))
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

    def test_crossings_of_a_line_with_streams_and_with_burned_rivers(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Drain")
        page.get_by_role("button", name=re.compile("^Crossings")).click()
        self.choose("Lines that cross", "Boundary")
        counts = {}
        for name, burned in (("Crossings", False), ("Crossings, burned", True)):
            if burned:
                self.choose("Burned in", "Rivers")
                page.get_by_label("Bed depth").fill("3")
            page.get_by_label("Name", exact=True).fill(name)
            page.get_by_role("button", name="Run", exact=True).click()
            expect(page.get_by_text(f"{name} is made.")).to_be_visible(timeout=120_000)
            made = self.holding(name)
            counts[name] = made["features"]["counts"]["points"]
            self.assertLessEqual({"along", "area", "slope", "angle"}, set(made["features"]["attributes"]))
        self.assertEqual(made["recipe"]["params"]["bed_depth"], 3)
        self.assertEqual(made["recipe"]["input_ids"]["burned"], [self.holding("Rivers")["id"]])

        # read off in the strip: how many, and how much drains through each
        page.get_by_role("tab", name=re.compile("Lines, points")).click()
        page.locator(".pickrow", has_text="Crossings, burned").click()
        table = page.get_by_role("table", name="Features of Crossings, burned")
        expect(table).to_be_visible()
        expect(page.get_by_text(f"{counts['Crossings, burned']} of {counts['Crossings, burned']}")).to_be_visible()
        areas = [feature["properties"]["area"] for feature in
                 self.api("GET", f"/holdings/{made['id']}/features")["features"]]  # fmt: skip
        self.assertGreater(min(areas), 0)

    def test_networks_are_kept_and_hollows_said_and_mended(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Drain")
        page.get_by_role("button", name=re.compile("^Streams")).click()
        page.get_by_role("textbox", name="Exactly").fill("30")
        figures = page.get_by_text(re.compile(r"\d+ streams, [\d.]+ km"))
        expect(figures.first).to_be_visible(timeout=120_000)
        page.get_by_role("tab", name="Networks").click()
        networks = page.get_by_role("table", name="Networks")
        first = networks.get_by_role("row").nth(1)
        expect(first).to_contain_text(re.compile(r"Beacon 30\s*lesser change\s*none\s*30 ha\s*[\d.]+ km"))
        page.get_by_role("button", name="Keep A as a network").click()
        expect(page.get_by_role("button", name="Remove Beacon 30, lesser change")).to_be_visible()

        # with its hollows filled it is another network, which stands beside the kept one
        page.get_by_role("radiogroup", name="Hollows").get_by_text("fill", exact=True).click()
        expect(networks.get_by_role("row")).to_have_count(3)
        expect(first).to_contain_text(re.compile(r"filled\s*none\s*30 ha\s*[\d.]+ km"), timeout=120_000)
        (kept,) = self.api("GET", "/drainage/networks")
        told = self.api("POST", "/drainage/figures", kept["content"])
        expect(networks.get_by_role("row").nth(2)).to_contain_text(f"{told['length'] / 1000:.1f} km")

        # the kept one in B
        page.get_by_role("button", name="B: Beacon 30, lesser change").click()
        expect(networks.get_by_role("row").nth(2).get_by_role("button", name="B:")).to_have_attribute(
            "aria-pressed", "true"
        )
        expect(page.get_by_text(re.compile(r"\d+ streams, [\d.]+ km"))).to_have_count(2)

        # only where both part: less is drawn than there is
        with page.expect_response(lambda one: one.url.endswith("/drainage/streams")) as heard:
            page.get_by_role("checkbox", name=re.compile("^Draw only where A and B part")).check()
        body = heard.value.request.post_data_json
        self.assertIsNotNone(body["apart_from"])
        apart, whole = (
            self.api("POST", "/drainage/streams", {**body, "apart_from": one})["streams"]
            for one in (body["apart_from"], None)
        )
        self.assertLess(sum(len(one["line"]) for one in apart), sum(len(one["line"]) for one in whole))
        page.get_by_role("checkbox", name=re.compile("^Draw only where A and B part")).uncheck()

        # by slope too, streams of the same name begin elsewhere
        before = figures.first.inner_text()
        page.get_by_role("combobox", name="Heads").click()
        page.get_by_role("option", name="by slope too").click()
        expect(figures.first).not_to_have_text(before)
        expect(first).to_contain_text("30 ha by slope")

        # the largest hollow is said to be water, which it keeps from now on
        page.get_by_role("button", name="List of hollows").click()
        hollows = page.get_by_role("table", name="Hollows")
        expect(hollows.get_by_role("row").nth(1)).to_be_visible(timeout=120_000)
        page.get_by_label("What hollow 1 is", exact=True).select_option("water")
        expect(page.get_by_text("Somebody of the project said so.").first).to_be_visible()
        expect(page.get_by_text(re.compile("hollows? keeps? (its|their) water"))).to_be_visible(timeout=120_000)
        page.get_by_role("button", name="Take back what was said of hollow 1", exact=True).click()
        expect(page.get_by_text("Somebody of the project said so.")).to_have_count(0)

        # another one is sent to Mend, with an outline that is open there
        page.get_by_role("button", name="Mend hollow 2", exact=True).click()
        expect(page.get_by_role("heading", name="Mend")).to_be_visible()
        expect(page.get_by_text(re.compile(r"1 patch"))).to_be_visible(timeout=60_000)
        patches = self.api("GET", f"/holdings/{self.holding('Beacon 30')['id']}/patches")["entries"]
        self.assertEqual([one["content"]["operator"]["kind"] for one in patches], ["across"])
