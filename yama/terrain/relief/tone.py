"""A quiet shade under colour and relief: darker where ground sees little sky, or brighter and darker where it stands above or below
its surroundings. It is found over as many cells of what is drawn at every scale, so that it tells the forms that a view can show.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from yama.terrain.grid import Grid, Ground, Window, along_columns
from yama.terrain.relief.contrast import contrast_of
from yama.terrain.relief.sky import inner_bands, sight_of
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit

Tone = Literal["sky", "contrast"]
Shade = Literal["none", "sky", "contrast"]
REACH = 20
"""Cells that are looked at on each side."""
STRENGTH = 0.6
"""How much brighter or darker a full tone makes a colour; the map's shader has the same."""
_SKY = 1.5  # times the share of sky that is hidden: two thirds hidden are as dark as can be
_DEVIATIONS = 2.5  # standard deviations above or below the surroundings that make a full tone
_ROUGH = 0.03  # of a cell's width: bumps of less stay quiet on level ground


def rise_at(cell: float) -> float:
    """What heights are multiplied by for relief in wide views, whose cells are this many metres wide: it stays as strong there."""
    return min(max(cell / 8, 1.0), 4.0)


def tone_of(heights: Heights, grid: Grid, shade: Tone, ground: Ground | None = None) -> Heights:
    """From -1, darkest, to 1, of heights in metres on `grid`, without REACH cells on each side; 0 where nothing is to be said, NaN
    where empty."""

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        toned = np.empty((heights.shape[0] - 2 * REACH, heights.shape[1] - 2 * REACH), np.float32)
        for first, last, wide, high in inner_bands(grid, REACH, ground):
            part = heights[first : last + 2 * REACH]
            there = grid.part(Window(first, 0, last - first + 2 * REACH, grid.cols))
            rise, radius = np.float32(rise_at(wide)), REACH * min(wide, high)
            if shade == "sky":
                found = _SKY * (sight_of(part * rise, there, REACH, radius, ground=ground) - 1)
            else:
                least = _ROUGH * min(wide, high) / float(rise)
                found = contrast_of(part, there, REACH, radius, "deviation", least, ground) / _DEVIATIONS
            toned[first:last] = np.clip(found, -1, 1)
        return toned

    return along_columns(heights, grid, REACH, ground, work)


def tone(surface: Surface, shade: Tone) -> LiveSurface:
    """Live tone of a surface on its own cells, from -1 to 1."""
    ground = surface.grid.ground()
    return LiveSurface(
        [in_unit(surface, "m")],
        lambda arrays, grid: tone_of(arrays[0], grid, shade, ground),
        halo=REACH,
        unit="1",
        of=("tone", shade),
    )
