"""Local contrast: how far ground stands above or below its surroundings, which shows small forms on large slopes.

Height above the local mean: R. Hesse, "LiDAR-derived local relief models", Archaeological Prospection 17, 2010. The same in local
standard deviations ("deviation from mean elevation"): J. Wilson and J. Gallant (editors), "Terrain Analysis", 2000. Here the
surroundings weigh less the farther away they are, by a Gaussian of half the radius, so that no box shows.
"""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Grid, Ground, along_columns
from yama.terrain.kernels import kernel
from yama.terrain.relief.sky import MOST_CELLS, inner_bands
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit

Contrast = Literal["above_mean", "deviation"]


@kernel
def _weighed(heights, row, weights, skip, lines, sums):
    """Adds up a row of a window over its columns: weights, heights and squares of the filled cells around each, `(3, cols)`, in
    one order whatever the window."""
    reach = weights.size // 2
    cols = sums.shape[1]
    for c in range(cols + 2 * reach):
        h = float(heights[row, skip + c])
        filled = h == h
        h = h if filled else 0.0
        lines[0, c] = 1.0 if filled else 0.0
        lines[1, c] = h
        lines[2, c] = h * h
    for i in range(3):
        for c in range(cols):
            sums[i, c] = weights[reach] * lines[i, c + reach]
        for k in range(1, reach + 1):
            weight = weights[reach + k]
            for c in range(cols):
                sums[i, c] += weight * (lines[i, c + reach - k] + lines[i, c + reach + k])


@kernel
def _contrast(heights, halo, down, across, deviates, least, result):
    rows, cols = result.shape
    tall = down.size
    reach = tall // 2
    skip = halo - across.size // 2
    lines = np.empty((3, cols + across.size - 1))
    sums = np.empty((tall, 3, cols))  # of the rows around the one that is looked at, in turn
    total = np.empty((3, cols))
    for r in range(tall - 1):
        _weighed(heights, halo - reach + r, across, skip, lines, sums[r])
    for r in range(rows):
        last = r + tall - 1
        _weighed(heights, halo - reach + last, across, skip, lines, sums[last % tall])
        middle = (r + reach) % tall
        for i in range(3):
            for c in range(cols):
                total[i, c] = down[reach] * sums[middle, i, c]
            for k in range(1, reach + 1):
                weight = down[reach + k]
                above = (r + reach - k) % tall
                below = (r + reach + k) % tall
                for c in range(cols):
                    total[i, c] += weight * (sums[above, i, c] + sums[below, i, c])
        for c in range(cols):
            h = float(heights[r + halo, c + halo])
            if h != h:
                result[r, c] = np.nan
                continue
            mean = total[1, c] / total[0, c]
            found = h - mean
            if deviates:
                spread = max(total[2, c] / total[0, c] - mean * mean, 0.0)
                found /= math.sqrt(spread + least * least)
            result[r, c] = found


def _bell(cells: float, halo: int) -> npt.NDArray[np.float64]:
    """Weights along an axis, of a Gaussian whose standard deviation is half of so many cells."""
    reach = min(max(math.ceil(cells), 1), halo)
    return np.exp(-2.0 * (np.arange(-reach, reach + 1) / max(cells, 1.0)) ** 2)


def contrast_of(
    heights: Heights, grid: Grid, halo: int, radius: float, kind: Contrast = "above_mean", least: float = 1e-3,
    ground: Ground | None = None,
) -> Heights:  # fmt: skip
    """Height above the mean of what is filled within `radius` metres, in the unit of the heights, or in standard deviations of it,
    none of which counts as less than `least`; without `halo` cells on each side. NaN where empty. The radius is at least one cell
    and at most `halo` cells. A cell's value does not depend on the window it is computed in."""
    if heights.shape[0] <= 2 * halo or heights.shape[1] <= 2 * halo:
        return np.empty((max(heights.shape[0] - 2 * halo, 0), max(heights.shape[1] - 2 * halo, 0)), np.float32)

    def work(heights: Heights, grid: Grid, ground: Ground) -> Heights:
        result = np.empty((heights.shape[0] - 2 * halo, heights.shape[1] - 2 * halo), np.float32)
        for first, last, wide, high in inner_bands(grid, halo, ground):
            down, across = _bell(radius / high, halo), _bell(radius / wide, halo)
            part = heights[first : last + 2 * halo]
            _contrast(part, halo, down, across, kind == "deviation", least, result[first:last])
        return result

    return along_columns(heights, grid, halo, ground, work)


def contrast(surface: Surface, radius: float = 60.0, kind: Contrast = "above_mean") -> LiveSurface:
    """Live local contrast within a radius in metres, in metres or in standard deviations. In wide views, whose cells are larger
    than the radius, it is that of the next cell."""
    halo = min(max(math.ceil(radius / surface.grid.smallest_cell()), 1), MOST_CELLS)
    ground = surface.grid.ground()

    def compute(arrays: list[Heights], grid: Grid) -> Any:
        return contrast_of(arrays[0], grid, halo, radius, kind, ground=ground)

    return LiveSurface(
        [in_unit(surface, "m")], compute, halo, unit="m" if kind == "above_mean" else "1", of=("contrast", kind, radius)
    )
