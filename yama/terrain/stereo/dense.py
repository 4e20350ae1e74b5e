"""Parallaxes of a whole pair of epipolar images: level by level from coarse to fine, each level in blocks."""

from __future__ import annotations

from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.stereo.epipolar import halved
from yama.terrain.stereo.matching import Matched, Matching, one_level, ranges, without_specks

ndimage = later("scipy.ndimage")

Floats = npt.NDArray[np.float32]
Ints = npt.NDArray[np.int32]

BLOCK = 768
"""Rows and columns of a block."""

HALO = 96
"""Cells around a block that are matched with it, so that the paths through it are long enough."""

_MOST_AT_TOP = 64
_LEAST_SIDE = 40
_NEAR, _FAR = 3, 24
_MARGIN = 2
_HEARD = 0.5  # seconds between two looks at whether the work is cancelled
_MOST = 40


def levels_for(shape: tuple[int, int], low: int, high: int) -> int:
    """How many times the images are halved: until the range of parallaxes is short, as far as their size allows."""
    level = 0
    while min(shape) >> (level + 1) >= _LEAST_SIDE and (level < 3 or (high - low) >> level > _MOST_AT_TOP):
        level += 1
    return level


def match(
    left: Floats, right: Floats, low: int, high: int, how: Matching, progress: Progress = ignore_progress
) -> Matched:
    """Match two epipolar images.

    Parameters
    ----------
    left, right : ndarray of float32, shape (rows, cols)
        NaN where an image has nothing.
    low, high : int
        Least and largest parallax in cells.
    how : Matching
    progress : callable
        Told the share that is done; what it raises ends the work.

    Returns
    -------
    Matched
        Of the left image's cells.
    """
    top = levels_for(left.shape, low, high)
    pyramid = [(left, right)]
    for _ in range(top):
        pyramid.append((halved(pyramid[-1][0]), halved(pyramid[-1][1])))
    total = sum(one.size for one, _ in pyramid)
    done = 0.0
    found: Matched | None = None
    for level in range(top, -1, -1):
        one, other = pyramid[level]
        first, last = _shared(low, level, np.floor), _shared(high, level, np.ceil)
        if found is None:
            starts = np.full(one.shape, first, np.int32)
            counts = np.full(one.shape, last - first + 1, np.int32)
        else:
            starts, counts = ranges(found.parallax, one.shape, first, last, _NEAR, _FAR, _MARGIN, _MOST)
        share = one.size / total
        found = _in_blocks(one, other, starts, counts, how, level == 0, part_of(progress, done, done + share))
        speck = how.speck if level == 0 else max(how.speck >> (2 * level), 6)
        without_specks(found.parallax, speck, 1.0)
        if level:
            found.parallax[~(found.likeness >= how.likeness - 0.15)] = np.nan
        done += share
    assert found is not None
    return found


def _shared(parallax: int, level: int, whole: np.ufunc) -> int:
    return int(whole(parallax / 2**level))


def _in_blocks(
    left: Floats, right: Floats, low: Ints, count: Ints, how: Matching, fine: bool, progress: Progress
) -> Matched:
    """One level, block by block; each of them sees `HALO` cells around itself."""
    rows, cols = left.shape
    out = Matched(*(np.full(left.shape, np.nan, np.float32) for _ in range(2)))
    blocks = [(r, c) for r in range(0, rows, BLOCK) for c in range(0, cols, BLOCK)]
    most = cores()
    alone = len(blocks) < most

    def one(row: int, col: int) -> None:
        top, bottom = max(row - HALO, 0), min(row + BLOCK + HALO, rows)
        begin, end = max(col - HALO, 0), min(col + BLOCK + HALO, cols)
        mine = left[top:bottom, begin:end]
        if not np.isfinite(mine).any():
            return
        starts, counts = low[top:bottom, begin:end], count[top:bottom, begin:end]
        # the right image's columns are taken where the block is seen there; what is needed beyond stands at both ends
        least, largest = int(starts.min()), int((starts + counts).max())
        moved = (least + largest) // 2
        beyond = max(largest - moved, moved - least)
        wide = ((0, 0), (beyond, beyond))
        theirs = np.full((bottom - top, end - begin + 2 * beyond), np.nan, np.float32)
        from_col, to_col = begin + moved - beyond, end + moved + beyond
        inner = slice(max(from_col, 0), max(min(to_col, cols), 0))
        if inner.start < inner.stop:
            theirs[:, inner.start - from_col : inner.stop - from_col] = right[top:bottom, inner]
        matched = one_level(
            np.pad(mine, wide, constant_values=np.nan), theirs, np.pad(starts - moved, wide), np.pad(counts, wide, constant_values=1),
            how, fine=fine, workers=most if alone else 1,
        )  # fmt: skip
        here = (
            slice(row - top, row - top + BLOCK),
            slice(col - begin + beyond, min(col - begin + BLOCK, end - begin) + beyond),
        )
        there = (slice(row, row + BLOCK), slice(col, col + BLOCK))
        out.parallax[there] = matched.parallax[here] + np.float32(moved)
        out.likeness[there] = matched.likeness[here]

    pool = ThreadPoolExecutor(1 if alone else most)
    try:
        left_over = {pool.submit(one, *block) for block in blocks}
        while left_over:
            # a block takes longer than anybody who cancels should wait
            done, left_over = wait(left_over, _HEARD, FIRST_COMPLETED)
            for each in done:
                each.result()
            progress(1 - len(left_over) / len(blocks))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
    return out


@dataclass(frozen=True)
class Kept:
    """What is believed of a match, `(rows, cols)` each, NaN where nothing was matched: parallax in cells, its standard
    deviation in cells, and likeness."""

    parallax: Floats
    error: Floats
    likeness: Floats


def kept(matched: Matched, how: Matching) -> Kept:
    """The same without what looks too little alike in both images: still water, clouds, what moved; and how sure the
    rest is. Parallaxes are the less sure the less alike both images are; evened out, the more they spread."""
    parallax = np.where(matched.likeness >= how.likeness, matched.parallax, np.float32(np.nan))
    without_specks(parallax, how.speck, 1.0)
    if how.even:
        parallax, spread = evened(parallax, how.even)
        error = np.float32(_STAYS) * spread
    else:
        error = np.float32(0.09) + np.float32(0.42) * np.clip(1 - matched.likeness, 0, 1)
    return Kept(parallax, error, matched.likeness)


def evened(parallax: Floats, width: float) -> tuple[Floats, Floats]:
    """Parallaxes evened out by a plane fitted around each cell, without what stands out of it.

    Least squares with the weights of a Gaussian, made robust by weighing each cell once more by how far it is from the
    plane (Cauchy's weights; P. J. Huber and E. M. Ronchetti, "Robust Statistics", Wiley 2009).

    Parameters
    ----------
    parallax : ndarray of float32, shape (rows, cols)
        NaN where nothing was matched.
    width : float
        Standard deviation of the Gaussian in cells.

    Returns
    -------
    parallax, spread : ndarray of float32, shape (rows, cols)
        On the plane, and the standard deviation of parallaxes about it. NaN where nothing was matched, or less than
        half of the surroundings, by weight.
    """
    rows, cols = parallax.shape
    halo = int(np.ceil(_TRUNCATED * width)) * _EVENED
    out = np.full((2, *parallax.shape), np.nan, np.float32)

    def band(top: int) -> None:
        begin, end = max(top - halo, 0), min(top + BLOCK // 2 + halo, rows)
        found = _planes(parallax[begin:end], width)
        last = min(top + BLOCK // 2, rows)
        out[:, top:last] = found[:, top - begin : last - begin]

    with ThreadPoolExecutor(cores()) as pool:
        list(pool.map(band, range(0, rows, BLOCK // 2)))
    return out[0], out[1]


_TRUNCATED = 2.5  # standard deviations after which the Gaussian ends
_EVENED = 3  # fits, each robust against the one before
_STANDS_OUT = 1.0  # cells from the plane at which a cell counts half
_STAYS = 1.3  # of the spread, which leaves out what stands out, is the error that stays: neighbours err alike


def _planes(parallax: Floats, width: float) -> Floats:
    """Parallaxes on the planes and their spread about them."""
    known = np.isfinite(parallax)
    values = np.where(known, parallax, 0.0).astype(np.float64)
    row, col = (one - one.mean() for one in np.indices(parallax.shape, np.float64))

    def mean(cells: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        found: npt.NDArray[np.float64] = ndimage.gaussian_filter(cells, width, mode="constant", truncate=_TRUNCATED)
        return found

    weight = known.astype(np.float64)
    enough = known & (mean(weight) >= 0.5 * mean(np.ones_like(weight)))
    plane = values
    for turn in range(_EVENED):
        if turn:
            weight = known / (1 + ((values - plane) / _STANDS_OUT) ** 2)
        total = np.maximum(mean(weight), 1e-12)
        x, y, z = (mean(weight * one) / total for one in (col, row, values))
        xx = mean(weight * col * col) / total - x * x
        xy = mean(weight * col * row) / total - x * y
        yy = mean(weight * row * row) / total - y * y
        xz = mean(weight * col * values) / total - x * z
        yz = mean(weight * row * values) / total - y * z
        spread = np.maximum(xx * yy - xy * xy, 1e-9)
        plane = z + ((xz * yy - yz * xy) * (col - x) + (yz * xx - xz * xy) * (row - y)) / spread
    spread = np.sqrt(mean(weight * (values - plane) ** 2) / total)
    return np.where(enough, np.stack([plane, spread]), np.nan).astype(np.float32)
