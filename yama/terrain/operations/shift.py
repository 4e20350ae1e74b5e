"""How one surface lies beside another, and a surface that is moved."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from pydantic import Field

from yama.terrain.findings import Finding
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray, Grid, parse_crs, turn_between
from yama.terrain.judge.coregistration import Coregistration, Moved, coregistration
from yama.terrain.judge.piecewise import Piece, piecewise
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import Params, Unset
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress, part_of
from yama.terrain.surface import Surface
from yama.terrain.table import Column, Table

_KM = 1000.0
_METRES: dict[str, Any] = {"unit": "m"}
_PER_KM: dict[str, Any] = {"unit": "m/km"}


class ShiftParams(Params):
    """What is looked for beside a shift and an offset."""

    tilt: bool = Field(False, title="Tilt too", description="Whether one may lean against the other.")
    pieces: int = Field(
        1, ge=1, le=12, title="Pieces across", description="Told piece by piece too: tiles may lie each in its own way."
    )


_COLUMNS = (
    Column("what", "Lies", type="text"),
    Column("value", "By", decimals=3),
    Column("error", "Standard error", decimals=3),
    Column("unit", "Unit", type="text"),
)


@register
class Shift(Operation[ShiftParams]):
    """How far a surface lies beside, above and askew of another."""

    name = "shift"
    title = "Shift between two"
    stage = "Judge"
    summary = "How far a surface lies to the east, north and above another of the same ground, and how sure that is."
    inputs = {
        "surface": Role("surface", "Surface", quantity="height"),
        "reference": Role("surface", "Against", quantity="height"),
    }
    outputs = {"figures": Output("table", "Shift")}
    heights_in = "metres"
    previews = "none"

    def check(self, inputs: Inputs, params: ShiftParams, frame: Frame) -> list[Finding]:
        first, second = inputs.surface("surface"), inputs.surface("reference")
        if first.vertical_datum and second.vertical_datum and first.vertical_datum != second.vertical_datum:
            why = "What it lies above the other holds that offset too."
            sentence = f"Zero means {first.vertical_datum} in one surface and {second.vertical_datum} in the other."
            return [Finding("datum", "caution", sentence, why)]
        return []

    def run(self, inputs: Inputs, params: ShiftParams, frame: Frame, progress: Progress) -> Results:
        first, second = inputs.surface("surface"), inputs.surface("reference")
        heard = part_of(progress, 0.0, 0.5) if params.pieces > 1 else progress
        found = coregistration(first, second, params.tilt, on=compared_on(first, second, frame), progress=heard)
        rows = [
            ("to the east", found.east, found.errors[0], "m"),
            ("to the north", found.north, found.errors[1], "m"),
            ("above", found.up, found.errors[2], "m"),
        ]
        if params.tilt:
            for way, rise, error in zip(("east", "north"), found.tilt, found.errors[3:], strict=True):
                rows.append((f"rising towards {way}", rise * _KM, error * _KM, "m/km"))
        facts = facts_of(found, frame)
        facts["pieces"] = []
        if params.pieces > 1:
            on = compared_on(first, second, frame)
            told = piecewise(first, second, on, params.pieces, params.tilt, part_of(progress, 0.5, 1.0))
            facts["pieces"] = [_piece(one, on, frame) for one in told]
            for one in told:
                name = f"piece {one.row + 1}, {one.col + 1}"
                if one.found is None:
                    continue
                for what, value, error in zip(
                    ("to the east", "to the north", "above"),
                    (one.found.east, one.found.north, one.found.up),
                    one.found.errors,
                    strict=False,
                ):
                    rows.append((f"{name}, {what}", value, error, "m"))
        return Results(figures=Table(_COLUMNS, rows, facts))


def _piece(one: Piece, on: Grid, frame: Frame) -> dict[str, object]:
    """A piece as plain JSON values, with its middle in the frame's CRS."""
    x, y = turn_between(on.crs, frame.grid.crs).transform(one.x, one.y)
    told: dict[str, object] = {"row": one.row, "col": one.col, "at": [x, y], "reason": one.reason}
    if one.found is not None:
        told |= {
            "east": one.found.east,
            "north": one.found.north,
            "up": one.found.up,
            "errors": list(one.found.errors[:3]),
            "distance": one.found.distance,
            "direction": one.found.direction,
        }
    return told


def compared_on(first: Surface, second: Surface, frame: Frame) -> Grid:
    """Cells of the coarser surface; where its CRS is not the frame's, as large ones of the frame."""
    coarser = max((first.grid, second.grid), key=lambda grid: max(grid.metres_per_cell()))
    if parse_crs(coarser.crs) == parse_crs(frame.grid.crs):
        return coarser
    return frame.grid.with_cells(max(max(coarser.metres_per_cell()), max(frame.grid.metres_per_cell())))


def facts_of(found: Coregistration, frame: Frame) -> dict[str, object]:
    """All of it as plain JSON values; east and north along the axes of the frame."""

    def swing(values: FloatArray) -> list[float | None]:
        return [None if np.isnan(value) else round(float(value), 4) for value in values]

    return {
        "east": found.east,
        "north": found.north,
        "up": found.up,
        "tilt": [one * _KM for one in found.tilt],
        "errors": [*found.errors[:3], *(one * _KM for one in found.errors[3:])],
        "at": [round(one, 6 if frame.grid.is_geographic else 1) for one in found.at],
        "distance": found.distance,
        "direction": found.direction,
        "cell": found.cell,
        "before": dict(vars(found.before)),
        "after": dict(vars(found.after)),
        "aspect": found.aspect.tolist(),
        "swing": swing(found.swing),
        "swing_after": swing(found.swing_after),
        "dots": found.dots.round(2).tolist(),
        "dots_after": found.dots_after.round(2).tolist(),
    }


class MoveParams(Params):
    """How far, along the axes of the frame."""

    east: float = Field(0.0, ge=-100_000, le=100_000, title="To the east", json_schema_extra=_METRES)
    north: float = Field(0.0, ge=-100_000, le=100_000, title="To the north", json_schema_extra=_METRES)
    up: float = Field(0.0, ge=-100_000, le=100_000, title="Up", json_schema_extra=_METRES)
    tilt_east: float = Field(0.0, ge=-1000, le=1000, title="Rising towards east", json_schema_extra=_PER_KM)
    tilt_north: float = Field(0.0, ge=-1000, le=1000, title="Rising towards north", json_schema_extra=_PER_KM)
    about_x: Annotated[float | None, Unset("its middle")] = Field(
        None, title="Tilted about, x", description="The place in the frame about which it is tilted."
    )
    about_y: Annotated[float | None, Unset("its middle")] = Field(None, title="and y")


@register
class Move(Operation[MoveParams]):
    """A surface at another place; its cells are not resampled."""

    name = "move"
    title = "Move"
    stage = "Judge"
    summary = "A surface to the east, north, up and tilted: its cells as they are, on a grid that is moved."
    inputs = {"surface": Role("surface", "Surface", quantity="height")}
    outputs = {"surface": Output("surface", "Moved surface", "height")}
    heights_in = "metres"

    def run(self, inputs: Inputs, params: MoveParams, frame: Frame, progress: Progress) -> Results:
        tilt = (params.tilt_east / _KM, params.tilt_north / _KM)
        surface = inputs.surface("surface")
        at = None if params.about_x is None or params.about_y is None else (params.about_x, params.about_y)
        return Results(surface=Moved(surface, params.east, params.north, params.up, tilt, at, frame.grid.crs))
