"""The person behind a request."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.http import HttpRequest


def person(request: HttpRequest) -> User:
    """The signed-in person. The API lets nobody else through, so anything else is a fault in the code."""
    assert isinstance(request.user, User), "only signed-in people come here"
    return request.user
