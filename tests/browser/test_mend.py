"""A surface is mended: suspects gone through, a bridge smoothed along its deck, undone, done again and stored."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np
import shapely

from tests.browser.base import BrowserTest, expect
from yama.demo.terrain import FRAME, island
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Window
from yama.terrain.surface import ArraySurface, store

_ROWS, _COLS = 420, 520


class MendTest(BrowserTest):
    def setUp(self):
        super().setUp()
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        truth = island()
        self.deck = truth.viaduct
        middle = (self.deck.start + self.deck.end) / 2
        window = Window(
            round(float(FRAME.row_of(middle[1]))) - _ROWS // 2,
            round(float(FRAME.col_of(middle[0]))) - _COLS // 2,
            _ROWS,
            _COLS,
        )
        grid = FRAME.part(window)
        self.way = (self.deck.end - self.deck.start) / self.deck.length
        self.across = np.array([-self.way[1], self.way[0]])
        cells = truth.heights[window.row : window.row + _ROWS, window.col : window.col + _COLS].astype(np.float64)
        rng = np.random.default_rng(1)
        on_deck = inside([shapely.Polygon(self.corners(0, self.deck.width / 2))], grid) > 0
        cells[on_deck] = self.deck.height + rng.normal(0, 2.0, int(on_deck.sum()))
        cells[on_deck & (rng.uniform(size=cells.shape) < 0.1)] -= 30
        for down, right, up in ((-80, -170, 11.0), (90, 150, -9.0)):
            row, col = _ROWS // 2 + down, _COLS // 2 + right
            cells[row : row + 2, col : col + 2] += up
        path = Path(held.name) / "Avel, matched.tif"
        store(ArraySurface(cells.astype(np.float32), grid), path)
        self.stage("Gather")
        self.page.get_by_role("button", name="Add files").click()
        self.page.get_by_label("Files to add").set_input_files(str(path))
        self.page.get_by_role("region", name="Avel, matched", exact=True).get_by_text("cells").first.wait_for(
            timeout=60_000
        )
        self.surface = self.holding("Avel, matched")
        self.look_at(*middle, 0.9)

    def corners(self, longer: float, half: float) -> list[tuple[float, float]]:
        start, end = self.deck.start - longer * self.way, self.deck.end + longer * self.way
        return [
            tuple(map(float, at + s * half * self.across)) for at, s in ((start, -1), (end, -1), (end, 1), (start, 1))
        ]

    def look_at(self, x: float, y: float, resolution: float) -> None:
        """Open the project with the map there, at so many metres a pixel."""
        self.settle()
        self.page.goto(f"{self.root}/api/accounts/me")
        # the desk says what it remembers when it is left, and that must not come later
        self.page.wait_for_timeout(1500)
        desk = self.api("GET", "/desk") or {}
        key = self.surface["key"]
        desk |= {
            "view": {"center": [float(x), float(y)], "resolution": resolution},
            "slots": {"a": key, "b": key},
            "begun": True,
            "stage": "Mend",
            "operation": "mend",
            "sheets": (desk.get("sheets") or {})
            | {"mend": {"inputs": {"surface": self.surface["id"]}, "params": {}, "name": ""}},
        }
        self.api("PUT", "/desk", desk)
        self.page.goto(self.root)
        expect(self.page.get_by_role("region", name="Map")).to_be_visible()
        self.middle, self.resolution = (x, y), resolution
        self.settle()

    def pixel(self, place) -> tuple[float, float]:
        box = self.page.get_by_role("region", name="Map").bounding_box()
        return (
            box["x"] + box["width"] / 2 + (place[0] - self.middle[0]) / self.resolution,
            box["y"] + box["height"] / 2 - (place[1] - self.middle[1]) / self.resolution,
        )

    def draw(self, key: str, places) -> None:
        """Click along an outline or a line, and at its last place once more, which ends it."""
        self.page.keyboard.press(key)
        expect(self.page.locator(".toolhint")).to_contain_text("Click")
        for place in [*places, places[-1]]:
            self.page.mouse.click(*self.pixel(place), delay=20)
            self.page.wait_for_timeout(400)  # two clicks in a row would be one double click
        expect(self.page.locator(".toolhint")).to_contain_text("Drag a vertex")
        self.settle()

    def drag(self, start, end) -> None:
        self.page.mouse.move(*self.pixel(start))
        self.page.mouse.down()
        self.page.mouse.move(*self.pixel((start + end) / 2), steps=3)
        self.page.mouse.move(*self.pixel(end), steps=3)
        self.page.mouse.up()

    def readings_at(self, place) -> dict[str, float]:
        x, y = self.pixel(place)
        self.page.mouse.move(x - 7, y)
        self.page.mouse.move(x, y)
        self.settle()
        return self.probe()

    def expect_reading(self, place, holds, words: str) -> dict[str, float]:
        """Wait until the readings there are as they should be: what is looked at follows a change a little later."""
        until = time.monotonic() + 30
        while not holds(read := self.readings_at(place)):
            if time.monotonic() > until:
                self.fail(f"{words}: {read}")
        return read

    def entries(self):
        return self.api("GET", f"/holdings/{self.surface['id']}/patches")["entries"]

    def test_a_bridge_and_suspects_are_mended_undone_seen_and_stored(self):
        page = self.page
        patches = page.get_by_role("list", name="Patches, first to last")
        suspects = page.get_by_role("list", name="Suspects, worst first")

        # what is suspect in the view, gone through by keys
        kinds = page.get_by_role("radiogroup", name="Kind")
        expect(kinds).to_contain_text("spikes")
        kinds.get_by_text("spikes").click()
        expect(suspects.get_by_role("listitem").first).to_contain_text("Spike")
        count = suspects.get_by_role("listitem").count()
        page.keyboard.press("j")
        page.keyboard.press("Enter")
        expect(patches.get_by_role("listitem")).to_have_count(1)
        if count > 1:
            expect(suspects.get_by_role("listitem")).to_have_count(count - 1)
        else:
            expect(page.get_by_text("Nothing here is suspect")).to_be_visible()
        self.look_at(*self.middle, self.resolution)
        kinds.get_by_text("pits").click()
        expect(suspects.get_by_role("listitem").first).to_contain_text("Pit")
        page.get_by_role("button", name="It is real").first.click()
        expect(page.get_by_role("list", name="Keep-outs")).to_contain_text("Pit, real")

        # the deck: roughly round it, then square, then along it
        self.look_at(*self.middle, self.resolution)
        rough = self.corners(3, self.deck.width / 2 + 0.3)
        self.draw("o", [rough[0], rough[1], rough[2] + self.way * 2, rough[3]])
        expect(patches.get_by_role("listitem")).to_have_count(2)
        page.keyboard.press("q")
        self.settle()
        page.locator("label", has_text="Along").first.click()
        self.settle()
        expect(patches).to_contain_text("2 Along")
        window = page.get_by_role("textbox", name="Window")
        window.fill("75")
        window.blur()
        self.settle()
        ring = next(one["content"] for one in self.entries() if one["content"]["name"] == "Along")
        self.assertEqual((len(ring["ring"]), ring["operator"]["window"]), (4, 75))
        on_deck = (self.deck.start + self.deck.end) / 2 + 12 * self.way
        read = self.expect_reading(
            on_deck, lambda got: abs(got.get("a", 0) - self.deck.height) < 2 and got.get("minus"), "the deck is mended"
        )
        self.assertAlmostEqual(read["minus"], read["a"] - read["b"], delta=0.011)
        moved = page.locator(".est b")
        expect(moved).to_contain_text("m³ moved")

        # undone after the browser was closed, and done again
        self.look_at(*self.middle, self.resolution)
        undo = page.get_by_role("button", name="Undo")
        expect(undo).to_have_attribute("title", "Undo: change Along")
        undo.click()
        self.settle()
        self.assertEqual(
            {one["content"]["operator"].get("window") for one in self.entries() if one["content"]["name"] == "Along"},
            {50},
        )
        page.get_by_role("button", name="Redo").click()
        self.settle()
        toggle = patches.get_by_role("switch").nth(1)
        toggle.click()
        self.settle()
        self.expect_reading(on_deck, lambda got: got.get("minus") == 0, "the patch is off")
        toggle.click()
        self.settle()
        self.expect_reading(on_deck, lambda got: abs(got.get("a", 0) - read["a"]) < 0.1, "the deck is as it was")

        # the deck is kept out, and what stands around it is cleared: the deck stays as it is to the last digit
        page.get_by_role("button", name="Draw the next outline as a keep-out").click()
        self.draw("o", [tuple(map(float, one)) for one in self.corners(0, self.deck.width / 2 + 1)])
        expect(page.get_by_role("list", name="Keep-outs").get_by_role("listitem")).to_have_count(2)
        expect(page.get_by_text("Along was there before the keep-out, and goes on changing it.")).to_be_visible()
        kept = self.readings_at(on_deck)["a"]
        self.assertAlmostEqual(kept, read["a"], delta=0.02)
        count = len(self.entries())
        page.keyboard.press("e")
        expect(page.locator(".toolhint")).to_contain_text("drag")
        self.drag(on_deck - 70 * self.way - 60 * self.across, on_deck + 70 * self.way + 60 * self.across)
        expect(page.locator(".toolhint")).to_contain_text("Drag a vertex")
        page.locator("label", has_text="Clear").first.click()
        self.settle()
        self.assertEqual(len(self.entries()), count + 1)
        expect(patches).to_contain_text("3 Clear")
        self.assertEqual(self.readings_at(on_deck)["a"], kept)

        # it is copied to another place, the copy moved before it, and a hedge goes under a stroke of the brush
        page.keyboard.press("y")
        expect(page.locator(".toolhint")).to_contain_text("Click what is meant")
        page.mouse.click(*self.pixel(on_deck + 110 * self.across))
        expect(patches.get_by_role("listitem")).to_have_count(4)
        page.get_by_text("Name, note, rim, place").click()
        page.get_by_role("textbox", name="Name", exact=True).fill("Clear, south")
        page.get_by_role("textbox", name="Name", exact=True).blur()
        page.get_by_role("button", name="Earlier").click()
        self.settle()
        self.assertEqual(
            [one["content"]["name"] for one in self.entries() if one["kind"] == "patch"][2:], ["Clear, south", "Clear"]
        )
        page.keyboard.press("i")
        expect(page.locator(".toolhint")).to_contain_text("stroke")
        self.drag(on_deck + 90 * self.across, on_deck + 90 * self.across + 60 * self.way)
        expect(patches.get_by_role("listitem")).to_have_count(5)
        page.keyboard.press("Escape")
        self.settle()
        stroke = self.entries()[-1]["content"]
        self.assertEqual((stroke["width"], stroke["operator"]["kind"]), (12, "clear"))

        # a river that would have to rise says so, and holds up the rest until it is switched off
        uphill = [self.deck.start - 60 * self.across, self.deck.start - 60 * self.across - 150 * self.way]
        self.draw("l", [tuple(map(float, one)) for one in uphill])
        low, high = (self.readings_at(one)["b"] for one in uphill)
        if high > low:
            expect(patches.get_by_role("alert")).to_contain_text("m higher than it begins")
            expect(page.get_by_role("button", name="Store")).to_be_disabled()
        patches.get_by_role("switch").last.click()
        self.settle()

        # an outline in three dimensions, one of its vertices dragged, and away with it
        page.get_by_role("button", name="3D").click()
        scene = page.get_by_role("region", name="Three dimensions")
        expect(scene).to_have_attribute("aria-busy", "false", timeout=60_000)
        box = scene.bounding_box()
        at = [
            (box["x"] + box["width"] * u, box["y"] + box["height"] * v) for u, v in ((0.4, 0.6), (0.6, 0.6), (0.5, 0.8))
        ]
        count = len(self.entries())
        page.keyboard.press("o")
        expect(page.locator(".toolhint")).to_contain_text("Click")
        for place in [*at, at[-1]]:
            page.mouse.move(*place)
            page.mouse.click(*place)
        expect(page.locator(".toolhint")).to_contain_text("Drag a vertex")
        self.settle()
        drawn = self.entries()[-1]["content"]["ring"]
        self.assertEqual((len(self.entries()), len(drawn)), (count + 1, 3))
        outline, surface = shapely.Polygon(drawn), shapely.box(*self.surface["bounds"])
        self.assertTrue(surface.contains(outline), drawn)
        self.assertLess(shapely.Point(self.middle).distance(outline), 200)
        page.mouse.move(*at[1])
        page.mouse.down()
        page.mouse.move(at[1][0] + 40, at[1][1] - 10, steps=4)
        page.mouse.up()
        self.settle()
        moved_to = self.entries()[-1]["content"]["ring"]
        self.assertEqual((moved_to[0], moved_to[2]), (drawn[0], drawn[2]))
        self.assertGreater(moved_to[1][0], drawn[1][0] + 5)
        page.keyboard.press("Delete")
        self.settle()
        self.assertEqual(len(self.entries()), count)
        page.get_by_role("button", name="Back to the map").click()

        # what is stored is what was looked at
        page.get_by_role("button", name="Store").click()
        expect(page.get_by_text("is made.")).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Put in A").click()
        self.settle()
        self.expect_reading(on_deck, lambda got: abs(got.get("a", 0) - read["a"]) < 0.1, "the deck is as it was")
