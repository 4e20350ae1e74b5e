"""A binary heap in two arrays, for kernels that always want the cell with the least key next."""

from __future__ import annotations

import numpy as np

from yama.terrain.kernels import kernel


@kernel
def push(heap, keys, size, cell, key):
    """Enter a cell under a key. Returns the new size."""
    at = size
    while at > 0:
        above = (at - 1) // 2
        if keys[above] <= key:
            break
        keys[at] = keys[above]
        heap[at] = heap[above]
        at = above
    keys[at] = key
    heap[at] = cell
    return size + 1


@kernel
def pop(heap, keys, size):
    """Take out the cell with the least key. Returns it and the new size."""
    top = heap[0]
    size -= 1
    key = keys[size]
    cell = heap[size]
    keys[size] = np.inf  # so that each cell has two below it, of which one is chosen without a branch
    at = 0
    below = 1
    while below < size:
        below += keys[below + 1] < keys[below]
        if keys[below] >= key:
            break
        keys[at] = keys[below]
        heap[at] = heap[below]
        at = below
        below = 2 * at + 1
    keys[at] = key
    heap[at] = cell
    return top, size
