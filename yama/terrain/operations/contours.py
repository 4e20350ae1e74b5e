"""Contours of a surface as lines."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
import shapely
from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations.area import AREA, about_area, within_area
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation, View
from yama.terrain.operations.parameters import UNIT_TITLES, GroundMetres, Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.relief.contours import MOST_LEVELS, Levels, Lines, contours, longer_than, smoothed
from yama.terrain.relief.slope import slope_of
from yama.terrain.surface import Surface
from yama.terrain.units import UNITS

_SIDE = 512  # cells along a side of what a check looks at
_LEVEL = 0.001  # heights that differ by less are one, whatever their unit
_MANY = 400
_CELLS_APART = 2.5
"""Cells between two lines on average ground, below which they run into each other."""


class ContoursParams(Params):
    """Which heights, and what of the lines is kept."""

    levels: list[float] | None = Field(
        None, title="Heights", min_length=1, max_length=MOST_LEVELS, description="Heights of the lines in `unit`, instead of an interval; each is an "
        "index line unless `index_every` is 0.",
    )  # fmt: skip
    interval: float = Field(20.0, gt=0, le=100_000, title="Every", description="Height between two lines, in `unit`.")
    unit: Annotated[Literal["m", "ft", "us-ft"], UNIT_TITLES] = Field(
        "m", title="In", description="Unit of the lines' heights."
    )
    base_height: float = Field(
        0.0, ge=-100_000, le=100_000, description="A height that is a line, in `unit`; the others follow from it."
    )
    index_every: int = Field(
        5,
        ge=0,
        le=100,
        title="Index line",
        description="Each so many-th line counted from the base height is an index line; 0 for none.",
    )
    minimum_length: GroundMetres = Field(0.0, ge=0, le=1_000_000, description="Lines shorter than this are left out.")
    smoothing: GroundMetres = Field(
        0.0,
        title="Smooth over",
        ge=0,
        le=1_000,
        description="Heights are averaged over this before, so that lines are smooth and never cross.",
    )


def suggested(lowest: float, highest: float) -> float:
    """A round interval that parts a range into about twenty."""
    wanted = max(highest - lowest, 1e-6) / 20
    power = 10.0 ** math.floor(math.log10(wanted))
    return next(float(f"{factor * power:.6g}") for factor in (1, 2, 5, 10) if factor * power >= wanted * 0.999)


def levels_of(params: ContoursParams, unit: str) -> Levels:
    """The levels in the surface's own unit."""
    factor = UNITS[params.unit] / UNITS[unit]
    listed = tuple(sorted({float(height) * factor for height in params.levels or ()}))
    return Levels(params.interval * factor, params.base_height * factor, listed)


def features_of(lines: Lines, params: ContoursParams, grid: Grid) -> Features:
    """Lines as features with `height` in the unit asked for and `kind`, `index` or `line`."""
    sizes = np.diff(lines.starts)
    places = np.column_stack([lines.x, lines.y])
    shapes = (
        shapely.linestrings(places, indices=np.repeat(np.arange(len(lines)), sizes))
        if len(lines)
        else np.empty(0, object)
    )
    own = levels_of(params, params.unit)
    heights = [round(float(own.at(int(number))), 6) for number in lines.numbers]
    kinds = [
        "index" if params.index_every and (own.listed or number % params.index_every == 0) else "line"
        for number in lines.numbers.tolist()
    ]
    columns: dict[str, list[Value]] = {"height": [*heights], "kind": [*kinds]}
    return Features(grid.crs, np.asarray(shapes, object), columns, {"height": params.unit})


def lines_of(surface: Surface, params: ContoursParams, progress: Progress = ignore_progress) -> Lines:
    """The contours of a surface as the parameters ask for them."""
    found = contours(smoothed(surface, params.smoothing), levels_of(params, surface.unit or "m"), progress)
    return longer_than(found, params.minimum_length, surface.grid.crs)


@register
class Contours(Operation[ContoursParams]):
    """Lines of equal height of a surface."""

    name = "contours"
    title = "Contours"
    stage = "Deliver"
    summary = "Lines of equal height, every interval, with index lines."
    inputs = {"surface": Role("surface", "Surface", quantity="height"), "area": AREA}
    outputs = {"lines": Output("features", "Contours")}
    previews = "rough"
    area_role = "area"

    def upgraded(self, params: dict[str, Any]) -> tuple[dict[str, Any], str]:
        names = {"base": "base_height", "shortest": "minimum_length"}
        return {names.get(name, name): value for name, value in params.items()}, self.first

    def check(self, inputs: Inputs, params: ContoursParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        level = 0
        while max(surface.grid.at_level(level).rows, surface.grid.at_level(level).cols) > _SIDE:
            level += 1
        grid = surface.grid.at_level(level)
        heights = surface.read(grid.whole.grown(1), level)
        filled = heights[~np.isnan(heights)]
        if not filled.size:
            return [Finding("empty", "stop", "Every cell of this surface is empty.", "Choose another.")]
        lowest, highest = float(filled.min()), float(filled.max())
        levels = levels_of(params, surface.unit or "m")
        count = levels.between(lowest, highest)
        factor = UNITS[surface.unit or "m"] / UNITS[params.unit]
        round_one = suggested(lowest * factor, highest * factor)
        fix = Fix(
            f"Take {round_one:g} {params.unit}", {"interval": round_one, **({"levels": None} if params.levels else {})}
        )
        findings = about_area(inputs, frame)
        if count > MOST_LEVELS:
            findings.append(Finding("levels", "stop", f"An interval of {params.interval:g} {params.unit} makes {count} heights.",
                                    f"At most {MOST_LEVELS} can be drawn.", fix))  # fmt: skip
            return findings
        if count == 0 and highest - lowest < _LEVEL:
            findings.append(Finding("level", "stop", f"All of it lies at {lowest:.2f} {surface.unit}; no line crosses level ground.",
                                    "Choose a surface with relief."))  # fmt: skip
            return findings
        if count == 0:
            findings.append(Finding("none", "stop", f"No line lies between {lowest:.2f} and {highest:.2f} {surface.unit}.",
                                    "Take a smaller interval, or other heights.", fix))  # fmt: skip
            return findings
        if count > _MANY:
            said = f"An interval of {params.interval:g} {params.unit} makes {count} heights."
            findings.append(Finding("many", "caution", f"{count} heights are listed." if levels.listed else said,
                                    "So many lines are hard to read and slow to draw.", fix))  # fmt: skip
        slopes = slope_of(heights * np.float32(UNITS[surface.unit or "m"]), grid.part(grid.whole.grown(1)))
        steep = slopes[~np.isnan(slopes) & (slopes > 0.5)]
        if steep.size and not levels.listed:
            metres = levels.interval * UNITS[surface.unit or "m"]
            apart = metres / math.tan(math.radians(float(np.median(steep)))) / min(surface.grid.metres_per_cell())
            if apart < _CELLS_APART:
                findings.append(Finding("dense", "caution", f"On average slopes lines lie {apart:.1f} cells apart.",
                                        "Closer than the surface can tell: they run into each other.",
                                        fix if round_one > params.interval else None))  # fmt: skip
        return findings

    def preview(self, inputs: Inputs, params: ContoursParams, frame: Frame, view: View) -> Results:
        at = frame.grid.at_level(view.level)
        part = at.part(at.window_over(view.bounds).clipped(at.rows, at.cols))
        surface = within_area(inputs.surface("surface"), inputs)
        # shortness is of whole lines, which a view cuts
        drawn = params.model_copy(update={"minimum_length": 0.0})
        return Results(lines=features_of(lines_of(fitted(surface, part), drawn), params, part))

    def run(self, inputs: Inputs, params: ContoursParams, frame: Frame, progress: Progress) -> Results:
        within = within_area(inputs.surface("surface"), inputs)
        found = features_of(lines_of(within, params, progress), params, within.grid)
        if not len(found):
            raise InputError("No contour is left. Take a smaller interval, or keep shorter lines.")
        return Results(lines=found)
