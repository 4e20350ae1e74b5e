"""Surfaces brought to one frame, unit and area: what a technician does in Fit."""

from __future__ import annotations

from tests.browser.base import expect
from tests.browser.test_join import Joining


class FitTest(Joining):
    def sheet(self, name: str) -> None:
        self.stage("Fit")
        back = self.page.get_by_role("button", name="All in Fit")
        if back.count():
            back.click()
        self.page.locator(".ops").get_by_role("button", name=name).click()

    def made(self, name: str) -> dict:
        """Run the open worksheet under a name and wait for what it makes."""
        page = self.page
        page.get_by_label("Name", exact=True).fill(name)
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("article", name=name, exact=True)).to_be_visible(timeout=120_000)
        return next(one for one in self.api("GET", "/holdings") if one["name"] == name)

    def test_a_surface_is_fitted_clipped_changed_and_calculated_with(self):
        page = self.page
        self.put("A", "Beacon 30")
        beacon = next(one for one in self.api("GET", "/holdings") if one["name"] == "Beacon 30")

        # on the frame's lattice, at cells of its own choice; nearest is warned against
        self.sheet("Reproject and resample")
        page.get_by_label("Cell size").fill("10")
        self.choose("Read", "nearest, for classes")
        page.get_by_role("button", name="Use bilinear").click()
        fitted = self.made("Beacon at 10 m")
        self.assertEqual((fitted["surface"]["crs"], fitted["surface"]["cell_size"]), ("EPSG:32741", 10))

        # only the lake, and everything but the lake
        self.sheet("Clip and mask")
        self.choose("Surface", "Beacon at 10 m")
        self.choose("Polygons", "Lakes")
        lake = self.made("Lake only")
        self.choose("Keep", "outside, the inside is emptied")
        rest = self.made("All but the lake")
        kept = [
            one["surface"]["statistics"]["cells"] - one["surface"]["statistics"]["empty"]
            for one in (lake, rest, fitted)
        ]
        self.assertEqual(kept[0] + kept[1], kept[2])
        self.assertLess(lake["surface"]["cols"], fitted["surface"]["cols"])

        # in feet, from another zero
        self.sheet("Change heights")
        self.choose("Surface", "Beacon at 10 m")
        expect(page.get_by_text("Nothing would change.")).to_be_visible()
        self.choose("Unit", "international feet")
        page.get_by_label("Raised by").fill("10")
        feet = self.made("Beacon in feet")
        self.assertEqual(feet["surface"]["unit"], "ft")
        self.assertAlmostEqual(
            feet["surface"]["statistics"]["mean"], fitted["surface"]["statistics"]["mean"] / 0.3048 + 10, places=2
        )

        # an expression, its mistake shown at its place; what it gives is read off the probe
        self.sheet("Calculate")
        field = page.get_by_label("Expression")
        field.fill("a - c")
        expect(page.get_by_role("alert")).to_contain_text("There is no surface 'c'")
        expect(page.get_by_role("alert").locator("mark")).to_have_text("c")
        field.fill("where(a > 100, a - 100, 0)")
        expect(page.get_by_role("alert")).to_have_count(0)
        expect(page.locator(".tag", has_text="preview")).to_be_visible(timeout=30_000)
        self.point_at(0.46, 0.42)
        expect(page.get_by_label("Probe")).to_contain_text("A is the preview")
        seen = self.probe()
        height = self.api("GET", f"/probe?x={seen['x']}&y={seen['y']}&a={beacon['key']}")["readings"]["a"]["height"]
        self.assertAlmostEqual(seen["a"], max(height - 100, 0), delta=0.02)
