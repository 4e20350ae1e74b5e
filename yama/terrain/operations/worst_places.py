"""Where two surfaces differ most, as an operation."""

from __future__ import annotations

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.judge.worst import TITLES, WorstPlace, worst_places
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.operations.shift import compared_on
from yama.terrain.progress import Progress

_UNITS = {
    "area": "m²", "volume": "m³", "mean": "m", "lowest": "m", "highest": "m", "slope": "°",
}  # fmt: skip


class WorstPlacesParams(Params):
    """How many places are told, and from what size on."""

    count: int = Field(10, ge=1, le=200, title="Places")
    least_area: float = Field(
        0.0,
        ge=0,
        le=1e9,
        title="Least area",
        json_schema_extra={"unit": "m²"},
        description="Smaller places are let pass.",
    )
    column: str = Field("kind", max_length=64, title="Column", description="Of land cover: what it is told apart by.")


def features_of(places: list[WorstPlace], crs: str) -> Features:
    """Worst places as polygons with columns of what is known of them, worst first."""
    columns: dict[str, list[Value]] = {
        "rank": list(range(1, len(places) + 1)),
        "cause": [TITLES[one.cause] for one in places],
        "suspected_in": [one.which for one in places],
        "near": [one.near for one in places],
        "cover": [one.cover for one in places],
        **{name: [round(getattr(one, name), 3) for one in places] for name in _UNITS},
        "x": [one.x for one in places],
        "y": [one.y for one in places],
    }
    shapes = np.array([shapely.Polygon(one.ring) for one in places], dtype=object)
    return Features(crs, shapes, columns, _UNITS)


@register
class WorstPlaces(Operation[WorstPlacesParams]):
    """Where two surfaces differ most."""

    name = "worst_places"
    title = "Worst places"
    stage = "Judge"
    summary = "Where two surfaces differ most, as areas ranked by volume, each with what probably made it."
    inputs = {
        "first": Role("surface", "First surface", quantity="height"),
        "second": Role("surface", "Second surface", quantity="height"),
        "cover": Role("features", "Land cover", many=True, optional=True, of=("polygons",)),
        "named": Role("features", "Place names", many=True, optional=True),
    }
    outputs = {"places": Output("features", "Worst places")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: WorstPlacesParams, frame: Frame) -> list[Finding]:
        first, second = inputs.surface("first"), inputs.surface("second")
        if first.vertical_datum and second.vertical_datum and first.vertical_datum != second.vertical_datum:
            said = f"Zero means {first.vertical_datum} in one surface and {second.vertical_datum} in the other."
            why = "Places are told against the median difference, so that an offset between both makes none."
            return [Finding("datum", "note", said, why)]
        return []

    def run(self, inputs: Inputs, params: WorstPlacesParams, frame: Frame, progress: Progress) -> Results:
        first, second = inputs.surface("first"), inputs.surface("second")
        on = compared_on(first, second, frame)
        found = worst_places(
            first, second, on, params.count, inputs.features("cover"), params.column, inputs.features("named"),
            params.least_area, progress,
        )  # fmt: skip
        return Results(places=features_of(found.places, on.crs))
