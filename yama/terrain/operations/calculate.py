"""Calculate: arithmetic over named surfaces, live."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from string import ascii_lowercase
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from yama.terrain.findings import Finding
from yama.terrain.fit.expression import (
    MOST_AROUND,
    MOST_CHARACTERS,
    ExpressionError,
    Node,
    is_condition,
    names_in,
    parse,
)
from yama.terrain.fit.reproject import fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, parse_crs
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import UNTOLD, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.quantities import Quantity
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import UNITS

_OFF = 0.001  # of a cell


class CalculateParams(Params):
    """What is computed. The surfaces are called a, b, c... in the order they are given, or as `names` says."""

    expression: str = Field("a - b", max_length=MOST_CHARACTERS, description="Over the surfaces a, b, c and so on.")
    quantity: Annotated[Literal["height", "difference"], Titles({"height": "heights", "difference": "differences"})] = (
        Field("height", title="Cells say", description="What the cells are, for how they are shown.")
    )
    names: Annotated[list[str], UNTOLD] = Field(
        [], max_length=26, description="The letter of each surface; a, b, c and so on where empty."
    )

    @model_validator(mode="after")
    def _letters(self) -> CalculateParams:
        if len(set(self.names)) < len(self.names) or not all(
            len(one) == 1 and one in ascii_lowercase for one in self.names
        ):
            raise ValueError("names are letters from a to z, each once")
        return self

    def letters(self, count: int) -> list[str]:
        """The letters of so many surfaces."""
        return self.names or list(ascii_lowercase[:count])


def _named(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + f" and {names[-1]}"


@register
class Calculate(Operation[CalculateParams]):
    """An expression over surfaces, computed cell by cell on the frame."""

    name = "calculate"
    title = "Calculate"
    version = 2
    stage = "Fit"
    summary = "Sums, differences, conditions and neighbourhoods of surfaces, as an expression over them."
    inputs = {"surfaces": Role("surface", "Surfaces", many=True)}
    outputs = {"surface": Output("surface", "Surface", "height")}
    heights_in = "frame"

    def outputs_for(self, params: CalculateParams) -> Mapping[str, Output]:
        try:
            condition = is_condition(parse(params.expression, ascii_lowercase))
        except ExpressionError:
            condition = False
        quantity: Quantity = "count" if condition else params.quantity
        return {"surface": replace(self.outputs["surface"], quantity=quantity)}

    def check(self, inputs: Inputs, params: CalculateParams, frame: Frame) -> list[Finding]:
        surfaces = inputs.surfaces("surfaces")
        if len(surfaces) > len(ascii_lowercase):
            return [Finding("many", "stop", f"{len(surfaces)} surfaces are more than there are letters to name them.",
                            "Choose at most 26.")]  # fmt: skip
        names = params.letters(len(surfaces))
        if len(names) != len(surfaces):
            return [Finding("names", "stop", f"{len(names)} letters are given for {len(surfaces)} surfaces.",
                            "Give one for each, or none.")]  # fmt: skip
        try:
            node = parse(params.expression, names)
        except ExpressionError as error:
            return [Finding("expression", "stop", str(error), "")]
        findings = []
        used = sorted(names_in(node))
        if not used:
            return [
                Finding(
                    "constant", "stop", "No surface stands in the expression.", "Its cells would all be one number."
                )
            ]
        around = node.halo(min(frame.grid.metres_per_cell()))
        if around > MOST_AROUND:
            findings.append(Finding("around", "stop", f"Neighbourhoods reach {around} cells far, more than the {MOST_AROUND} that "
                                    "are looked at.", "Take fewer metres, or larger cells."))  # fmt: skip
        by_name = dict(zip(names, surfaces, strict=True))
        outside = [name for name in used if bounds_in(by_name[name], frame.grid) is None]
        if outside:
            verb = "lies" if len(outside) == 1 else "lie"
            findings.append(Finding("outside", "stop", f"{_named(outside)} {verb} outside the frame.",
                                    "Choose another surface, or another frame."))  # fmt: skip
        data = {by_name[name].vertical_datum for name in used} - {""}
        if len(data) > 1:
            findings.append(Finding("datum", "caution", f"Zero means different things: {_named(sorted(data))}.",
                                    "What is computed holds that difference too."))  # fmt: skip
        for name in used:
            said = self._off(by_name[name].grid, frame.grid)
            if said:
                findings.append(
                    Finding(f"grid-{name}", "note", f"{name} {said}.", "It is fitted bilinearly as it is read.")
                )
        if is_condition(node):
            findings.append(Finding("condition", "note", "Cells say 1 where it holds and 0 where not."))
        return findings

    @staticmethod
    def _off(grid: Grid, frame: Grid) -> str:
        """How a grid differs from the frame's, in words; empty where its cells coincide with it."""
        if parse_crs(grid.crs) != parse_crs(frame.crs):
            return f"is in {grid.crs}, the frame in {frame.crs}"
        if not np.isclose(grid.cell_width, frame.cell_width, rtol=1e-9):
            return f"has cells of {grid.cell_width:g} m, the frame of {frame.cell_width:g} m"
        across, down = frame.phase(grid)
        if max(abs(across), abs(down)) < _OFF:
            return ""
        return f"lies {abs(across):.2f} cell east or west and {abs(down):.2f} north or south of the frame's cells"

    def run(self, inputs: Inputs, params: CalculateParams, frame: Frame, progress: Progress) -> Results:
        surfaces = inputs.surfaces("surfaces")
        by_name = dict(zip(params.letters(len(surfaces)), surfaces, strict=True))
        node = parse(params.expression, list(by_name))
        made = calculated(node, {name: by_name[name] for name in sorted(names_in(node))}, frame.grid)
        if is_condition(node):
            made.unit = "1"
        return Results(surface=made)


def calculated(node: Node, surfaces: dict[str, Surface], grid: Grid) -> Surface:
    """What an expression makes of surfaces on a grid, live."""
    names = list(surfaces)
    cell = min(grid.metres_per_cell())

    def compute(arrays: list[Heights], part: Grid) -> Heights:
        here = (
            cell * part.cell_width / grid.cell_width
        )  # not that of the window's middle, so that any window has the same cells
        found = node.value({name: array.astype(np.float64) for name, array in zip(names, arrays, strict=True)}, here)
        inner = slice(halo, -halo) if halo else slice(None)
        with np.errstate(over="ignore"):
            result = np.ascontiguousarray(found[inner, inner]).astype(np.float32)
        return np.where(np.isfinite(result), result, np.float32(np.nan)).astype(np.float32)

    halo = node.halo(cell)
    first = next((one for one in surfaces.values() if one.unit in UNITS), surfaces[names[0]])
    layers = [fitted(one, grid) for one in surfaces.values()]
    return LiveSurface(layers, compute, halo, first.unit, first.vertical_datum, of=("calculated", repr(node), names))
