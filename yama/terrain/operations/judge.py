"""Difference of two surfaces, and accuracy against checkpoints, as operations."""

from __future__ import annotations

from typing import Any

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import difference
from yama.terrain.frame import Frame
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.operations.base import Inputs, Operation, Role, register
from yama.terrain.operations.relief import NoParams
from yama.terrain.points import Points
from yama.terrain.surface import Surface


@register
class Difference(Operation):
    """One surface minus another."""

    name = "difference"
    quantity = "difference"
    title = "Difference"
    version = 2
    stage = "Judge"
    summary = "First minus second, on the frame; empty where either is."
    inputs = {"first": Role("surface", "First surface"), "second": Role("surface", "Second surface")}
    heights_in = "frame"
    Params = NoParams

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        first, second = inputs["first"], inputs["second"]
        assert isinstance(first, Surface) and isinstance(second, Surface)
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

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        first, second = inputs["first"], inputs["second"]
        assert isinstance(first, Surface) and isinstance(second, Surface)
        for finding in self.check(inputs, params, frame):
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        return difference(first, second, frame.grid)


@register
class AccuracyAtCheckpoints(Operation):
    """Error figures of a surface."""

    name = "accuracy"
    title = "Accuracy at checkpoints"
    stage = "Judge"
    summary = "Mean, RMSE, NMAD and quantiles of surface minus checkpoint."
    inputs = {"surface": Role("surface", "Surface"), "checkpoints": Role("points", "Checkpoints")}
    heights_in = "frame"
    Params = NoParams
    produces = "figures"

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> dict[str, Any]:
        surface, checkpoints = inputs["surface"], inputs["checkpoints"]
        assert isinstance(surface, Surface) and isinstance(checkpoints, Points)
        return accuracy(surface, checkpoints).to_dict()
