"""Mend: a surface repaired by patches."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.patches import MOST, KeepOut, Patch
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.table import Cell, Column, Table

_COLUMNS = (
    Column("number", "Number", type="whole"),
    Column("name", "Name", type="text"),
    Column("operator", "Operator", type="text"),
    Column("cells", "Cells changed", type="whole"),
    Column("raised", "Raised", "m³", decimals=1),
    Column("lowered", "Lowered", "m³", decimals=1),
    Column("largest", "Largest change", "m", decimals=2),
)


class MendParams(Params):
    """The patches, in their order, and areas that they leave alone."""

    patches: Annotated[list[Patch], Field(min_length=1, max_length=MOST)]
    keep_outs: Annotated[list[KeepOut], Field(max_length=MOST)] = Field(
        [], title="Keep-outs", description="Areas that no patch changes, unless it says so."
    )


def _mended(inputs: Inputs, params: MendParams) -> MendedSurface:
    other = next(iter(inputs.surfaces("other")), None)
    return MendedSurface(inputs.surface("surface"), params.patches, params.keep_outs, other)


@register
class Mend(Operation[MendParams]):
    """A surface with patches; the untouched one stays."""

    name = "mend"
    title = "Mend"
    stage = "Mend"
    summary = "Repair a surface with patches: along structures, lakes, rivers, trees, spikes; the untouched one stays."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "other": Role("surface", "Replaced from", optional=True, quantity="height"),
    }
    outputs = {
        "surface": Output("surface", "Mended surface", "height"),
        "patches": Output("table", "What patches did", when="asked"),
    }
    heights_in = "metres"

    def check(self, inputs: Inputs, params: MendParams, frame: Frame) -> list[Finding]:
        try:
            _mended(inputs, params)
        except InputError as error:
            return [Finding("outline", "stop", str(error))]
        if not inputs.has("other") and any(one.on and one.operator.kind == "replace" for one in params.patches):
            return [
                Finding(
                    "other", "stop", "A patch replaces cells from another surface, and none is given.", "Choose one."
                )
            ]
        return []

    def run(self, inputs: Inputs, params: MendParams, frame: Frame, progress: Progress) -> Results:
        surface = _mended(inputs, params)

        def told() -> Table:
            rows: list[tuple[Cell, ...]] = []
            for number, patch in enumerate(surface.patches):
                did = surface.did(number)
                rows.append((number + 1, patch.name, patch.operator.kind, did.cells, round(did.raised, 1), round(did.lowered, 1),
                             round(did.largest, 3)))  # fmt: skip
            return Table(_COLUMNS, rows, {"patches": len(rows), "raised": sum(float(row[4] or 0) for row in rows),
                                          "lowered": sum(float(row[5] or 0) for row in rows)})  # fmt: skip

        return Results(surface=surface, patches=told)
