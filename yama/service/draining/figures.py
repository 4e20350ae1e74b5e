"""Figures of networks: how long they are, how alike to known rivers, and what drains through a place."""

from __future__ import annotations

from typing import Any

from ninja import Field, Schema

from yama.service.draining.drained import (
    HECTARE,
    Asked,
    NetworkIn,
    OutletIn,
    catchment_of,
    lines_or_areas,
    network_of,
)
from yama.terrain.drain.networks import likeness, plain_lines
from yama.terrain.drain.stored import StoredDrainage
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.kept import Kept
from yama.terrain.surface import digest

_known: Kept[str, dict[str, Any]] = Kept(200)
"""A list of kept networks asks for the figures of each whenever it is opened."""


class AgainstIn(Schema):
    """What a network is held against. reference: a holding with known rivers; within: metres at which they count as
    found. outlet: whose catchment is told, moved up to so many metres (snap)."""

    reference: int | None = None
    within: float = Field(20.0, gt=0, le=10_000)
    outlet: OutletIn | None = None
    snap: float = Field(20.0, ge=0, le=10_000)


class NetworkFiguresIn(NetworkIn, AgainstIn):
    """What is told of which network."""


def figures_of(asked: Asked, body: NetworkFiguresIn) -> dict[str, Any] | None:
    """Figures of a network, as `NetworkFiguresOut`; None where water was not worked out for it."""
    found = asked.found()
    if found is None:
        return None
    reference = lines_or_areas(asked.project, body.reference) if body.reference is not None else None
    mark = digest(asked.folder.name, body.model_dump(), reference.fingerprint if reference is not None else "")
    return _known.get(mark, lambda: _figures(found, body, reference, asked.project.frame.grid.crs))


def _figures(found: StoredDrainage, body: NetworkFiguresIn, reference: Features | None, crs: str) -> dict[str, Any]:
    streams, area = network_of(found, body)
    length = float(streams.length.sum())
    told: dict[str, Any] = {
        "known": True,
        "begins_at": area / HECTARE,
        "count": int((streams.magnitude == 1).sum()),
        "length": length,
        "density": 1000 * length / found.facts["ground"],
        "unsure_length": float(streams.level.sum()),
        "orders": [{"order": order, "count": count, "length": length} for order, count, length in streams.by_order()],
    }
    if reference is not None:
        lines = plain_lines([reference], found.grid.crs)
        if not lines:
            raise InputError("The reference has no lines. Choose rivers.")
        covered = found.covered(lines)
        alike = likeness(list(streams.lines()), covered, body.within, found.grid.metres_per_unit())
        told |= {"found": alike.found, "own_near": alike.own_near, "mean": alike.mean}
    if body.outlet is not None:
        try:
            made = catchment_of(found, body.outlet, body.snap, crs)
            told["catchment"] = float(made.areas[0]) / 1e6
        except InputError as error:
            told["reason"] = str(error)
    return told
