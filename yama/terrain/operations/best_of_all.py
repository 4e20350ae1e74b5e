"""Best of all: one surface from several, each weighted by what is known of its errors, as an operation."""

from __future__ import annotations

from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.judge.places import Places, at_points
from yama.terrain.mosaic.fusion import MOST, Fused
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS

_SECONDS = 2.5e-7
"""Of a core for a cell of one surface."""


class BestOfAllParams(Params):
    """What covers the ground, where that is given."""

    column: str = Field("kind", max_length=64, title="Column", description="Of land cover: what it is told apart by.")


@register
class BestOfAll(Operation[BestOfAllParams]):
    """One surface from several."""

    name = "best_of_all"
    title = "Best of all"
    stage = "Judge"
    summary = "One surface from several: each weighs by what is known of its errors where it stands, in every scale, without a seam."
    inputs = {
        "surfaces": Role("surface", "Surfaces", many=True, quantity="height"),
        "points": Role("points", "Fitted at", optional=True),
        "cover": Role("features", "Land cover", optional=True, of=("polygons",)),
    }
    outputs = {
        "surface": Output("surface", "Best of all", "height"),
        "uncertainty": Output("surface", "Uncertainty", "spread", when="asked"),
        "source": Output("surface", "Source of each cell", "source", when="asked"),
        "models": Output("table", "Errors of each source", when="asked", told=True),
    }
    heights_in = "given"
    previews = "none"

    def cost(self, inputs: Inputs, params: BestOfAllParams, frame: Frame) -> float:
        return _SECONDS * frame.grid.cell_count * len(inputs.surfaces("surfaces"))

    def check(self, inputs: Inputs, params: BestOfAllParams, frame: Frame) -> list[Finding]:
        surfaces = inputs.surfaces("surfaces")
        if not 2 <= len(surfaces) <= MOST:
            return [Finding(
                "count", "stop", f"{len(surfaces)} {'surface is' if len(surfaces) == 1 else 'surfaces are'} chosen.",
                f"The best of all is made of 2 to {MOST}.",
            )]  # fmt: skip
        findings = [
            Finding(
                "unit",
                "stop",
                f"{one.name or 'A surface'} is in {one.unit or 'no unit'}.",
                "Only heights can be joined.",
            )
            for one in surfaces
            if one.unit not in UNITS
        ]
        data = {one.vertical_datum for one in surfaces} - {""}
        if len(data) > 1:
            findings.append(Finding(
                "datum", "note", f"Zero means different things in these surfaces: {', '.join(sorted(data))}.",
                "Each is raised or lowered to where the better ones stand. What zero means is not known of the result then.",
            ))  # fmt: skip
        if not inputs.has("points"):
            findings.append(Finding(
                "points", "caution", "No points say how wrong each surface is: the one of the finest cells is taken for the best.",
                "Choose points that no surface was made from, and that are not the checkpoints it is judged at later.",
            ))  # fmt: skip
        if inputs.has("cover"):
            (cover,) = inputs.features("cover")
            if params.column not in cover.attributes:
                there = ", ".join(cover.attributes) or "none"
                findings.append(Finding(
                    "column", "stop", f"The land cover has no column {params.column!r}; it has: {there}.", "Choose one of these.",
                ))  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: BestOfAllParams, frame: Frame, progress: Progress) -> Results:
        at: Places | None = None
        if inputs.has("points"):
            at = at_points(inputs.points("points"), frame.grid.crs)
        # what zero means is known of the result only where all surfaces agree
        data = {one.vertical_datum for one in inputs.surfaces("surfaces")}
        datum = data.pop() if len(data) == 1 else ""
        fused = Fused(
            inputs.surfaces("surfaces"), frame.grid, inputs.features("cover"), params.column, at, frame.unit, datum
        )
        companions = fused.companions
        return Results(
            surface=fused,
            uncertainty=companions["uncertainty"],
            source=companions["source"],
            models=lambda: models_of(fused, [one.name for one in inputs.surfaces("surfaces")], frame.unit),
        )


def models_of(fused: Fused, names: list[str], unit: str) -> Table:
    """What is known of the errors of each source, class by class, in a unit of height."""
    known, metres = fused.known, UNITS[unit]
    rows: list[tuple[Cell, ...]] = []
    for rank, number in enumerate(known.order, start=1):
        model = known.sources[number].model
        for place, name in enumerate((*model.names, "all other ground" if model.names else "all ground")):
            rows.append((
                rank, names[number] or f"Surface {number + 1}", name, float(model.bias[place]) / metres,
                float(model.floor[place]) / metres, model.per_rise / metres, model.count,
                None if model.within != model.within else 100 * model.within,
            ))  # fmt: skip
    return Table(
        (
            Column("rank", "Rank", type="whole"),
            Column("surface", "Surface", type="text"),
            Column("cover", "Ground", type="text"),
            Column("bias", "Mean error", unit, decimals=2),
            Column("level", "Standard deviation on level ground", unit, decimals=2),
            Column("per_rise", "More for a slope of 45°", unit, decimals=2),
            Column("count", "Errors known", type="whole"),
            Column("within", "Within their 90 % intervals", "%", decimals=0),
        ),
        rows,
        {"fitted_at": known.fitted_at, "factor": known.factor},
    )
