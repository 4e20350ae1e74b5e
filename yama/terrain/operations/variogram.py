"""Variogram: how heights differ with distance, and the models fitted to it."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.interpolate.kriging import MODELS, empirical, fit
from yama.terrain.operations.chosen_points import chosen_points
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.points import merge_duplicates
from yama.terrain.progress import Progress
from yama.terrain.table import Column, Table


class VariogramParams(Params):
    """Which points, and up to which distance."""

    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    stray_points: Literal["use", "leave_out"] = "leave_out"
    left_out: list[tuple[float, float]] = Field(
        [], title="points left out", max_length=10_000, description="Places whose points are not used."
    )
    duplicates: Literal["mean", "first", "lowest", "highest"] = "mean"
    farthest: GroundMetres | None = Field(
        None, gt=0, description="Pairs farther apart do not count; a third of the points' extent where not given."
    )


@register
class VariogramOf(Operation[VariogramParams]):
    """The empirical variogram of points with every model fitted."""

    name = "variogram"
    title = "Variogram"
    stage = "Build"
    summary = "How heights differ with distance, and the models fitted to it."
    inputs = {"points": Role("points", "Points")}
    outputs = {"variogram": Output("table", "Variogram")}

    def check(self, inputs: Inputs, params: VariogramParams, frame: Frame) -> list[Finding]:
        points = inputs.points("points")
        if points.height_field not in points.fields or len(chosen_points(points, params, frame)) < 10:
            return [
                Finding("too_few", "stop", "A variogram needs ten points with heights at least.", "Choose more codes.")
            ]
        return []

    def run(self, inputs: Inputs, params: VariogramParams, frame: Frame, progress: Progress) -> Results:
        points = inputs.points("points")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates)
        across, up = frame.grid.metres_per_unit()
        found = empirical(x * across, y * up, z, farthest=params.farthest)
        fitted = {model: fit(found, model) for model in MODELS}
        columns = (
            Column("distance", "Distance", "m", decimals=1), Column("semivariance", "Semivariance", f"{points.unit}²", decimals=3),
            Column("pairs", "Pairs", type="whole"),
        )  # fmt: skip
        rows = list(zip(found.distances.tolist(), found.values.tolist(), found.pairs.tolist(), strict=True))
        told = {name: {"nugget": one.nugget, "sill": one.sill, "range": one.range} for name, one in fitted.items()}
        return Results(variogram=Table(columns, rows, {"fitted": told, "unit": points.unit}))
