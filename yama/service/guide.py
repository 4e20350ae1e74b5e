"""The guide: pages of `docs/guide`, with their pictures, for whoever opens the desk."""

from __future__ import annotations

import re
from functools import cache
from html import escape

from django.conf import settings
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.views.decorators.http import require_safe
from markdown_it import MarkdownIt

_DOCS = settings.BASE_DIR / "docs"
_POLICY = (
    "default-src 'none'; img-src 'self'; style-src 'self'; font-src 'self'; frame-ancestors 'none'; base-uri 'none'"
)
_PAGES = (
    ("", "Guide"),
    *((name.lower(), name) for name in ("Gather", "Build", "Join", "Fit", "Mend", "Judge", "Drain", "Deliver")),
    ("words", "Words"),
    ("command-line", "Command line"),
)


@cache
def _page(name: str) -> str:
    text = (_DOCS / "guide" / f"{name or 'index'}.md").read_text(encoding="utf-8")
    body = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    body = re.sub(r'href="(?:index|([\w-]+))\.md"', lambda found: f'href="/guide/{found[1] or ""}"', body)
    body = body.replace('src="../screenshots/', 'src="/guide/pictures/')
    links = "".join(
        f'<li><a href="/guide/{one}"{" aria-current=page" if one == name else ""}>{escape(title)}</a></li>'
        for one, title in _PAGES
    )
    title = dict(_PAGES)[name]
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(title)} · Yama</title>'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        '<link rel="icon" type="image/svg+xml" href="/static/mark.svg">'
        '<link rel="stylesheet" href="/guide/guide.css"></head>'
        f'<body><nav aria-label="Guide"><a href="/">Yama</a><ul>{links}</ul></nav><main>{body}</main></body></html>'
    )


@require_safe
def guide(_request: HttpRequest, name: str = "") -> HttpResponse:
    """A page of the guide. Raises Http404 where there is none of this name."""
    if name not in dict(_PAGES):
        raise Http404
    response = HttpResponse(_page(name))
    response["Content-Security-Policy"] = _POLICY
    response["Cache-Control"] = "no-cache"
    return response


@require_safe
def sheet(_request: HttpRequest) -> FileResponse:
    """How pages look."""
    return FileResponse((_DOCS / "guide" / "guide.css").open("rb"), content_type="text/css")


@require_safe
def picture(_request: HttpRequest, name: str) -> FileResponse:
    """A picture that pages show. Raises Http404 where there is none of this name."""
    path = _DOCS / "screenshots" / f"{name}.png"
    if not path.is_file():
        raise Http404
    return FileResponse(path.open("rb"), content_type="image/png")
