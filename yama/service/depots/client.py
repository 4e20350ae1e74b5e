"""Talking to data providers: only to those configured, only under their own address, with patience and with checks.

Nothing a person types becomes an address. A provider's answers may name addresses; those that lead elsewhere, and
redirects, are refused, so that no provider can make this server ask another one.
"""

from __future__ import annotations

import hashlib
import math
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import requests
from django.conf import settings
from requests.adapters import HTTPAdapter
from urllib3.util.retry import Retry

TIMEOUT = (3.0, 15.0)
"""Seconds to connect, and between two pieces of an answer."""

_CHUNK = 1 << 16
_MOST_BODY = 50_000_000
"""Bytes of an answer that is no file."""
_BODY_SECONDS = 60.0
"""Seconds for all of such an answer."""
_MOST_REQUESTS = 1_000
"""Requests of one session: pages may lead on for ever."""
_MOST_EMPTY_PAGES = 5
_PACE_SECONDS, _PACE_BYTES = 60.0, 20_000
"""A file of which fewer bytes come in that time is given up for now."""


class DepotError(Exception):
    """What a provider did wrong, as a sentence; asking again at once is of no use."""


class DepotDownError(DepotError):
    """A provider that is down or not to be reached; `seconds` tells when to ask again."""

    def __init__(self, sentence: str, seconds: float) -> None:
        super().__init__(sentence)
        self.seconds = seconds


class DamagedError(DepotError):
    """What arrived is not what was announced."""


@dataclass(frozen=True)
class Provider:
    """A configured provider: its short name, its title, and the address under which all of its own lie."""

    name: str
    title: str
    root: str


def providers() -> dict[str, Provider]:
    """The configured elevation providers by name."""
    return {name: Provider(name, name.capitalize(), f"{settings.DEPOT_URL}/{name}") for name in settings.DEPOTS}


def waymark() -> Provider:
    """The configured provider of map features."""
    return Provider("waymark", "Waymark", f"{settings.DEPOT_URL}/waymark")


class Session(requests.Session):
    """Requests to one provider and nobody else."""

    def __init__(self, provider: Provider, tries: int = 2) -> None:
        super().__init__()
        self.provider = provider
        self._sent = 0
        self.trust_env = False
        retry = Retry(
            total=tries, backoff_factor=0.2, status_forcelist=(502, 504), allowed_methods=("GET", "HEAD"),
            raise_on_status=False, respect_retry_after_header=False,  # who waits, and how long, is decided here
        )  # fmt: skip
        self.mount("http://", HTTPAdapter(max_retries=retry))
        self.mount("https://", HTTPAdapter(max_retries=retry))

    def send(self, request: requests.PreparedRequest, **more: Any) -> requests.Response:
        """Send a request that stays with the provider. Raises DepotError, DepotDownError."""
        title = self.provider.title
        if not _under(str(request.url), self.provider.root):
            raise DepotError(f"{title} pointed to an address that is not its own; that was not followed.")
        self._sent += 1
        if self._sent > _MOST_REQUESTS:
            raise DepotError(f"{title} leads on from page to page without end; that was given up.")
        streamed = more.get("stream")
        more |= {"allow_redirects": False, "timeout": more.get("timeout") or TIMEOUT, "stream": True}
        try:
            response = super().send(request, **more)
        except (requests.ConnectionError, requests.Timeout) as error:
            raise DepotDownError(f"{title} does not answer.", 5.0) from error
        if response.is_redirect or response.is_permanent_redirect:
            response.close()
            raise DepotError(f"{title} pointed to another address; that was not followed.")
        if response.status_code in (429, 503):
            response.close()
            raise DepotDownError(f"{title} is down for maintenance.", _retry_after(response))
        if not streamed:  # read here, within bounds, and not by whoever looks at it first
            response._content, response._content_consumed = self._body(response), True  # type: ignore[attr-defined]
        return response

    def _body(self, response: requests.Response) -> bytes:
        title, until = self.provider.title, time.monotonic() + _BODY_SECONDS
        body = bytearray()
        with response:
            try:
                for chunk in response.iter_content(_CHUNK):
                    body += chunk
                    if len(body) > _MOST_BODY:
                        raise DepotError(f"{title} answered with more than can be read.")
                    if time.monotonic() > until:
                        raise DepotDownError(f"{title} took too long to answer.", 30.0)
            except requests.exceptions.RequestException as error:
                raise DepotDownError(f"{title} broke off while answering.", 5.0) from error
        return bytes(body)

    def json(self, method: str, url: str, body: Any = None) -> Any:
        """An answer as JSON. Raises DepotError for any other."""
        response = self.request(method, url, json=body)
        if response.status_code >= 400:
            raise DepotError(f"{self.provider.title} refused: {_reason(response)}")
        try:
            return response.json()
        except (ValueError, RecursionError) as error:
            raise DepotError(f"{self.provider.title} did not answer as its standard asks.") from error


def _under(url: str, root: str) -> bool:
    """Whether an address lies under another: same scheme, host and port, and a path within, however it is written."""
    asked, own = urlsplit(url), urlsplit(root)
    path = asked.path
    while (plainer := unquote(path)) != path:  # what is escaped twice is unpacked by whoever answers, perhaps
        path = plainer
    within = path == own.path or path.startswith(own.path.rstrip("/") + "/")
    steps = path.replace("\\", "/").split("/")
    return (asked.scheme, asked.netloc) == (own.scheme, own.netloc) and within and not {"..", "."} & set(steps)


def _retry_after(response: requests.Response) -> float:
    """Seconds, or a date (RFC 9110), within bounds; ten where neither is readable."""
    said = response.headers.get("Retry-After", "10")
    try:
        seconds = float(said)
    except ValueError:
        try:
            seconds = (parsedate_to_datetime(said) - datetime.now(UTC)).total_seconds()
        except (ValueError, TypeError):
            return 10.0
    return min(max(seconds, 1.0), 600.0) if math.isfinite(seconds) else 10.0


def _reason(response: requests.Response) -> str:
    try:
        said = response.json().get("description") or ""
    except (ValueError, AttributeError, RecursionError):
        said = ""
    return str(said)[:300] or f"status {response.status_code}."


def download(session: Session, url: str, path: Path, size: int, sha256: str, progress: Callable[[int], None]) -> None:
    """Fetch a file to `path`, going on from what lies there already, and check it against size and SHA-256.

    size 0 or an empty sha256 are not checked, but no file is larger than an upload may be. progress is told the number of bytes so far and may raise. Raises
    DamagedError, with nothing left at `path`, where it is not what was announced; DepotDownError where it broke off,
    with what came so far left for the next try.
    """
    have = path.stat().st_size if path.exists() else 0
    if size and have > size:
        path.unlink()
        have = 0
    if not size or have < size:
        _fetch(session, url, path, have, size, progress)
    if size and path.stat().st_size != size:
        came = path.stat().st_size
        path.unlink()
        raise DamagedError(f"{came} of {size} bytes arrived.")
    if sha256:
        with path.open("rb") as file:
            found = hashlib.file_digest(file, "sha256").hexdigest()
        if found != sha256:
            path.unlink()
            raise DamagedError("What arrived does not match the checksum its provider gave.")


def _fetch(session: Session, url: str, path: Path, have: int, size: int, progress: Callable[[int], None]) -> None:
    headers = {"Accept-Encoding": "identity"} | ({"Range": f"bytes={have}-"} if have else {})
    response = session.get(url, headers=headers, stream=True)
    with response:
        if response.status_code == 200:
            have = 0
        elif response.status_code == 416:
            path.unlink(missing_ok=True)
            raise DamagedError("The provider's file is shorter than announced.")
        elif response.status_code != 206:
            raise DepotError(f"{session.provider.title} refused: {_reason(response)}")
        title, most = session.provider.title, size or settings.MAX_UPLOAD_BYTES
        since, before = time.monotonic(), have
        try:
            with path.open("ab" if have else "wb") as file:
                for chunk in response.iter_content(_CHUNK):
                    file.write(chunk)
                    have += len(chunk)
                    if have > most:
                        break
                    progress(have)
                    if time.monotonic() - since > _PACE_SECONDS:
                        if have - before < _PACE_BYTES:
                            raise DepotDownError(f"{title} has all but stopped sending, after {have} bytes.", 60.0)
                        since, before = time.monotonic(), have
        except requests.exceptions.RequestException as error:
            raise DepotDownError(f"{title} broke off after {have} bytes.", 1.0) from error
    if have > most and not size:
        path.unlink()
        raise DepotError(f"{title} sends more than {most // 1_000_000} MB, the most that is taken in.")


# -- what is asked for --------------------------------------------------------------------------------------


def collections(provider: Provider) -> list[dict[str, Any]]:
    """A provider's products: its STAC collections as JSON."""
    return _listed(Session(provider), f"{provider.root}/stac/collections")


def search(provider: Provider, collection: str, bbox: list[float]) -> list[dict[str, Any]]:
    """All items of a collection that touch a box in degrees, as STAC JSON. Raises DepotError."""
    from pystac_client import Client
    from pystac_client.exceptions import APIError
    from pystac_client.stac_api_io import StacApiIO

    access = StacApiIO(timeout=TIMEOUT, max_retries=None)
    access.session = Session(provider)
    try:
        client = Client.open(f"{provider.root}/stac", stac_io=access)
        found = client.search(collections=[collection], bbox=bbox, limit=200, max_items=2000)
        return list(found.items_as_dicts())
    except DepotError:
        raise
    except (APIError, KeyError, ValueError, TypeError, RecursionError, requests.RequestException) as error:
        cause: BaseException | None = error
        while cause is not None:  # the library wraps whatever its session raises
            if isinstance(cause, DepotError):
                raise cause from error
            cause = cause.__cause__ or cause.__context__
        raise DepotError(f"{provider.title} did not answer as its standard asks.") from error


def order_cut_out(provider: Provider, bounds: list[float], cell_size: float) -> str:
    """Order a cut-out; returns the address of its job. Raises DepotError with the provider's reason."""
    session = Session(provider)
    url = f"{provider.root}/processes/cut-out/execution"
    response = session.post(
        url, json={"inputs": {"bounds": bounds, "cell_size": cell_size}}, headers={"Prefer": "respond-async"}
    )
    if response.status_code != 201 or "Location" not in response.headers:
        raise DepotError(f"{provider.title} refused: {_reason(response)}")
    return str(response.headers["Location"])


def features(
    collection: str, bbox: list[float] | None, filters: dict[str, str], progress: Callable[[int], None] = lambda _: None
) -> Iterator[dict[str, Any]]:
    """Waymark's features of a collection, page by page, as GeoJSON in degrees. progress is told after every page how many there
    are so far, and may raise. Raises DepotError, also where pages go in circles or stay empty."""
    provider = waymark()
    session = Session(provider)
    query = {"limit": "500", **filters} | ({"bbox": ",".join(f"{value:.7f}" for value in bbox)} if bbox else {})
    url = requests.Request("GET", f"{provider.root}/collections/{collection}/items", params=query).prepare().url
    seen: set[str] = set()
    found = empty = 0
    while url:
        if url in seen or empty > _MOST_EMPTY_PAGES:
            raise DepotError(f"{provider.title} leads on from page to page without end; that was given up.")
        seen.add(url)
        page = session.json("GET", url)
        try:
            held = list(page["features"])
            url = next((link["href"] for link in page.get("links", ()) if link["rel"] == "next"), None)
        except (KeyError, TypeError, AttributeError) as error:
            raise DepotError(f"{provider.title} did not answer as its standard asks.") from error
        found, empty = found + len(held), 0 if held else empty + 1
        progress(found)
        yield from held


def feature_collections() -> list[dict[str, Any]]:
    """Waymark's collections as JSON."""
    return _listed(Session(waymark()), f"{waymark().root}/collections")


def _listed(session: Session, url: str) -> list[dict[str, Any]]:
    """The collections that an answer lists, each with an id. Raises DepotError."""
    told = session.json("GET", url)
    found = told.get("collections") if isinstance(told, dict) else None
    if not isinstance(found, list) or not all(
        isinstance(one, dict) and isinstance(one.get("id"), str) for one in found
    ):
        raise DepotError(f"{session.provider.title} did not answer as its standard asks.")
    return found
