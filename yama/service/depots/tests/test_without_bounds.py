"""Providers whose answers have no end, no bounds or no sense: each becomes a sentence, soon."""

import json
import math
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from django.test import SimpleTestCase, override_settings

from yama.service.depots import client
from yama.terrain.errors import CancelledError


class Boundless(BaseHTTPRequestHandler):
    """Answers each path with a fault of its own."""

    protocol_version = "HTTP/1.1"

    def do_GET(self):
        path = self.path.split("?")[0].rsplit("/", 1)[1]
        fault = getattr(self, path.replace("-", "_"), None)
        if fault is None:
            self.send_error(404)
            return
        try:
            fault()
        except (BrokenPipeError, ConnectionResetError):  # who asked has had enough
            self.close_connection = True

    def answer(self, body: bytes, status=200, **headers):
        self.send_response(status)
        for name, value in {"Content-Length": str(len(body)), **headers}.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(body)

    def endless(self, pause=0.0, piece=b"1," * 50_000):
        self.send_response(200)
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        while True:
            self.wfile.write(b"%x\r\n%s\r\n" % (len(piece), piece))
            time.sleep(pause)

    def dripping(self):
        self.endless(0.05, b"1")

    def broken_chunk(self):
        self.send_response(200)
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        self.wfile.write(b"ffff\r\nshort")
        self.close_connection = True

    def deep(self):
        self.answer(b"[" * 200_000)

    def words(self):
        self.answer(b'"features"')

    def later(self):
        self.answer(b"", 503, Retry_After=self.server.retry_after)

    def items(self):
        number = int((self.path.split("page=")[1:] or ["0"])[0].split("&")[0])
        where = f"{self.server.root}/collections/rivers/items?page={number + self.server.step}"
        features = [{"type": "Feature"}] * self.server.features
        self.answer(json.dumps({"features": features, "links": [{"rel": "next", "href": where}]}).encode())

    def log_message(self, *args):
        pass


class BoundlessTest(SimpleTestCase):
    def setUp(self):
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Boundless)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        base = f"http://127.0.0.1:{self.server.server_port}"
        self.server.root = f"{base}/waymark"
        self.server.features, self.server.step, self.server.retry_after = 1, 1, "10"
        self.provider = client.Provider("waymark", "Waymark", self.server.root)
        changed = override_settings(DEPOT_URL=base, MAX_UPLOAD_BYTES=3_000_000)
        changed.enable()
        self.addCleanup(changed.disable)
        held = TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def json(self, path):
        return client.Session(self.provider).json("GET", f"{self.provider.root}/{path}")

    def download(self, path, size=0):
        to = self.folder / "tile"
        client.download(client.Session(self.provider), f"{self.provider.root}/{path}", to, size, "", lambda _: None)

    def test_answers_larger_or_slower_than_can_be_read(self):
        with (
            mock.patch.object(client, "_MOST_BODY", 1_000_000),
            self.assertRaisesMessage(client.DepotError, "more than can be read"),
        ):
            self.json("endless")
        with (
            mock.patch.object(client, "_BODY_SECONDS", 0.3),
            self.assertRaisesMessage(client.DepotDownError, "took too long"),
        ):
            self.json("dripping")
        with self.assertRaisesMessage(client.DepotDownError, "broke off"):
            self.json("broken_chunk")
        with self.assertRaisesMessage(client.DepotError, "as its standard asks"):
            self.json("deep")

    def test_files_without_a_size(self):
        with self.assertRaisesMessage(client.DepotError, "more than 3 MB"):
            self.download("endless")
        self.assertFalse((self.folder / "tile").exists())
        with self.assertRaisesMessage(client.DamagedError, "bytes arrived"):
            self.download("endless", 1_000_000)
        with (
            mock.patch.object(client, "_PACE_SECONDS", 0.3),
            self.assertRaisesMessage(client.DepotDownError, "all but stopped"),
        ):
            self.download("dripping", 1_000_000)
        self.assertTrue((self.folder / "tile").exists(), "what came is kept for the next try")
        with self.assertRaisesMessage(client.DepotDownError, "broke off"):
            self.download("broken_chunk")

    def test_pages_without_end(self):
        with (
            mock.patch.object(client, "_MOST_REQUESTS", 20),
            self.assertRaisesMessage(client.DepotError, "without end"),
        ):
            list(client.features("rivers", None, {}))
        self.server.step = 0  # each page is the next one of itself
        with self.assertRaisesMessage(client.DepotError, "without end"):
            list(client.features("rivers", None, {}))
        self.server.step, self.server.features = 1, 0
        with self.assertRaisesMessage(client.DepotError, "without end"):
            list(client.features("rivers", None, {}))

    def test_pages_can_be_cancelled_though_they_are_empty(self):
        self.server.features = 0

        def progress(_count):
            raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            list(client.features("rivers", None, {}, progress))

    def test_answers_of_another_form(self):
        with self.assertRaisesMessage(client.DepotError, "as its standard asks"):
            client._listed(client.Session(self.provider), f"{self.provider.root}/words")

    def test_when_to_ask_again(self):
        for said, expected in {
            "7": 7.0, "nan": 10.0, "inf": 10.0, "-1": 1.0, "1e300": 600.0, "soon": 10.0, "": 10.0,
            "Sun, 01 Jan 2040 00:00:00 GMT": 600.0, "Sun, 01 Jan 2006 00:00:00 GMT": 1.0,
        }.items():  # fmt: skip
            self.server.retry_after = said
            with self.assertRaises(client.DepotDownError) as caught:
                self.json("later")
            self.assertTrue(math.isfinite(caught.exception.seconds))
            self.assertEqual(caught.exception.seconds, expected, said)

    def test_ways_out_that_are_written_differently(self):
        for way in ("%2e%2e%2fother", "..%2fother", "a/%2e%2e/b", "%252e%252e/other", "a\\..\\b", "%2E%2E"):
            with self.assertRaisesMessage(client.DepotError, "not its own"):
                self.json(way)
