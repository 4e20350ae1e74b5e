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

from yama.terrain.grid import Grid
from yama.terrain.kernels import kernel
from yama.terrain.relief.sky import MOST_CELLS
from yama.terrain.surface import Heights, LiveSurface, Surface
from yama.terrain.units import in_unit

Contrast = Literal["above_mean", "deviation"]


@kernel
def _weighed(heights, row, weights, skip, counts, sums, squares):
    """Adds up a row of a window over its columns: weights, heights and squares of the filled cells around each, in one order
    whatever the window."""
    counts[:] = 0.0
    sums[:] = 0.0
    squares[:] = 0.0
    for k in range(weights.size):
        weight = weights[k]
        for c in range(counts.size):
            h = float(heights[row, c + skip + k])
            filled = h == h
            here = weight if filled else 0.0
            h = h if filled else 0.0
            counts[c] += here
            sums[c] += here * h
            squares[c] += here * h * h


@kernel
def _contrast(heights, halo, down, across, deviates, least, result):
    rows, cols = result.shape
    tall = down.size
    first = halo - tall // 2  # row of the heights that the first row of the result reaches up to
    skip = halo - across.size // 2
    counts = np.empty((tall, cols))
    sums = np.empty((tall, cols))
    squares = np.empty((tall, cols))
    for r in range(tall - 1):
        _weighed(heights, first + r, across, skip, counts[r], sums[r], squares[r])
    count = np.empty(cols)
    total = np.empty(cols)
    square = np.empty(cols)
    for r in range(rows):
        last = r + tall - 1
        at = last % tall
        _weighed(heights, first + last, across, skip, counts[at], sums[at], squares[at])
        count[:] = 0.0
        total[:] = 0.0
        square[:] = 0.0
        for k in range(tall):
            at = (r + k) % tall
            for c in range(cols):
                count[c] += down[k] * counts[at, c]
                total[c] += down[k] * sums[at, c]
                square[c] += down[k] * squares[at, c]
        for c in range(cols):
            h = float(heights[r + halo, c + halo])
            if h != h:
                result[r, c] = np.nan
                continue
            mean = total[c] / count[c]
            above = h - mean
            if deviates:
                spread = max(square[c] / count[c] - mean * mean, 0.0)
                above /= math.sqrt(spread + least * least)
            result[r, c] = above


def _bell(cells: float, halo: int) -> npt.NDArray[np.float64]:
    """Weights along an axis, of a Gaussian whose standard deviation is half of so many cells."""
    reach = min(max(math.ceil(cells), 1), halo)
    return np.exp(-2.0 * (np.arange(-reach, reach + 1) / max(cells, 1.0)) ** 2)


def contrast_of(
    heights: Heights, grid: Grid, halo: int, radius: float, kind: Contrast = "above_mean", least: float = 1e-3
) -> Heights:
    """Height above the mean of what is filled within `radius` metres, in the unit of the heights, or in standard deviations of it,
    none of which counts as less than `least`; without `halo` cells on each side. NaN where empty. The radius is at least one cell
    and at most `halo` cells. A cell's value does not depend on the window it is computed in."""
    wide, high = grid.metres_per_cell()
    result = np.empty((heights.shape[0] - 2 * halo, heights.shape[1] - 2 * halo), np.float32)
    down, across = _bell(radius / high, halo), _bell(radius / wide, halo)
    if result.size:
        _contrast(heights, halo, down, across, kind == "deviation", least, result)
    return result


def contrast(surface: Surface, radius: float = 60.0, kind: Contrast = "above_mean") -> LiveSurface:
    """Live local contrast within a radius in metres, in metres or in standard deviations. In wide views, whose cells are larger
    than the radius, it is that of the next cell."""
    halo = min(max(math.ceil(radius / min(surface.grid.metres_per_cell())), 1), MOST_CELLS)

    def compute(arrays: list[Heights], grid: Grid) -> Any:
        return contrast_of(arrays[0], grid, halo, radius, kind)

    return LiveSurface([in_unit(surface, "m")], compute, halo, unit="m" if kind == "above_mean" else "1")
