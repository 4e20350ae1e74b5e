"""By how much a surface from images lies off: from points whose heights are known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.median import robust_spread

_TURNS = 12
_HUBER = 1.5
_FOR_PLACE = 30
_LEAST = 3
_FLAT = 0.03  # spread of slopes below which heights say nothing about the place
_NEAR = 2.5
_FREQUENT = 0.3  # of the densest part


@dataclass(frozen=True)
class Offset:
    """By how much a surface must be moved so that it agrees with points.

    Parameters
    ----------
    east, north, up : float
        In metres; the first two are 0 where the points cannot tell.
    sigma : tuple of float
        Their standard deviations.
    count : int
        Points that were used.
    spread : float
        Robust standard deviation of what is left, in metres.
    placed : bool
        Whether the points told more than the height.
    """

    east: float
    north: float
    up: float
    sigma: tuple[float, float, float]
    count: int
    spread: float
    placed: bool


def _agreeing(rest: FloatArray) -> npt.NDArray[np.bool_]:
    """Which points stand on the ground that is seen: trees and roofs stand above it, so that of all differences
    (known height minus seen height) that are frequent, the largest is the ground's."""
    middle = float(np.median(rest))
    if rest.size >= _FOR_PLACE:
        width = max(0.1 * robust_spread(rest), 0.4)
        low, high = (float(value) for value in np.percentile(rest, [1, 99]))
        places = np.linspace(low - 3 * width, high + 3 * width, 256)
        density = np.exp(-0.5 * ((places[:, None] - rest[None, :]) / width) ** 2).sum(1)
        peak = (
            (density[1:-1] >= density[:-2])
            & (density[1:-1] > density[2:])
            & (density[1:-1] > _FREQUENT * density.max())
        )
        middle = float(places[1:-1][peak].max()) if peak.any() else middle
        reach = 3 * width
    else:
        reach = max(3 * robust_spread(rest), 0.02)
    for _ in range(6):
        near: npt.NDArray[np.bool_] = np.abs(rest - middle) <= reach
        if near.sum() < _LEAST:
            break
        middle = float(np.median(rest[near]))
        reach = max(_NEAR * robust_spread(rest[near]), 0.02)
    return np.abs(rest - middle) <= reach


def offset(
    heights: npt.NDArray[np.float32], cell: tuple[float, float], col: FloatArray, row: FloatArray, z: FloatArray
) -> Offset | None:
    """Fit a surface to points by moving it: robust least squares of the heights' differences against the surface's
    slopes.

    Parameters
    ----------
    heights : ndarray of float32, shape (rows, cols)
        NaN where empty.
    cell : tuple of float
        Width and height of a cell in metres.
    col, row : ndarray, shape (n,)
        Where points lie, in cells of the surface.
    z : ndarray, shape (n,)
        Their heights in metres.

    Returns
    -------
    Offset or None
        None where fewer than 3 points lie on the surface.

    References
    ----------
    C. Nuth and A. Kääb, "Co-registration and bias corrections of satellite elevation data sets", The Cryosphere 5,
    2011; here as the linear equations whose cosine they fit.
    """
    east = north = up = 0.0
    rows, cols = heights.shape
    slopes: list[FloatArray] = list(np.gradient(np.asarray(heights, np.float64)))
    down, right = slopes
    gx, gy = right / cell[0], -down / cell[1]  # rows run south
    found: Offset | None = None
    for _ in range(_TURNS):
        c, r = col - east / cell[0], row + north / cell[1]
        i, j = np.floor(r).astype(int), np.floor(c).astype(int)
        inside = (i >= 0) & (j >= 0) & (i < rows - 1) & (j < cols - 1)
        k = np.flatnonzero(inside)
        s, t = c[k] - j[k], r[k] - i[k]

        def at(values: npt.NDArray[np.floating], i=i, j=j, k=k, s=s, t=t) -> FloatArray:  # type: ignore[no-untyped-def]
            upper = values[i[k], j[k]] * (1 - s) + values[i[k], j[k] + 1] * s
            lower = values[i[k] + 1, j[k]] * (1 - s) + values[i[k] + 1, j[k] + 1] * s
            return np.asarray(upper * (1 - t) + lower * t, np.float64)

        rest = z[k] - at(heights) - up
        sx, sy = at(gx), at(gy)
        known = np.isfinite(rest) & np.isfinite(sx) & np.isfinite(sy)
        rest, sx, sy = rest[known], sx[known], sy[known]
        if rest.size < _LEAST:
            return None
        near = _agreeing(rest)
        rest, sx, sy = rest[near], sx[near], sy[near]
        spread = max(robust_spread(rest), 1e-3)
        placed = rest.size >= _FOR_PLACE and min(float(sx.std()), float(sy.std())) > _FLAT
        design = np.stack([-sx, -sy, np.ones_like(sx)], axis=1) if placed else np.ones((rest.size, 1))
        step: npt.NDArray[np.floating] = np.zeros(design.shape[1])
        for _ in range(5):
            left = rest - design @ step
            weight: npt.NDArray[np.floating] = np.minimum(1, _HUBER * spread / np.maximum(np.abs(left), 1e-12))
            normal = (design * weight[:, None]).T @ design
            step = np.linalg.solve(normal, (design * weight[:, None]).T @ rest)
        left = rest - design @ step
        spread = robust_spread(left)
        sigma = np.sqrt(np.diag(np.linalg.inv(normal))) * max(spread, 1e-3)
        if placed:
            east, north, up = east + float(step[0]), north + float(step[1]), up + float(step[2])
            found = Offset(
                east, north, up, (float(sigma[0]), float(sigma[1]), float(sigma[2])), rest.size, spread, True
            )
            if np.abs(step).max() < 0.005:
                break
        else:
            up += float(step[0])
            found = Offset(east, north, up, (np.inf, np.inf, float(sigma[0])), rest.size, spread, False)
            if abs(float(step[0])) < 0.005:
                break
    return found
