"""Difference of two surfaces, and accuracy against checkpoints, as operations."""

from __future__ import annotations

from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import difference
from yama.terrain.frame import Frame
from yama.terrain.judge.accuracy import Figures, accuracy
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import NoParams
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Column, Table


@register
class Difference(Operation[NoParams]):
    """One surface minus another."""

    name = "difference"
    title = "Difference"
    version = 2
    stage = "Judge"
    summary = "First minus second, on the frame; empty where either is."
    inputs = {"first": Role("surface", "First surface"), "second": Role("surface", "Second surface")}
    outputs = {"surface": Output("surface", "Difference", "difference")}
    heights_in = "frame"

    def check(self, inputs: Inputs, params: NoParams, frame: Frame) -> list[Finding]:
        first, second = inputs.surface("first"), inputs.surface("second")
        findings = []
        if first.unit != second.unit:
            findings.append(
                Finding(
                    "unit",
                    "stop",
                    f"One surface is in {first.unit}, the other in {second.unit}.",
                    "Convert one of them first.",
                )
            )
        if first.vertical_datum and second.vertical_datum and first.vertical_datum != second.vertical_datum:
            findings.append(
                Finding(
                    "datum",
                    "caution",
                    f"Zero means {first.vertical_datum} in one surface and {second.vertical_datum} in the other.",
                    "The difference holds that offset too.",
                )
            )
        for surface in (first, second):
            if not surface.grid.is_in_step_with(frame.grid):
                findings.append(
                    Finding("grid", "note", "One surface is not on the frame's grid; it is fitted bilinearly.")
                )
                break
        return findings

    def run(self, inputs: Inputs, params: NoParams, frame: Frame, progress: Progress) -> Results:
        return Results(surface=difference(inputs.surface("first"), inputs.surface("second"), frame.grid))


@register
class AccuracyAtCheckpoints(Operation[NoParams]):
    """Error figures of a surface."""

    name = "accuracy"
    title = "Accuracy at checkpoints"
    stage = "Judge"
    summary = "Mean, RMSE, NMAD and quantiles of surface minus checkpoint."
    inputs = {"surface": Role("surface", "Surface"), "checkpoints": Role("points", "Checkpoints")}
    outputs = {"figures": Output("table", "Accuracy")}
    heights_in = "frame"
    previews = "none"

    def run(self, inputs: Inputs, params: NoParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        found = accuracy(surface, inputs.points("checkpoints"))
        rows = [("all", found.all), *found.by_code.items()]
        return Results(figures=Table(
            (Column("code", "Code", type="text"), *columns_of(surface.unit)),
            [(code, *values_of(figures)) for code, figures in rows],
            {**found.to_dict(), "unit": surface.unit},
        ))  # fmt: skip


_SHOWN = (
    ("mean", "Mean"), ("median", "Median"), ("deviation", "Standard deviation"), ("rmse", "RMSE"), ("nmad", "NMAD"), ("mae", "MAE"),
    ("le68", "LE68"), ("le90", "LE90"), ("le95", "LE95"), ("lowest", "Lowest"), ("highest", "Highest"),
)  # fmt: skip


def columns_of(unit: str) -> tuple[Column, ...]:
    """The columns of error figures in a unit of height; see `values_of`."""
    counts = (Column("count", "Points", type="whole"), Column("outliers", "Outliers", type="whole"))
    return (*counts, *(Column(name, title, unit, decimals=3) for name, title in _SHOWN))


def values_of(figures: Figures | None) -> tuple[float | int | None, ...]:
    """Error figures in the order of `columns_of`; None where there are none."""
    if figures is None:
        return (0, *([None] * (len(_SHOWN) + 1)))
    return (figures.count, figures.outliers, *(getattr(figures, name) for name, _ in _SHOWN))
