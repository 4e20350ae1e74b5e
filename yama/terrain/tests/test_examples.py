"""Examples in docstrings give what they say."""

import doctest
import importlib
from pathlib import Path

from django.test import SimpleTestCase

_ROOM = Path(__file__).resolve().parents[1]


class ExamplesTest(SimpleTestCase):
    def test_every_example_gives_what_it_says(self):
        tried = 0
        for path in sorted(_ROOM.rglob("*.py")):
            if "tests" in path.parts or ">>> " not in path.read_text(encoding="utf-8"):
                continue
            name = ".".join(("yama", "terrain", *path.relative_to(_ROOM).with_suffix("").parts))
            found = doctest.testmod(importlib.import_module(name))
            self.assertEqual(found.failed, 0, name)
            tried += found.attempted
        self.assertGreater(tried, 6)
