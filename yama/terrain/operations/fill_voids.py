"""Fill holes: from what lies around them, or from another surface."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.mosaic.fill import MOST_ACROSS, Filled, FilledCells, Method
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress


class FillVoidsParams(Params):
    """From what, and how wide a hole may be."""

    method: Annotated[
        Method,
        Titles(
            {"facets": "facets", "plate": "plate", "distance": "distance", "other": "other surface"},
            {
                "facets": "Flat facets from rim to rim.",
                "plate": "A thin plate that goes on as the land around the hole bends.",
                "distance": "A mean of the rim, nearer cells weighing more; never above or below it.",
                "other": "Another surface, lifted to the rim so that no step is left.",
            },
        ),
    ] = Field("facets", title="Filled from", description="What a hole is filled from.")
    across: float = Field(100.0, gt=0, title="Holes up to", description="Holes wider or higher than this stay.")
    across_in: Annotated[Literal["cells", "m"], Titles({"cells": "cells", "m": "metres"})] = Field(
        "cells", title="Counted in", description="What that width is counted in."
    )


@register
class FillVoids(Operation[FillVoidsParams]):
    """Empty cells that data surround get heights."""

    name = "fill_voids"
    version = 3
    title = "Fill holes"
    stage = "Join"
    summary = "Empty cells that data surround are filled from their rim, or from another surface."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "other": Role("surface", "Fill from", optional=True, quantity="height"),
    }
    outputs = {
        "surface": Output("surface", "Filled surface", "height"),
        "filled": Output("surface", "Which cells were filled", "count", when="asked"),
    }

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        kept = {name: value for name, value in params.items() if name != "result"}
        return kept, "filled" if params.get("result") == "filled" else self.first

    def check(self, inputs: Inputs, params: FillVoidsParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        findings = []
        cell = min(surface.grid.metres_per_cell())
        wide = params.across if params.across_in == "cells" else params.across / cell
        if wide > MOST_ACROSS:
            most = MOST_ACROSS if params.across_in == "cells" else int(MOST_ACROSS * cell)
            findings.append(Finding("wide", "stop", f"Holes of {_width(wide, cell)} are asked for; at most {MOST_ACROSS} cells "
                                    "are filled at once.", "Choose larger cells for such holes.",
                                    Fix(f"Fill up to {most} {params.across_in}", {"across": most})))  # fmt: skip
        elif wide < 1:
            findings.append(Finding("narrow", "stop", f"No hole is narrower than {params.across:g} {params.across_in}; a cell is "
                                    f"{cell:.4g} m wide.", "Nothing would be filled.",
                                    Fix("Fill up to 100 cells", {"across": 100, "across_in": "cells"})))  # fmt: skip
        if params.method != "other":
            if wide > 100 and params.method != "plate":
                findings.append(Finding("guess", "note", f"Across {_width(wide, cell)} the land is a guess.",
                                        "Another surface knows it better where there is one."))  # fmt: skip
            return findings
        if not inputs.has("other"):
            return [*findings, Finding("no_other", "stop", "No surface to fill from is chosen.", "Choose one, or fill from the rim.",
                                       Fix("Fill from the rim", {"method": "facets"}))]  # fmt: skip
        other = inputs.surface("other")
        if bounds_in(other, surface.grid) is None:
            findings.append(Finding("outside", "stop", "The surface to fill from lies elsewhere.", "Choose another."))
        if other.unit != surface.unit:
            findings.append(Finding("unit", "stop", f"The surface to fill from is in {other.unit}, this one in {surface.unit}.",
                                    "Convert one of them first."))  # fmt: skip
        return findings

    def run(self, inputs: Inputs, params: FillVoidsParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        beside = next((fitted(other, surface.grid) for other in inputs.surfaces("other")), None)
        across = params.across if params.across_in == "m" else params.across * min(surface.grid.metres_per_cell())
        filled = Filled(surface, params.method, across, beside)
        return Results(surface=filled, filled=FilledCells(filled))


def _width(cells: float, cell: float) -> str:
    """A width in cells and in metres."""
    return f"{cells:.0f} cells ({cells * cell:.0f} m)"
