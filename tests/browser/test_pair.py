"""From two images to judged heights, as the technician does it."""

import re

from tests.browser.base import expect
from tests.browser.test_gather import GatherSheets

_AREA = (448_300, 5_435_600, 449_700, 5_437_000)
"""Frame coordinates of Mossgate and the gorge, where the pair is matched."""


class PairTest(GatherSheets):
    def pick(self, label: str, option: str) -> None:
        self.page.get_by_role("combobox", name=label, exact=True).click()
        self.page.get_by_role("option", name=option, exact=True).click()

    def part(self, title: str) -> None:
        """Unfold a part of the worksheet."""
        head = self.page.get_by_role("region", name=title, exact=True).get_by_role("button").first
        if head.get_attribute("aria-expanded") == "false":
            head.click()

    def figure(self, name: str) -> float:
        said = self.page.get_by_test_id(f"try-{name}").inner_text()
        return float(said.split()[0].replace("−", "-").replace(" ", ""))

    def test_from_two_files_to_judged_heights(self):
        page, demo = self.page, self.var / "demo"
        self.open_sheet("Add files")
        page.get_by_label("Files to add").set_input_files(
            [demo / "avel_p1.tif", demo / "avel_p2.tif", demo / "sundrel_geoid.tif"]
        )
        for name in ("avel_p1", "avel_p2", "sundrel_geoid"):
            self.arrived(name)

        # both images stand side by side, and say what they can give
        self.stage("Build")
        page.locator(".ops").get_by_role("button", name="Image pair").click()
        bench = page.get_by_role("region", name="Image pair")
        expect(bench).to_be_visible()
        expect(page.get_by_text("rays 24.8° apart")).to_be_visible()
        expect(page.get_by_text("2.27 m", exact=True)).to_be_visible()
        # rows of both meet only once the models are brought together
        page.get_by_role("button", name="Epipolar").click()
        expect(bench).to_contain_text("on the same rows within")
        page.get_by_role("button", name="As taken").click()

        # tie points bring them together, survey points and the geoid to the ground
        page.get_by_role("button", name="Find tie points").click()
        expect(page.get_by_role("region", name="Model")).to_be_visible()
        cards = page.get_by_role("list", name="Tie points").get_by_role("listitem")
        expect(cards).to_have_count(60, timeout=120_000)
        self.part("Tie points")
        expect(page.get_by_role("button", name="Find them again")).to_be_visible()
        expect(page.get_by_role("region", name="Residuals")).to_contain_text("left out by their spread")
        cards.filter(has_text="Leave out").first.get_by_role("button", name="Leave out").click()
        expect(page.get_by_role("button", name="Take it back")).to_have_count(1)
        # one by hand, and forgotten again
        page.get_by_role("button", name="Add one by hand").click()
        left = page.get_by_role("application", name="Left image")
        left.click(position={"x": 120, "y": 200})
        page.get_by_role("button", name="Forget 1 added").click()
        expect(page.get_by_role("button", name="Forget 1 added")).to_have_count(0)
        self.part("Model")
        self.pick("Control heights", "Survey points 2026")
        self.pick("Geoid", "sundrel_geoid")
        page.get_by_role("button", name="Adjust models").click()
        expect(page.get_by_text("adjusted", exact=True)).to_be_visible(timeout=180_000)

        # a press on the left image matches a window there
        box = left.bounding_box()
        left.click(position={"x": box["width"] * 0.55, "y": box["height"] * 0.77})
        expect(page.get_by_test_id("try-median")).not_to_have_text("–", timeout=60_000)
        expect(page.get_by_role("region", name="Try here")).to_have_attribute("aria-busy", "false", timeout=60_000)
        self.assertTrue(40 < self.figure("median") < 260, self.figure("median"))
        self.assertLess(self.figure("empty"), 30)
        left.hover(position={"x": box["width"] * 0.55, "y": box["height"] * 0.77})
        expect(page.get_by_role("region", name="Image pair")).to_contain_text("col")
        expect(page.get_by_test_id("probe-pair")).to_have_text(re.compile(r"^(\S+ m|empty)$"))
        # the window is dragged, and matched where it is let go
        before = page.get_by_test_id("try-median").inner_text()
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + box["height"] * 0.6, steps=6)
        page.mouse.up()
        expect(page.get_by_test_id("try-median")).not_to_have_text(before, timeout=60_000)

        # a part of it, and how good it is at the checkpoints
        self.part("Surface")
        page.get_by_role("button", name="This view").click()
        for side, value in zip(("West", "South", "East", "North"), _AREA, strict=True):
            page.get_by_label(side, exact=True).fill(str(value))
        page.get_by_label("Cell size").fill("4")
        page.get_by_label("Name", exact=True).fill("Pair heights")
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_role("tab", name="Surfaces").click()
        expect(page.get_by_role("article", name="Pair heights", exact=True)).to_be_visible(timeout=300_000)
        page.get_by_role("button", name="Back to the map").click()
        expect(page.get_by_role("region", name="Map")).to_be_visible()
        made = self.holding("Pair heights")
        self.assertGreater(made["accuracy"]["count"], 8)
        self.assertEqual([round(one) for one in made["bounds"]], list(_AREA))
        # trees stand above the ground in half of the scene; what is not under them is right to a fraction of a parallax cell
        points = self.holding("Checkpoints 2026")["id"]
        body = {"surfaces": [made["id"]], "points": points, "split": "cover"}
        self.api("POST", "/scorecard/judge", body)
        while (card := self.api("POST", "/scorecard", body))["waiting"]:
            page.wait_for_timeout(500)
        self.assertLess(card["rows"][0]["parallax"]["cells"], 1)
        grass = card["rows"][0]["parts"][card["split"]["names"].index("grass")]
        self.assertLess(abs(grass["median"]), 1.2)
        self.assertLess(grass["nmad"], 1.2)
        # trying one window ends when another is asked for
        ended = [one for one in self.refused if one.startswith("net::ERR_ABORTED") and one.endswith("/pairs/try")]
        self.assertEqual([one for one in self.refused if one not in ended], [])

        # both images through it, in the lens of Mend
        page.get_by_role("navigation", name="Stages").get_by_role("button", name=re.compile(r"^5\s*Mend")).click()
        page.get_by_role("button", name=re.compile("^Mend")).last.click()
        self.pick("Surface", "Pair heights")
        page.get_by_role("article", name="Pair heights", exact=True)
        page.keyboard.press("f")
        page.wait_for_timeout(800)
        page.keyboard.press("e")
        middle = page.get_by_role("region", name="Map").bounding_box()
        x, y = middle["x"] + middle["width"] * 0.5, middle["y"] + middle["height"] * 0.68
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 30, y + 20, steps=6)
        page.mouse.up()
        expect(page.get_by_role("list", name="Patches, first to last").get_by_role("listitem")).to_have_count(1)
        page.keyboard.press("n")
        lens = page.get_by_role("region", name="Lens")
        told = lens.get_by_role("status").first
        expect(told).to_contain_text(re.compile(r"jumps [\d.]+ cells, [\d.]+ before; alike on"), timeout=60_000)
        lens.get_by_text("Right", exact=True).click()
        expect(lens.get_by_text("right through A")).to_be_visible()
        lens.get_by_role("button", name="Keep this picture").click()
        expect(lens.get_by_role("slider")).to_be_visible()
        lens.get_by_role("button", name="Close the lens").click()
