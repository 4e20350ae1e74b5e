"""The one-time sign-in page."""

from __future__ import annotations

from django.contrib.auth import login
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET

from yama.service.accounts.models import OneTimeLink


@require_GET
def enter(request: HttpRequest, token: str) -> HttpResponse:
    """Sign the link's person in and open the desk; a spent link leads to the sign-in form, which says so."""
    user = OneTimeLink.redeem(token)
    if user is None:
        return redirect("/?link=spent")
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return redirect("/")
