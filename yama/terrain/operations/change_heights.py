"""Change heights: to another unit, another zero level by an offset or a geoid, or turned about."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Window
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import UNIT_TITLES, Params, Titles, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Heights, Over, Surface
from yama.terrain.units import NAMES, UNITS

Unit = Literal["m", "ft", "us-ft"]


class ChangeHeightsParams(Params):
    """First the unit, then the geoid, then the offset, which is in the new unit."""

    from_unit: Annotated[Unit, UNIT_TITLES] | None = Field(
        None, title="Its heights", description="The unit its heights really are in; as declared where not given."
    )
    to_unit: Annotated[Unit, UNIT_TITLES] = Field("m", title="Unit", description="The unit they are to be in.")
    geoid: Annotated[
        Literal["add", "subtract"],
        Titles(
            {
                "subtract": "subtracted (ellipsoid to sea level)",
                "add": "added (sea level to ellipsoid)",
            }
        ),
    ] = Field(
        "subtract",
        title="It is",
        description="Subtract a geoid from heights above the ellipsoid, add it to those above mean sea level.",
    )
    offset: float = Field(
        0.0, title="Raised by", ge=-100_000, le=100_000, description="Added to every height, in the new unit."
    )
    vertical_datum: Annotated[str, Unset("as before")] = Field(
        "", max_length=120, title="Zero means", description="What zero means afterwards; as before where not given."
    )


@register
class ChangeHeights(Operation[ChangeHeightsParams]):
    """Heights in another unit or from another zero."""

    name = "change_heights"
    title = "Change heights"
    stage = "Fit"
    summary = "Metres and feet, another zero level by an offset or a geoid."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "geoid": Role("surface", "Geoid", optional=True),
    }
    outputs = {"surface": Output("surface", "Surface", "height")}

    def check(self, inputs: Inputs, params: ChangeHeightsParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        findings = []
        from_unit = params.from_unit or surface.unit
        if from_unit not in UNITS:
            return [
                Finding(
                    "unit", "stop", f"Its heights are in {from_unit}, which is not known here.", "Say what they are in."
                )
            ]
        for geoid in inputs.surfaces("geoid"):
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
        if not inputs.has("geoid") and from_unit == params.to_unit and params.offset == 0 and not params.vertical_datum:
            findings.append(
                Finding("same", "stop", "Nothing would change.", "Choose another unit, an offset or a geoid.")
            )
        if params.to_unit != frame.unit:
            findings.append(Finding("frame", "note", f"The frame's heights are in {NAMES.get(frame.unit, frame.unit)}.",
                                    f"What is in {NAMES[params.to_unit]} cannot be joined to the others."))  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: ChangeHeightsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        into_metres = UNITS[params.from_unit or surface.unit]
        factor = into_metres / UNITS[params.to_unit]
        sign = (1.0 if params.geoid == "add" else -1.0) / UNITS[params.to_unit]
        geoids = [fitted(one, surface.grid) for one in inputs.surfaces("geoid")]

        made = Changed(surface, factor, params.offset, sign, geoids, params.to_unit)
        made.vertical_datum = params.vertical_datum or surface.vertical_datum
        return Results(surface=made)


class Changed(Over):
    """A surface with its heights times a factor, plus an offset and a geoid times a sign."""

    def __init__(
        self, surface: Surface, factor: float, offset: float, sign: float, geoids: Sequence[Surface], unit: str
    ) -> None:
        super().__init__(surface, unit=unit)
        self._factor, self._offset, self._sign, self._geoids = factor, offset, sign, list(geoids)

    def settings(self) -> tuple[Any, ...]:
        return (self._factor, self._offset, self._sign, [one.fingerprint for one in self._geoids])

    def companion(self, name: str, below: Surface) -> Surface | None:
        """The uncertainty in the new unit. A geoid adds its own, of which nothing is known, so that there is none then."""
        if name != "uncertainty":
            return below
        return None if self._geoids else Changed(below, self._factor, 0.0, 0.0, (), self.unit)

    def read(self, window: Window, level: int = 0) -> Heights:
        found = self.surface.read(window, level).astype(np.float64) * self._factor + self._offset
        for geoid in self._geoids:
            found += self._sign * geoid.read(window, level)
        result: Heights = found.astype(np.float32)
        return result
