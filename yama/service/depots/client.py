"""Talking to data providers: only to those configured, only under their own address, with patience and with checks.

Nothing a person types becomes an address. A provider's answers may name addresses; those that lead elsewhere, and
redirects, are refused, so that no provider can make this server ask another one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import requests
from django.conf import settings
from requests.adapters import HTTPAdapter
from urllib3.util.retry import Retry

TIMEOUT = (3.0, 15.0)
"""Seconds to connect, and between two pieces of an answer."""

_CHUNK = 1 << 16
_MOST_JSON = 50_000_000


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
        more["allow_redirects"] = False
        more["timeout"] = more.get("timeout") or TIMEOUT
        try:
            response = super().send(request, **more)
        except (requests.ConnectionError, requests.Timeout) as error:
            raise DepotDownError(f"{title} does not answer.", 5.0) from error
        if response.is_redirect or response.is_permanent_redirect:
            raise DepotError(f"{title} pointed to another address; that was not followed.")
        if response.status_code in (429, 503):
            raise DepotDownError(f"{title} is down for maintenance.", _retry_after(response))
        return response

    def json(self, method: str, url: str, body: Any = None) -> Any:
        """An answer as JSON. Raises DepotError for any other."""
        response = self.request(method, url, json=body)
        if response.status_code >= 400:
            raise DepotError(f"{self.provider.title} refused: {_reason(response)}")
        if len(response.content) > _MOST_JSON:
            raise DepotError(f"{self.provider.title} answered with more than can be read.")
        try:
            return response.json()
        except ValueError as error:
            raise DepotError(f"{self.provider.title} did not answer as its standard asks.") from error


def _under(url: str, root: str) -> bool:
    """Whether an address lies under another: same scheme, host and port, and a path within."""
    asked, own = urlsplit(url), urlsplit(root)
    within = asked.path == own.path or asked.path.startswith(own.path.rstrip("/") + "/")
    return (asked.scheme, asked.netloc) == (own.scheme, own.netloc) and within and ".." not in asked.path.split("/")


def _retry_after(response: requests.Response) -> float:
    try:
        return min(max(float(response.headers.get("Retry-After", "10")), 1.0), 600.0)
    except ValueError:
        return 10.0


def _reason(response: requests.Response) -> str:
    try:
        said = response.json().get("description") or ""
    except (ValueError, AttributeError):
        said = ""
    return str(said)[:300] or f"status {response.status_code}."


def download(session: Session, url: str, path: Path, size: int, sha256: str, progress: Callable[[int], None]) -> None:
    """Fetch a file to `path`, going on from what lies there already, and check it against size and SHA-256.

    size 0 or an empty sha256 are not checked. progress is told the number of bytes so far and may raise. Raises
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
        try:
            with path.open("ab" if have else "wb") as file:
                for chunk in response.iter_content(_CHUNK):
                    file.write(chunk)
                    have += len(chunk)
                    if size and have > size:
                        break
                    progress(have)
        except (requests.ConnectionError, requests.Timeout, requests.exceptions.ChunkedEncodingError) as error:
            raise DepotDownError(f"{session.provider.title} broke off after {have} bytes.", 1.0) from error


# -- what is asked for --------------------------------------------------------------------------------------


def collections(provider: Provider) -> list[dict[str, Any]]:
    """A provider's products: its STAC collections as JSON."""
    found: list[dict[str, Any]] = Session(provider).json("GET", f"{provider.root}/stac/collections")["collections"]
    return found


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
    except (APIError, KeyError, ValueError, requests.RequestException) as error:
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


def features(collection: str, bbox: list[float] | None, filters: dict[str, str]) -> Iterator[dict[str, Any]]:
    """Waymark's features of a collection, page by page, as GeoJSON in degrees. Raises DepotError."""
    provider = waymark()
    session = Session(provider)
    query = {"limit": "500", **filters} | ({"bbox": ",".join(f"{value:.7f}" for value in bbox)} if bbox else {})
    url = requests.Request("GET", f"{provider.root}/collections/{collection}/items", params=query).prepare().url
    while url:
        page = session.json("GET", url)
        yield from page["features"]
        url = next((link["href"] for link in page.get("links", ()) if link["rel"] == "next"), None)


def feature_collections() -> list[dict[str, Any]]:
    """Waymark's collections as JSON."""
    found: list[dict[str, Any]] = Session(waymark()).json("GET", f"{waymark().root}/collections")["collections"]
    return found
