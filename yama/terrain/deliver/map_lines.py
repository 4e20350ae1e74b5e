"""Contours on a printed map: as paths, with figures where their line runs straight enough to be read along it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.operations.contours import suggested
from yama.terrain.relief.contours import Levels, contours, smoothed
from yama.terrain.surface import Surface

_INDEX = 5
"""Each so many lines one is heavier and bears figures."""
_SMOOTH = 1.2  # pixels
_SHORTEST = 24  # pixels
_BENDS = 0.35  # pixels that a line may be simplified by
_STEP = 4.0  # pixels between places that are tried for a label
_FIGURE = 9.5  # pixels that a letter is wide
_STRAIGHT = 0.94  # least share of the way that is left when it is cut short
_APART = 90.0  # pixels between two labels


@dataclass(frozen=True)
class Label:
    """Figures along a line: their middle in pixels, and how far they are turned, in degrees clockwise from the reading direction."""

    x: float
    y: float
    turn: float
    text: str


@dataclass(frozen=True)
class MapLines:
    """Contours of a map, in pixels from its upper left corner. every, index: the interval and that of heavier lines, in `unit`."""

    every: float
    index: float
    unit: str
    light: list[str]
    heavy: list[str]
    labels: list[Label]


def map_lines(surface: Surface, grid: Grid) -> MapLines | None:
    """Contours of a surface on the cells of a map, every round step so that there are about twenty; None on level ground and where
    all of it is empty. Heights are in the surface's unit."""
    shown = fitted(surface, grid)
    heights = shown.read(grid.whole)
    filled = heights[~np.isnan(heights)]
    if not filled.size or np.ptp(filled) < 1e-3:
        return None
    interval = suggested(*(float(value) for value in np.quantile(filled, (0.002, 0.998))))
    lines = contours(smoothed(shown, _SMOOTH * grid.metres_per_cell()[0]), Levels(interval))
    places = np.column_stack([grid.col_of(lines.x), grid.row_of(lines.y)]) + 0.5
    light: list[str] = []
    heavy: list[tuple[FloatArray, int]] = []
    for first, last, number in zip(lines.starts[:-1], lines.starts[1:], lines.numbers.tolist(), strict=True):
        line = shapely.LineString(places[first:last])
        if line.length < _SHORTEST:
            continue
        corners = shapely.get_coordinates(shapely.simplify(line, _BENDS, preserve_topology=False))
        if number % _INDEX:
            light.append(path_of(corners))
        else:
            heavy.append((corners, number))
    heavy.sort(key=lambda one: -shapely.LineString(one[0]).length)  # long lines are labelled first
    labels: list[Label] = []
    for corners, number in heavy:
        height = f"{number * interval:,.6g}".replace(",", "\u202f").replace("-", "\u2212")
        _label(corners, f"{height}\u202f{surface.unit}", grid, labels)
    return MapLines(
        interval, interval * _INDEX, surface.unit, light, [path_of(corners) for corners, _ in heavy], labels
    )


def path_of(corners: FloatArray) -> str:
    """For the `d` of a path; a tenth of a pixel is as fine as any print."""
    (x, y), *rest = corners.round(1).tolist()
    return f"M{x:g} {y:g}L" + " ".join(f"{a:g} {b:g}" for a, b in rest)


def _label(corners: FloatArray, text: str, grid: Grid, labels: list[Label]) -> None:
    """Adds figures where a line runs straightest, away from the map's rim and from those that are there; none where nowhere will do."""
    wide = _FIGURE * len(text) + 6
    line = shapely.LineString(corners)
    tried = np.arange(wide / 2, line.length - wide / 2, _STEP)
    if not tried.size:
        return
    at: tuple[npt.NDArray[Any], ...] = tuple(
        shapely.get_coordinates(shapely.line_interpolate_point(line, tried + shift))
        for shift in (-wide / 2, 0.0, wide / 2)
    )
    begin, middle, end = at
    straight = np.hypot(*(end - begin).T) / wide
    inside = (middle > wide / 2 + 4).all(1) & (middle < np.array([grid.cols, grid.rows]) - wide / 2 - 4).all(1)
    for one in labels:
        inside &= np.hypot(middle[:, 0] - one.x, middle[:, 1] - one.y) > _APART
    fit = np.flatnonzero(inside & (straight >= _STRAIGHT))
    if not fit.size:
        return
    # of the straight places the one nearest the line's middle, and along long lines another at each far place
    first = int(fit[np.argmin(np.abs(tried[fit] - line.length / 2))])
    for best in (
        first,
        *(int(one) for one in fit[np.abs(tried[fit] - tried[first]) > 6 * _APART][:: int(6 * _APART / _STEP)]),
    ):
        if any(np.hypot(middle[best, 0] - one.x, middle[best, 1] - one.y) <= _APART for one in labels):
            continue
        across, down = end[best] - begin[best]
        if across < 0:  # read from the left
            across, down = -across, -down
        x, y = (round(float(value), 1) for value in middle[best])
        labels.append(Label(x, y, round(float(np.degrees(np.arctan2(down, across))), 1), text))
