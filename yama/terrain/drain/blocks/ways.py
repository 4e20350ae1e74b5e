"""Where water goes, block by block; level ground that crosses blocks is looked at as a whole."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, four, rims
from yama.terrain.drain.directions import COLS, NONE, ROWS, Directions, level_patch, nearness_on, steepest
from yama.terrain.drain.hollows import Whole, root
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each

_MOST_LEVEL = 250_000_000  # cells around a level patch that crosses blocks


def _inside(window: Window, around: Window) -> tuple[slice, slice]:
    """Where a window lies in one around it."""
    row, col = window.row - around.row, window.col - around.col
    return slice(row, row + window.rows), slice(col, col + window.cols)


@kernel
def _patches(heights, to, top, left, bottom, right, number, boxes):
    """Number level patches of cells without a way down, and note for each its first and last row and column and whether
    it comes to a side of the block beyond which another one lies. boxes: room for a patch of each cell. Returns how
    many there are."""
    rows, cols = heights.shape
    stack = np.empty(rows * cols, np.int64)  # what is not used takes no memory
    count = 0
    for row in range(rows):
        for col in range(cols):
            if to[row, col] != NONE or number[row, col] != 0:
                continue
            count += 1
            number[row, col] = count
            stack[0] = row * cols + col
            size = 1
            z = heights[row, col]
            a = row
            b = row
            c = col
            d = col
            crosses = 0
            while size > 0:
                size -= 1
                r = stack[size] // cols
                k = stack[size] % cols
                a = min(a, r)
                b = max(b, r)
                c = min(c, k)
                d = max(d, k)
                if (r == 0 and top) or (k == 0 and left) or (r == rows - 1 and bottom) or (k == cols - 1 and right):
                    crosses = 1
                for n in range(8):
                    i = r + ROWS[n]
                    j = k + COLS[n]
                    if 0 <= i < rows and 0 <= j < cols and to[i, j] == NONE and number[i, j] == 0:
                        if heights[i, j] == z:
                            number[i, j] = count
                            stack[size] = i * cols + j
                            size += 1
            boxes[count, 0] = a
            boxes[count, 1] = b
            boxes[count, 2] = c
            boxes[count, 3] = d
            boxes[count, 4] = crosses
    return count


@kernel
def _over_level_inside(heights, to, nearness, number, boxes):
    """As `over_level_ground`, of patches that come to no other block. heights, to: with a row or column of the blocks
    beside, where there are some."""
    rows, cols = heights.shape
    seen = np.zeros((rows, cols), np.bool_)
    away = np.zeros((rows, cols), np.int32)
    towards = np.zeros((rows, cols), np.int32)
    patch = np.empty(rows * cols, np.int64)
    queue = np.empty(rows * cols, np.int64)
    for row in range(rows):
        for col in range(cols):
            own = number[row, col]
            if own > 0 and boxes[own, 4] == 0 and to[row, col] == NONE and not seen[row, col]:
                level_patch(heights, to, nearness, row, col, seen, away, towards, patch, queue)


@dataclass(frozen=True)
class _Level:
    """Level patches of a block that come to other blocks. boxes: rows and columns in the whole raster; numbers along
    the rim of the block as in `_Block`, 0 where there is none of these patches."""

    boxes: npt.NDArray[np.int64]
    seeds: npt.NDArray[np.int64]
    rim: tuple[Whole, Whole, Whole, Whole]
    heights: tuple[Heights, Heights, Heights, Heights]


def directions(filled: Raster, grid: Grid, to: Raster, side: int, progress: Progress = ignore_progress) -> None:
    """Where water goes from each cell, level ground included, block by block; see `directions.directions`.

    Parameters
    ----------
    filled : Raster
        Conditioned heights.
    grid : Grid
        Of the whole raster.
    to : Raster
        Of int8, into which they are written.
    side : int
    progress : callable

    Raises
    ------
    InputError
        Where a level patch that crosses blocks is larger than can be held at once.
    """
    blocks = Blocks((grid.rows, grid.cols), side)
    nearness = nearness_on(grid)

    def work(number: int) -> _Level:
        window = blocks.window(number)
        wide = blocks.around(window)
        heights = np.asarray(filled.read(wide), np.float32)
        ways = np.empty(heights.shape, np.int8)
        steepest(heights, 0, len(heights), nearness, ways)
        rows, cols = _inside(window, wide)
        north, west, south, east = blocks.sides(window)
        own, part = np.ascontiguousarray(heights[rows, cols]), np.ascontiguousarray(ways[rows, cols])
        numbers = np.zeros(own.shape, np.int32)
        boxes = np.zeros((int(np.count_nonzero(part == NONE)) + 1, 5), np.int64)
        count = int(_patches(own, part, not north, not west, not south, not east, numbers, boxes))
        boxes = boxes[: count + 1]
        around = np.zeros(heights.shape, np.int32)
        around[rows, cols] = numbers
        _over_level_inside(heights, ways, nearness, around, boxes)
        to.write(window, ways[rows, cols])
        crossing = np.flatnonzero(boxes[:, 4] == 1)
        which = np.zeros(count + 1, np.int32)
        which[crossing] = np.arange(1, len(crossing) + 1)
        given = rims(which[numbers])
        rim = tuple(np.asarray(one, np.int32) for one in given)
        found = boxes[crossing, :4] + np.array([window.row, window.row, window.col, window.col])
        at = np.zeros((len(crossing), 2), np.int64)
        flat = which[numbers]
        places = np.argwhere(flat > 0)
        at[flat[places[:, 0], places[:, 1]] - 1] = places + np.array([window.row, window.col])
        return _Level(found, at, (rim[0], rim[1], rim[2], rim[3]), four(rims(own)))

    told = each(list(blocks), work, part_of(progress, 0.0, 0.8))
    _over_seams(blocks, told, filled, to, nearness, part_of(progress, 0.8, 1.0))


def _over_seams(
    blocks: Blocks,
    told: list[_Level],
    filled: Raster,
    to: Raster,
    nearness: npt.NDArray[np.float32],
    progress: Progress,
) -> None:
    """Give level patches that come to seams their directions, one after the other, each as a whole."""
    base = np.append(0, np.cumsum([len(one.boxes) for one in told]))
    boxes = np.concatenate([one.boxes for one in told])
    seeds = np.concatenate([one.seeds for one in told])
    up = np.arange(len(boxes))
    for first, second in _touching(blocks, told, base):
        a, b = root(up, first), root(up, second)
        if a != b:
            up[b] = a
    group = np.array([root(up, one) for one in range(len(boxes))], np.int64)
    whole = boxes.copy()
    for column, least in ((0, np.minimum), (1, np.maximum), (2, np.minimum), (3, np.maximum)):
        least.at(whole[:, column], group, boxes[:, column])
    roots = np.flatnonzero(group == np.arange(len(boxes)))
    for done, first in enumerate(roots.tolist()):
        top, bottom, left, right = whole[first].tolist()
        window = blocks.around(Window(top, left, bottom - top + 1, right - left + 1))
        if window.rows * window.cols > _MOST_LEVEL:
            raise InputError(
                f"Level ground of {right - left + 1} by {bottom - top + 1} cells is too large to be drained. Name it a "
                "sea or a lake, or make the surface coarser."
            )
        heights = np.asarray(filled.read(window), np.float32)
        ways = np.asarray(to.read(window), np.int8)
        row, col = int(seeds[first, 0]) - window.row, int(seeds[first, 1]) - window.col
        _one_patch(heights, ways, nearness, row, col)
        to.write(window, ways)
        progress((done + 1) / len(roots))


def _one_patch(heights: Heights, to: Directions, nearness: npt.NDArray[np.float32], row: int, col: int) -> None:
    room = int(np.count_nonzero(to == NONE))
    level_patch(
        heights,
        to,
        nearness,
        row,
        col,
        np.zeros(to.shape, np.bool_),
        np.zeros(to.shape, np.int32),
        np.zeros(to.shape, np.int32),
        np.empty(room, np.int64),
        np.empty(room, np.int64),
    )


def _touching(blocks: Blocks, told: list[_Level], base: Nodes) -> list[tuple[int, int]]:
    """Pairs of patches of two blocks that are one."""

    def lines(numbers: list[int], side: int) -> tuple[Heights, Nodes]:
        nodes = [np.where(told[one].rim[side] > 0, base[one] + told[one].rim[side] - 1, -1) for one in numbers]
        return np.concatenate([told[one].heights[side] for one in numbers]), np.concatenate(nodes).astype(np.int64)

    pairs: set[tuple[int, int]] = set()

    def enter(one: Heights, nodes: Nodes, other: Heights, other_nodes: Nodes) -> None:
        size = len(one)
        for step in (-1, 0, 1):
            here = slice(max(-step, 0), size - max(step, 0))
            there = slice(max(step, 0), size - max(-step, 0))
            same = (nodes[here] >= 0) & (other_nodes[there] >= 0) & (one[here] == other[there])
            pairs.update(zip(nodes[here][same].tolist(), other_nodes[there][same].tolist(), strict=True))

    for i in range(blocks.down - 1):
        upper = [i * blocks.across + j for j in range(blocks.across)]
        enter(*lines(upper, 1), *lines([one + blocks.across for one in upper], 0))
    for j in range(blocks.across - 1):
        left = [i * blocks.across + j for i in range(blocks.down)]
        enter(*lines(left, 3), *lines([one + 1 for one in left], 2))
    return sorted(pairs)
