"""Running medians over neighbourhoods of any size."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel

_BITS = 8


@kernel
def _kth(k, fine, coarse, bucket, below):
    """The rank that k of those counted in are below, sought from the bucket of another, with so many values in those
    below it. Returns it with its own bucket and the values below that."""
    while below > k:
        bucket -= 1
        below -= coarse[bucket]
    while below + coarse[bucket] <= k:
        below += coarse[bucket]
        bucket += 1
    left = k - below
    rank = bucket << _BITS
    while True:
        if fine[rank]:
            if left == 0:
                return rank, bucket, below
            left -= 1
        rank += 1


@kernel
def _median(cells, ranks, values, first, last, half, result):
    """Median of the filled cells around each, of an even number the mean of the middle two; empty where the middle is.
    Of the rows from `first` to before `last`.

    half: how many cells to the left and right of each row of the neighbourhood belong to it, from the upmost row
    down. ranks: `(rows, cols)`, which of `values`, from low to high, a cell has; -1 where empty. What lies around is
    counted by rank, and from one cell to the next only its rim changes (T. Huang, G. Yang and G. Tang, "A fast
    two-dimensional median filtering algorithm", IEEE Transactions on Acoustics, Speech and Signal Processing 27,
    1979), and the median moves little.
    """
    rows, cols = cells.shape
    fine = np.zeros(values.size + 1, np.int8)
    coarse = np.zeros((values.size >> _BITS) + 1, np.int32)
    reach = half.size // 2
    for r in range(first, last):
        fine[:] = 0
        coarse[:] = 0
        bucket, below, count = 0, 0, 0
        top, bottom = max(r - reach, 0), min(r + reach + 1, rows)
        for i in range(top, bottom):
            for j in range(min(half[i - r + reach], cols)):  # all but the last column of the first neighbourhood
                rank = ranks[i, j]
                if rank >= 0:
                    fine[rank] = 1
                    coarse[rank >> _BITS] += 1
                    count += 1
        for c in range(cols):
            for i in range(top, bottom):
                wide = half[i - r + reach]
                if c + wide < cols:
                    rank = ranks[i, c + wide]
                    if rank >= 0:
                        fine[rank] = 1
                        coarse[rank >> _BITS] += 1
                        below += (rank >> _BITS) < bucket
                        count += 1
                if c - wide - 1 >= 0:
                    rank = ranks[i, c - wide - 1]
                    if rank >= 0:
                        fine[rank] = 0
                        coarse[rank >> _BITS] -= 1
                        below -= (rank >> _BITS) < bucket
                        count -= 1
            if np.isnan(cells[r, c]):
                result[r - first, c] = np.nan
                continue
            rank, bucket, below = _kth(count // 2, fine, coarse, bucket, below)
            found = values[rank]
            if count % 2 == 0:
                rank, bucket, below = _kth(count // 2 - 1, fine, coarse, bucket, below)
                found = (found + values[rank]) / 2.0
            result[r - first, c] = found


def median_around(cells: FloatArray, half: npt.NDArray[np.int64], result: FloatArray, workers: int = 1) -> None:
    """Medians of what lies around each cell, of an even number the mean of the middle two.

    Strip by strip, so that ranks are few and stay in the processor's cache.

    Parameters
    ----------
    cells : ndarray of float64, shape (rows, cols)
        NaN where empty: such cells count nowhere, and stay empty.
    half : ndarray of int64, shape (2 * reach + 1,)
        How many cells to the left and right belong to the neighbourhood in each of its rows; see `circle` and `square`.
    result : ndarray of float64, shape (rows, cols)
        Takes the medians.
    workers : int
        Threads that share the strips.
    """
    reach = half.size // 2
    step = max(6 * reach, 64)

    def strip(first: int) -> None:
        top, bottom = max(first - reach, 0), min(first + step + reach, len(cells))
        part = np.ascontiguousarray(cells[top:bottom])
        filled = ~np.isnan(part)
        order = np.argsort(part[filled])  # equal ones in any order
        own = np.empty(order.size, np.int32)
        own[order] = np.arange(order.size, dtype=np.int32)
        ranks = np.full(part.shape, -1, np.int32)
        ranks[filled] = own
        rows = range(first - top, min(first + step, len(cells)) - top)
        _median(part, ranks, part[filled][order], rows.start, rows.stop, half, result[first : first + step])

    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(strip, range(0, len(cells), step)))


def circle(radius: float) -> npt.NDArray[np.int64]:
    """The neighbourhood of the cells within so many cells of the middle."""
    reach = int(radius)
    rows = np.arange(-reach, reach + 1)
    half: npt.NDArray[np.int64] = np.floor(np.sqrt(radius**2 - rows**2)).astype(np.int64)
    return half


def square(reach: int) -> npt.NDArray[np.int64]:
    """The neighbourhood of 2 * reach + 1 cells along each side."""
    return np.full(2 * reach + 1, reach, np.int64)


def robust_spread(values: npt.NDArray[Any]) -> float:
    """Normalised median absolute deviation: 1.4826 times the median distance from the median, the standard deviation of
    what is normal, which outliers hardly change (J. Höhle and M. Höhle, ISPRS Journal 64, 2009). values: none NaN."""
    return float(1.4826 * np.median(np.abs(values - np.median(values))))
