"""Fit: a surface on the frame's cells, or on other square cells of the frame's CRS."""

from __future__ import annotations

from typing import Annotated

import shapely
from pydantic import Field

from yama.terrain.findings import Finding, Fix
from yama.terrain.fit.clip import Masked
from yama.terrain.fit.reproject import FittedSurface, Resampling
from yama.terrain.fit.shift import Shifted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, Grid
from yama.terrain.mosaic.mosaic import bounds_in
from yama.terrain.operations.area import AREA, about_area, about_bounds, within_area
from yama.terrain.operations.inputs import Inputs, Role
from yama.terrain.operations.operation import Operation
from yama.terrain.operations.parameters import CellSize, Params, Titles
from yama.terrain.operations.register import register
from yama.terrain.operations.results import Output, Results
from yama.terrain.progress import Progress
from yama.terrain.surface import Surface


class FitParams(Params):
    """How cells are read where they do not lie on the frame's."""

    cell_size: CellSize | None = Field(None, gt=0, description="The frame's where not given.")
    resampling: Annotated[
        Resampling,
        Titles(
            {
                "bilinear": "bilinear, for heights",
                "cubic": "cubic, keeps bends",
                "cubic_spline": "cubic spline, smooths",
                "mean": "mean of the cells within",
                "lowest": "lowest of the cells within",
                "highest": "highest of the cells within",
                "nearest": "nearest, for classes",
            }
        ),
    ] = Field("bilinear", title="Read", description="How a cell's height is found among the surface's own.")
    bounds: tuple[float, float, float, float] | None = Field(
        None, title="Rectangle", description="West, south, east, north in the frame's CRS: only what lies in it."
    )
    trim: bool = Field(
        True,
        title="The grid ends where the surface ends",
        description="The grid ends where the surface ends; else it is the whole frame.",
    )


@register
class FitToFrame(Operation[FitParams]):
    """A surface in another CRS, cell size or place of cells on the frame's lattice."""

    name = "fit_to_frame"
    title = "Reproject and resample"
    stage = "Fit"
    version = 2
    summary = "A surface in another CRS or cell size on the frame's own cells, exactly placed."
    inputs = {"surface": Role("surface", "Surface", quantity="height"), "area": AREA}
    outputs = {"surface": Output("surface", "Surface", "height")}
    heights_in = "frame"
    area_role = "area"

    def cell_size_of(self, params: FitParams) -> float | None:
        return params.cell_size

    def check(self, inputs: Inputs, params: FitParams, frame: Frame) -> list[Finding]:
        surface = inputs.surface("surface")
        grid = self._grid(params, frame)
        findings = about_area(inputs, frame)
        if wrong := about_bounds(params.bounds, frame):
            return wrong
        if self._box(params, surface, grid) is None and params.bounds and bounds_in(surface, grid):
            return [Finding("bounds", "stop", "The rectangle lies outside the surface.", "Choose another.")]
        if bounds_in(surface, grid) is None:
            return [
                Finding("outside", "stop", "The surface lies outside the frame.", "Choose another, or another frame."),
                *findings,
            ]
        if surface.grid.is_in_step_with(grid):
            findings.append(Finding("same", "note", "Its cells already lie on these.", "Every cell keeps its height."))
        elif params.resampling == "nearest":
            findings.append(Finding("nearest", "caution", "Nearest makes steps as high as the land falls over half a cell.",
                                    "They ruin slope and drainage. It is for classes, not for heights.",
                                    Fix("Use bilinear", {"resampling": "bilinear"})))  # fmt: skip
        own, new = min(surface.grid.metres_per_cell()), min(grid.metres_per_cell())
        if new < own / 3 and params.resampling in ("bilinear", "cubic", "cubic_spline"):
            findings.append(Finding("finer", "note", f"Cells of {own:.3g} m are read every {new:g} m.",
                                    "That makes no detail that was not there."))  # fmt: skip
        if params.resampling in ("mean", "lowest", "highest") and new <= own * 1.001:
            findings.append(Finding("no_area", "caution", f"A cell of {new:g} m holds at most one of {own:.3g} m.",
                                    "Its mean, lowest or highest is the nearest one.",
                                    Fix("Use bilinear", {"resampling": "bilinear"})))  # fmt: skip
        return findings

    @staticmethod
    def _grid(params: FitParams, frame: Frame) -> Grid:
        return frame.with_cell_size(params.cell_size).grid if params.cell_size else frame.grid

    @staticmethod
    def _box(params: FitParams, surface: Surface, grid: Grid) -> Bounds | None:
        """The rectangle of the grid that holds what is kept of the surface; None where there is none."""
        box = bounds_in(surface, grid)
        return box.intersection(Bounds(*params.bounds)) if box and params.bounds else box

    def run(self, inputs: Inputs, params: FitParams, frame: Frame, progress: Progress) -> Results:
        surface = inputs.surface("surface")
        grid = self._grid(params, frame)
        box = self._box(params, surface, grid)
        assert box is not None
        kept = grid.window_over(box).clipped(grid.rows, grid.cols)
        whole_cells = shapely.box(*grid.window_bounds(kept))
        if params.trim:
            grid = grid.part(kept)
        in_step = surface.grid.is_in_step_with(grid)
        made: Surface = Shifted(surface, grid) if in_step else FittedSurface(surface, grid, params.resampling)
        if params.bounds and not params.trim:
            made = Masked(made, [whole_cells])
        return Results(surface=within_area(made, inputs))
