"""Fill holes: from what lies around them, or from another surface."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding, Mend
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.mosaic.fill import MOST_ACROSS, Filled, FilledCells, Method
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.base import Inputs, Operation, Params, Quantity, Role, register
from yama.terrain.surface import Surface


class FillVoidsParams(Params):
    """From what, and how wide a hole may be."""

    method: Method = Field("facets", description="What a hole is filled from.")
    across: float = Field(100.0, gt=0, description="Holes wider or higher than this stay.")
    across_in: Literal["cells", "m"] = Field("cells", description="What that width is counted in.")
    result: Literal["height", "filled"] = Field("height", description="Heights, or which cells were filled.")


@register
class FillVoids(Operation):
    """Empty cells that data surround get heights."""

    name = "fill_voids"
    version = 3
    title = "Fill holes"
    stage = "Join"
    summary = "Empty cells that data surround are filled from their rim, or from another surface."
    inputs = {"surface": Role("surface", "Surface"), "other": Role("surface", "Fill from", optional=True)}
    Params = FillVoidsParams

    def quantity_of(self, params: Any) -> Quantity:
        return "count" if params.result == "filled" else "height"

    def check(self, inputs: Inputs, params: Any, frame: Frame) -> list[Finding]:
        surface, other = inputs["surface"], inputs.get("other")
        assert isinstance(surface, Surface)
        findings = []
        cell = min(surface.grid.metres_per_cell())
        wide = params.across if params.across_in == "cells" else params.across / cell
        if wide > MOST_ACROSS:
            most = MOST_ACROSS if params.across_in == "cells" else int(MOST_ACROSS * cell)
            findings.append(Finding("wide", "stop", f"Holes of {_width(wide, cell)} are asked for; at most {MOST_ACROSS} cells "
                                    "are filled at once.", "Choose larger cells for such holes.",
                                    Mend(f"Fill up to {most} {params.across_in}", {"across": most})))  # fmt: skip
        elif wide < 1:
            findings.append(Finding("narrow", "stop", f"No hole is narrower than {params.across:g} {params.across_in}; a cell is "
                                    f"{cell:.4g} m wide.", "Nothing would be filled.",
                                    Mend("Fill up to 100 cells", {"across": 100, "across_in": "cells"})))  # fmt: skip
        if params.method != "other":
            if wide > 100 and params.method != "plate":
                findings.append(Finding("guess", "note", f"Across {_width(wide, cell)} the land is a guess.",
                                        "Another surface knows it better where there is one."))  # fmt: skip
            return findings
        if not isinstance(other, Surface):
            return [*findings, Finding("no_other", "stop", "No surface to fill from is chosen.", "Choose one, or fill from the rim.",
                                       Mend("Fill from the rim", {"method": "facets"}))]  # fmt: skip
        if bounds_in(other, surface.grid) is None:
            findings.append(Finding("outside", "stop", "The surface to fill from lies elsewhere.", "Choose another."))
        if other.unit != surface.unit:
            findings.append(Finding("unit", "stop", f"The surface to fill from is in {other.unit}, this one in {surface.unit}.",
                                    "Convert one of them first."))  # fmt: skip
        return findings

    def found(self, result: Any) -> list[Finding]:
        while not isinstance(result, Filled):
            result = getattr(result, "surface", None)
            if result is None:
                return []
        if result.done is None:
            return []
        filled, left = result.done
        cell = min(result.grid.metres_per_cell())
        findings = [Finding("filled", "note", f"{filled:,} cells were filled.".replace(",", "\u202f"))]
        if left.count:
            largest = left.largest[0]
            wide = max(largest.bottom - largest.top, largest.right - largest.left) + 1
            findings.append(
                Finding("left", "caution", f"{_holes(left.count)} with {left.cells} empty cells left, the largest "
                        f"{_width(wide, cell)} across.", "They are wider than was allowed, or what they "
                        "are filled from is empty there.")
            )  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: Any, frame: Frame) -> Surface:
        surface, other = inputs["surface"], inputs.get("other")
        assert isinstance(surface, Surface)
        for finding in self.check(inputs, params, frame):
            if finding.weight == "stop":
                raise InputError(f"{finding.sentence} {finding.why}")
        beside = fitted(other, surface.grid) if isinstance(other, Surface) else None
        across = params.across if params.across_in == "m" else params.across * min(surface.grid.metres_per_cell())
        filled = Filled(surface, params.method, across, beside)
        return FilledCells(filled) if params.result == "filled" else filled


def _holes(count: int) -> str:
    return "1 hole" if count == 1 else f"{count} holes"


def _width(cells: float, cell: float) -> str:
    """A width in cells and in metres."""
    return f"{cells:.0f} cells ({cells * cell:.0f} m)"
