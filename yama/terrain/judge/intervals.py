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
def _first(sums, wanted):
    """The first place at which sums that never fall have reached what is wanted."""
    low = 0
    high = sums.size - 1
    while low < high:
        middle = (low + high) // 2
        if sums[middle] >= wanted:
            high = middle
        else:
            low = middle + 1
    return low


@kernel
def _between(errors, sums, low, high):
    """Weight of the errors from one to another, both included."""
    return sums[np.searchsorted(errors, high, side="right")] - sums[np.searchsorted(errors, low, side="left")]


@kernel
def _resampled(errors, own, sizes, lefts, rights, blocks, weights, quantiles, out):
    """Figures of each draw, looked up in the sums of its weights.

    errors: sorted. own: how much each counts. sizes: of the errors, sorted; lefts, rights: between which errors, the
    last not included, those of no larger size stand. blocks: which block each is of. weights: `(draws, blocks)`. out:
    `(draws, 7)`, NaN where nothing was drawn."""
    count = errors.size
    sums = np.empty(count + 1)
    reach = max(errors[count - 1], -errors[0]) * 2.0 + 1e-30
    for draw in range(out.shape[0]):
        mean = 0.0
        square = 0.0
        sums[0] = 0.0
        for i in range(count):
            w = weights[draw, blocks[i]] * own[i]
            sums[i + 1] = sums[i] + w
            mean += w * errors[i]
            square += w * errors[i] * errors[i]
        total = sums[count]
        if total <= 0.0:
            out[draw, :] = np.nan
            continue
        # the median: between two where one half ends with the first of them
        half = 0.5 * total
        at = _first(sums, half)
        median = errors[at - 1]
        if sums[at] == half:
            while at < count and sums[at] == half:
                at += 1
            median = 0.5 * (median + errors[at - 1])
        # how far half of them reach from it
        low = 0.0
        high = reach + abs(median)
        for _ in range(60):
            middle = 0.5 * (low + high)
            if _between(errors, sums, median - middle, median + middle) >= half:
                high = middle
            else:
                low = middle
        out[draw, 0] = mean / total
        out[draw, 1] = median
        out[draw, 2] = np.sqrt(square / total)
        out[draw, 3] = 1.4826 * high
        for q in range(quantiles.size):
            wanted = quantiles[q] * total
            left = 0
            right = count - 1
            while left < right:
                k = (left + right) // 2
                if sums[rights[k]] - sums[lefts[k]] >= wanted:
                    right = k
                else:
                    left = k + 1
            out[draw, 4 + q] = sizes[left]


def _by_size(errors: FloatArray) -> tuple[FloatArray, npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Sizes of sorted errors, sorted, and between which errors those of no larger size stand."""
    sizes = np.sort(np.abs(errors))
    return sizes, np.searchsorted(errors, -sizes, side="left"), np.searchsorted(errors, sizes, side="right")


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
    _resampled(values, own, *_by_size(values), blocks, counts, _QUANTILES, drawn)
    drawn = drawn[np.isfinite(drawn).all(axis=1)]
    low, high = np.quantile(drawn, ((1 - _SHARE) / 2, (1 + _SHARE) / 2), axis=0)
    return Sureness({name: (float(low[i]), float(high[i])) for i, name in enumerate(_NAMES)}, together, many)
