"""Nothing is clipped or laid over something else, at two widths and with scrollbars that take room; and all can use it.

Both are asked of every worksheet and tab. What is clipped is measured letter by letter; what people with disabilities
need is told by axe's rules for WCAG 2.2, levels A and AA.
"""

import json
import re

from tests.browser.base import BrowserTest, expect
from yama.launch import ROOT

SHEETS = {
    "Gather": ("Add files", "Order tiles", "Fetch map features", "Edit lines", "What came in", "Frame", "New project", "Members"),
    "Build": ("Interpolate points", "Which method?", "Grid a point cloud", "Find ground points", "Surface from contours",
              "Height above ground"),
    "Join": ("Mosaic", "Fill holes"),
    "Fit": ("Reproject and resample", "Clip and mask", "Change heights", "Set cell type", "Calculate"),
    "Judge": ("Scorecard", "Brief", "Water level", "Difference", "Figures of a difference"),
    "Drain": ("Streams", "Hollows", "Conditioned heights", "Catchments"),
    "Deliver": ("Contours", "Package", "Open to other programs", "Download surfaces", "Slope", "Hillshade"),
}  # fmt: skip
TABS = ("Surfaces", "Lines, points, pictures", "Tables", "Profile", "Heights", "Readings", "Recipe")
LONG = "A surface with a name as long as the field allows, such as people give who want to remember all that they did to it today"

# Text is clipped where its letters reach beyond a box that cuts them off without saying so by three dots; and two texts are laid over
# each other where the boxes of their letters share more than a hair.
LOOK = """() => {
  const found = [];
  const boxes = [];
  const seen = (element) =>
    element.checkVisibility({ opacityProperty: true, visibilityProperty: true, contentVisibilityAuto: true });
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    const text = node.textContent.trim();
    const parent = node.parentElement;
    if (!text || !parent || parent.closest("script, style, option, datalist, [aria-hidden=true], .ol-viewport") || !seen(parent)) continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    let part = range.getBoundingClientRect();
    if (!part.width || !part.height) continue;
    let shown = { left: part.left, right: part.right, top: part.top, bottom: part.bottom };
    let dotted = false;
    for (let box = parent; box; box = box.parentElement) {
      const style = getComputedStyle(box);
      if (style.textOverflow === "ellipsis" && style.overflowX !== "visible") dotted = true;
      if (style.overflowX === "visible" && style.overflowY === "visible") continue;
      const edge = box.getBoundingClientRect();
      const inner = { left: edge.left + box.clientLeft, right: edge.left + box.clientLeft + box.clientWidth,
                      top: edge.top + box.clientTop, bottom: edge.top + box.clientTop + box.clientHeight };
      // what lies below a box that scrolls is reached by scrolling; what stands out at its sides is not looked for
      const sideways = shown.right > inner.right + 1 || shown.left < inner.left - 1;
      const scrolls = box.classList.contains("scrollx") || ["auto", "scroll"].includes(style.overflowX) && box.closest(".strip, .MuiPopover-paper");
      if (sideways && !dotted && !scrolls && shown.bottom > inner.top && shown.top < inner.bottom)
        found.push(`clipped: "${text.slice(0, 60)}" in ${box.className || box.tagName}`);
      shown = { left: Math.max(shown.left, inner.left), right: Math.min(shown.right, inner.right),
                top: Math.max(shown.top, inner.top), bottom: Math.min(shown.bottom, inner.bottom) };
      if (style.position === "fixed") break;
    }
    if (shown.right - shown.left > 2 && shown.bottom - shown.top > 6 && parent.closest(".sheet, .strip, .top, .probe, .key"))
      // a text that is broken has a box for each of its lines
      for (const line of range.getClientRects()) {
        const cut = { left: Math.max(line.left, shown.left), right: Math.min(line.right, shown.right),
                      top: Math.max(line.top, shown.top), bottom: Math.min(line.bottom, shown.bottom) };
        if (cut.right - cut.left > 2 && cut.bottom - cut.top > 6) boxes.push({ text, shown: cut, node });
      }
    if (part.right > innerWidth + 1 && !dotted) found.push(`beyond the screen: "${text.slice(0, 60)}"`);
  }
  for (let i = 0; i < boxes.length; i++)
    for (let j = i + 1; j < boxes.length; j++) {
      const [one, other] = [boxes[i].shown, boxes[j].shown];
      const wide = Math.min(one.right, other.right) - Math.max(one.left, other.left);
      const high = Math.min(one.bottom, other.bottom) - Math.max(one.top, other.top);
      if (boxes[i].node !== boxes[j].node && wide > 2 && high > 5) found.push(`over each other: "${boxes[i].text.slice(0, 40)}" and "${boxes[j].text.slice(0, 40)}"`);
    }
  for (const input of document.querySelectorAll("input:not([type=checkbox]):not([type=radio]):not([type=range]):not([type=file])")) {
    if (!seen(input) || !input.clientWidth || input === document.activeElement) continue;
    const style = getComputedStyle(input);
    const ruler = document.createElement("canvas").getContext("2d");
    ruler.font = `${style.fontWeight} ${style.fontSize} ${style.fontFamily}`;
    const written = input.value || input.placeholder;
    const room = input.clientWidth - parseFloat(style.paddingLeft) - parseFloat(style.paddingRight);
    if (input.inputMode === "decimal" && ruler.measureText(written).width > room + 1)
      found.push(`no room for "${written}" of ${input.id || input.getAttribute("aria-label")}: ${Math.round(room)} px`);
  }
  return [...new Set(found)];
}"""


class LayoutTest(BrowserTest):
    def setUp(self):
        super().setUp()
        # scrollbars as on most desktops: they take 15 pixels
        browser = self.playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=self.arguments, ignore_default_args=["--hide-scrollbars"]
        )
        self.addCleanup(browser.close)
        context = browser.new_context(storage_state=self.session, viewport={"width": 1280, "height": 800})
        context.add_init_script(f"localStorage.setItem('yama.project', '{self.project}')")
        self.page = context.new_page()
        self.page.set_default_timeout(60_000)
        surface = next(one for one in self.api("GET", "/holdings") if one["kind"] == "surface")
        for name in ("avel_p1.tif", "avel_p2.tif"):
            self.send(name)
        scan = self.send("old_sheet_scan.tif")["question"]
        self.api(
            "POST", f"/uploads/{scan['file_key']}/take", {"name": "old_sheet_scan.tif", "declared": {"picture": True}}
        )
        self.api("PATCH", f"/holdings/{surface['id']}", {"name": LONG[:120]})
        self.page.goto(self.root)
        expect(self.page.get_by_role("region", name="Map")).to_be_visible()

    def send(self, name: str):
        """Add a file of the demo, as the desk does."""
        content = (self.var / "demo" / name).read_bytes()
        return self.api("POST", f"/uploads?name={name}", content, "application/octet-stream")

    def pair_views(self):
        """Both images side by side, with each part of their worksheet open."""
        page = self.page
        self.stage("Build")
        page.locator(".ops").get_by_role("button", name="Image pair").click()
        expect(page.get_by_text("rays 24.8° apart")).to_be_visible(timeout=160_000)
        if page.get_by_role("button", name="Find tie points").count():
            yield "Image pair, no tie points"
            page.get_by_role("button", name="Find tie points").click()
        expect(page.get_by_role("region", name="Residuals")).to_be_visible(timeout=160_000)
        for title in ("Images", "Tie points", "Model", "Matching", "Surface"):
            head = page.get_by_role("region", name=title, exact=True).get_by_role("button").first
            if head.get_attribute("aria-expanded") == "false":
                head.click()
            page.wait_for_timeout(400)
            yield f"Image pair, {title}"
            head.click()
        page.get_by_role("button", name="Back to the map").click()
        page.get_by_role("tab", name="Lines, points, pictures").click()
        page.get_by_role("button", name="old_sheet_scan").click()
        yield "a picture"

    def mend_views(self):
        """A surface with patches: the list, one of them open, one that cannot be done, a keep-out, the lens and
        suspects."""
        page = self.page
        surface = self.holding(LONG[:120])
        frame = self.api("GET", "")["frame"]["grid"]
        x, y = frame["west"] + 5000, frame["north"] - 4000
        ring = [[x, y], [x + 300, y], [x + 300, y + 200], [x, y + 200]]
        operator = {"kind": "smooth", "radius": 60}
        patches = [
            {"name": "a", "content": {"name": LONG[:110], "ring": ring, "operator": operator}},
            {"name": "b", "content": {"name": "Avel", "ring": ring, "operator": {"kind": "falling"}}},
            {"name": "k", "kind": "keep_out", "content": {"name": LONG[:100], "ring": ring, "real": True}},
        ]
        path = f"/holdings/{surface['id']}/patches"
        if not self.api("GET", path)["entries"]:
            self.api("POST", path, {"says": patches})
        self.stage("Mend")
        page.locator(".ops").get_by_role("button", name="Mend").click()
        expect(page.get_by_role("alert").first).to_contain_text("nearly as wide as it is long")
        self.settle()
        yield "Mend, patches"
        page.get_by_role("button", name=re.compile("^1 A surface")).click()
        page.get_by_text("Name, note, rim, place").click()
        page.keyboard.press("n")
        self.settle()
        yield "Mend, a patch and the lens"
        page.keyboard.press("n")
        page.get_by_role("list", name="Keep-outs").get_by_role("button").first.click()
        yield "Mend, a keep-out"
        page.get_by_role("button", name="All in Mend").click()

    def each_view(self):
        """Every worksheet and tab, one after the other, by name."""
        page = self.page
        for stage, sheets in SHEETS.items():
            self.stage(stage)
            yield stage
            for sheet in sheets:
                page.get_by_role("region", name="Worksheet").get_by_role(
                    "button", name=re.compile(f"^{re.escape(sheet)}")
                ).first.click()
                expect(page.get_by_role("heading", level=1, name=sheet)).to_be_visible()
                page.wait_for_timeout(300)
                yield f"{stage}, {sheet}"
                page.get_by_role("button", name=f"All in {stage}").click()
        for tab in TABS:
            page.get_by_role("tab", name=re.compile(f"^{tab}")).click()
            page.wait_for_timeout(300)
            yield tab
        yield from self.mend_views()
        yield from self.pair_views()

    def test_nothing_is_clipped_and_everybody_can_use_it(self):
        axe = (ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")
        rules = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
        wrong: dict[str, set[str]] = {}
        for width, height in ((1280, 800), (1920, 1000)):
            self.page.set_viewport_size({"width": width, "height": height})
            self.page.evaluate(axe)
            for name in self.each_view():
                for said in self.page.evaluate(LOOK):
                    wrong.setdefault(said, set()).add(f"{name} at {width}")
                if width > 1280:
                    continue  # what axe looks at does not depend on the width
                told = self.page.evaluate(
                    "rules => axe.run(document, {runOnly: rules, resultTypes: ['violations']})", rules
                )
                for one in told["violations"]:
                    for node in one["nodes"]:
                        wrong.setdefault(f"{one['id']}: {node['html'][:160]}", set()).add(name)
        told = {said: sorted(views)[:4] for said, views in wrong.items()}
        self.assertEqual(told, {}, json.dumps(told, indent=1, ensure_ascii=False))
