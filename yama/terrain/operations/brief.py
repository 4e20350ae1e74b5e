"""Whether surfaces are what was asked for, as an operation."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yama.terrain.frame import Frame
from yama.terrain.judge.brief import Subject, answer, statement
from yama.terrain.judge.demands import MOST, AnyDemand, Brief
from yama.terrain.judge.places import at_points, judged_at
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import in_unit

_COLUMNS = (
    Column("surface", "Surface", type="text"),
    Column("demand", "Asked", type="text"),
    Column("met", "Met", type="yes_no"),
    Column("found", "Found", decimals=3),
    Column("unit", "Unit", type="text"),
    Column("told", "More of it", type="text"),
    Column("x", "Where, x", decimals=2),
    Column("y", "Where, y", decimals=2),
)


class CheckBriefParams(Params):
    """What is asked. Demands name features by their place among those that are given, from 1."""

    demands: Annotated[list[AnyDemand], Field(min_length=1, max_length=MOST)]
    vegetated: list[str] = Field(
        [],
        max_length=40,
        title="Vegetation",
        description="Covers of checkpoints under which errors are stated as of vegetated ground.",
    )

    def in_words(self) -> list[str]:
        """Each demand."""
        names = {number: f"features {number}" for number in range(1, MOST + 1)}
        return [one.title(names) for one in self.demands]


@register
class CheckBrief(Operation[CheckBriefParams]):
    """Demands of a brief, met or not met by surfaces."""

    name = "check_brief"
    title = "Check against a brief"
    stage = "Judge"
    summary = "Whether surfaces are what was asked for: errors, holes, water, zero level, cells; demand by demand."
    inputs = {
        "surfaces": Role("surface", "Surfaces", many=True, quantity="height"),
        "checkpoints": Role("points", "Checkpoints", optional=True),
        "features": Role("features", "Areas and lines", many=True, optional=True),
    }
    outputs = {"answers": Output("table", "Brief")}
    heights_in = "given"
    previews = "none"

    def run(self, inputs: Inputs, params: CheckBriefParams, frame: Frame, progress: Progress) -> Results:
        held = dict(enumerate(inputs.features("features"), start=1))
        names = {number: f"features {number}" for number in held}
        Brief(demands=params.demands, vegetated=params.vegetated).refuse_contradictions(names)
        places = at_points(inputs.points("checkpoints"), frame.grid.crs) if inputs.has("checkpoints") else None
        surfaces = inputs.surfaces("surfaces")
        steps = len(surfaces) * len(params.demands)
        rows: list[tuple[Cell, ...]] = []
        said: dict[str, list[str]] = {}
        for number, given in enumerate(surfaces):
            surface = in_unit(given, "m")
            judged = judged_at(surface, places) if places is not None else None
            name = given.name or f"surface {number + 1}"
            subject = Subject(surface, places, judged, features=held, names=names)
            for demand in params.demands:
                part = part_of(progress, len(rows) / steps, (len(rows) + 1) / steps)
                told = answer(demand, subject, part)
                rows.append(
                    (name, demand.title(names), told.met, told.figure, told.unit, told.told, *(told.at or (None, None)))
                )
            said[name] = statement(subject, params.vegetated)
        return Results(answers=Table(_COLUMNS, rows, {"statement": said}))
