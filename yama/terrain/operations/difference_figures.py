"""Figures of a difference, and what its means over areas are worth, as an operation."""

from __future__ import annotations

from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.judge.likeness import SHARES, Class, Statistics, statistics
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.operations.shift import compared_on
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table
from yama.terrain.units import UNITS

_AREAS = (100.0, 1_000.0, 10_000.0, 100_000.0, 1_000_000.0)
_SHOWN = 40  # places along the fitted variogram

Rows = list[tuple[Cell, ...]]


class DifferenceFiguresParams(Params):
    """What the ground is told apart by."""

    column: str = Field("kind", max_length=64, title="Column", description="Of land cover: what it is told apart by.")


def columns_in(unit: str) -> tuple[Column, ...]:
    """Of the table, in a unit of height."""
    lengths = (
        ("mean", "Mean"),
        ("error", "Standard error of the mean"),
        ("median", "Median"),
        ("deviation", "Standard deviation"),
        ("nmad", "NMAD"),
        ("rmse", "RMSE"),
        ("le95", "LE95"),
        ("lowest", "Lowest"),
        ("highest", "Highest"),
    )
    return (
        Column("ground", "Ground", type="text"),
        Column("area", "Area", "m²", decimals=0),
        Column("count", "Cells", type="whole"),
        *(Column(name, title, unit, decimals=3) for name, title in lengths),
        Column("skew", "Skew", decimals=2),
        *(Column(f"q{100 * share:g}", f"{100 * share:g} % are below", unit, decimals=3) for share in SHARES),
    )


def _row(one: Class, metres: float) -> tuple[Cell, ...]:
    figures = one.figures
    lengths = (
        figures.mean,
        one.error,
        figures.median,
        figures.deviation,
        figures.nmad,
        figures.rmse,
        figures.le95,
        figures.lowest,
        figures.highest,
    )
    told = [length / metres for length in lengths]
    return (one.name, one.area, figures.count, *told, one.skew, *(value / metres for value in one.quantiles))


def facts_of(found: Statistics, unit: str) -> dict[str, object]:
    """What is told beside the rows: the variogram, its model, and errors of means over areas."""
    metres = UNITS[unit]
    like = found.likeness
    reach = max(float(like.lags[-1]), 1.0)
    along = [reach * i / _SHOWN for i in range(_SHOWN + 1)]
    # what a mean would err if each cell did so alone
    alone = float(like.nugget + sum(one.sill for one in like.reaches)) ** 0.5
    return {
        "unit": unit,
        "cell": like.cell,
        "clipped": found.clipped,
        "lags": like.lags.tolist(),
        "variogram": (like.variogram / metres**2).tolist(),
        "along": along,
        "model": [float(like.model(like.lags[:1] * 0 + at)[0]) / metres**2 for at in along],
        "nugget": like.nugget / metres**2,
        "reaches": [{"sill": one.sill / metres**2, "range": one.range} for one in like.reaches],
        "means": [
            {
                "area": area,
                "error": like.error_of_mean(area) / metres,
                "alone": alone / metres / max(area / like.cell**2, 1.0) ** 0.5,
            }
            for area in _AREAS
            if like.cell**2 <= area <= found.classes[0].area
        ],
    }


@register
class DifferenceFigures(Operation[DifferenceFiguresParams]):
    """Figures of the difference of two surfaces."""

    name = "difference_figures"
    title = "Figures of a difference"
    stage = "Judge"
    summary = (
        "First minus second in figures, by land cover; how far errors hang together, and how sure means over areas are."
    )
    inputs = {
        "first": Role("surface", "First surface", quantity="height"),
        "second": Role("surface", "Second surface", quantity="height"),
        "cover": Role("features", "Land cover", many=True, optional=True, of=("polygons",)),
    }
    outputs = {"figures": Output("table", "Figures")}
    heights_in = "given"
    previews = "none"

    def check(self, inputs: Inputs, params: DifferenceFiguresParams, frame: Frame) -> list[Finding]:
        first, second = inputs.surface("first"), inputs.surface("second")
        if first.vertical_datum and second.vertical_datum and first.vertical_datum != second.vertical_datum:
            sentence = f"Zero means {first.vertical_datum} in one surface and {second.vertical_datum} in the other."
            return [Finding("datum", "caution", sentence, "The difference holds that offset too.")]
        return []

    def run(self, inputs: Inputs, params: DifferenceFiguresParams, frame: Frame, progress: Progress) -> Results:
        first, second = inputs.surface("first"), inputs.surface("second")
        grid = compared_on(first, second, frame)
        found = statistics(first, second, grid, inputs.features("cover"), params.column, progress)
        rows: Rows = [_row(one, UNITS[frame.unit]) for one in found.classes]
        return Results(figures=Table(columns_in(frame.unit), rows, facts_of(found, frame.unit)))
