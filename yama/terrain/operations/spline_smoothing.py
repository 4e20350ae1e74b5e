"""Smoothing of a spline: what it would miss left-out points by, for each smoothing."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.interpolate.spline import LEAST_TENSION, TENSION, TensionSpline
from yama.terrain.operations.chosen_points import chosen_points
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.interpolation import Tension
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.points import merge_duplicates
from yama.terrain.progress import Progress
from yama.terrain.table import Column, Table

_SMOOTHINGS = (0.0, 0.001, 0.003, 0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0)
_FEWEST = 10


class SplineSmoothingParams(Params):
    """Which points, and how tightly the spline is drawn."""

    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    stray_points: Literal["use", "leave_out"] = "leave_out"
    left_out: list[tuple[float, float]] = Field(
        [], title="points left out", max_length=10_000, description="Places whose points are not used."
    )
    duplicates: Literal["mean", "first", "lowest", "highest"] = "mean"
    tension: Tension = Field(
        TENSION, ge=0, le=20, description="How tight it is drawn between points; 0 for a thin plate, else 0.5 or more."
    )


@register
class SplineSmoothing(Operation[SplineSmoothingParams]):
    """Leave-one-out errors of a spline in tension by its smoothing, from points in patches spread over all of them."""

    name = "spline_smoothing"
    title = "Smoothing of a spline"
    stage = "Build"
    summary = "What a spline would miss left-out points by, for each smoothing."
    inputs = {"points": Role("points", "Points")}
    outputs = {"errors": Output("table", "Errors by smoothing")}

    def check(self, inputs: Inputs, params: SplineSmoothingParams, frame: Frame) -> list[Finding]:
        points = inputs.points("points")
        if points.height_field not in points.fields or len(chosen_points(points, params, frame)) < _FEWEST:
            return [
                Finding("too_few", "stop", f"This needs {_FEWEST} points with heights at least.", "Choose more codes.")
            ]
        return []

    def run(self, inputs: Inputs, params: SplineSmoothingParams, frame: Frame, progress: Progress) -> Results:
        points = inputs.points("points")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates)
        spline = TensionSpline(x, y, z, params.tension or LEAST_TENSION, 0.0)
        errors, _ = spline.left_out_errors(_SMOOTHINGS, plate=not params.tension)
        rmse = np.sqrt(np.mean(errors**2, axis=1))
        columns = (Column("smoothing", "Smoothing"), Column("rmse", "RMSE", points.unit, decimals=3))
        facts = {"points": int(errors.shape[1]), "best": _SMOOTHINGS[int(rmse.argmin())], "unit": points.unit}
        return Results(errors=Table(columns, list(zip(_SMOOTHINGS, rmse.tolist(), strict=True)), facts))
