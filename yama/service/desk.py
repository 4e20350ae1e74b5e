"""The page that carries the desk. Everything in it is built ahead of time and served from this machine."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.views.decorators.csrf import ensure_csrf_cookie

_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; font-src 'self'; "
    "worker-src 'self' blob:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)


@ensure_csrf_cookie
def desk(_request: HttpRequest) -> HttpResponse:
    """The desk's page, with the cookie that its requests must echo."""
    page = settings.STATIC_ROOT / "index.html"
    if not page.exists():
        return HttpResponse("The desk is not built yet. Run ./run --setup-only.", status=503, content_type="text/plain")
    response = HttpResponse(page.read_bytes())
    response["Content-Security-Policy"] = _POLICY
    response["Cache-Control"] = "no-cache"
    return response
