"""How sure error figures are: intervals from resampling the checkpoints.

Checkpoints are drawn again and again with replacement, by weights of Poisson's law, and each figure is told by what
it becomes (B. Efron and R. Tibshirani, "An Introduction to the Bootstrap", Chapman & Hall 1993). Checkpoints that
stand near each other err alike: they are drawn as blocks of ground, so that ten in one field do not count as ten (P.
Hall, "Resampling a coverage pattern", Stochastic Processes and their Applications 20, 1985).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel

FEWEST = 8
"""Checkpoints from which on intervals are told."""
_DRAWS = 999
_SHARE = 0.95
_FEW = 100  # points, which are blocks of their own where they do not stand in clusters
_FEWEST_BLOCKS = 6
_MANY_BLOCKS = 200  # of ground at most, so that each holds some of very many points
_TOGETHER = (
    0.6  # of the distance that evenly spread points would have to their nearest: below it they stand in clusters
)
_NAMES = ("mean", "median", "rmse", "nmad", "le68", "le90", "le95")
_QUANTILES = np.array([0.683, 0.90, 0.95])


@dataclass(frozen=True)
class Sureness:
    """Intervals in which 95 of 100 times the true figure lies, by name: low, high; empty where all points stand in
    too few places to tell. clustered: whether the points stand in clusters; blocks: how many blocks of ground were
    drawn."""

    intervals: dict[str, tuple[float, float]]
    clustered: bool
    blocks: int


@kernel
def _resampled(errors, own, by_size, blocks, weights, quantiles, out):
    """Figures of each draw.

    errors: sorted. own: how much each counts. by_size: the order of their sizes. blocks: which block each is of.
    weights: `(draws, blocks)`. out: `(draws, 7)`, NaN where nothing was drawn."""
    count = errors.size
    weight = np.empty(count)
    for draw in range(out.shape[0]):
        total = 0.0
        mean = 0.0
        square = 0.0
        for i in range(count):
            w = weights[draw, blocks[i]] * own[i]
            weight[i] = w
            total += w
            mean += w * errors[i]
            square += w * errors[i] * errors[i]
        if total <= 0.0:
            out[draw, :] = np.nan
            continue
        # the median, from the middle of what was drawn
        half = 0.5 * total
        below = 0.0
        middle = 0
        for i in range(count):
            below += weight[i]
            if below >= half and weight[i] > 0.0:
                middle = i
                break
        median = errors[middle]
        if below == half:
            for i in range(middle + 1, count):
                if weight[i] > 0.0:
                    median = 0.5 * (median + errors[i])
                    break
        # deviations from it, outwards on both sides until half of all are passed
        left = middle
        right = middle + 1
        passed = 0.0
        deviation = 0.0
        while left >= 0 or right < count:
            to_left = abs(median - errors[left]) if left >= 0 else np.inf
            to_right = abs(errors[right] - median) if right < count else np.inf
            if to_left <= to_right:
                deviation = to_left
                passed += weight[left]
                left -= 1
            else:
                deviation = to_right
                passed += weight[right]
                right += 1
            if passed >= half:
                break
        out[draw, 0] = mean / total
        out[draw, 1] = median
        out[draw, 2] = np.sqrt(square / total)
        out[draw, 3] = 1.4826 * deviation
        passed = 0.0
        q = 0
        for k in range(count):
            i = by_size[k]
            passed += weight[i]
            while q < quantiles.size and passed >= quantiles[q] * total:
                out[draw, 4 + q] = abs(errors[i])
                q += 1


def blocks_of(x: FloatArray, y: FloatArray) -> tuple[npt.NDArray[np.int64], bool]:
    """Which block of ground each point stands in, and whether points stand in clusters.

    Blocks are squares that hold four points each where they are spread evenly; a few such points are a block each.
    The mean distance to the nearest point tells whether they are (P. Clark and F. Evans, "Distance to nearest
    neighbor as a measure of spatial relationships in populations", Ecology 35, 1954).
    """
    count = x.size
    wide, high = max(float(np.ptp(x)), 1e-9), max(float(np.ptp(y)), 1e-9)
    nearest = _nearest(x, y)
    usual = 0.5 * np.sqrt(wide * high / count)
    together = bool(nearest.mean() < _TOGETHER * usual)
    if count < _FEW and not together:
        return np.arange(count), False
    side = np.sqrt(wide * high / min(max(count / 4, 1), _MANY_BLOCKS))
    across = int(wide / side) + 1
    cells = ((y - y.min()) / side).astype(np.int64) * across + ((x - x.min()) / side).astype(np.int64)
    return np.unique(cells, return_inverse=True)[1].astype(np.int64), together


def _nearest(x: FloatArray, y: FloatArray) -> FloatArray:
    from scipy.spatial import cKDTree  # heavy, and seldom needed

    places = np.stack([x, y], axis=1)
    found: FloatArray = cKDTree(places).query(places, k=2)[0][:, 1]
    return found


def sureness(
    errors: FloatArray, x: FloatArray, y: FloatArray, weights: FloatArray | None = None, draws: int = _DRAWS
) -> Sureness | None:
    """How sure the figures of errors are.

    Parameters
    ----------
    errors : ndarray, shape (points,)
        NaN ones do not count.
    x, y : ndarray, shape (points,)
        In one unit of length.
    weights : ndarray, shape (points,), optional
        How much each counts; all alike where not given.
    draws : int
        How often points are drawn anew.

    Returns
    -------
    Sureness, optional
        None of fewer points than `FEWEST`.
    """
    used = np.isfinite(errors)
    if used.sum() < FEWEST:
        return None
    order = np.flatnonzero(used)[np.argsort(errors[used], kind="stable")]
    blocks, together = blocks_of(x[order], y[order])
    values = errors[order].astype(np.float64)
    if blocks.max() + 1 < _FEWEST_BLOCKS:
        return Sureness({}, together, int(blocks.max()) + 1)
    rng = np.random.default_rng(values.size)  # the same points give the same intervals
    many = int(blocks.max()) + 1
    counts = rng.poisson(1.0, (draws, many)).astype(np.float64)
    drawn = np.empty((draws, len(_NAMES)))
    own = np.ones(values.size) if weights is None else weights[order]
    _resampled(values, own, np.argsort(np.abs(values), kind="stable"), blocks, counts, _QUANTILES, drawn)
    drawn = drawn[np.isfinite(drawn).all(axis=1)]
    low, high = np.quantile(drawn, ((1 - _SHARE) / 2, (1 + _SHARE) / 2), axis=0)
    return Sureness({name: (float(low[i]), float(high[i])) for i, name in enumerate(_NAMES)}, together, many)
