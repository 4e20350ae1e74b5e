"""How much of the sky a place sees: openness and sky-view factor, which show form without a side that light comes from.

Openness: R. Yokoyama, M. Shirasawa and R. J. Pike, "Visualizing topography by openness", Photogrammetric Engineering and Remote
Sensing 68, 2002: the mean over directions of the angle between the zenith (or the nadir) and the horizon within a radius.
Sky-view factor: K. Zaksek, K. Ostir and Z. Kokalj, "Sky-view factor as a relief visualization technique", Remote Sensing 3,
2011: one less the mean sine of the horizon's height above the level. Both look along 16 directions.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Grid, Ground, Window, along_columns
from yama.terrain.kernels import kernel
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit

Sight = Literal["sky_view", "openness", "openness_below"]
_SIGHTS: dict[Sight, int] = {"sky_view": 0, "openness": 1, "openness_below": 2}
_DIRECTIONS = 16
MOST_CELLS = 120
"""Cells that a radius may span."""


@lru_cache(maxsize=64)
def _rays(wide: float, high: float, radius: float) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.float32]]:
    """Where to look: rows and columns of two cells `(rays, places, 4)`, and `(rays, places, 2)` the share of the second and how far
    the place between them is, in metres. Near by every cell's line is crossed, farther out each sixth part more. A ray's places
    beyond its last are 0 m away."""
    reach = max(radius, wide, high)
    found: list[list[tuple[int, int, int, int, float, float]]] = []
    for ray in range(_DIRECTIONS):
        turn = 2 * math.pi * ray / _DIRECTIONS
        down, right = -math.cos(turn) / high, math.sin(turn) / wide  # cells a metre
        major, minor = max(abs(down), abs(right)), min(abs(down), abs(right))
        signs = (math.copysign(1, down), math.copysign(1, right))
        listed, step = [], 1
        while step / major <= reach + 1e-9:
            across = minor / major * step
            near, share = math.floor(across + 1e-9), max(across - math.floor(across + 1e-9), 0.0)
            cells = [(step, near), (step, near + 1)] if abs(down) >= abs(right) else [(near, step), (near + 1, step)]
            (r0, c0), (r1, c1) = (
                (round(signs[0] * r), round(signs[1] * c)) for r, c in (cells if share > 1e-9 else [cells[0]] * 2)
            )
            listed.append((r0, c0, r1, c1, share, step / major))
            step = max(step + 1, step * 7 // 6)
        found.append(listed)
    longest = max(len(listed) for listed in found)
    places = np.zeros((_DIRECTIONS, longest, 4), np.int64)
    apart = np.zeros((_DIRECTIONS, longest, 2), np.float32)
    for ray, listed in enumerate(found):
        for i, (*cells_of, share, far) in enumerate(listed):
            places[ray, i] = cells_of
            apart[ray, i] = share, far
    return places, apart


@kernel
def _seen(heights, halo, places, apart, kind, result):
    rays = places.shape[0]
    for r in range(result.shape[0]):
        for c in range(result.shape[1]):
            h = heights[r + halo, c + halo]
            if np.isnan(h):
                result[r, c] = np.nan
                continue
            total = 0.0
            for ray in range(rays):
                highest = -np.inf
                lowest = np.inf
                for i in range(places.shape[1]):
                    far = apart[ray, i, 1]
                    if far == 0.0:
                        break
                    there = heights[r + halo + places[ray, i, 0], c + halo + places[ray, i, 1]]
                    beside = heights[r + halo + places[ray, i, 2], c + halo + places[ray, i, 3]]
                    if np.isnan(there):
                        there = beside
                    elif not np.isnan(beside):
                        there += apart[ray, i, 0] * (beside - there)
                    if np.isnan(there):
                        continue
                    rise = (there - h) / far
                    highest = max(highest, rise)
                    lowest = min(lowest, rise)
                if highest == -np.inf:  # nothing known that way: as if level
                    highest = 0.0
                    lowest = 0.0
                if kind == 0:
                    up = max(highest, 0.0)
                    total += up / np.sqrt(1.0 + up * up)
                elif kind == 1:
                    total += 90.0 - np.degrees(np.arctan(highest))
                else:
                    total += 90.0 + np.degrees(np.arctan(lowest))
            result[r, c] = 1.0 - total / rays if kind == 0 else total / rays


def sight_of(
    heights: Heights, grid: Grid, halo: int, radius: float, kind: Sight = "sky_view", ground: Ground | None = None
) -> Heights:
    """Sky-view factor (0 to 1) or openness (degrees, 90 on level ground and on any even slope) of heights in metres, without `halo`
    cells on each side; NaN where empty. Empty cells hide nothing. The radius is in metres, and at least one cell, at most
    `halo` cells."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2 * halo, heights.shape[1] - 2 * halo), np.float32)
        for first, last, wide, high in inner_bands(grid, halo, ground):
            places, apart = _rays(wide, high, min(radius, halo * min(wide, high)))
            _seen(heights[first : last + 2 * halo], halo, places, apart, _SIGHTS[kind], result[first:last])
        return result

    return along_columns(heights, grid, halo, ground, work)


def inner_bands(grid: Grid, halo: int, ground: Ground) -> list[tuple[int, int, float, float]]:
    """The bands of a grid's rows without `halo` rows on each side: first row and row after the last of those that are left, width
    and height of their cells."""
    inner = grid.part(Window(halo, halo, grid.rows - 2 * halo, max(grid.cols - 2 * halo, 1)))
    return ground.bands(inner)


def sight(surface: Surface, radius: float = 60.0, kind: Sight = "sky_view") -> LiveSurface:
    """Live sky-view factor or openness within a radius in metres. In wide views, whose cells are larger than it, it is that of
    the next cell."""
    halo = min(max(math.ceil(radius / surface.grid.smallest_cell()), 1), MOST_CELLS)
    ground = surface.grid.ground()

    def compute(arrays: list[Heights], grid: Grid) -> Any:
        return sight_of(arrays[0], grid, halo, radius, kind, ground)

    return LiveSurface(
        [in_unit(surface, "m")], compute, halo, unit="1" if kind == "sky_view" else "°", of=("sight", kind, radius)
    )
