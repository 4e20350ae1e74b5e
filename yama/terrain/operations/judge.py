"""Difference of two surfaces, and heights above ground, as operations."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field

from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.reproject import difference, fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.judge.accuracy import Figures
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import NoParams, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.table import Column
from yama.terrain.units import UNITS


def _about_two(first: Surface, second: Surface, frame: Frame) -> list[Finding]:
    """What speaks against taking one surface from another."""
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
            findings.append(Finding("grid", "note", "One surface is not on the frame's grid; it is fitted bilinearly."))
            break
    return findings


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
        return _about_two(inputs.surface("first"), inputs.surface("second"), frame)

    def run(self, inputs: Inputs, params: NoParams, frame: Frame, progress: Progress) -> Results:
        return Results(surface=difference(inputs.surface("first"), inputs.surface("second"), frame.grid))


_LOOKED_AT = 512 * 512
"""Cells that are looked at before a run, at most: of a coarser level where there are more."""
_BELOW = 0.2
"""Metres below the ground that noise of two surfaces may make."""


class AboveGroundParams(Params):
    """What becomes of cells that lie below the ground."""

    below: Annotated[Literal["keep", "zero"], Titles({"keep": "as they are", "zero": "0, as the ground"})] = Field(
        "keep", title="Below ground", description="Cells below the ground: as they are, or 0."
    )


@register
class HeightAboveGround(Operation[AboveGroundParams]):
    """Heights of trees and buildings: a first surface minus the ground under it."""

    name = "height_above_ground"
    title = "Height above ground"
    stage = "Build"
    summary = "A first surface minus the ground under it: heights of trees and buildings."
    inputs = {
        "surface": Role("surface", "First surface", quantity="height"),
        "ground": Role("surface", "Ground", quantity="height"),
    }
    outputs = {"surface": Output("surface", "Height above ground", "difference")}
    heights_in = "frame"

    def check(self, inputs: Inputs, params: AboveGroundParams, frame: Frame) -> list[Finding]:
        first, ground = inputs.surface("surface"), inputs.surface("ground")
        findings = _about_two(first, ground, frame)
        if any(one.weight == "stop" for one in findings):
            return findings
        made = difference(first, ground, frame.grid)
        level = 0
        while made.grid.at_level(level).cell_count > _LOOKED_AT:
            level += 1
        grid = made.grid.at_level(level)
        heights = made.read(grid.whole, level)
        if not np.isfinite(heights).any():
            return [*findings, Finding("nothing", "stop", "The two surfaces have no cell in common.", "Choose others.")]
        # a cell that is looked at stands for all below it, by their mean
        many = 4**level
        about = "" if level == 0 else "about "
        low = heights < -_BELOW / UNITS[frame.unit]
        if low.any():
            count, lowest = int(low.sum()) * many, float(np.nanmin(heights))
            findings.append(Finding(
                "below", "caution", f"In {about}{count} cells the first surface lies below the ground, down to {about}{lowest:.1f} {frame.unit}.",
                "Noise, or ground that changed between the two, or surfaces that are not of one place.",
                Fix("Take 0 there", {"below": "zero"}) if params.below == "keep" else None,
                places=_places(low, grid),
            ))  # fmt: skip
        flat = (heights == 0) & (fitted(ground, frame.grid).read(grid.whole, level) == 0)
        if flat.any():
            findings.append(Finding(
                "zero", "caution", f"In {about}{int(flat.sum()) * many} cells both surfaces are exactly 0.",
                "That is mostly where nothing was measured, such as sea. Declare 0 as empty in Gather, or clip it away.",
                places=_places(flat, grid),
            ))  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: AboveGroundParams, frame: Frame, progress: Progress) -> Results:
        made = difference(inputs.surface("surface"), inputs.surface("ground"), frame.grid)
        if params.below == "zero":
            made = LiveSurface([made], _not_below, 0, made.unit, made.vertical_datum, of=("height above ground",))
        return Results(surface=made)


def _not_below(arrays: list[Heights], part: Grid) -> Heights:
    return np.maximum(arrays[0], np.float32(0.0))


def _places(where: npt.NDArray[np.bool_], grid: Grid) -> list[tuple[float, float]]:
    """Some of the cells that are meant, spread over all of them."""
    rows, cols = np.nonzero(where)
    some = np.linspace(0, len(rows) - 1, min(len(rows), 200)).astype(np.int64)
    return [
        (grid.west + (col + 0.5) * grid.cell_width, grid.north - (row + 0.5) * grid.cell_height)
        for row, col in zip(rows[some].tolist(), cols[some].tolist(), strict=True)
    ]


_SHOWN = (
    ("mean", "Mean"), ("median", "Median"), ("deviation", "Standard deviation"), ("rmse", "RMSE"), ("nmad", "NMAD"), ("mae", "MAE"),
    ("le68", "LE68"), ("le90", "LE90"), ("le95", "LE95"), ("lowest", "Lowest"), ("highest", "Highest"),
)  # fmt: skip


def columns_of(unit: str) -> tuple[Column, ...]:
    """The columns of error figures in a unit of height; see `values_of`."""
    counts = (Column("count", "Points", type="whole"), Column("outliers", "Outliers", type="whole"))
    return (*counts, *(Column(name, title, unit, decimals=3) for name, title in _SHOWN))


def values_of(figures: Figures | None, unit: float = 1.0) -> tuple[float | int | None, ...]:
    """Error figures in the order of `columns_of`, divided by a unit's length; None where there are none."""
    if figures is None:
        return (0, *([None] * (len(_SHOWN) + 1)))
    return (figures.count, figures.outliers, *(getattr(figures, name) / unit for name, _ in _SHOWN))
