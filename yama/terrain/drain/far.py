"""What the rest of a way out takes at least: what leads a search that must go far.

A search that spreads evenly comes to all cells up to which less must be cut than the way takes in the end. Led by what
the rest of each way takes at least (P. Hart, N. Nilsson and B. Raphael, IEEE Transactions on Systems Science and
Cybernetics 4, 1968) it finds as cheap a way over fewer cells.
"""

from __future__ import annotations

import numpy as np

from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel

SHIFT = 3
SIDE = 1 << SHIFT
"""Cells a side of a block that has one bound."""
_SURE = 1 - 2**-10  # of a bound: ways are added up in single precision


@kernel
def _lowest(heights, row, col, blocks):
    """The least height of each block of a square of them around a cell; -inf where water can leave the surface from it, and
    at the rim of the square, beyond which nothing is known."""
    rows, cols = heights.shape
    found = np.full((blocks, blocks), np.float32(np.inf))
    out = np.zeros((blocks, blocks), np.bool_)
    north = row - blocks // 2 * SIDE
    west = col - blocks // 2 * SIDE
    for a in range(blocks):
        for i in range(max(north + a * SIDE, 0), min(north + (a + 1) * SIDE, rows)):
            for b in range(blocks):
                least = found[a, b]
                empty = False
                for j in range(max(west + b * SIDE, 0), min(west + (b + 1) * SIDE, cols)):
                    z = heights[i, j]
                    least = z if z < least else least
                    empty |= z != z
                found[a, b] = least
                out[a, b] |= empty
    for a in range(blocks):
        for b in range(blocks):
            leaves = a == 0 or b == 0 or a == blocks - 1 or b == blocks - 1
            leaves |= north + a * SIDE <= 0 or north + (a + 1) * SIDE >= rows
            leaves |= west + b * SIDE <= 0 or west + (b + 1) * SIDE >= cols
            # water leaves from beside an empty cell too, which may be in the next block
            for i in range(max(a - 1, 0), min(a + 2, blocks)):
                for j in range(max(b - 1, 0), min(b + 2, blocks)):
                    leaves |= out[i, j]
            if leaves:
                found[a, b] = -np.inf
    return found


@kernel
def least_left(heights, row, col, blocks):
    """What must still be cut at least, in metres times cells, from the cells of each block to lower ground than a cell.

    A way that leads out of the eight blocks around its own takes `SIDE` cells at least until then, each as far above the
    cell as the lowest of these nine blocks. Where one of the nine has lower ground, or water can leave, that is
    nothing. From the nearest of these on the sums of that are found as ways are (E. Dijkstra, Numerische Mathematik 1,
    1959).

    Parameters
    ----------
    heights : ndarray of float32, shape (rows, cols)
        In metres, NaN where empty.
    row, col : int
        The cell, in the middle of the square of blocks.
    blocks : int
        How many there are a side.

    Returns
    -------
    ndarray, shape (blocks, blocks)
    """
    lowest = _lowest(heights, row, col, blocks)
    low = np.float64(heights[row, col])
    step = np.empty((blocks, blocks))
    left = np.full((blocks, blocks), np.inf)
    heap = np.empty(9 * blocks * blocks, np.int64)
    keys = np.empty(9 * blocks * blocks)
    size = 0
    for a in range(blocks):
        for b in range(blocks):
            least = np.float64(lowest[a, b])
            for i in range(max(a - 1, 0), min(a + 2, blocks)):
                for j in range(max(b - 1, 0), min(b + 2, blocks)):
                    least = min(least, np.float64(lowest[i, j]))
            step[a, b] = SIDE * max(least - low, 0.0) * _SURE
            if least < low:
                left[a, b] = 0.0
                size = push(heap, keys, size, a * blocks + b, 0.0)
    own = blocks // 2
    while size > 0:
        spent = keys[0]
        at, size = pop(heap, keys, size)
        a = at // blocks
        b = at % blocks
        if spent > left[a, b]:
            continue
        if a == own and b == own:
            break
        for i in range(max(a - 1, 0), min(a + 2, blocks)):
            for j in range(max(b - 1, 0), min(b + 2, blocks)):
                there = spent + step[i, j]
                if there < left[i, j]:
                    left[i, j] = there
                    size = push(heap, keys, size, i * blocks + j, there)
    # blocks that are farther from any way out than the cell's own are so by what is known of that
    most = left[own, own]
    for a in range(blocks):
        for b in range(blocks):
            left[a, b] = min(left[a, b], most)
    return left
