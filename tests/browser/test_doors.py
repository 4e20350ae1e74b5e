"""The running Yama as strangers meet it: clients that are slow, send nonsense, or are not signed in."""

from __future__ import annotations

import contextlib
import json
import re
import socket
import urllib.error
import urllib.request
from urllib.parse import urlsplit

from tests.browser.base import BrowserTest, Running, expect


class DoorsTest(BrowserTest):
    def line(self) -> socket.socket:
        place = urlsplit(self.root)
        opened = socket.create_connection((place.hostname, place.port), 10)
        self.addCleanup(opened.close)
        return opened

    def said(self, text: str) -> str:
        """What is answered to a request sent as it is."""
        with contextlib.closing(self.line()) as line:
            line.sendall(text.encode())
            answer = b""
            with contextlib.suppress(TimeoutError, ConnectionResetError):
                while part := line.recv(65536):
                    answer += part
        return answer.decode("utf-8", "replace")

    def head(self, method: str, path: str, more: str = "") -> str:
        place = urlsplit(self.root)
        cookie = "; ".join(f"{one['name']}={one['value']}" for one in self.session["cookies"])
        token = next(one["value"] for one in self.session["cookies"] if one["name"] == "csrftoken")
        return (
            f"{method} {path} HTTP/1.1\r\nHost: {place.netloc}\r\nCookie: {cookie}\r\nX-CSRFToken: {token}\r\n"
            f"Referer: {self.root}\r\nConnection: close\r\n{more}\r\n"
        )

    def test_slow_clients_keep_nobody_from_working(self):
        for _ in range(100):  # headers that never end
            self.line().sendall(b"GET / HTTP/1.1\r\nHost: x\r\nX-Slow: ")
        uploads = []
        for number in range(20):  # honest uploads over weak lines
            line = self.line()
            path = f"/api/projects/{self.project}/uploads?name=slow{number}.csv"
            line.sendall((self.head("POST", path, "Content-Length: 400000\r\n") + "x,y,z\n" * 100).encode())
            uploads.append(line)
        # meanwhile somebody works: the desk opens, and a file goes in
        page = self.page
        page.reload()
        expect(page.get_by_role("article", name="Beacon 30")).to_be_visible()
        self.put("A", "Beacon 30")
        self.settle()
        answer = page.request.post(
            f"{self.root}/api/projects/{self.project}/uploads?name=quick.csv", data=b"x,y,z\n1,2,3\n4,5,6\n7,9,9\n",
            headers={"X-CSRFToken": self.head("", "").split("X-CSRFToken: ")[1].split("\r")[0], "Referer": self.root},
        )  # fmt: skip
        self.assertEqual(answer.status, 202, answer.text())
        for line in uploads:
            self.assertTrue(line.fileno() > 0)
            line.sendall(b"1,2,3\n")  # none of them was cut off

    def test_kinds_of_requests_that_are_not_answered(self):
        for method in ("TRACE", "CONNECT", "PROPFIND"):
            self.assertRegex(self.said(self.head(method, "/api/accounts/me")), r"^HTTP/1.1 40[05]", method)
        self.assertIn(" 400 ", self.said("GET / HTTP/1.1\r\n\r\n").splitlines()[0])

    def test_a_stranger_fills_no_disk(self):
        request = urllib.request.Request(
            f"{self.root}/api/projects/{self.project}/uploads?name=a.tif", b"x" * 100_000, method="POST"
        )
        with self.assertRaises(urllib.error.HTTPError) as caught:
            urllib.request.urlopen(request)
        self.assertEqual(caught.exception.code, 401)

    def test_what_is_too_large_gets_a_sentence(self):
        answer = self.said(self.head("POST", "/api/accounts/sign-out", "Content-Length: 99000000\r\n"))
        self.assertIn(" 413 ", answer.splitlines()[0])
        self.assertIn("larger than", json.loads(answer.split("\r\n\r\n", 1)[1])["detail"])

    def test_files_of_the_desk_come_from_the_front(self):
        page = urllib.request.urlopen(self.root).read().decode()
        script = page.split('src="')[1].split('"')[0]
        request = urllib.request.Request(self.root + script, headers={"Accept-Encoding": "br"})
        with urllib.request.urlopen(request) as answer:
            self.assertEqual(answer.headers["Content-Encoding"], "br")
            self.assertIn("immutable", answer.headers["Cache-Control"])
            self.assertIn("javascript", answer.headers["Content-Type"])
            self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
        for path in (
            "/static/../settings.py",
            "/static/%2e%2e/%2e%2e/yama/launch.py",
            "/static/assets/",
            "/static/.built",
        ):
            with self.assertRaises(urllib.error.HTTPError) as caught:
                urllib.request.urlopen(self.root + path)
            self.assertIn(caught.exception.code, (400, 403, 404), path)

    def test_the_store_is_its_owners_alone(self):
        for path in (Running.var, Running.var / "store", Running.var / "log", Running.var / "front"):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)
        files = [path for path in (Running.var / "store").rglob("*") if path.is_file()]
        self.assertGreater(len(files), 10)
        for path in files:
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_somebody_is_invited_by_a_link_and_comes_in(self):
        page = self.page
        page.get_by_role("button", name=re.compile("^Project: ")).click()
        page.get_by_role("menuitem", name="Members of this project").click()
        page.get_by_role("button", name="Make a link").click()
        link = page.get_by_label("The link").input_value()
        context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(context.close)
        guest = context.new_page()
        guest.goto(link)
        expect(guest.get_by_text("invites you as editor")).to_be_visible()
        guest.get_by_label("User name").fill(f"guest{self.project}")
        guest.get_by_label("Your name").fill("Mire Sand")
        guest.get_by_label("Password", exact=False).fill("short")
        guest.get_by_role("button", name="Come in").click()
        expect(guest.get_by_role("alert")).to_contain_text("too short")
        guest.get_by_label("Password", exact=False).fill("a fine long word")
        guest.get_by_role("button", name="Come in").click()
        expect(guest.get_by_role("article", name="Beacon 30")).to_be_visible()
        # the same link does nothing more
        guest.goto(link)
        expect(guest.get_by_role("heading", name="This link leads nowhere")).to_be_visible()
        guest.get_by_role("link", name="To the desk").click()
        # and the password can be changed
        guest.get_by_role("button", name=re.compile("signed in as Mire Sand")).click()
        guest.get_by_role("button", name="Change password").click()
        guest.get_by_label("Until now").fill("a fine long word")
        guest.get_by_label("New", exact=False).fill("another long word")
        guest.get_by_role("button", name="Change", exact=True).click()
        expect(guest.get_by_role("status").filter(has_text="Changed.")).to_be_visible()
        page.reload()
        expect(page.get_by_text(f"guest{self.project}")).to_be_visible()
