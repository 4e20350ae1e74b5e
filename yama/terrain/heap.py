"""A binary heap in two arrays, for kernels that always want the cell with the least key next."""

from __future__ import annotations

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
    at = 0
    while True:
        below = 2 * at + 1
        if below >= size:
            break
        if below + 1 < size and keys[below + 1] < keys[below]:
            below += 1
        if keys[below] >= key:
            break
        keys[at] = keys[below]
        heap[at] = heap[below]
        at = below
    keys[at] = key
    heap[at] = cell
    return top, size
