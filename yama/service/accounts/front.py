"""Who speaks through the front."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, JsonResponse


class ClientAddress:
    """Gives a request that came through the front's socket the address that the front says its client has.

    A request that came any other way has an address of its own, and what it says of another one does not count. Addresses
    with NUL in them are refused, which would end names of files and of rows early.
    """

    def __init__(self, respond: Callable[[HttpRequest], HttpResponse]) -> None:
        self._respond = respond

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if not request.META.get("REMOTE_ADDR"):
            request.META["REMOTE_ADDR"] = request.META.get("HTTP_X_REAL_IP", "")
        if "\0" in request.path or "%00" in request.META.get("QUERY_STRING", ""):
            return JsonResponse({"detail": "An address holds a character that no name has (NUL)."}, status=400)
        return self._respond(request)
