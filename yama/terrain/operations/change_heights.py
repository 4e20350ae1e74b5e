"""Change heights: to another unit, another zero level by an offset or a geoid, or turned about."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.base import Inputs, Operation, Params, Role, register
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import NAMES, UNITS

Unit = Literal["m", "ft", "us-ft"]


class ChangeHeightsParams(Params):
    """First the unit, then the geoid, then the offset, which is in the new unit."""

    from_unit: Unit | None = Field(None, description="The unit its heights really are in; as declared where not given.")
    to_unit: Unit = Field("m", description="The unit they are to be in.")
    geoid: Literal["add", "subtract"] = Field(
        "subtract",
        description="Subtract a geoid from heights above the ellipsoid, add it to those above mean sea level.",
    )
    offset: float = Field(0.0, ge=-100_000, le=100_000, description="Added to every height, in the new unit.")
    vertical_datum: str = Field(
        "", max_length=120, description="What zero means afterwards; as before where not given."
    )


@register
class ChangeHeights(Operation):
    """Heights in another unit or from another zero."""

    name = "change_heights"
    title = "Change heights"
    stage = "Fit"
    summary = "Metres and feet, another zero level by an offset or a geoid."
    inputs = {"surface": Role("surface", "Surface"), "geoid": Role("surface", "Geoid", optional=True)}
    Params = ChangeHeightsParams

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        surface, geoid = inputs["surface"], inputs.get("geoid")
        assert isinstance(surface, Surface)
        findings = []
        from_unit = params.from_unit or surface.unit
        if from_unit not in UNITS:
            return [
                Finding(
                    "unit", "stop", f"Its heights are in {from_unit}, which is not known here.", "Say what they are in."
                )
            ]
        if isinstance(geoid, Surface):
            if bounds_in(geoid, surface.grid) is None:
                findings.append(
                    Finding("outside", "stop", "The geoid lies elsewhere.", "Choose one that covers the surface.")
                )
            if geoid.unit != "m":
                findings.append(
                    Finding("geoid_unit", "stop", f"The geoid is in {geoid.unit}.", "Bring it to metres first.")
                )
            if not params.vertical_datum:
                findings.append(Finding("name", "caution", "What zero means afterwards is not said.",
                                        "The surface would still be taken for what it was."))  # fmt: skip
        elif from_unit == params.to_unit and params.offset == 0 and not params.vertical_datum:
            findings.append(
                Finding("same", "stop", "Nothing would change.", "Choose another unit, an offset or a geoid.")
            )
        if params.to_unit != frame.unit:
            findings.append(Finding("frame", "note", f"The frame's heights are in {NAMES.get(frame.unit, frame.unit)}.",
                                    f"What is in {NAMES[params.to_unit]} cannot be joined to the others."))  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        for finding in self.check(inputs, params, frame):
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        surface, geoid = inputs["surface"], inputs.get("geoid")
        assert isinstance(surface, Surface)
        into_metres = UNITS[params.from_unit or surface.unit]
        factor = into_metres / UNITS[params.to_unit]
        sign = (1.0 if params.geoid == "add" else -1.0) / UNITS[params.to_unit]
        layers = [surface, *([fitted(geoid, surface.grid)] if isinstance(geoid, Surface) else [])]

        def compute(arrays: list[Heights], _grid: Grid) -> Heights:
            found = arrays[0].astype(np.float64) * factor + params.offset
            if len(arrays) > 1:
                found += sign * arrays[1]
            result: Heights = found.astype(np.float32)
            return result

        return LiveSurface(layers, compute, 0, params.to_unit, params.vertical_datum or surface.vertical_datum)
