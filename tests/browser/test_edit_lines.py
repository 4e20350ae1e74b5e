"""Lines edited by hand: chosen by their columns and on the map, joined, reshaped, drawn, undone, kept."""

from tests.browser.base import expect
from tests.browser.test_gather import GatherSheets


class EditLinesTest(GatherSheets):
    def edits(self, holding: int):
        return self.api("GET", f"/holdings/{holding}/edits")

    def rivers(self) -> int:
        return self.holding("Rivers")["id"]

    def drag(self, x: float, y: float, across: float, down: float) -> None:
        mouse = self.page.mouse
        mouse.move(x, y)
        mouse.down()
        mouse.move(x + across / 2, y + down / 2, steps=4)
        mouse.move(x + across, y + down, steps=4)
        mouse.up()

    def test_a_river_network_is_put_in_order(self):
        page = self.page
        self.open_sheet("Edit lines")
        self.choose("Lines", "Rivers")
        number = self.rivers()
        log = page.get_by_role("list", name="Edits made").get_by_role("listitem")
        chosen = page.locator(".sec", has_text="Choose where").or_(
            page.locator(".sec", has=page.get_by_label("Choose where"))
        )

        # by their columns; a mistake is named
        page.get_by_label("Choose where").fill("kinds = river")
        page.get_by_role("button", name="Choose", exact=True).click()
        expect(page.get_by_role("alert")).to_contain_text("There is no column kinds")
        page.get_by_label("Choose where").fill("kind = river and name contains vel")
        page.get_by_role("button", name="Choose", exact=True).click()
        expect(chosen.first).to_contain_text("4 of 135")

        # joined over their gaps; too small a gap is refused with advice
        page.get_by_label("Gap").fill("1")
        page.get_by_role("button", name="Join ends").click()
        expect(page.get_by_role("alert")).to_contain_text("Allow a wider gap")
        page.get_by_label("Gap").fill("150")
        page.get_by_role("button", name="Join ends").click()
        expect(log).to_have_count(1)
        expect(chosen.first).to_contain_text("1 of 132")
        page.keyboard.press("Tab")  # out of the field, where the key would undo typing
        page.keyboard.press("Control+z")
        expect(log.first).to_contain_text("undone")
        expect(chosen.first).to_contain_text("of 135")
        page.keyboard.press("Control+Shift+z")
        expect(chosen.first).to_contain_text("1 of 132")

        # a vertex is dragged: the first one of the line that the table goes to
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.locator(".pickrow", has_text="Rivers").click()
        for _ in range(4):
            page.get_by_role("button", name="Zoom in").click()
            page.wait_for_timeout(400)
        page.get_by_role("table", name="Features of Rivers").get_by_role("row").nth(3).click()
        page.wait_for_timeout(1200)
        self.settle()
        page.locator(".tool", has_text="Reshape").click()
        page.wait_for_timeout(500)
        box = page.locator(".map").bounding_box()
        middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        self.drag(*middle, -60, -40)
        expect(log.first).to_contain_text("Move a vertex")

        # a line is drawn, and taken back
        page.locator(".tool", has_text="Line").click()
        page.mouse.click(middle[0] - 150, middle[1] - 120)
        page.mouse.click(middle[0] - 100, middle[1] - 100)
        page.mouse.dblclick(middle[0] - 60, middle[1] - 140)
        expect(log.first).to_contain_text("Draw a line")
        page.get_by_role("button", name="Undo").click()
        expect(log.first).to_contain_text("undone")

        # the draft is there after a reload, and is kept as lines of their own
        before = self.edits(number)
        self.assertEqual((len(before["titles"]), before["done"]), (3, 2))
        page.reload()
        expect(log).to_have_count(3)
        page.get_by_label("Name", exact=True).fill("Rivers in order")
        page.get_by_role("button", name="Keep edits").click()
        expect(page.locator(".run").get_by_role("status")).to_contain_text("Rivers in order is made")
        made = self.holding("Rivers in order")
        self.assertEqual(made["features"]["counts"], {"lines": 132})
        self.assertEqual(made["recipe"]["input_ids"], {"features": number})
        self.assertEqual(self.edits(number)["titles"], [])
        expect(page.get_by_role("button", name="Keep edits")).to_be_disabled()
