"""What can be said of surfaces without any known height: how rough they are, and their noise where there are three."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Window
from yama.terrain.judge.uncertainty import of_differences, spreads_between
from yama.terrain.surface import Heights, Surface
from yama.terrain.units import UNITS

_SIDE = 64
_ACROSS = 8
_FEWEST = 200
_OF_SECOND = 6.0  # times the variance of noise that the second difference of three cells has


def roughness(surface: Surface) -> float:
    """How rough a surface is from cell to cell, in metres: what of its second differences is noise.

    Parameters
    ----------
    surface : Surface
        Of heights. Read at up to 64 windows spread over it.

    Returns
    -------
    float
        1.4826 times the median size of second differences along rows and columns, over the square root of six: the
        standard deviation where cells differ by independent noise, and 0 of a plane. NaN where too few cells lie side
        by side.
    """
    grid = surface.grid
    metres = UNITS.get(surface.unit, 1.0)
    found: list[Heights] = []
    for i in range(_ACROSS):
        for j in range(_ACROSS):
            row = int((i + 0.5) * grid.rows / _ACROSS) - _SIDE // 2
            col = int((j + 0.5) * grid.cols / _ACROSS) - _SIDE // 2
            window = Window(row, col, _SIDE, _SIDE).clipped(grid.rows, grid.cols)
            if window.rows < 3 or window.cols < 3:
                continue
            z = surface.read(window)
            seconds = (z[2:] - 2 * z[1:-1] + z[:-2], z[:, 2:] - 2 * z[:, 1:-1] + z[:, :-2])
            found += [one[np.isfinite(one)] for one in seconds]
    known = np.concatenate(found) if found else np.empty(0, np.float32)
    # level water says nothing of the ground
    known = known[known != 0] if (known != 0).any() else known
    if known.size < _FEWEST:
        return float("nan")
    return float(1.4826 * np.median(np.abs(known)) / np.sqrt(_OF_SECOND)) * metres


def noises(errors: Sequence[FloatArray]) -> list[float | None]:
    """The noise of each of several surfaces, from their differences alone.

    Parameters
    ----------
    errors : sequence of ndarray, shape (places,)
        Of each against the same places, whose own heights cancel; NaN where a surface is empty.

    Returns
    -------
    list of float or None
        Standard deviations in metres, where the errors of the surfaces are independent; None where too few share
        ground to tell.
    """
    try:
        found = of_differences(spreads_between(errors))
    except InputError:
        return [None] * len(errors)
    return [float(one) if np.isfinite(one) else None for one in found]
