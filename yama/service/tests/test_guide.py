"""The guide: every page there is, with links and pictures that lead somewhere."""

import re

from django.conf import settings
from django.test import SimpleTestCase, override_settings

from yama.service.guide import _PAGES


class GuideTest(SimpleTestCase):
    def test_every_page_is_served_and_its_links_and_pictures_lead_somewhere(self):
        written = {path.stem for path in (settings.BASE_DIR / "docs" / "guide").glob("*.md")}
        self.assertEqual(written, {name or "index" for name, _ in _PAGES})
        for name, title in _PAGES:
            with self.subTest(title):
                page = self.client.get(f"/guide/{name}")
                self.assertEqual(page.status_code, 200)
                self.assertIn("default-src 'none'", page["Content-Security-Policy"])
                text = page.content.decode()
                self.assertIn(f"<title>{title}", text)
                linked = re.findall(r'(?:href|src)="(/guide/[^"]*)"', text)
                self.assertGreater(len(linked), 10)
                for address in set(linked):
                    self.assertEqual(self.client.get(address).status_code, 200, address)
                self.assertNotIn('.md"', text)

    @override_settings(DEBUG=False)
    def test_what_is_not_there_is_not_found(self):
        for address in (
            "/guide/nothing",
            "/guide/pictures/nothing.png",
            "/guide/..%2Ftrust",
            "/guide/pictures/..%2Fx.png",
        ):
            self.assertEqual(self.client.get(address).status_code, 404, address)
        self.assertEqual(self.client.post("/guide/").status_code, 405)
