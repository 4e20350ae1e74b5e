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
from yama.terrain.errors import InputError


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
    if body.reference is not None:
        reference = plain_lines([lines_or_areas(asked.project, body.reference)], found.grid.crs)
        if not reference:
            raise InputError("The reference has no lines. Choose rivers.")
        covered = found.covered(reference)
        alike = likeness(list(streams.lines()), covered, body.within, found.grid.metres_per_unit())
        told |= {"found": alike.found, "own_near": alike.own_near, "mean": alike.mean}
    if body.outlet is not None:
        try:
            made = catchment_of(found, body.outlet, body.snap, asked.project.frame.grid.crs)
            told["catchment"] = float(made.areas[0]) / 1e6
        except InputError as error:
            told["reason"] = str(error)
    return told
