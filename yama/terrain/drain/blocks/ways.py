"""Where water goes, block by block; level ground that crosses blocks is looked at as a whole."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, Rims, along, beside, joined, numbered_on, rims
from yama.terrain.drain.directions import COLS, NONE, ROWS, Directions, level_patch, nearness_on, steepest
from yama.terrain.drain.hollows import Whole
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each

_MOST_LEVEL = 250_000_000  # cells of a box around level ground that crosses blocks
_AT_ONCE = 500_000  # cells of level ground between two words of progress
_ROWS = 256  # of heights that are read at once
_LARGE = 30_000_000  # cells of a box from which on patches are looked at one after the other, for memory
_TOP, _BOTTOM, _LEFT, _RIGHT, _CROSSES, _FIRST, _CELLS, _OPEN = range(8)


@kernel
def _patches(heights, to, top, left, rows, cols, beyond, number, boxes):
    """Number level patches of cells without a way down in a block, which begins at a row and a column of what is given.
    beyond: whether other blocks lie in the north, west, south and east. boxes, a row of each patch: its first and last
    row and column, whether it comes to another block, its first cell counted along the rows of the block, how many
    cells it has, and whether its water goes on over ground that is as high. Returns how many there are."""
    stack = np.empty(rows * cols, np.int64)  # what is not used takes no memory
    north, west, south, east = beyond
    count = 0
    for row in range(rows):
        for col in range(cols):
            if to[top + row, left + col] != NONE or number[row, col] != 0:
                continue
            count += 1
            number[row, col] = count
            stack[0] = row * cols + col
            size = 1
            z = heights[top + row, left + col]
            a = row
            b = row
            c = col
            d = col
            cells = 0
            crosses = 0
            goes_on = 0
            while size > 0:
                size -= 1
                r = stack[size] // cols
                k = stack[size] % cols
                cells += 1
                a = min(a, r)
                b = max(b, r)
                c = min(c, k)
                d = max(d, k)
                if (r == 0 and north) or (k == 0 and west) or (r == rows - 1 and south) or (k == cols - 1 and east):
                    crosses = 1
                for n in range(8):
                    i = r + ROWS[n]
                    j = k + COLS[n]
                    y = top + i
                    x = left + j
                    if y < 0 or x < 0 or y >= heights.shape[0] or x >= heights.shape[1] or heights[y, x] != z:
                        continue
                    if to[y, x] != NONE:
                        goes_on = 1
                    elif 0 <= i < rows and 0 <= j < cols and number[i, j] == 0:
                        number[i, j] = count
                        stack[size] = i * cols + j
                        size += 1
            boxes[count, 0] = a
            boxes[count, 1] = b
            boxes[count, 2] = c
            boxes[count, 3] = d
            boxes[count, 4] = crosses
            boxes[count, 5] = row * cols + col
            boxes[count, 6] = cells
            boxes[count, 7] = goes_on
    return count


@kernel
def _over_level_inside(heights, to, nearness, top, left, number, boxes):
    """As `over_level_ground`, of patches that come to no other block. heights, to: with a row or column of the blocks
    beside, where there are some; see `_patches`."""
    rows, cols = heights.shape
    seen = np.zeros((rows, cols), np.bool_)
    away = np.zeros((rows, cols), np.int32)
    towards = np.zeros((rows, cols), np.int32)
    patch = np.empty(rows * cols, np.int64)
    queue = np.empty(rows * cols, np.int64)
    for row in range(number.shape[0]):
        for col in range(number.shape[1]):
            own = number[row, col]
            if own > 0 and boxes[own, 4] == 0 and to[top + row, left + col] == NONE and not seen[top + row, left + col]:
                level_patch(heights, to, nearness, top + row, left + col, seen, away, towards, patch, queue)


@dataclass(frozen=True)
class LevelGround:
    """Level patches of a block without a way down.

    Parameters
    ----------
    boxes : ndarray of int64, shape (patches, 8)
        Of those that come to other blocks, as `_patches` has it; rows, columns and first cells in the whole raster.
    rim : Rims
        Their numbers along the rim of the block, from 1 on; 0 where there is none of these.
    heights : Rims
        Of the cells along the rim.
    lowest : ndarray of int64
        The first cell of each other patch from which no water goes on, counted along the rows of the whole raster.
    """

    boxes: Nodes
    rim: Rims
    heights: Rims
    lowest: Nodes


def _level_ground(
    heights: Heights, ways: Directions, blocks: Blocks, window: Window, wide: Window
) -> tuple[LevelGround, Whole, Nodes]:
    """Level patches of a block, the number of each cell's, and all their boxes in the block. heights, ways: of a window
    around it."""
    top, left = window.row - wide.row, window.col - wide.col
    north, west, south, east = blocks.sides(window)
    numbers = np.zeros((window.rows, window.cols), np.int32)
    own = ways[top : top + window.rows, left : left + window.cols]
    boxes = np.zeros((int(np.count_nonzero(own == NONE)) + 1, 8), np.int64)
    beyond = (not north, not west, not south, not east)
    count = int(_patches(heights, ways, top, left, window.rows, window.cols, beyond, numbers, boxes))
    boxes = boxes[: count + 1].copy()
    crossing = np.flatnonzero(boxes[:, _CROSSES] == 1)
    which = np.zeros(count + 1, np.int32)
    which[crossing] = np.arange(1, len(crossing) + 1)
    row, col = np.divmod(boxes[:, _FIRST], window.cols)
    first = (window.row + row) * blocks.shape[1] + window.col + col
    told = boxes[crossing]
    told[:, [_TOP, _BOTTOM]] += window.row
    told[:, [_LEFT, _RIGHT]] += window.col
    told[:, _FIRST] = first[crossing]
    lowest = first[1:][(boxes[1:, _CROSSES] == 0) & (boxes[1:, _OPEN] == 0)]
    rim = along(rims(numbers), lambda side: which[side])
    high = rims(heights[top : top + window.rows, left : left + window.cols])
    return LevelGround(told, rim, high, lowest), numbers, boxes


def over_seams(blocks: Blocks, told: list[LevelGround]) -> Nodes:
    """Level patches that come to seams, each as a whole, as `LevelGround.boxes` has it."""
    base = np.append(0, np.cumsum([len(one.boxes) for one in told]))
    boxes = np.concatenate([one.boxes for one in told])
    numbers = numbered_on([one.rim for one in told], base)
    pairs = [(np.empty(0, np.int64), np.empty(0, np.int64))]
    for (p, q), (a, b) in beside(blocks, numbers, [one.heights for one in told]):
        same = (p > 0) & (q > 0) & (a == b)
        pairs.append((p[same] - 1, q[same] - 1))
    first, second = (np.concatenate(one) for one in zip(*pairs, strict=True))
    group = joined(len(boxes), first, second)
    whole = boxes.copy()
    for column, gather in (
        (_TOP, np.minimum),
        (_BOTTOM, np.maximum),
        (_LEFT, np.minimum),
        (_RIGHT, np.maximum),
        (_FIRST, np.minimum),
        (_OPEN, np.maximum),
    ):
        gather.at(whole[:, column], group, boxes[:, column])
    whole[:, _CELLS] = np.bincount(group, boxes[:, _CELLS], len(boxes))
    found: Nodes = whole[group == np.arange(len(boxes))]
    return found


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

    def work(number: int) -> LevelGround:
        window = blocks.window(number)
        wide = blocks.around(window)
        heights = filled.read(wide)
        ways = np.empty(heights.shape, np.int8)
        steepest(heights, 0, len(heights), nearness, ways)
        told, numbers, boxes = _level_ground(heights, ways, blocks, window, wide)
        row, col = window.row - wide.row, window.col - wide.col
        _over_level_inside(heights, ways, nearness, row, col, numbers, boxes)
        to.write(window, ways[row : row + window.rows, col : col + window.cols])
        return told

    told = each(list(blocks), work, part_of(progress, 0.0, 0.8), spread=True)
    patches = over_seams(blocks, told)
    too_large = patches[_around(blocks, patches)[:, 2:].prod(axis=1) > _MOST_LEVEL]
    if len(too_large):
        _, _, rows, cols = _around(blocks, too_large)[0].tolist()
        raise InputError(
            f"Level ground of {cols} by {rows} cells is too large to be drained. Name it a sea or a lake, or make the "
            "surface coarser."
        )

    def over(some: Nodes) -> None:
        for patch, box in zip(some.tolist(), _around(blocks, some).tolist(), strict=True):
            _one_patch(filled, to, nearness, Window(*box), divmod(patch[_FIRST], grid.cols), patch[_CELLS])

    # the largest first, so that none is waited for at the end
    patches = patches[np.argsort(-_around(blocks, patches)[:, 2:].prod(axis=1), kind="stable")]
    large = int((_around(blocks, patches)[:, 2:].prod(axis=1) > _LARGE).sum())
    share = float(patches[:large, _CELLS].sum()) / max(float(patches[:, _CELLS].sum()), 1.0)
    alone, along = (part_of(progress, *ends) for ends in ((0.8, 0.8 + 0.2 * share), (0.8 + 0.2 * share, 1.0)))
    for number in range(large):
        each([patches[number : number + 1]], over, part_of(alone, number / large, (number + 1) / large))
    patches = patches[large:]
    # many small ones are no work for a worker of their own
    batch = np.cumsum(patches[:, _CELLS]) // _AT_ONCE
    parts = np.split(patches, np.flatnonzero(np.diff(batch)) + 1) if len(patches) else []
    each(parts, over, along, spread=True)


def _around(blocks: Blocks, patches: Nodes) -> Nodes:
    """First row and column, rows and columns of a box around each patch and the cells beside it."""
    top, left = (np.maximum(patches[:, one] - 1, 0) for one in (_TOP, _LEFT))
    bottom = np.minimum(patches[:, _BOTTOM] + 2, blocks.shape[0])
    right = np.minimum(patches[:, _RIGHT] + 2, blocks.shape[1])
    return np.column_stack([top, left, bottom - top, right - left])


def _one_patch(
    filled: Raster,
    to: Raster,
    nearness: npt.NDArray[np.float32],
    window: Window,
    first: tuple[int, int],
    cells: int,
) -> None:
    """Give a patch of so many cells, which lies in a window, its directions."""
    at = first[0] - window.row, first[1] - window.col
    over, ways = _over(filled, window, at), to.read(window)
    shape = window.rows, window.cols
    # zeros of which only those that are written to take memory
    noted = np.zeros(shape, np.bool_), np.zeros(shape, np.int32), np.zeros(shape, np.int32)
    patch = np.empty(cells, np.int32)  # which counts the cells of the largest box
    level_patch(over, ways, nearness, *at, *noted, patch, np.empty(cells, np.int32))
    del noted, over
    rows, cols = np.divmod(patch, np.int32(window.cols))
    # others work on other patches of the same rows
    to.mapped(to_write=True)[window.row + rows, window.col + cols] = ways[rows, cols]


def _over(filled: Raster, window: Window, at: tuple[int, int]) -> npt.NDArray[np.int8]:
    """Of each cell of a window whether it is as high as one of them (1), higher (2), or lower or empty (0): a
    quarter of the memory of its height."""
    level = filled.read(Window(window.row + at[0], window.col + at[1], 1, 1))[0, 0]
    found = np.empty((window.rows, window.cols), np.int8)
    for row in range(0, window.rows, _ROWS):
        rows = min(_ROWS, window.rows - row)
        heights = filled.read(Window(window.row + row, window.col, rows, window.cols))
        np.greater_equal(heights, level, out=found[row : row + rows])
        found[row : row + rows] += heights > level
    return found


def lowest_places(given: Raster, grid: Grid, side: int, progress: Progress = ignore_progress) -> Nodes:
    """The lowest places of hollows, counted along rows: of level ground its first cell. As `Hollows.low_at` has them.

    Parameters
    ----------
    given : Raster
        Heights.
    grid : Grid
        Of the whole raster.
    side : int
    progress : callable
    """
    blocks = Blocks((grid.rows, grid.cols), side)
    nearness = nearness_on(grid)

    def look(number: int) -> LevelGround:
        window = blocks.window(number)
        wide = blocks.around(window, 2)  # so that it is known of cells beside the block where their water goes
        heights = given.read(wide)
        ways = np.empty(heights.shape, np.int8)
        steepest(heights, 0, len(heights), nearness, ways)
        return _level_ground(heights, ways, blocks, window, wide)[0]

    told = each(list(blocks), look, progress, spread=True)
    patches = over_seams(blocks, told)
    lowest = [one.lowest for one in told]
    found: Nodes = np.sort(np.concatenate([*lowest, patches[patches[:, _OPEN] == 0, _FIRST]]))
    return found
