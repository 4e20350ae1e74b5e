"""An operation that takes two surfaces and lines and gives a surface, lines and a table; `docs/adding-an-operation.md` shows it."""

from __future__ import annotations

from typing import cast

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding
from yama.terrain.fit.reproject import difference
from yama.terrain.frame import Frame
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import GroundMetres, HeightMetres, Params
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface, sample
from yama.terrain.table import Column, Table

# -- the algorithm, which would stand in a room of its own ---------------------------------------------------------------


def change_along(change: Surface, lines: Features, step: float, progress: Progress) -> list[tuple[float, float | None]]:
    """Length of each line in metres, and the mean of a surface read on it every `step` metres; None where it is empty."""
    across, up = change.grid.metres_per_unit()
    unit = (across * up) ** 0.5
    found: list[tuple[float, float | None]] = []
    for done, line in enumerate(lines.in_crs(change.grid.crs).geometries):
        places = shapely.get_coordinates(shapely.segmentize(line, step / unit))
        heights = sample(change, places[:, 0], places[:, 1])
        known = heights[np.isfinite(heights)]
        found.append((float(shapely.length(line)) * unit, float(known.mean()) if known.size else None))
        progress((done + 1) / len(lines))
    return found


# -- the operation -------------------------------------------------------------------------------------------------------


class ChangeParams(Params):
    """How change is read along lines."""

    step: GroundMetres = Field(10.0, gt=0, le=10_000, description="Heights are read this far apart.")
    least: HeightMetres = Field(0.0, ge=0, description="Lines that changed by less are left out.")


class ChangeAlongLines(Operation[ChangeParams]):
    """How far the ground rose or fell along lines."""

    name = "change_along_lines"
    title = "Change along lines"
    stage = "Judge"
    summary = "How far the ground rose or fell from one surface to another, along lines."
    inputs = {
        "before": Role("surface", "Surface before"),
        "after": Role("surface", "Surface after"),
        "lines": Role("features", "Lines"),
    }
    outputs = {
        "change": Output("surface", "Change", quantity="difference"),
        "lines": Output("features", "Changed lines"),
        "figures": Output("table", "Change of each line", when="asked"),
    }
    heights_in = "frame"

    def check(self, inputs: Inputs, params: ChangeParams, frame: Frame) -> list[Finding]:
        outside = [role for role in ("before", "after") if bounds_in(inputs.surface(role), frame.grid) is None]
        return [Finding("outside", "stop", f"The surface {role} lies outside the frame.") for role in outside]

    def run(self, inputs: Inputs, params: ChangeParams, frame: Frame, progress: Progress) -> Results:
        change = difference(inputs.surface("after"), inputs.surface("before"), frame.grid)
        (lines,) = inputs.features("lines")
        found = change_along(change, lines, params.step, progress)
        kept = [one is not None and abs(one) >= params.least for _, one in found]

        def changed() -> Features:
            chosen = lines.kept(np.array(kept))
            values = cast(list[Value], [one for (_, one), keep in zip(found, kept, strict=True) if keep])
            columns = {**chosen.attributes, "change": values}
            return Features(chosen.crs, chosen.geometries, columns, {**chosen.units, "change": frame.unit})

        columns = (Column("length", "Length", "m"), Column("change", "Mean change", frame.unit, decimals=3))
        return Results(change=change, lines=changed, figures=Table(columns, found))
