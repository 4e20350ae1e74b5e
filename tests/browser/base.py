"""A whole running Yama for the browser's tests: its own folder, ports and demo; and a page signed in to it."""

from __future__ import annotations

import atexit
import os
import re
import shutil
import tempfile
import time
from collections import Counter
from pathlib import Path

from django.test import SimpleTestCase
from playwright.sync_api import expect, sync_playwright

from yama.launch import Instance, prepare

_CHROMIUM = [
    "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip


class Running:
    """The one Yama that all browser tests share, started by the first of them and stopped when Python ends."""

    var: Path
    instance: Instance
    address: str
    started = False

    @classmethod
    def ensure(cls) -> None:
        if cls.started:
            return
        os.environ["YAMA_JOB_SILENCE"] = "3"
        cls.var = Path(tempfile.mkdtemp(prefix="yama-browser-"))
        cls.instance = Instance(prepare(cls.var, 0))
        atexit.register(cls.end)
        cls.address = cls.instance.start()
        cls.started = True

    @classmethod
    def restart(cls) -> None:
        """Stop everything and start it again from the same folder, at the same address."""
        port = cls.instance.place.port
        cls.instance.stop()
        cls.instance = Instance(prepare(cls.var, port))
        cls.instance.start()

    @classmethod
    def end(cls) -> None:
        cls.instance.stop()
        shutil.rmtree(cls.var, ignore_errors=True)


class BrowserTest(SimpleTestCase):
    """`self.page` is fresh for each test and fails it on any script error."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        Running.ensure()
        cls.var, cls.address = Running.var, Running.address
        cls.root = cls.address.split("/enter/")[0]
        cls.playwright = sync_playwright().start()
        cls.addClassCleanup(cls.playwright.stop)
        cls.browser = cls.playwright.chromium.launch(executable_path="/usr/bin/chromium", args=_CHROMIUM)
        cls.addClassCleanup(cls.browser.close)
        first = cls.browser.new_context()
        token = Running.instance.manage("set_up", "--no-demo")
        first.new_page().goto(f"{cls.root}/enter/{token}")
        cls.session = first.storage_state()
        first.close()
        expect.set_options(timeout=20_000)

    def setUp(self):
        context = self.browser.new_context(
            storage_state=self.session, viewport={"width": 1280, "height": 800}, accept_downloads=True
        )
        self.addCleanup(context.close)
        self.errors: list[str] = []
        self.page = context.new_page()
        self.page.set_default_timeout(20_000)
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.errors, []))
        self.refused: list[str] = []
        self.page.on(
            "response", lambda got: self.refused.append(f"{got.status} {got.url}") if got.status > 399 else None
        )
        self.page.on("requestfailed", lambda asked: self.refused.append(f"{asked.failure} {asked.url}"))
        # each test begins with a desk that remembers nothing, in the demo project
        context.add_init_script("localStorage.getItem('yama.project') || localStorage.setItem('yama.project', '1')")
        token = next(cookie["value"] for cookie in self.session["cookies"] if cookie["name"] == "csrftoken")
        told = context.request.put(f"{self.root}/api/projects/1/desk", data={}, headers={"X-CSRFToken": token})
        self.assertEqual(told.status, 204)
        self.page.goto(self.root)
        expect(self.page.get_by_role("region", name="Map")).to_be_visible()

    # -- what a technician does -------------------------------------------------------------------------

    def stage(self, name: str) -> None:
        self.page.get_by_role("navigation", name="Stages").get_by_role(
            "button", name=re.compile(f"^{name}, stage")
        ).click()

    def put(self, slot: str, surface: str) -> None:
        self.page.get_by_role("combobox", name=f"Surface in {slot}").click()
        self.page.get_by_role("option", name=re.compile("^" + re.escape(surface))).click()

    def mode(self, name: str) -> None:
        self.page.locator(".modes label", has_text=name).click()

    def point_at(self, x: float, y: float) -> None:
        """Point at a share of the map, and wait until the readings are those of that cell."""
        box = self.page.locator(".map").bounding_box()
        self.page.mouse.move(box["x"] + box["width"] * x - 6, box["y"] + box["height"] * y)
        self.page.mouse.move(box["x"] + box["width"] * x, box["y"] + box["height"] * y)
        self.settle()

    def settle(self) -> None:
        """Wait until nothing is asked of the service for a moment."""
        self.page.wait_for_load_state("networkidle")
        time.sleep(0.25)
        self.page.wait_for_load_state("networkidle")

    def probe(self) -> dict[str, float]:
        """The readings on the probe line, as numbers."""
        text = self.page.get_by_label("Probe").inner_text()
        text = re.sub(r"(?<=\d)[\u00a0\u202f](?=\d)", "", text).replace("\u2212", "-")
        found = {}
        for name, pattern in {
            "x": r"E\s*([\d.]+)", "y": r"N\s*([\d.]+)", "a": r"\bA\s+(-?[\d.]+)\s*m", "b": r"\bB\s+(-?[\d.]+)\s*m",
            "minus": r"A - B\s+(-?[\d.]+)\s*m", "slope": r"slope\s+([\d.]+)", "aspect": r"aspect\s+([\d.]+)",
        }.items():  # fmt: skip
            match = re.search(pattern, text)
            if match:
                found[name] = float(match.group(1))
        return found

    def map_colours(self, left: float, top: float, right: float, bottom: float) -> list[tuple[int, int, int]]:
        """Colours on a lattice over a part of the map, as the screen shows them."""
        import io

        from PIL import Image

        box = self.page.locator(".map").bounding_box()
        clip = {
            "x": box["x"] + box["width"] * left, "y": box["y"] + box["height"] * top,
            "width": box["width"] * (right - left), "height": box["height"] * (bottom - top),
        }  # fmt: skip
        image = Image.open(io.BytesIO(self.page.screenshot(clip=clip))).convert("RGB")
        return [image.getpixel((x, y)) for x in range(2, image.width, 5) for y in range(2, image.height, 5)]

    def expect_colours(self, area: tuple[float, float, float, float], holds, message: str) -> None:
        """Wait until the colours on a part of the map are as they should be; drawing may take a while without a GPU."""
        until = time.monotonic() + 30
        while not holds(shown := self.map_colours(*area)):
            if time.monotonic() > until:
                counts = Counter(shown).most_common(4)
                refused = self.refused or "none"
                self.fail(f"{message}; most of it is {counts}, and requests refused are {refused}")
            self.page.wait_for_timeout(300)


__all__ = ["BrowserTest", "Running", "expect"]
