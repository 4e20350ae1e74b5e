"""Slope and curvatures from a surface of second order through 3 x 3 cells.

L. W. Zevenbergen and C. R. Thorne, "Quantitative analysis of land surface topography", Earth Surface Processes and Landforms
12, 1987. Curvatures here are positive where ground bulges, negative where it is hollow, and of a ball's top one over its radius;
they are in 1/km. A cell with an empty cell among its eight neighbours takes its own height there, as Horn's gradients do.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from yama.terrain.grid import Grid, Ground, along_columns
from yama.terrain.kernels import kernel
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit

Curvature = Literal["mean", "profile", "plan"]
"""mean: of any two directions at right angles. profile: down the slope. plan: across it."""
_KINDS: dict[Curvature, int] = {"mean": 0, "profile": 1, "plan": 2}
_LEVEL = 1e-12


@kernel
def _partials(heights, r, c, wide, high):
    """Second derivatives D, E (halved) and F, and first derivatives G, H, towards east and north."""
    e = heights[r, c]
    near = np.empty(9, np.float64)
    for i in range(3):
        for j in range(3):
            h = heights[r - 1 + i, c - 1 + j]
            near[3 * i + j] = e if np.isnan(h) else h
    d = ((near[3] + near[5]) / 2.0 - near[4]) / (wide * wide)
    ee = ((near[1] + near[7]) / 2.0 - near[4]) / (high * high)
    f = (near[2] - near[0] + near[6] - near[8]) / (4.0 * wide * high)
    g = (near[5] - near[3]) / (2.0 * wide)
    h = (near[1] - near[7]) / (2.0 * high)
    return d, ee, f, g, h


@kernel
def _curved(heights, wide, high, kind, result):
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            if np.isnan(heights[r + 1, c + 1]):
                result[r, c] = np.nan
                continue
            d, e, f, g, h = _partials(heights, r + 1, c + 1, wide[r + 1], high[r + 1])
            steep = g * g + h * h
            if kind == 0 or steep < _LEVEL:
                value = -(d + e)
            elif kind == 1:
                value = -2.0 * (d * g * g + e * h * h + f * g * h) / steep
            else:
                value = -2.0 * (d * h * h + e * g * g - f * g * h) / steep
            result[r, c] = value * 1000.0


@kernel
def _sloped(heights, wide, high, result):
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            if np.isnan(heights[r + 1, c + 1]):
                result[r, c] = np.nan
                continue
            _, _, _, g, h = _partials(heights, r + 1, c + 1, wide[r + 1], high[r + 1])
            result[r, c] = np.degrees(np.arctan(np.sqrt(g * g + h * h)))


def curvature_of(heights: Heights, grid: Grid, kind: Curvature = "mean", ground: Ground | None = None) -> Heights:
    """Curvature in 1/km of heights in metres `(rows, cols)` on `grid`, without the outermost ring of cells; NaN where empty."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        _curved(heights, *ground.sizes(grid), _KINDS[kind], result)
        return result

    return along_columns(heights, grid, 1, ground, work)


def curvature(surface: Surface, kind: Curvature = "mean") -> LiveSurface:
    """Live curvature in 1/km."""
    ground = surface.grid.ground()
    return LiveSurface(
        [in_unit(surface, "m")],
        lambda arrays, grid: curvature_of(arrays[0], grid, kind, ground),
        halo=1,
        unit="1/km",
        of=("curvature", kind),
    )


def zevenbergen_thorne_slope(surface: Surface) -> LiveSurface:
    """Live slope in degrees from the four neighbours beside a cell: sharper than Horn's, and noisier."""

    ground = surface.grid.ground()

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        _sloped(heights, *ground.sizes(grid), result)
        return result

    def compute(arrays: list[Heights], grid: Grid) -> Heights:
        return along_columns(arrays[0], grid, 1, ground, work)

    return LiveSurface([in_unit(surface, "m")], compute, halo=1, unit="°", of=("zevenbergen thorne",))
