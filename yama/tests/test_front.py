"""The front while nobody is behind it: it says so, and not that something is wrong with what was sent."""

import json
import os
import subprocess
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

from django.test import SimpleTestCase

from yama import front
from yama.launch import ROOT, free_port


class FrontTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        var, self.port = Path(held.name), free_port()
        text = front.configuration(var, self.port, var / "nobody.sock", ROOT / "web" / "dist", 10, 1)
        path = front.write(var, text)
        server = subprocess.Popen(
            ["nginx", "-p", str(var / "front"), "-c", str(path), "-e", "stderr"], stderr=subprocess.DEVNULL,
            env={**os.environ, "PATH": f"{os.environ.get('PATH', '')}:/usr/sbin"},
        )  # fmt: skip
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)

    def refused(self, path, body=None):
        """Status and sentence of a refusal."""
        until = time.monotonic() + 10
        while True:
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", body)
                self.fail(f"{path} was answered")
            except urllib.error.HTTPError as error:
                return error.code, json.loads(error.read())["detail"], error.headers
            except urllib.error.URLError:
                self.assertLess(time.monotonic(), until, "the front did not start")
                time.sleep(0.05)

    def test_a_request_is_told_to_come_again(self):
        code, said, headers = self.refused("/api/projects")
        self.assertEqual((code, headers["Retry-After"]), (503, "2"))
        self.assertIn("Yama is starting", said)

    def test_an_upload_is_not_told_that_it_is_at_fault(self):
        code, said, _ = self.refused("/api/projects/1/uploads?name=a.csv", b"x,y,z\n")
        self.assertEqual(code, 503)
        self.assertIn("it is starting, or its disk is full", said)

    def test_what_is_too_large_is_said_before_it_is_sent(self):
        code, said, _ = self.refused("/api/projects", bytes(3_000_000))
        self.assertEqual(code, 413)
        self.assertIn("larger than", said)
