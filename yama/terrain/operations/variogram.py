"""Variogram: how heights differ with distance, and the models fitted to it."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.interpolate.kriging import MODELS, empirical, fit
from yama.terrain.operations.base import Inputs, Operation, Params, Role, register
from yama.terrain.operations.interpolate_points import chosen_points
from yama.terrain.points import Points, merge_duplicates


class VariogramParams(Params):
    """Which points, and up to which distance."""

    codes: list[str] | None = Field(None, description="Codes of the points to use; all where not given.")
    stray_points: Literal["use", "leave_out"] = "leave_out"
    left_out: list[tuple[float, float]] = Field([], max_length=10_000, description="Places whose points are not used.")
    duplicates: Literal["mean", "first", "lowest", "highest"] = "mean"
    farthest: float | None = Field(
        None, gt=0, description="Pairs farther apart do not count; a third of the points' extent where not given.",
        json_schema_extra={"unit": "m"},
    )  # fmt: skip


@register
class VariogramOf(Operation):
    """The empirical variogram of points with every model fitted."""

    name = "variogram"
    title = "Variogram"
    stage = "Build"
    summary = "How heights differ with distance, and the models fitted to it."
    inputs = {"points": Role("points", "Points")}
    Params = VariogramParams
    produces = "figures"
    quick = True

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        points = inputs["points"]
        assert isinstance(points, Points)
        if points.height_field not in points.fields or len(chosen_points(points, params, frame)) < 10:
            return [
                Finding("too_few", "stop", "A variogram needs ten points with heights at least.", "Choose more codes.")
            ]
        return []

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> dict[str, Any]:
        points = inputs["points"]
        assert isinstance(points, Points)
        for finding in self.check(inputs, params, frame):
            raise InputError(f"{finding.sentence} {finding.why}")
        chosen = chosen_points(points, params, frame)
        x, y, z = merge_duplicates(chosen.x, chosen.y, chosen.z, params.duplicates)
        across, up = frame.grid.metres_per_unit()
        found = empirical(x * across, y * up, z, farthest=params.farthest)
        fitted = {model: fit(found, model) for model in MODELS}
        return {
            "distances": found.distances.tolist(), "values": found.values.tolist(), "pairs": found.pairs.tolist(),
            "fitted": {name: {"nugget": one.nugget, "sill": one.sill, "reach": one.reach} for name, one in fitted.items()},
            "unit": points.unit,
        }  # fmt: skip
