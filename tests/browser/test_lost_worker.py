"""The program survives its own parts: a worker killed in the middle of a job, and a restart of everything."""

import os
import re
import signal
import subprocess
import time
from pathlib import Path

from tests.browser.base import BrowserTest, Running, expect


class LostWorkerTest(BrowserTest):
    def worker(self) -> int:
        """Process number of this instance's worker."""
        for line in subprocess.run(
            ["pgrep", "-f", "yama.service.celery"], capture_output=True, text=True
        ).stdout.split():
            try:
                environment = Path(f"/proc/{line}/environ").read_bytes()
            except OSError:
                continue
            if f"YAMA_VAR={self.var}\0".encode() in environment:
                return int(line)
        raise AssertionError("no worker is running")

    def test_killed_in_the_middle_the_job_is_done_by_the_next_worker(self):
        page = self.page
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        page.locator(".mt", has_text="Inverse distance").click()
        page.get_by_label("Neighbours").fill("64")
        page.get_by_label("Reach limit").fill("2000")
        page.get_by_label("Cell size").fill("4")
        page.get_by_label("Name", exact=True).fill("Slow one")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        expect(page.get_by_role("button", name="Jobs: 1 job")).to_be_visible()
        page.get_by_role("button", name="Jobs: 1 job").click()
        jobs = page.get_by_role("list", name="Jobs")
        expect(jobs.get_by_text(re.compile(r"running.*[1-9]"))).to_be_visible()
        os.kill(self.worker(), signal.SIGKILL)
        expect(jobs.get_by_text(re.compile("second try"))).to_be_visible(timeout=40_000)
        self.assertEqual(page.get_by_role("article", name="Slow one").count(), 0)
        expect(jobs.get_by_text(re.compile("done in .* second try"))).to_be_visible(timeout=90_000)
        page.keyboard.press("Escape")
        expect(page.get_by_role("article", name="Slow one")).to_be_visible()

        # a restart of everything keeps it
        Running.restart()
        until = time.monotonic() + 30
        while time.monotonic() < until:
            page.reload()
            if page.get_by_role("article", name="Slow one").count():
                break
        expect(page.get_by_role("article", name="Slow one")).to_be_visible()
        expect(page.get_by_role("article", name="Beacon 30")).to_be_visible()

    def test_a_running_job_can_be_cancelled(self):
        page = self.page
        self.stage("Build")
        page.get_by_role("button", name="Interpolate points").click()
        page.locator(".mt", has_text="Inverse distance").click()
        page.get_by_label("Neighbours").fill("63")
        page.get_by_label("Reach limit").fill("2000")
        page.get_by_label("Cell size").fill("4")
        page.get_by_label("Name", exact=True).fill("Unwanted")
        self.settle()
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_role("button", name="Jobs: 1 job").click()
        page.get_by_role("list", name="Jobs").get_by_role("button", name="Cancel").click()
        expect(page.get_by_role("list", name="Jobs").get_by_text("cancelled")).to_be_visible()
        self.assertEqual(page.get_by_role("article", name="Unwanted").count(), 0)
