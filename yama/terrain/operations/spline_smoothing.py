"""Smoothing of a spline: what it would miss left-out points by, for each smoothing."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.interpolate.spline import LEAST_TENSION, TENSION, TensionSpline
from yama.terrain.operations.base import Inputs, Operation, Params, Role, register
from yama.terrain.operations.interpolate_points import Tension, chosen_points
from yama.terrain.points import Points, merge_duplicates

_SMOOTHINGS = (0.0, 0.001, 0.003, 0.01, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0)
_FEWEST = 10


class SplineSmoothingParams(Params):
    """Which points, and how tightly the spline is drawn."""

    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    stray_points: Literal["use", "leave_out"] = "leave_out"
    left_out: list[tuple[float, float]] = Field([], max_length=10_000, description="Places whose points are not used.")
    duplicates: Literal["mean", "first", "lowest", "highest"] = "mean"
    tension: Tension = Field(
        TENSION, ge=0, le=20, description="How tight it is drawn between points; 0 for a thin plate, else 0.5 or more."
    )


@register
class SplineSmoothing(Operation):
    """Leave-one-out errors of a spline in tension by its smoothing, from points in patches spread over all of them."""

    name = "spline_smoothing"
    title = "Smoothing of a spline"
    stage = "Build"
    summary = "What a spline would miss left-out points by, for each smoothing."
    inputs = {"points": Role("points", "Points")}
    Params = SplineSmoothingParams
    produces = "figures"
    quick = True

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        points = inputs["points"]
        assert isinstance(points, Points)
        if points.height_field not in points.fields or len(chosen_points(points, params, frame)) < _FEWEST:
            return [
                Finding("too_few", "stop", f"This needs {_FEWEST} points with heights at least.", "Choose more codes.")
            ]
        return []

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> dict[str, Any]:
        points = inputs["points"]
        assert isinstance(points, Points)
        for finding in self.check(inputs, params, frame):
            raise InputError(f"{finding.sentence} {finding.why}")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates)
        spline = TensionSpline(x, y, z, params.tension or LEAST_TENSION, 0.0)
        errors, _ = spline.left_out_errors(_SMOOTHINGS, plate=not params.tension)
        rmse = np.sqrt(np.mean(errors**2, axis=1))
        return {
            "smoothings": list(_SMOOTHINGS), "rmse": rmse.tolist(), "points": int(errors.shape[1]),
            "best": _SMOOTHINGS[int(rmse.argmin())], "unit": points.unit,
        }  # fmt: skip
