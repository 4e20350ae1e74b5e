"""The pictures in docs/screenshots, from a fresh demo: python manage.py test tests.browser.pictures"""

from tests.browser.base import BrowserTest, expect
from yama.launch import ROOT


class PicturesTest(BrowserTest):
    def shot(self, name: str) -> None:
        self.settle()
        expect(self.page.get_by_label("Loading the map")).to_have_count(0)
        self.page.wait_for_timeout(2500)
        self.page.screenshot(path=ROOT / "docs" / "screenshots" / f"{name}.png")

    def test_take_them(self):
        page = self.page
        self.put("A", "Beacon 30")
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        page.get_by_role("button", name="Leave out").click()
        for name, method in (
            ("Survey IDW", "Inverse distance"),
            ("Survey nearest", "Nearest"),
            ("Survey TIN", "Triangulation"),
        ):
            page.locator(".mt", has_text=method).click()
            page.get_by_label("Name", exact=True).fill(name)
            self.settle()
            page.get_by_role("button", name="Run", exact=True).click()
            expect(page.get_by_role("article", name=name)).to_be_visible(timeout=120_000)
        page.get_by_label("Edge limit").fill("150")
        page.get_by_label("Name", exact=True).fill("Survey TIN, short edges")
        self.put("B", "Survey IDW")
        self.mode("Curtain")
        page.get_by_role("slider", name="Curtain").focus()
        for _ in range(4):
            page.keyboard.press("ArrowLeft")
        self.point_at(0.46, 0.64)
        page.mouse.wheel(0, -500)
        self.point_at(0.45, 0.60)
        self.shot("build")

        page.get_by_role("button", name="All in Build").click()
        self.put("A", "Survey TIN")
        self.put("B", "Beacon 30")
        self.shot("curtain")
        self.mode("Minus")
        self.shot("minus")
        self.mode("Pair")
        page.mouse.wheel(0, -900)
        self.point_at(0.2, 0.55)
        self.shot("pair")
        self.mode("Curtain")
        page.get_by_role("button", name="Whole frame").click()
        self.settle()
        for x, y in ((0.46, 0.5), (0.5, 0.62), (0.47, 0.74)):
            box = page.locator(".map").bounding_box()
            page.locator(".map").click(position={"x": box["width"] * x, "y": box["height"] * y})
            page.wait_for_timeout(700)
        self.shot("readings")
        page.get_by_role("tab", name="Surfaces").click()
        self.stage("Judge")
        page.get_by_role("button", name="Accuracy at checkpoints").click()
        self.shot("judge")
        self.stage("Gather")
        page.get_by_role("button", name="Add files").click()
        own = self.var / "bank heights.csv"
        rows = [
            f"{62.39 + i / 2000:.5f};{-41.22 - (i % 7) / 1500:.5f};{20 + i / 9:.2f}".replace(".", ",")
            for i in range(60)
        ]
        own.write_text("lon;lat;height\n" + "\n".join(rows) + "\n62,4;-41,2;wet\n")
        cut = self.var / "cut short.tif"
        cut.write_bytes((self.var / "demo" / "beacon_30.tif").read_bytes()[:30_000])
        page.get_by_label("Files to add").set_input_files([own, cut])
        expect(page.get_by_role("alert")).to_be_visible()
        self.shot("gather")
