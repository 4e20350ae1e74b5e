"""Slope, aspect and hillshade of heights.

Gradients are B. K. P. Horn's third-order differences over 3 x 3 cells ("Hill shading and the reflectance map",
Proceedings of the IEEE 69, 1981). A cell with an empty cell among its eight neighbours takes its own height
there, as at the border of the data; a cell that is itself empty stays empty.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from yama.terrain.grid import Grid, Ground, along_columns
from yama.terrain.kernels import fast_kernel, kernel
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit


@fast_kernel
def _gradients(heights, row, x_scale, y_scale, east, north):
    """Horn's gradients (rise per metre towards east and north) of all inner cells of one row."""
    cols = east.size
    for c in range(cols):
        e = heights[row, c + 1]
        nw = heights[row - 1, c]
        n = heights[row - 1, c + 1]
        ne = heights[row - 1, c + 2]
        w = heights[row, c]
        ea = heights[row, c + 2]
        sw = heights[row + 1, c]
        s = heights[row + 1, c + 1]
        se = heights[row + 1, c + 2]
        nw = nw if nw == nw else e
        n = n if n == n else e
        ne = ne if ne == ne else e
        w = w if w == w else e
        ea = ea if ea == ea else e
        sw = sw if sw == sw else e
        s = s if s == s else e
        se = se if se == se else e
        to_east = ((ne - nw) + (se - sw) + np.float32(2.0) * (ea - w)) * x_scale
        to_north = ((nw - sw) + (ne - se) + np.float32(2.0) * (n - s)) * y_scale
        east[c] = to_east if e == e else np.float32(np.nan)
        north[c] = to_north if e == e else np.float32(np.nan)


@fast_kernel
def _degrees_of_slope(east, north, result):
    """atan(|gradient|) in degrees, by a polynomial in the folded tangent; error below 2e-5 degrees."""
    for c in range(result.size):
        tangent = np.sqrt(east[c] * east[c] + north[c] * north[c])
        steep = tangent > np.float32(1.0)
        t = np.float32(1.0) / tangent if steep else tangent
        s = t * t
        # Abramowitz and Stegun, "Handbook of Mathematical Functions", 4.4.49
        p = np.float32(0.0028662257)
        p = p * s + np.float32(-0.0161657367)
        p = p * s + np.float32(0.0429096138)
        p = p * s + np.float32(-0.0752896400)
        p = p * s + np.float32(0.1065626393)
        p = p * s + np.float32(-0.1420889944)
        p = p * s + np.float32(0.1999355085)
        p = p * s + np.float32(-0.3333314528)
        angle = t + t * s * p
        angle = np.float32(1.5707963268) - angle if steep else angle
        result[c] = angle * np.float32(57.29577951308232)


@fast_kernel
def _light(east, north, to_east, to_north, up, result):
    """Cosine of the angle between the ground's normal and the light, from 0 to 1."""
    for c in range(result.size):
        towards = up - to_east * east[c] - to_north * north[c]
        value = towards / np.sqrt(np.float32(1.0) + east[c] * east[c] + north[c] * north[c])
        result[c] = value if not (value < np.float32(0.0)) else np.float32(0.0)


@fast_kernel
def _lights(east, north, main_east, main_north, level, up, result):
    """As `_light` under four lights 45 degrees apart, the main one the third, each weighted by the squared sine of its angle with
    the fall of the ground. (main_east, main_north): direction of the main light, of length 1; level: cosine of its altitude."""
    for c in range(result.size):
        e = east[c]
        n = north[c]
        p = e * main_east + n * main_north
        q = e * main_north - n * main_east
        # the four sums of sines and cosines, put together
        w = p * p / (e * e + n * n + np.float32(1e-12))
        graze = p * np.float32(0.2928932188) + w * (p * np.float32(0.4142135624) - q)
        value = (up - level * np.float32(0.5) * graze) / np.sqrt(np.float32(1.0) + e * e + n * n)
        result[c] = value if not (value < np.float32(0.0)) else np.float32(0.0)


@kernel
def _slope_rows(heights, x_scale, y_scale, result):
    east = np.empty(result.shape[1], np.float32)
    north = np.empty(result.shape[1], np.float32)
    for row in range(result.shape[0]):
        _gradients(heights, row + 1, x_scale[row], y_scale[row], east, north)
        _degrees_of_slope(east, north, result[row])


@kernel
def _shade_rows(heights, x_scale, y_scale, to_east, to_north, up, result):
    east = np.empty(result.shape[1], np.float32)
    north = np.empty(result.shape[1], np.float32)
    for row in range(result.shape[0]):
        _gradients(heights, row + 1, x_scale[row], y_scale[row], east, north)
        _light(east, north, to_east, to_north, up, result[row])


@kernel
def _shade_rows_of_four(heights, x_scale, y_scale, main_east, main_north, level, up, result):
    east = np.empty(result.shape[1], np.float32)
    north = np.empty(result.shape[1], np.float32)
    for row in range(result.shape[0]):
        _gradients(heights, row + 1, x_scale[row], y_scale[row], east, north)
        _lights(east, north, main_east, main_north, level, up, result[row])


@kernel
def _aspect_rows(heights, x_scale, y_scale, result):
    east = np.empty(result.shape[1], np.float32)
    north = np.empty(result.shape[1], np.float32)
    for row in range(result.shape[0]):
        _gradients(heights, row + 1, x_scale[row], y_scale[row], east, north)
        for c in range(result.shape[1]):
            if east[c] == 0.0 and north[c] == 0.0:
                result[row, c] = np.nan
            else:
                result[row, c] = (math.degrees(math.atan2(-east[c], -north[c])) + 360.0) % 360.0


@kernel
def _gradient_rows(heights, x_scale, y_scale, east, north):
    for row in range(east.shape[0]):
        _gradients(heights, row + 1, x_scale[row], y_scale[row], east[row], north[row])


def _scales(grid: Grid, ground: Ground, exaggeration: float = 1.0) -> tuple[Heights, Heights]:
    """What sums of differences are multiplied by to give rise per metre, of each row but the first and last."""
    wide, high = ground.sizes(grid)
    return (exaggeration / (8 * wide[1:-1])).astype(np.float32), (exaggeration / (8 * high[1:-1])).astype(np.float32)


def gradients_of(heights: Heights, grid: Grid, ground: Ground | None = None) -> tuple[Heights, Heights]:
    """Rise per metre towards east and towards north, without the outermost ring of cells; NaN where empty."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        both = np.empty((2, heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        _gradient_rows(heights, *_scales(grid, ground), both[0], both[1])
        return both

    east, north = along_columns(heights, grid, 1, ground, work)
    return east, north


def slope_of(heights: Heights, grid: Grid, ground: Ground | None = None) -> Heights:
    """Slope in degrees of heights in metres `(rows, cols)` on `grid`, without the outermost ring of cells."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        _slope_rows(heights, *_scales(grid, ground), result)
        return result

    return along_columns(heights, grid, 1, ground, work)


def aspect_of(heights: Heights, grid: Grid, ground: Ground | None = None) -> Heights:
    """Direction in which the ground falls, degrees clockwise from north; NaN where it is level. No outer ring."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        _aspect_rows(heights, *_scales(grid, ground), result)
        return result

    return along_columns(heights, grid, 1, ground, work)


@dataclass(frozen=True)
class Light:
    """Where light comes from: azimuth in degrees clockwise from north, altitude above the horizon. several: three weaker lights
    beside the main one, 90 and 45 degrees before it and 45 after, weighted by how much they graze the ground (R. Mark,
    "A multidirectional, oblique-weighted, shaded-relief image of the island of Hawaii", Open-File Report 92-422, 1992).
    exaggeration: heights are multiplied by it first."""

    azimuth: float = 315.0
    altitude: float = 45.0
    several: bool = False
    exaggeration: float = 1.0


def hillshade_of(heights: Heights, grid: Grid, light: Light = Light(), ground: Ground | None = None) -> Heights:
    """Brightness from 0 to 1. No outer ring."""
    turn, rise = math.radians(light.azimuth), math.radians(light.altitude)
    main_east, main_north = np.float32(math.sin(turn)), np.float32(math.cos(turn))
    level, up = np.float32(math.cos(rise)), np.float32(math.sin(rise))

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2, heights.shape[1] - 2), np.float32)
        scales = _scales(grid, ground, light.exaggeration)
        if light.several:
            _shade_rows_of_four(heights, *scales, main_east, main_north, level, up, result)
        else:
            _shade_rows(heights, *scales, level * main_east, level * main_north, up, result)
        return result

    return along_columns(heights, grid, 1, ground, work)


def gradient(surface: Surface, axis: int) -> LiveSurface:
    """Live rise per metre towards east (axis 0) or north (axis 1)."""
    return _live(
        surface, lambda heights, grid, ground: gradients_of(heights, grid, ground)[axis], "1", ("gradient", axis)
    )


def slope(surface: Surface) -> LiveSurface:
    """Live slope in degrees."""
    return _live(surface, slope_of, "°", ("slope",))


def aspect(surface: Surface) -> LiveSurface:
    """Live aspect in degrees clockwise from north, empty where level."""
    return _live(surface, aspect_of, "°", ("aspect",))


def hillshade(surface: Surface, light: Light = Light()) -> LiveSurface:
    """Live hillshade from 0 (dark) to 1 (bright)."""
    return _live(
        surface, lambda heights, grid, ground: hillshade_of(heights, grid, light, ground), "1", ("hillshade", light)
    )


def _live(
    surface: Surface, compute: Callable[[Heights, Grid, Ground], Heights], unit: str, of: tuple[Any, ...]
) -> LiveSurface:
    ground = surface.grid.ground()  # that of the whole surface, so that every window has the same cells
    return LiveSurface(
        [in_unit(surface, "m")], lambda arrays, grid: compute(arrays[0], grid, ground), 1, unit=unit, of=of
    )
