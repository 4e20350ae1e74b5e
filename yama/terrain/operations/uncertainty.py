"""How wrong a surface is where it stands, as an operation."""

from __future__ import annotations

from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.judge.doubts import Cover, doubts_of, model_at, own_at
from yama.terrain.judge.places import at_points, judged_at
from yama.terrain.judge.uncertainty import ErrorModel
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS


class UncertaintyParams(Params):
    """What the ground is told apart by."""

    column: str = Field("kind", max_length=64, title="Column", description="Of land cover: what it is told apart by.")


def _columns(unit: str) -> tuple[Column, ...]:
    return (
        Column("ground", "Ground", type="text"),
        Column("bias", "Median error", unit, decimals=2),
        Column("level", "Standard deviation on level ground", unit, decimals=2),
        Column("per_rise", "More for a slope of 45°", unit, decimals=2),
        Column("own", "Times its own uncertainty", decimals=2),
        Column("count", "Errors known", type="whole"),
        Column("within", "Within their 90 % intervals", "%", decimals=0),
    )


def _rows(model: ErrorModel, metres: float) -> list[tuple[Cell, ...]]:
    return [
        (
            name,
            float(model.bias[at]) / metres,
            float(model.floor[at]) / metres,
            model.per_rise / metres,
            model.own,
            model.count,
            100 * model.within,
        )
        for at, name in enumerate((*model.names, "all other ground" if model.names else "all ground"))
    ]


@register
class Uncertainty(Operation[UncertaintyParams]):
    """One standard deviation of a surface's errors in each cell."""

    name = "uncertainty"
    title = "Uncertainty"
    stage = "Judge"
    summary = (
        "How wrong a surface is cell by cell, from its errors at points: by slope, land cover and its own uncertainty."
    )
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "points": Role("points", "Fitted at"),
        "cover": Role("features", "Land cover", many=True, optional=True, of=("polygons",)),
    }
    outputs = {
        "surface": Output("surface", "Uncertainty", "spread"),
        "model": Output("table", "Its errors", when="asked", told=True),
    }
    heights_in = "given"

    def check(self, inputs: Inputs, params: UncertaintyParams, frame: Frame) -> list[Finding]:
        for one in inputs.features("cover"):
            if params.column not in one.attributes:
                there = ", ".join(one.attributes) or "none"
                sentence = f"The land cover has no column {params.column!r}; it has: {there}."
                return [Finding("column", "stop", sentence, "Choose one of these.")]
        return []

    def run(self, inputs: Inputs, params: UncertaintyParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        places = at_points(inputs.points("points"), frame.grid.crs)
        given = inputs.features("cover")
        cover = Cover(given, params.column, surface.grid.crs) if given else None
        classes = cover.at(places) if cover is not None else None
        names = cover.names if cover is not None else ()
        model = model_at(judged_at(surface, places), classes, names, own_at(surface, places))
        made: Surface = doubts_of(surface, model, cover)
        metres = UNITS[frame.unit]
        return Results(surface=made, model=lambda: Table(_columns(frame.unit), _rows(model, metres), {}))
