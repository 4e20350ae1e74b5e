"""A whole running Yama for the browser's tests, and a page signed in to it in a project of its own."""

from __future__ import annotations

import atexit
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any

from django.test import SimpleTestCase
from playwright.sync_api import expect, sync_playwright

from yama.launch import ROOT, Instance, prepare

_CHROMIUM = [
    "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip


SHARED = "YAMA_TEST_INSTANCE"
"""The variable that describes a running Yama to the tests: see `__main__`."""


class Running:
    """The Yama that tests run against: the one that is described to them, or one of their own, started by the first
    of them and stopped when Python ends."""

    var: Path
    root: str
    environment: dict[str, str]
    control: str
    """Key by which depots are told how to behave."""
    instance: Instance | None = None
    _helper: subprocess.Popen[str] | None = None

    @classmethod
    def ensure(cls) -> None:
        if cls._helper is not None:
            return
        os.environ["YAMA_JOB_SILENCE"] = "3"
        shared = json.loads(os.environ.get(SHARED, "{}"))
        if "root" in shared:
            cls.var, cls.root = Path(shared["var"]), shared["root"]
            cls.environment, cls.control = shared["environment"], shared["control"]
        else:
            cls.var = Path(shared.get("var") or tempfile.mkdtemp(prefix="yama-browser-"))
            cls.begin(0)
        atexit.register(cls.end)
        cls.help()

    @classmethod
    def begin(cls, port: int) -> None:
        cls.instance = Instance(prepare(cls.var, port))
        cls.root = cls.instance.start().split("/enter/")[0]
        cls.environment, cls.control = cls.instance.place.environment, cls.instance.place.secret["depot"]

    @classmethod
    def help(cls) -> None:
        cls._helper = subprocess.Popen(
            [sys.executable, "-m", "tests.browser.copies"], env=cls.environment, cwd=ROOT, text=True,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip

    @classmethod
    def ask(cls, line: str) -> str:
        """What the helper answers; see `copies`."""
        assert cls._helper is not None and cls._helper.stdin is not None and cls._helper.stdout is not None
        cls._helper.stdin.write(line + "\n")
        cls._helper.stdin.flush()
        return cls._helper.stdout.readline().strip()

    @classmethod
    def restart(cls) -> None:
        """Stop everything and start it again from the same folder, at the same address."""
        assert cls.instance is not None, "only an instance of its own may be stopped by a test"
        port = cls.instance.place.port
        cls.instance.stop()
        cls.begin(port)
        cls.help()  # the database is at another port

    @classmethod
    def end(cls) -> None:
        if cls._helper is not None:
            cls._helper.communicate()
        if cls.instance is not None:
            cls.instance.stop()
            if not os.environ.get(SHARED):
                shutil.rmtree(cls.var, ignore_errors=True)


class BrowserTest(SimpleTestCase):
    """`self.page` is fresh for each test and fails it on any script error."""

    arguments = _CHROMIUM

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        Running.ensure()
        cls.var, cls.root = Running.var, Running.root
        cls.playwright = sync_playwright().start()
        cls.addClassCleanup(cls.playwright.stop)
        cls.browser = cls.playwright.chromium.launch(executable_path="/usr/bin/chromium", args=cls.arguments)
        cls.addClassCleanup(cls.browser.close)
        first = cls.browser.new_context()
        first.new_page().goto(f"{cls.root}/enter/{Running.ask('enter')}")
        cls.session = first.storage_state()
        first.close()
        expect.set_options(timeout=60_000)

    def setUp(self):
        context = self.browser.new_context(
            storage_state=self.session, viewport={"width": 1280, "height": 800}, accept_downloads=True
        )
        self.addCleanup(context.close)
        self.errors: list[str] = []
        self.page = context.new_page()
        self.page.set_default_timeout(60_000)
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.errors, []))
        self.refused: list[str] = []
        self.page.on(
            "response", lambda got: self.refused.append(f"{got.status} {got.url}") if got.status > 399 else None
        )
        self.page.on("requestfailed", lambda asked: self.refused.append(f"{asked.failure} {asked.url}"))
        self._open: set[object] = set()
        self.page.on("request", lambda asked: self._open.add(asked))
        for ended in ("requestfinished", "requestfailed"):
            self.page.on(ended, lambda asked: self._open.discard(asked))
        # each test begins with a desk that remembers nothing, in a demo project of its own
        self.project = int(Running.ask("copy"))
        context.add_init_script(
            f"localStorage.getItem('yama.project') || localStorage.setItem('yama.project', '{self.project}')"
        )
        self.page.goto(self.root)
        expect(self.page.get_by_role("region", name="Map")).to_be_visible()

    # -- what a technician does -------------------------------------------------------------------------

    def stage(self, name: str) -> None:
        self.page.get_by_role("navigation", name="Stages").get_by_role(
            "button", name=re.compile(rf"^\d\s*{name}\b")
        ).click()

    def put(self, slot: str, surface: str) -> None:
        self.page.get_by_role("combobox", name=f"Surface in {slot}").click()
        self.page.get_by_role("option", name=re.compile("^" + re.escape(surface))).click()

    def mode(self, name: str) -> None:
        self.page.locator(".modes label", has_text=name).click()

    def to_map(self) -> None:
        """From the scorecard back to the map."""
        self.page.get_by_role("radiogroup", name="What stands in the middle").get_by_text("Map").click()

    def point_at(self, x: float, y: float) -> None:
        """Point at a share of the map, and wait until the readings are those of that cell."""
        box = self.page.locator(".map").bounding_box()
        self.page.mouse.move(box["x"] + box["width"] * x - 6, box["y"] + box["height"] * y)
        self.page.mouse.move(box["x"] + box["width"] * x, box["y"] + box["height"] * y)
        self.settle()

    def api(self, method: str, path: str, body: object = None, kind: str = "application/json") -> Any:
        """What the service answers to a request about the project, such as GET /holdings, from whoever is signed in.
        bytes are sent as they are."""
        token = next(one["value"] for one in self.page.context.cookies() if one["name"] == "csrftoken")
        answer = self.page.request.fetch(
            f"{self.root}/api/projects/{self.project}{path}",
            method=method,
            data=body if isinstance(body, bytes) or body is None else json.dumps(body),
            headers={"X-CSRFToken": token, "Referer": self.root, "Content-Type": kind},
        )
        self.assertTrue(answer.ok, f"{method} {path}: {answer.status} {answer.text()[:2000]}")
        return answer.json() if answer.body() else None

    def holding(self, name: str) -> dict[str, Any]:
        """What the service tells of a holding of the project."""
        return next(one for one in self.api("GET", "/holdings") if one["name"] == name)

    def settle(self) -> None:
        """Wait until nothing has been asked of the service for longer than the desk waits for another key."""
        until = time.monotonic() + 60
        quiet = 0
        while quiet < 6 and time.monotonic() < until:
            self.page.wait_for_timeout(70)
            quiet = 0 if self._open else quiet + 1

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
