"""What operations on water have in common: the surface, and what becomes of its hollows."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from yama.terrain.drain.burning import Burning
from yama.terrain.drain.drainage import (
    Conditioning,
    Known,
    places_in,
)
from yama.terrain.drain.networks import plain_lines
from yama.terrain.drain.sea import sea_of
from yama.terrain.drain.working_off import Limits, Method
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import polygons_of
from yama.terrain.frame import Frame
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.parameters import OnlyWith, Params, Titles, Unit, Unset
from yama.terrain.units import UNITS

_SIDE = 1024  # cells along a side of what a check looks at
_SECONDS = 4e-7
"""Of a core for a cell, from hollows to what drains through it."""
SURFACE = Role("surface", "Surface", quantity="height")
KEPT = Role("features", "Keep their water", many=True, optional=True, of=("polygons",))
BURNED = Role("features", "Burned in", many=True, optional=True, of=("lines",))
_CHANGING = ("fill", "breach", "lesser")
HECTARE = 10_000.0


class ConditioningParams(Params):
    """What becomes of hollows."""

    method: Annotated[
        Method,
        Titles(
            {"leave": "leave", "fill": "fill", "breach": "breach", "lesser": "lesser change"},
            {
                "leave": "Water stays in them.",
                "fill": "Raised to where they run over.",
                "breach": "A way out is cut.",
                "lesser": "Each filled or breached, whichever moves less ground.",
            },
        ),
    ] = Field("lesser", title="Hollows")
    most_depth: Annotated[float, Unit("m"), Unset("any depth"), OnlyWith("method", _CHANGING)] | None = Field(
        None, gt=0, le=10_000, title="Depth up to", description="Deeper ones are left, and no way out is cut deeper."
    )
    most_area: Annotated[float, Unit("m²"), Unset("any size"), OnlyWith("method", ("fill", "lesser"))] | None = Field(
        None, gt=0, le=1e12, title="Area up to", description="Larger ones are not filled."
    )
    most_length: Annotated[float, Unit("m"), Unset("any length"), OnlyWith("method", ("breach", "lesser"))] | None = (
        Field(None, gt=0, le=1e6, title="Ways up to", description="No longer way out is cut.")
    )

    sea: Annotated[float, Unit("m"), Unset("none")] | None = Field(
        None,
        ge=-20_000,
        le=20_000,
        title="Sea up to",
        description="What is not higher and reaches the rim is sea: water ends there.",
    )

    waters_at: list[tuple[float, float]] = Field(
        [],
        max_length=200,
        title="Hollows with water",
        description="Places in the frame's CRS whose hollows keep their water.",
    )

    bed_width: Annotated[float, Unit("m")] = Field(
        4.0, gt=0, le=1_000, title="Bed width", description="Of what is burned in."
    )
    bed_depth: Annotated[float, Unit("m")] = Field(
        1.0, ge=0, le=100, title="Bed depth", description="How far its bed lies below the ground along it."
    )
    bed_bank: Annotated[float, Unit("m")] = Field(
        4.0, ge=0, le=1_000, title="Bank width", description="To each side of the bed, brought down to it smoothly."
    )

    def conditioning(self, known: Known) -> Conditioning:
        """As the core takes it."""
        burning = Burning(self.bed_width, self.bed_depth, self.bed_bank) if known.streams else None
        return Conditioning(self.method, Limits(self.most_depth, self.most_area, self.most_length), self.sea, burning)


def known_in(inputs: Inputs, params: ConditioningParams, frame: Frame) -> Known:
    crs = inputs.surface("surface").grid.crs
    lakes, rivers = inputs.features("kept"), inputs.features("burned")
    return Known(
        tuple(polygons_of(lakes, crs)) if lakes else (),
        tuple(plain_lines(rivers, crs)),
        places_in(params.waters_at, frame.grid.crs, crs),
    )


def about_surface(inputs: Inputs, params: ConditioningParams) -> list[Finding]:
    surface = inputs.surface("surface")
    findings = []
    if surface.grid.is_geographic:
        findings.append(
            Finding(
                "degrees",
                "caution",
                "Its cells are in degrees, and not as wide as they are high.",
                "Fall is told by metres all the same. Fit it to the frame for streams whose lengths compare.",
            )
        )
    level = 0
    while max(surface.grid.at_level(level).rows, surface.grid.at_level(level).cols) > _SIDE:
        level += 1
    cells = surface.read(surface.grid.at_level(level).whole, level) * np.float32(UNITS.get(surface.unit or "m", 1.0))
    sea = sea_of(cells)
    if sea is not None and (params.sea is None or params.sea < sea):
        findings.append(
            Finding(
                "sea",
                "caution",
                f"Much of its rim lies at {sea:g} m, as a sea does: streams will cross it.",
                "",
                Fix(f"Sea up to {sea:g} m", {"sea": sea}),
            )
        )
    return findings


class OnWater:
    """What operations on water have in common."""

    def cost(self, inputs: Inputs, params: Params, frame: Frame) -> float:
        """Seconds that it takes on one core."""
        return _SECONDS * inputs.surface("surface").grid.cell_count
