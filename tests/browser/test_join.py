"""From tiles of two providers to one levelled, filled surface: what a technician does in Join."""

from __future__ import annotations

import re
import time

from tests.browser.base import BrowserTest, expect

AREA = [446_100.0, 5_436_100.0, 449_900.0, 5_439_900.0]
HOLE = (448_817.5, 5_438_952.5)  # in a Skerry tile whose voids are not declared


def number(text: str) -> float:
    """The first number of a text as the desk writes them."""
    found = re.search(r"[-+]?\d[\d.]*", re.sub(r"(?<=\d)[\u00a0\u202f](?=\d)", "", text).replace("\u2212", "-"))
    assert found, text
    return float(found.group(0))


class Joining(BrowserTest):
    """What tests that join tiles share."""

    def order(self, depot: str) -> None:
        """All tiles of a product over the area, and wait until they are here."""
        names = [one["name"] for one in self.api("POST", f"/depots/{depot}/cover", {"bounds": AREA})["tiles"]]
        self.api("POST", "/orders", {"depot": depot, "kind": "tiles", "tiles": names})
        self.wait_for_orders()

    def wait_for_orders(self) -> None:
        until = time.monotonic() + 120
        while any(part["standing"] != "received" for order in self.api("GET", "/orders") for part in order["parts"]):
            self.assertLess(time.monotonic(), until, "the tiles did not come")
            time.sleep(1)

    def use_only(self, *names: str) -> None:
        """Take all other sources out of the mosaic."""
        for name in names:  # the list is there once they are
            expect(self.page.get_by_role("checkbox", name=f"Use {name}", exact=True).first).to_be_visible()
        boxes = self.page.get_by_role("list", name="Surfaces, best first").get_by_role("checkbox")
        for label in [box.get_attribute("aria-label") or "" for box in boxes.all()]:
            if label.removeprefix("Use ") not in names:
                self.page.get_by_role("checkbox", name=label, exact=True).first.click()

    def choose(self, label: str, option: str) -> None:
        self.page.get_by_role("combobox", name=label, exact=True).click()
        self.page.get_by_role("option", name=option, exact=True).click()

    def forget(self) -> None:
        """A desk that remembers nothing."""
        self.page.goto(f"{self.root}/api/projects/{self.project}")  # a page that keeps nothing
        self.api("PUT", "/desk", {})
        self.page.goto(self.root)


class JoinTest(Joining):
    def test_from_tiles_to_one_filled_surface(self):
        page = self.page
        self.order("skerry")
        self.order("plover")
        self.forget()
        self.stage("Join")
        page.get_by_role("button", name="Mosaic").click()
        listed = page.get_by_role("list", name="Surfaces, best first")
        expect(listed).to_contain_text("Plover 30")
        expect(page.get_by_role("table", name="Overlaps")).to_contain_text("waits: feet?")

        # cautions about the tiles' own files lead there; mended tiles take the place of the others
        page.get_by_role("button", name="Look at it in Gather").first.click()
        page.get_by_role("button", name="Take as feet").click()
        page.get_by_role("tab", name="Surfaces").click()
        tiles = page.get_by_role("article", name=re.compile(r"^Skerry 5, \d+ tiles$"))
        tiles.get_by_role("button", name="Show tiles").click()
        expect(page.get_by_role("article", name=re.compile("from feet"))).to_be_visible(timeout=60_000)
        self.api("POST", f"/holdings/{self.void()}/declare", {"declared": {"nodata": -9999.0}})
        expect(page.get_by_role("article", name=re.compile("9999 empty"))).to_be_visible(timeout=60_000)
        self.stage("Join")
        page.get_by_role("button", name="Mosaic").click()
        expect(listed).to_contain_text("4 tiles")  # the one in feet stood alone before
        expect(page.get_by_role("table", name="Overlaps")).not_to_contain_text("waits: feet?")
        expect(page.get_by_role("button", name="Look at it in Gather")).to_have_count(0)
        # their originals are folded away
        page.get_by_role("tab", name="Surfaces").click()
        expect(page.get_by_role("button", name="Show 2 folded away")).to_be_visible()
        self.forget()
        self.stage("Join")
        page.get_by_role("button", name="Mosaic").click()
        self.use_only("Skerry 5", "Plover 30")
        expect(listed.get_by_role("listitem")).to_have_count(2)

        # Plover's zero lies 1.7 m higher; levelling takes most of that out
        row = page.get_by_role("table", name="Overlaps").get_by_role("row").nth(1)
        expect(row).to_contain_text("Skerry 5")
        median = number(row.get_by_role("cell").nth(3).inner_text())
        self.assertAlmostEqual(abs(median), 1.7, delta=0.5)
        self.choose("Surfaces are", "by an offset each")
        expect(listed.get_by_text("held", exact=True)).to_be_visible()
        self.choose("Held fixed", "Skerry 5")
        expect(listed.locator("li", has_text="Skerry 5").get_by_text("held", exact=True)).to_be_visible()
        self.settle()
        self.assertLess(abs(number(row.get_by_role("cell").nth(7).inner_text())), 0.3)

        # the probe says where a cell came from
        self.point_at(0.5, 0.5)
        expect(page.get_by_label("Probe")).to_contain_text("from Skerry 5")

        # pictures of the rules at one place; by a seam one may say by hand what is taken where
        page.get_by_role("button", name="Show each in the middle of the view").click()
        expect(page.locator("img.rule")).to_have_count(12, timeout=30_000)
        page.get_by_role("button", name="Hide the pictures").click()
        page.locator(".mt", has_text="Seam").click()
        page.get_by_role("button", name="Draw an area where one is taken").click()
        box = page.locator(".map").bounding_box()
        corners = [
            (box["x"] + x * box["width"], box["y"] + y * box["height"])
            for x, y in ((0.46, 0.46), (0.54, 0.46), (0.54, 0.54), (0.46, 0.54))
        ]
        for x, y in corners:
            page.mouse.click(x, y)
            page.wait_for_timeout(300)  # two clicks at once would end the area
        page.mouse.dblclick(*corners[-1])
        self.choose("In area 1", "Plover 30")
        self.settle()
        self.point_at(0.5, 0.5)
        expect(page.get_by_label("Probe")).to_contain_text("from Plover 30")
        page.get_by_role("button", name="Take area 1 away").click()
        page.locator(".mt", has_text="Best first").click()
        self.settle()
        self.point_at(0.5, 0.5)
        expect(page.get_by_label("Probe")).to_contain_text("from Skerry 5")

        # the best alone has holes; they are filled from the other without a step
        page.get_by_label("Use Plover 30").click()
        page.get_by_label("Name", exact=True).fill("Skerry joined")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        joined = page.get_by_role("article", name="Skerry joined")
        page.get_by_role("button", name="Put in A").click(timeout=120_000)
        page.get_by_role("tab", name="Surfaces").click()
        expect(joined).to_be_visible()
        page.get_by_role("button", name="All in Join").click()
        page.get_by_role("button", name="Fill holes").click()
        expect(page.get_by_text("holes of", exact=False)).to_be_visible()
        page.locator(".mt", has_text="Other surface").click()
        self.choose("Fill from", "Beacon 30")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("article", name="Skerry joined, filled")).to_be_visible(timeout=120_000)
        made = {one["name"]: one for one in self.api("GET", "/holdings")}
        before, after = made["Skerry joined"], made["Skerry joined, filled"]
        self.assertGreater(before["holes"]["count"], 0)
        self.assertEqual(after["holes"]["count"], 0)
        at = f"/probe?x={HOLE[0]}&y={HOLE[1]}"
        readings = self.api("GET", f"{at}&a={before['key']}&b={after['key']}")["readings"]
        self.assertIsNone(readings["a"]["height"])
        beacon = self.api("GET", f"{at}&a={made['Beacon 30']['key']}")["readings"]["a"]["height"]
        self.assertAlmostEqual(readings["b"]["height"], beacon, delta=25)
        self.assertEqual(after["surface"]["statistics"]["empty"], before["holes"]["outside"])

    def void(self) -> int:
        return next(one["id"] for one in self.api("GET", "/holdings") if one["name"] == "Skerry 5 E448N5438")

    def test_many_surfaces_are_found_and_compared_side_by_side(self):
        page = self.page
        self.order("skerry")
        self.order("plover")
        self.forget()
        # tiles of a product are one card; with many surfaces one is found by its name
        card = page.get_by_role("article", name=re.compile(r"^Plover 30, \d+ tiles$"))
        expect(card).to_be_visible()
        # the newest one lies in A, and stands there by itself
        tile = [one for one in self.api("GET", "/holdings") if one["name"].startswith("Plover 30")][-1]
        expect(page.get_by_role("article", name=tile["name"])).to_have_count(0)
        page.get_by_role("textbox", name="Find a surface").fill(tile["name"].split()[-1])
        expect(page.get_by_role("article", name=tile["name"])).to_be_visible()
        expect(page.get_by_role("article", name="Beacon 30")).to_have_count(0)
        page.get_by_role("textbox", name="Find a surface").fill("")
        page.get_by_role("article", name="Beacon 30").hover()
        page.get_by_role("button", name="More about Beacon 30").click()
        page.get_by_role("menuitem", name="Fold away").click()
        expect(page.get_by_role("button", name="Show 1 folded away")).to_be_visible()

        # three over the same ground, with the height of each under the pointer
        self.put("A", "Skerry 5 E448N5438")
        page.get_by_role("combobox", name="Surface in B").click()
        page.get_by_role("combobox", name="Find a surface for B").fill("beacon")
        page.keyboard.press("Enter")
        expect(page.get_by_role("combobox", name="Surface in B")).to_contain_text("Beacon 30")
        self.mode("Several")
        parts = page.get_by_role("group", name="Surfaces side by side").get_by_role("region")
        expect(parts).to_have_count(2)
        page.get_by_role("combobox", name="Add a surface").click()
        page.get_by_role("option", name=re.compile("^" + re.escape(tile["name"]))).click()
        expect(parts).to_have_count(3)
        with page.expect_response(lambda one: one.url.endswith("/lines")) as heard:
            page.get_by_label(re.compile("^Contours every")).fill("25")
        self.assertEqual(heard.value.status, 200)
        box = parts.nth(1).bounding_box()
        page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
        page.mouse.move(box["x"] + box["width"] * 0.5 + 2, box["y"] + box["height"] * 0.5)
        height = parts.nth(1).get_by_text(re.compile(r"^[-\u2212]?\d+\.\d\d\s?m$"))
        expect(height).to_be_visible()
        expect(page.get_by_test_id("probe-b")).to_have_text(height.inner_text())
        page.get_by_role("button", name=f"Leave {tile['name']} out").click()
        expect(parts).to_have_count(2)
