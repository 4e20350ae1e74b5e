"""Dense matching of epipolar images: which cell of the right image shows the same ground as each cell of the left.

Semi-global matching (H. Hirschmüller, "Stereo processing by semiglobal matching and mutual information", IEEE
Transactions on Pattern Analysis and Machine Intelligence 30, 2008) of census signatures (R. Zabih and J. Woodfill,
"Non-parametric local transforms for computing visual correspondence", ECCV 1994), from coarse to fine, with a range of
parallaxes of its own for each cell (M. Rothermel, K. Wenzel, D. Fritsch and N. Haala, "SURE: photogrammetric surface
reconstruction from imagery", LC3D Workshop 2012).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.kernels import kernel
from yama.terrain.stereo.registers import add, less, narrow, ones

Floats = npt.NDArray[np.float32]
Ints = npt.NDArray[np.int32]

_BITS = 62  # of a census signature
_LOST = 48  # the cost of a cell whose counterpart lies outside the other image
_BIG = 16_000
_NONE = -32_768
_HALVES = 0.035
_ALIKE = (0.7, 0.95)  # likeness from which grey values say parts of a cell, and from which they alone do
_SHARPER = 4  # turns of least squares at most


@kernel
def census(cells, first, last, out):
    """Signatures of rows `first` to `last`, uint64: which of the 9 x 7 cells around are darker than the one in the
    middle. 0 where any of them is NaN or lies outside."""
    rows, cols = cells.shape
    out[first:last] = 0
    whole = np.empty(cols, np.float32)
    for r in range(max(first, 3), min(last, rows - 3)):
        bits = out[r]
        middle = cells[r]
        whole[:] = 0
        for i in range(-3, 4):
            other = cells[r + i]
            for j in range(-4, 5):
                if i == 0 and j == 0:
                    continue
                for c in range(4, cols - 4):
                    bits[c] = (bits[c] << np.uint64(1)) | np.uint64(other[c + j] < middle[c])
                    whole[c] += other[c + j]
        for c in range(cols):
            if not 4 <= c < cols - 4 or whole[c] + middle[c] != whole[c] + middle[c]:
                bits[c] = 0


@kernel
def _costs(left, right, low, start, top, bottom, out):
    """Bits that differ, for each cell of some rows and each parallax of its range. out: ragged, `start` says where
    each cell begins."""
    cols = left.shape[1]
    for r in range(top, bottom):
        theirs = right[r]
        for c in range(cols):
            at = start[r * cols + c]
            n = start[r * cols + c + 1] - at
            mine = left[r, c]
            first = c + low[r, c]
            costs = out[at : at + n]
            if mine == 0:
                costs[:] = _LOST
                continue
            begin, end = min(max(-first, 0), n), max(min(cols - first, n), 0)
            costs[:begin] = _LOST
            costs[end:] = _LOST
            if begin < end:
                some, known = costs[begin:end], theirs[first + begin : first + end]
                for k in range(some.size):
                    some[k] = ones(mine ^ known[k]) if known[k] != 0 else np.uint64(_LOST)


@kernel
def _path(cost, before, least, steep, jump, out, total):
    """One cell of one path: adds its costs to `total`; returns the least. before: costs at the cell before on the
    path for the same parallaxes, one more on both sides; `_BIG` where it has none. least: of them."""
    n = cost.size
    top = np.int16(least + jump)
    off = np.int16(-least)
    best = np.int16(_BIG)
    for k in range(n):
        reached = less(before[k + 1], top)
        reached = less(reached, add(before[k], steep))
        reached = less(reached, add(before[k + 2], steep))
        value = add(add(reached, off), np.int16(cost[k]))
        out[k + 1] = value
        total[k] = add(total[k], value)
        best = less(best, value)
    out[n + 1] = _BIG
    return best


@kernel
def _sweep(cost, low, start, grey, steep, jump, edge, backward, total):
    """Four of the eight paths: from the left, upper left, above and upper right; backward from the others."""
    rows, cols = low.shape
    most = 0
    for i in range(rows * cols):
        most = max(most, start[i + 1] - start[i])
    width = most + 2
    rowed = np.full((2, 3, cols, width), _BIG, np.int16)  # of the row before and this one: from each neighbour above
    leasts = np.zeros((2, 3, cols), np.int16)
    beside = np.full((2, width), _BIG, np.int16)
    shifted = np.full(width, _BIG, np.int16)
    nothing = np.full(width, _BIG, np.int16)
    step = -1 if backward else 1
    for turn in range(rows):
        r = rows - 1 - turn if backward else turn
        now, was = turn % 2, 1 - turn % 2
        beside_least = np.int16(0)
        for move in range(cols):
            c = cols - 1 - move if backward else move
            at = start[r * cols + c]
            n = start[r * cols + c + 1] - at
            mine = cost[at : at + n]
            sums = total[at : at + n]
            first = low[r, c]
            for path in range(4):
                if path == 3:
                    p, q = r, c - step
                else:
                    p, q = r - step, c + path - 1
                out = beside[move % 2] if path == 3 else rowed[now, path, c]
                if not (0 <= p < rows and 0 <= q < cols):
                    # a path begins: as if all parallaxes had cost nothing before
                    best = np.int16(_BIG)
                    for k in range(n):
                        value = np.int16(mine[k])
                        out[k + 1] = value
                        sums[k] = add(sums[k], value)
                        best = less(best, value)
                    out[n + 1] = _BIG
                else:
                    there = start[p * cols + q]
                    m = start[p * cols + q + 1] - there
                    least = beside_least if path == 3 else leasts[was, path, q]
                    before = beside[1 - move % 2] if path == 3 else rowed[was, path, q]
                    other = low[p, q]
                    if other != first or m != n:
                        shift = first - other
                        for k in range(n + 2):
                            j = k + shift
                            shifted[k] = before[j] if 1 <= j <= m else np.int16(_BIG)
                        before = shifted
                    change = abs(grey[r, c] - grey[p, q])
                    drop = (
                        max(np.int16(steep + 1), np.int16(jump / (1.0 + change * edge))) if change == change else jump
                    )
                    best = _path(mine, before, least, steep, drop, out, sums)
                if path == 3:
                    beside_least = best
                else:
                    leasts[now, path, c] = best
    return nothing[0]


@kernel
def _choose(total, low, start, left, top, bottom, ends, parallax, of_right):
    """The parallax of least cost of each cell of some rows, to parts of a cell; and the least of each cell of the right
    image over all that lead to it, `_NONE` where none does."""
    cols = low.shape[1]
    best_right = np.empty(cols, np.int16)
    for r in range(top, bottom):
        best_right[:] = 32_767
        of_right[r] = _NONE
        for c in range(cols):
            at = start[r * cols + c]
            n = start[r * cols + c + 1] - at
            parallax[r, c] = np.nan
            if left[r, c] == 0:
                continue
            sums = total[at : at + n]
            least = np.int16(32_767)
            for k in range(n):
                least = less(least, sums[k])
            where = 0
            while sums[where] != least:
                where += 1
            first = low[r, c]
            begin, end = min(max(-c - first, 0), n), max(min(cols - c - first, n), 0)
            if begin < end:
                some = sums[begin:end]
                best, which = (
                    best_right[c + first + begin : c + first + end],
                    of_right[r, c + first + begin : c + first + end],
                )
                for k in range(some.size):
                    better = some[k] < best[k]
                    which[k] = narrow(first + begin + k) if better else which[k]
                    best[k] = some[k] if better else best[k]
            part = 0.0
            if 0 < where < n - 1:
                one, two = float(sums[where - 1] - least), float(sums[where + 1] - least)
                # costs of census signatures rise straight on both sides, so that two lines of equal slope meet at the least
                part = 0.5 * (one - two) / max(one, two, 1.0)
                # where images are alike they draw it a little towards halves, always by the same measure
                part -= _HALVES * np.sin(2 * np.pi * part)
            elif not ends:
                continue  # at the end of its range nothing says that it is the least
            parallax[r, c] = first + where + part


@kernel
def _agree(parallax, of_right, most):
    """Empty where the right image sees its cell otherwise by more than `most` cells."""
    rows, cols = parallax.shape
    for r in range(rows):
        for c in range(cols):
            d = parallax[r, c]
            if d != d:
                continue
            x = int(np.rint(c + d))
            back = of_right[r, x] if 0 <= x < cols else np.int16(_NONE)
            if back == _NONE or abs(back - d) > most:
                parallax[r, c] = np.nan


@kernel
def without_specks(parallax, least, step):
    """Empty where fewer than `least` cells hang together, neighbours differing by at most `step`."""
    rows, cols = parallax.shape
    label = np.zeros((rows, cols), np.int32)
    stack = np.empty(rows * cols, np.int32)
    number = 0
    for r in range(rows):
        for c in range(cols):
            if label[r, c] or parallax[r, c] != parallax[r, c]:
                continue
            number += 1
            label[r, c] = number
            stack[0] = r * cols + c
            count, done = 1, 0
            while done < count:
                p, q = stack[done] // cols, stack[done] % cols
                done += 1
                for i, j in ((p - 1, q), (p + 1, q), (p, q - 1), (p, q + 1)):
                    if (
                        0 <= i < rows
                        and 0 <= j < cols
                        and label[i, j] == 0
                        and abs(parallax[i, j] - parallax[p, q]) <= step
                    ):
                        label[i, j] = number
                        stack[count] = i * cols + j
                        count += 1
            if count < least:
                for k in range(count):
                    parallax[stack[k] // cols, stack[k] % cols] = np.nan


@kernel
def _likeness(left, right, parallax, half, top, bottom, out):
    """Normalised cross-correlation of the cells around each cell and its counterpart, -1 to 1; NaN where there is
    none."""
    rows, cols = left.shape
    for r in range(top, bottom):
        for c in range(cols):
            d = parallax[r, c]
            out[r, c] = np.nan
            if d != d or r < half or r >= rows - half:
                continue
            whole = int(np.floor(d))
            t = np.float32(d - whole)
            if c < half or c >= cols - half or c + whole < half or c + whole + 1 >= cols - half:
                continue
            a = b = aa = bb = ab = np.float32(0)
            zero_a, zero_b = left[r, c], right[r, c + whole]
            for i in range(r - half, r + half + 1):
                for j in range(c - half, c + half + 1):
                    one = left[i, j] - zero_a
                    two = right[i, j + whole] * (1 - t) + right[i, j + whole + 1] * t - zero_b
                    a += one
                    b += two
                    aa += one * one
                    bb += two * two
                    ab += one * two
            n = np.float32((2 * half + 1) ** 2)
            spread = (aa - a * a / n) * (bb - b * b / n)
            if spread > 0:
                out[r, c] = (ab - a * b / n) / np.sqrt(spread)


@kernel
def _ranges(coarse, rows, cols, lowest, highest, near, far, margin, most, low, count):
    """The range of parallaxes to try for each cell of a level, from what was found on the level above it."""
    high_rows, high_cols = coarse.shape
    for r in range(rows):
        for c in range(cols):
            i, j = min(r // 2, high_rows - 1), min(c // 2, high_cols - 1)
            half = near if coarse[i, j] == coarse[i, j] else far
            least, largest = np.inf, -np.inf
            stride = 1 if half == near else 3
            for p in range(max(i - half, 0), min(i + half + 1, high_rows), stride):
                for q in range(max(j - half, 0), min(j + half + 1, high_cols), stride):
                    d = coarse[p, q]
                    if d == d:
                        least, largest = min(least, d), max(largest, d)
            if least > largest:
                least, largest = lowest / 2.0, highest / 2.0
            first = int(np.floor(2 * least)) - margin
            last = int(np.ceil(2 * largest)) + margin
            if last - first + 1 > most:
                middle = 2 * coarse[i, j] if half == near else (first + last) / 2.0
                first = int(np.rint(middle)) - most // 2
                last = first + most - 1
            first = min(max(first, lowest), highest)
            last = max(min(last, highest), first)
            low[r, c] = first
            count[r, c] = last - first + 1


@kernel
def _sharpen(left, right, parallax, likeness, half, turns, low, high, top, bottom, out):
    """Parallaxes moved until the grey values around each cell fit best, by least squares along the row. Costs of
    signatures draw the answer to whole cells, the more so the smoother the texture; grey values do not, but need more
    signal: between two likenesses one gives way to the other. What moves by more than a cell stays."""
    rows, cols = left.shape
    n = (2 * half + 1) ** 2
    for r in range(top, bottom):
        for c in range(cols):
            start = parallax[r, c]
            out[r, c] = start
            weight = (likeness[r, c] - low) / (high - low)
            if not weight > 0 or r < half or r >= rows - half or c < half or c >= cols - half:
                continue
            zero = left[r, c]
            total = square = np.float32(0)
            for i in range(r - half, r + half + 1):
                for j in range(c - half, c + half + 1):
                    one = left[i, j] - zero
                    total += one
                    square += one * one
            mean = total / n
            spread = square / n - mean * mean
            if not spread > 0:
                continue
            d = np.float32(start)
            for _ in range(turns):
                whole = int(np.floor(d))
                t = np.float32(d - whole)
                if c - half + whole < 1 or c + half + whole + 2 >= cols:
                    d = np.float32(np.nan)
                    break
                # cubic convolution and its slope, the same for all cells around
                w0, w1 = ((-0.5 * t + 1) * t - 0.5) * t, (1.5 * t - 2.5) * t * t + 1
                w2, w3 = ((-1.5 * t + 2) * t + 0.5) * t, (0.5 * t - 0.5) * t * t
                g0, g1 = (-1.5 * t + 2) * t - 0.5, (4.5 * t - 5) * t
                g2, g3 = (-4.5 * t + 4) * t + 0.5, (1.5 * t - 1) * t
                w0, w1, w2, w3 = np.float32(w0), np.float32(w1), np.float32(w2), np.float32(w3)
                g0, g1, g2, g3 = np.float32(g0), np.float32(g1), np.float32(g2), np.float32(g3)
                a = aa = ab = g = gg = ga = gb = np.float32(0)
                base = right[r, c + whole]
                for i in range(r - half, r + half + 1):
                    for j in range(c - half + whole, c + half + whole + 1):
                        p0, p1, p2, p3 = right[i, j - 1], right[i, j], right[i, j + 1], right[i, j + 2]
                        value = p0 * w0 + p1 * w1 + p2 * w2 + p3 * w3 - base
                        slope = p0 * g0 + p1 * g1 + p2 * g2 + p3 * g3
                        one = left[i, j - whole] - zero
                        a += value
                        aa += value * value
                        ab += value * one
                        g += slope
                        gg += slope * slope
                        ga += slope * value
                        gb += slope * one
                a, g = a / n, g / n
                both, own = ab / n - a * mean, aa / n - a * a
                steep = gg / n - g * g
                if not (own > 0 and steep > 0 and both > 0):
                    d = np.float32(np.nan)
                    break
                gain = both / own  # of the left image's grey values on the right one's
                move = ((gb / n - g * mean) - gain * (ga / n - g * a)) / (gain * steep)
                d += min(max(move, np.float32(-0.6)), np.float32(0.6))
                if abs(move) < 0.01:
                    break
            if abs(d - start) <= 1:
                out[r, c] = start + np.float32(min(weight, 1.0)) * (d - start)


@dataclass(frozen=True)
class Matching:
    """How images are matched.

    Parameters
    ----------
    steep, jump : int
        Penalties in bits for parallaxes that differ by one between neighbours, and by more.
    edge : float
        How much less a jump costs where the grey value changes, per unit of its usual change.
    apart : float
        Cells by which both directions may differ.
    speck : int
        Patches of fewer cells that fit nothing around them are left out.
    likeness : float
        Least correlation of a match.
    half : int
        Cells around each cell over which the correlation is taken.
    smooth : float
        Width in cells over which images are smoothed first; their logarithms are, since speckle multiplies. 0: not at
        all.
    around : int
        Cells around each cell whose grey values say the parts of a cell.
    even : float
        Standard deviation in cells of the surroundings over which parallaxes are evened out in the end; 0: not at all.
    """

    steep: int = 7
    jump: int = 60
    edge: float = 0.8
    apart: float = 1.0
    speck: int = 60
    likeness: float = 0.5
    half: int = 4
    smooth: float = 0.0
    around: int = 3
    even: float = 0.0


@dataclass(frozen=True)
class Matched:
    """What was matched, `(rows, cols)` each, NaN where nothing was: parallax in cells (column in the right image minus
    column in the left) and likeness (correlation of both, up to 1)."""

    parallax: Floats
    likeness: Floats


def _in_bands(rows: int, workers: int, work: Callable[[int, int], object]) -> None:
    """Do something for all rows, in as many bands as there are workers."""
    edges = np.linspace(0, rows, workers + 1).astype(int).tolist()
    with ThreadPoolExecutor(workers) as pool:
        for done in [pool.submit(work, *band) for band in itertools.pairwise(edges)]:
            done.result()


def one_level(
    left: Floats,
    right: Floats,
    low: Ints,
    count: Ints,
    how: Matching,
    *,
    ends: bool = False,
    fine: bool = True,
    workers: int = 1,
) -> Matched:
    """Match two epipolar images of the same size, each cell within its own range of parallaxes.

    Parameters
    ----------
    left, right : ndarray of float32, shape (rows, cols)
        NaN where an image has nothing.
    low, count : ndarray of int32, shape (rows, cols)
        First parallax to try of each cell, and how many: at least one.
    how : Matching
    ends : bool
        Whether the first or last parallax of a range may be the answer; else such a cell is empty.
    fine : bool
        Whether parts of a cell are found from grey values; else from costs, which is quicker and good enough to go on
        from.
    workers : int
        Threads that share the work.
    """
    rows = left.shape[0]
    mine, other = np.empty(left.shape, np.uint64), np.empty(left.shape, np.uint64)
    _in_bands(rows, workers, lambda top, bottom: (census(left, top, bottom, mine), census(right, top, bottom, other)))
    start = np.zeros(left.size + 1, np.int64)
    np.cumsum(count, out=start[1:])
    cost = np.empty(int(start[-1]), np.uint8)
    _in_bands(rows, workers, lambda top, bottom: _costs(mine, other, low, start, top, bottom, cost))
    changes = np.abs(np.diff(left, axis=1))
    usual = float(np.nanmean(changes)) if np.isfinite(changes).any() else 0.0
    edge = how.edge / (3 * usual) if usual > 0 else 0.0

    def sweep(backward: bool) -> npt.NDArray[np.int16]:
        total = np.zeros(cost.size, np.int16)
        _sweep(cost, low, start, left, np.int16(how.steep), np.int16(how.jump), edge, backward, total)
        return total

    with ThreadPoolExecutor(min(workers, 2)) as pool:
        total, back = pool.map(sweep, (False, True))
    total += back
    del back
    parallax, likeness = (np.empty(left.shape, np.float32) for _ in range(2))
    of_right = np.empty(left.shape, np.int16)
    _in_bands(
        rows,
        workers,
        lambda top, bottom: _choose(total, low, start, mine, top, bottom, ends, parallax, of_right),
    )
    _agree(parallax, of_right, how.apart)
    _in_bands(rows, workers, lambda top, bottom: _likeness(left, right, parallax, how.half, top, bottom, likeness))
    if fine:
        rough, parallax = parallax, np.empty_like(parallax)
        _in_bands(
            rows, workers,
            lambda top, bottom: _sharpen(left, right, rough, likeness, how.around, _SHARPER, *_ALIKE, top, bottom, parallax),
        )  # fmt: skip
    return Matched(parallax, likeness)


def ranges(
    coarse: Floats, shape: tuple[int, int], lowest: int, highest: int, near: int, far: int, margin: int, most: int
) -> tuple[Ints, Ints]:
    """The first parallax to try of each cell of a level and how many, from what was found on the level above it.

    Parameters
    ----------
    coarse : ndarray of float32
        Parallaxes found on the level above, in its cells.
    shape : tuple of int
        Rows and columns of this level.
    lowest, highest : int
        Outside of which nothing is tried.
    near, far : int
        How many cells of the level above are looked at around one that has a parallax, and around one that has none.
    margin : int
        What is tried beyond the least and largest found.
    most : int
        The longest range.
    """
    low, count = np.empty(shape, np.int32), np.empty(shape, np.int32)
    _ranges(coarse, *shape, lowest, highest, near, far, margin, most, low, count)
    return low, count
