"""The documentation shows code as it is. `python -m yama.tests.test_docs` puts the code of today into it."""

from __future__ import annotations

import ast
import re
from pathlib import Path

from django.test import SimpleTestCase

_ROOT = Path(__file__).resolve().parents[2]
_DOCS = _ROOT / "docs"
_SHOWN = re.compile(
    r"(?P<head><!-- (?P<path>\S+\.py): (?P<names>[\w, ]+) -->\n```python\n)(?P<code>.*?)(?P<tail>```\n)", re.DOTALL
)


def _source(path: Path, name: str) -> str:
    """The text of a class or function, with its decorators."""
    text = path.read_text(encoding="utf-8")
    for node in ast.parse(text).body:
        if isinstance(node, (ast.ClassDef, ast.FunctionDef)) and node.name == name:
            first = min([node.lineno, *(one.lineno for one in node.decorator_list)])
            return "\n".join(text.splitlines()[first - 1 : node.end_lineno]) + "\n"
    raise KeyError(f"{path} has no class or function {name}")


def with_code(text: str) -> str:
    """A page with the code that it names as it is now."""

    def shown(found: re.Match[str]) -> str:
        code = "\n\n".join(_source(_ROOT / found["path"], name.strip()) for name in found["names"].split(","))
        return found["head"] + code + found["tail"]

    return _SHOWN.sub(shown, text)


class DocsTest(SimpleTestCase):
    def test_code_that_is_shown_is_the_code_there_is(self):
        named = 0
        for page in sorted(_DOCS.glob("*.md")):
            text = page.read_text(encoding="utf-8")
            named += len(_SHOWN.findall(text))
            self.assertEqual(
                text, with_code(text), f"{page.name} is not what the code says: python -m yama.tests.test_docs"
            )
        self.assertGreaterEqual(named, 2)

    def test_a_page_cannot_show_what_is_not_there(self):
        with self.assertRaisesMessage(KeyError, "no class or function Nobody"):
            with_code("<!-- yama/tests/test_docs.py: Nobody -->\n```python\n```\n")

    def test_pictures_and_pages_that_are_linked_are_there(self):
        for page in (_ROOT / "README.md", *_DOCS.glob("*.md")):
            for target in re.findall(r"\]\((?!https?:)([^)#]+)\)", page.read_text(encoding="utf-8")):
                self.assertTrue((page.parent / target).exists(), f"{page.name} links {target}")


if __name__ == "__main__":
    for page in _DOCS.glob("*.md"):
        page.write_text(with_code(page.read_text(encoding="utf-8")), encoding="utf-8")
