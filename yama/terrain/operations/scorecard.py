"""The scorecard of several surfaces at the same places, as an operation."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.judge.places import Places, at_points, judged_at, spread_over
from yama.terrain.judge.scorecard import Card, Part, Subject, best_of, scorecard
from yama.terrain.judge.splits import none_of, split_by
from yama.terrain.judge.suspicions import suspicions
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.judge import columns_of, values_of
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS

_SPLITS = {
    "none": "nothing", "cover": "land cover", "slope": "slope", "aspect": "aspect", "height": "height",
    "distance": "distance to data", "polygon": "polygons",
}  # fmt: skip
By = Annotated[Literal["none", "cover", "slope", "aspect", "height", "distance", "polygon"], Titles(_SPLITS)]


class ScorecardParams(Params):
    """How places are split, and which of them count."""

    split: By = Field("none", title="Split by")
    second: By = Field("none", title="And by", description="Two at once give every pair of classes.")
    column: str = Field("", max_length=64, title="Column", description="Of the polygons: what they are told apart by.")
    shared: bool = Field(
        False, title="Only shared places", description="Count only places at which every surface has a height."
    )


@register
class Scorecard(Operation[ScorecardParams]):
    """Error figures of several surfaces at the same places."""

    name = "scorecard"
    title = "Scorecard"
    stage = "Judge"
    summary = "Any number of surfaces at checkpoints, or against one of them: error figures, how sure they are, class by class."
    inputs = {
        "surfaces": Role("surface", "Surfaces", many=True, quantity="height"),
        "checkpoints": Role("points", "Checkpoints", optional=True),
        "reference": Role("surface", "Against", optional=True, quantity="height"),
        "polygons": Role("features", "Polygons", many=True, optional=True, of=("polygons",)),
        "data": Role("points", "Distance to", many=True, optional=True),
    }
    outputs = {"figures": Output("table", "Scorecard")}
    heights_in = "given"
    previews = "none"

    def check(self, inputs: Inputs, params: ScorecardParams, frame: Frame) -> list[Finding]:
        if inputs.has("checkpoints") == inputs.has("reference"):
            return [Finding(
                "against", "stop", "Surfaces are judged at checkpoints or against a surface.",
                "Choose one of the two: input checkpoints, or input reference.",
            )]  # fmt: skip
        data = {one.vertical_datum for one in inputs.surfaces("surfaces")} - {""}
        if len(data) > 1:
            said = ", ".join(sorted(data))
            return [Finding("datum", "caution", f"Zero means different things in these surfaces: {said}.",
                            "Their errors hold these offsets too.")]  # fmt: skip
        return []

    def run(self, inputs: Inputs, params: ScorecardParams, frame: Frame, progress: Progress) -> Results:
        surfaces = inputs.surfaces("surfaces")
        places = _places(inputs, frame)
        subjects = []
        for number, one in enumerate(surfaces):
            progress(number / len(surfaces))
            subjects.append(Subject(one.name or f"surface {number + 1}", judged_at(one, places)))
        ground = subjects[best_of(subjects)].judged
        first, second = (
            none_of(places)
            if name == "none"
            else split_by(name, places, ground, inputs.features("polygons"), params.column, inputs.all_points("data"))
            for name in (params.split, params.second)
        )
        if params.second == params.split != "none":
            raise InputError("Split by two different things, or by one alone.")
        card = scorecard(subjects, places, first, second if params.second != "none" else None, params.shared)
        said = [one.finding.to_dict() for one in suspicions(subjects, places, card)]
        return Results(figures=table_of(card, frame.unit, said))


def _places(inputs: Inputs, frame: Frame) -> Places:
    if inputs.has("checkpoints"):
        return at_points(inputs.points("checkpoints"), frame.grid.crs)
    return spread_over(inputs.surface("reference"), frame.grid)


def table_of(card: Card, unit: str, findings: list[dict[str, object]]) -> Table:
    """A scorecard as a table in a unit of height: a line a surface, then a line for each class of it."""
    rows: list[tuple[Cell, ...]] = []

    def line(surface: str, first: str, second: str, part: Part) -> None:
        interval = part.sure.intervals.get("le95") if part.sure is not None else None
        between = (None, None) if interval is None else tuple(one / UNITS[unit] for one in interval)
        rows.append((surface, first, second, *values_of(part.figures, UNITS[unit]), *between))

    for row in card.rows:
        line(row.name, "all", "", row.whole)
        for name, part in zip(card.split.names, row.parts, strict=True):
            line(row.name, name, "", part)
        if card.second is not None:
            for name, parts in zip(card.split.names, row.crossed, strict=True):
                for other, part in zip(card.second.names, parts, strict=True):
                    line(row.name, name, other, part)
    columns = (
        Column("surface", "Surface", type="text"),
        Column("class", f"By {card.split.title}", type="text"),
        Column("second", f"By {card.second.title}" if card.second else "And by", type="text"),
        *columns_of(unit),
        Column("le95_low", "LE95 at least", unit, decimals=3),
        Column("le95_high", "LE95 at most", unit, decimals=3),
    )
    return Table(columns, rows, {"shared": card.shared, "unit": unit, "findings": findings})
