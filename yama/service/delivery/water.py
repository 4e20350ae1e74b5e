"""What the report says of water: how streams, catchments and the like were made, and networks side by side."""

from __future__ import annotations

from typing import Any

from django.http import Http404

from yama.service.delivery.contents import Lineage, lineage
from yama.service.draining.drained import Asked
from yama.service.draining.figures import NetworkFiguresIn, figures_of
from yama.service.draining.models import KeptNetwork
from yama.service.holdings.features import features_of
from yama.service.holdings.kinds import FEATURES, kind_of
from yama.service.holdings.models import Holding
from yama.service.projects.models import Project
from yama.terrain import operations
from yama.terrain.deliver import report
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.table import Cell, Column, Table

_STAGE = "Drain"
_WORDS = {"leave": "left", "fill": "filled", "breach": "breached", "lesser": "lesser change"}


def made(holdings: list[Holding], by_key: dict[str, Holding]) -> list[report.Made]:
    """How what tells of water was made, with what is known of each line, area or place."""
    found = []
    for one in holdings:
        step = one.step
        if step is None or kind_of(one) is not FEATURES or operations.find(step.operation).stage != _STAGE:
            continue
        way = lineage(one, by_key)
        # of streams there are hundreds, which their orders tell of
        each = [] if step.operation == "streams" else [_known(features_of(one))]
        found.append(report.Made(one.name, way.lines(by_key), [*Lineage(way.steps[-1:], set()).told(), *each]))
    return found


def _known(given: Features) -> report.Told:
    """The columns of features as a table."""
    columns = []
    for name, values in given.attributes.items():
        known = [one for one in values if one is not None]
        unit = given.units.get(name, "")
        title = name.replace("_", " ")
        if known and all(isinstance(one, bool) for one in known):
            columns.append(Column(name, title, type="yes_no"))
        elif known and all(isinstance(one, (int, float)) and float(one).is_integer() for one in known):
            columns.append(Column(name, title, unit, type="whole"))
        elif known and all(isinstance(one, (int, float)) for one in known):
            columns.append(Column(name, title, unit, decimals=2))
        else:
            columns.append(Column(name, title, type="text"))
    rows: list[tuple[Cell, ...]] = list(zip(*given.attributes.values(), strict=True)) if given.attributes else []
    return report.Told("One by one", Table(tuple(columns), rows, {}))


_NETWORKS = (
    Column("surface", "Surface", type="text"),
    Column("hollows", "Hollows", type="text"),
    Column("burned", "Burned in", type="text"),
    Column("begins", "From", "ha", decimals=1),
    Column("length", "Length", "km", decimals=1),
    Column("orders", "Orders", type="whole"),
    Column("level", "Over level ground", "km", decimals=1),
    Column("found", "Reference found", "%", decimals=0),
    Column("near", "Near it", "%", decimals=0),
    Column("mean", "Mean distance", "m", decimals=1),
    Column("catchment", "Catchment", "km²", decimals=2),
)


def networks(project: Project, progress: Progress = ignore_progress) -> report.Told | None:
    """The networks that are kept beside each other; None where there are none. Of those that cannot be told it says
    why."""
    rows: list[tuple[Cell, ...]] = []
    said = set()
    names = dict(project.holdings.values_list("pk", "name"))
    kept = list(KeptNetwork.objects.filter(project=project))
    for done, one in enumerate(kept):
        try:
            body = NetworkFiguresIn(**one.content, **one.against)
            asked = Asked.of(project, body)
            if asked.found() is None:  # it was dropped, or never asked for
                asked.work_out(part_of(progress, done / len(kept), (done + 1) / len(kept)))
            told = figures_of(asked, body)
        except (InputError, Http404) as error:
            why = str(error) if isinstance(error, InputError) else "its surface or its rivers are gone."
            said.add(f"One is left out: {why}")
            continue
        if told is None:
            continue
        rows.append(_row(names, body, told))
        if body.reference is not None:
            said.add(f"Reference: {names.get(body.reference)}, found within {body.within:g} m.")
        if body.outlet is not None:
            said.add(f"Catchment at {body.outlet.name}.")
    if not kept:
        return None
    title = " ".join(["Networks beside each other.", *sorted(said)])
    return report.Told(title, Table(_NETWORKS, rows, {}) if rows else None)


def _row(names: dict[int, str], body: NetworkFiguresIn, told: dict[str, Any]) -> tuple[Cell, ...]:
    def hundred(name: str) -> float | None:
        return None if told.get(name) is None else 100 * float(told[name])

    return (
        names[body.surface],
        _WORDS[body.method] + ("" if body.over_level else ", not over level ground"),
        "none" if body.burned is None else names.get(body.burned, ""),
        told["begins_at"],
        told["length"] / 1000,
        len(told["orders"]),
        told["unsure_length"] / 1000,
        hundred("found"),
        hundred("own_near"),
        told.get("mean"),
        told.get("catchment"),
    )
