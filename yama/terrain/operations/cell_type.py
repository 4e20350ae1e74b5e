"""Cell type: what a surface's cells are written as when it is stored, and the value that means empty there."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from yama.terrain.cog import Encoding
from yama.terrain.errors import InputError
from yama.terrain.findings import Finding
from yama.terrain.formats.cell_types import encoding_for
from yama.terrain.frame import Frame
from yama.terrain.grid import Window
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import OnlyWith, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Heights, Over, Statistics, Surface

_LOOKED_AT = 1024  # rows and columns, at most, of the level whose heights are looked at beforehand


class CellTypeParams(Params):
    """How heights become cells."""

    cell_type: Annotated[
        Literal["float32", "int32", "int16", "uint16"],
        Titles(
            {
                "float32": "decimals of 32 bits",
                "int32": "whole numbers of 32 bits",
                "int16": "whole numbers of 16 bits",
                "uint16": "16 bits, none below 0",
            }
        ),
    ] = Field("int16", title="Cells", description="The type of a cell: decimals, or whole numbers of a step.")
    step: Annotated[float, OnlyWith("cell_type", ("int32", "int16", "uint16"))] = Field(
        0.1, gt=0, le=1000, description="What a whole number counts, in the height unit. Decimals take no notice of it."
    )
    nodata: float | None = Field(
        None,
        title="Empty is",
        description="The value that means empty: NaN for decimals where not given, for whole numbers one end of the type.",
    )


class Encoded(Over):
    """A surface with the heights its cells will hold once they are written: live and stored are the same."""

    def __init__(self, surface: Surface, encoding: Encoding) -> None:
        super().__init__(surface)
        self.encoding = encoding

    def settings(self) -> tuple[Any, ...]:
        return (self.encoding,)

    def companion(self, name: str, below: Surface) -> Surface | None:
        """As below: a step that is worth taking is small beside what heights may be wrong by."""
        return below

    def read(self, window: Window, level: int = 0) -> Heights:
        heights, how = self.surface.read(window, level), self.encoding
        if not how.is_whole:
            if not np.isnan(how.nodata) and bool((heights == np.float32(how.nodata)).any()):
                raise InputError(f"A height is {how.nodata:g}, the value that is to mean empty. Take another value.")
            return heights
        counts = np.rint(heights.astype(np.float64) / how.scale)
        limits = np.iinfo(how.cell_type)
        with np.errstate(invalid="ignore"):
            beyond = (counts < limits.min) | (counts > limits.max) | (counts == how.nodata)
        if beyond.any():
            height = float(heights[beyond][0])
            why = (
                "is the value that is to mean empty"
                if counts[beyond][0] == how.nodata
                else f"lies outside {limits.min * how.scale:g} to {limits.max * how.scale:g} {self.unit}"
            )
            raise InputError(
                f"A height of {height:.2f} {self.unit} as {how.cell_type} in steps of {how.scale:g} {self.unit} {why}. "
                "Take a larger step, another type or another value for empty."
            )
        result: Heights = counts.astype(np.float32) * np.float32(how.scale)
        return result


def _encoding(params: CellTypeParams) -> Encoding:
    """The encoding asked for. Raises InputError where the type cannot hold the value for empty."""
    nodata = params.nodata
    if params.cell_type == "float32":
        return Encoding(nodata=float("nan") if nodata is None else float(nodata))
    limits = np.iinfo(params.cell_type)
    if nodata is None:
        nodata = limits.min if limits.min else limits.max
    if nodata != int(nodata) or not limits.min <= nodata <= limits.max:
        raise InputError(f"{params.cell_type} has no {nodata:g}: whole numbers from {limits.min} to {limits.max}.")
    return Encoding(params.cell_type, params.step, float(nodata))


@register
class SetCellType(Operation[CellTypeParams]):
    """Cells as whole numbers of a step, or with a value of one's own for empty."""

    name = "cell_type"
    title = "Set cell type"
    stage = "Fit"
    summary = "Whole numbers of a step instead of decimals, and the value for empty."
    inputs = {"surface": Role("surface", "Surface", quantity="height")}
    outputs = {"surface": Output("surface", "Surface", "height")}

    def check(self, inputs: Inputs, params: CellTypeParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        try:
            encoding = _encoding(params)
        except InputError as error:
            return [Finding("nodata", "stop", str(error), "Choose one that the type holds, or none.")]
        if not encoding.is_whole:
            same = "Cells are decimals already, NaN where empty: nothing would change."
            return [Finding("same", "note", same, "Name a value for empty, or a type.")] if encoding.is_usual else []
        level = 0
        while max(surface.grid.at_level(level).rows, surface.grid.at_level(level).cols) > _LOOKED_AT:
            level += 1
        heights = surface.read(surface.grid.at_level(level).whole, level)
        if np.isnan(heights).all():
            return []
        looked_at = Statistics(lowest=float(np.nanmin(heights)), highest=float(np.nanmax(heights)))
        return encoding_for(looked_at, params.cell_type, params.step, unit=surface.unit)[1]

    def run(self, inputs: Inputs, params: CellTypeParams, frame: Frame, progress: Progress) -> Results:
        return Results(surface=Encoded(inputs.surface("surface"), _encoding(params)))
