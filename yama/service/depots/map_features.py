"""Map features of Waymark: places to go to, and collections to fetch from."""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from itertools import islice
from typing import Annotated, Any

import numpy as np
from django.core.cache import cache
from django.http import HttpRequest
from ninja import Field, Router, Schema
from ninja.errors import HttpError
from pyproj import Transformer

from yama.service.accounts.people import person
from yama.service.depots import client
from yama.service.depots.areas import checked, turned
from yama.service.jobs.api import AcceptedOut
from yama.service.jobs.queue import submit
from yama.service.projects.access import open_project
from yama.service.projects.models import Membership
from yama.service.schemas import Failure
from yama.terrain.errors import InputError
from yama.terrain.grid import parse_crs

router = Router(tags=["depots"])

_KNOWN_SECONDS = 600
_MOST_COUNTED = 5_000
"""Features whose kinds and names are counted."""
_MOST_SAID = 3
"""Kinds and names that a title says."""


class PlaceOut(Schema):
    """A named place in the frame's CRS."""

    name: str
    x: float
    y: float


class CollectionOut(Schema):
    """A collection of map features and the kinds in it."""

    name: str
    title: str
    kinds: list[str]


class ValueOut(Schema):
    """How many features have a kind and a name; either may be empty."""

    kind: str
    name: str
    count: int


class FetchIn(Schema):
    """Features to fetch: of a collection, with any of the kinds and names where some are given, in an area or in all of
    the frame."""

    collection: str = Field(pattern=r"^[a-z_]{1,40}$")
    kinds: list[Annotated[str, Field(max_length=60)]] = Field([], max_length=20)
    names: list[Annotated[str, Field(max_length=60)]] = Field([], max_length=20)
    bounds: tuple[float, float, float, float] | None = None


@router.get("/{int:project_id}/places", response={200: list[PlaceOut], 503: Failure})
def places(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """Named places that Waymark knows, in the frame's CRS."""
    project = open_project(request, project_id)
    found = cache.get("depot:places")
    if found is None:
        try:
            found = [
                {"name": feature["properties"]["name"], "at": feature["geometry"]["coordinates"]}
                for feature in client.features("places", None, {})
            ]
        except client.DepotError as error:
            raise HttpError(503, str(error)) from error
        except (KeyError, TypeError) as error:
            raise HttpError(503, "Waymark did not answer as its standard asks.") from error
        cache.set("depot:places", found, _KNOWN_SECONDS)
    turn = Transformer.from_crs("EPSG:4326", parse_crs(project.frame.grid.crs), always_xy=True)
    placed = [{"name": one["name"], **dict(zip("xy", turn.transform(*one["at"]), strict=True))} for one in found]
    return sorted((one for one in placed if np.isfinite([one["x"], one["y"]]).all()), key=lambda one: one["name"])


@router.get("/{int:project_id}/feature-collections", response={200: list[CollectionOut], 503: Failure})
def feature_collections(request: HttpRequest, project_id: int) -> list[dict[str, Any]]:
    """What map features Waymark has."""
    open_project(request, project_id)
    try:
        found = client.feature_collections()
    except client.DepotError as error:
        raise HttpError(503, str(error)) from error
    return [
        {
            "name": one["id"],
            "title": one.get("title", one["id"]),
            "kinds": [kind for kind in one.get("kinds", []) if kind],
        }
        for one in found
    ]


@router.get(
    "/{int:project_id}/feature-collections/{name}/values", response={200: list[ValueOut], 422: Failure, 503: Failure}
)
def feature_values(request: HttpRequest, project_id: int, name: str) -> list[dict[str, Any]]:
    """The kinds and names of a collection in the frame's area: how many features have each pair, the most first."""
    project = open_project(request, project_id)
    if not re.fullmatch(r"[a-z_]{1,40}", name):
        raise InputError(f"There is no collection {name[:40]!r}.")
    frame = project.frame.grid
    box = turned(frame.crs, "EPSG:4326", list(frame.bounds))
    key = f"depot:values:{name}:{hashlib.sha256(repr(box).encode()).hexdigest()}"
    found: list[dict[str, Any]] | None = cache.get(key)
    if found is None:
        counts: Counter[tuple[str, str]] = Counter()
        try:
            for feature in islice(client.features(name, box, {}), _MOST_COUNTED):
                told = feature["properties"]
                counts[str(told.get("kind") or ""), str(told.get("name") or "")] += 1
        except client.DepotError as error:
            raise HttpError(503, str(error)) from error
        except (KeyError, TypeError, AttributeError) as error:
            raise HttpError(503, "Waymark did not answer as its standard asks.") from error
        found = [{"kind": kind, "name": called, "count": count} for (kind, called), count in counts.most_common()]
        cache.set(key, found, _KNOWN_SECONDS)
    return found


@router.post("/{int:project_id}/features", response={202: AcceptedOut, 422: Failure})
def fetch(request: HttpRequest, project_id: int, body: FetchIn) -> tuple[int, dict[str, Any]]:
    """Fetch map features into the project, as a job."""
    project = open_project(request, project_id, Membership.Role.EDITOR)
    frame = project.frame.grid
    bounds = checked(body.bounds, frame) if body.bounds else list(frame.bounds)
    said = [*body.kinds, *body.names]
    title = " ".join(
        [body.collection.replace("_", " ").capitalize(), *said[:_MOST_SAID], *(["…"] if said[_MOST_SAID:] else [])]
    )
    data = {
        "collection": body.collection,
        "kinds": body.kinds,
        "names": body.names,
        "bbox": turned(frame.crs, "EPSG:4326", bounds),
        "title": title,
    }
    return 202, {"job": submit(project, "features", f"Fetch {title}", data, person(request).pk)}
