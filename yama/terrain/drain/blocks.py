"""Water over rasters that are larger than memory: blocks, a graph of their rims, blocks again.

After R. Barnes, "Parallel Priority-Flood depression filling for trillion cell digital elevation models on desktops or
clusters", Computers & Geosciences 96 (2016), and "Parallel non-divergent flow accumulation for trillion cell digital
elevation models", Environmental Modelling & Software 92 (2017), with the basins and passes of `hollows` in place of
floods. The cells are those that the whole raster gives in memory, whatever the blocks.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.directions import (
    COLS,
    NONE,
    OUT,
    ROWS,
    Directions,
    edges,
    level_patch,
    nearness_on,
    steepest,
    steepest_ways,
)
from yama.terrain.drain.hollows import Sides, Whole, basins_of, passes_of, raise_to
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each, refused_by_disk

Nodes = npt.NDArray[np.int64]

SIDE = 2048
"""Cells along a side of a block."""
_MOST_LEVEL = 250_000_000  # cells around a level patch that crosses blocks
_OUTSIDE = 0


@dataclass(frozen=True)
class Raster:
    """Cells in a file, which are read and written window by window; nothing of it stays in memory."""

    path: Path
    shape: tuple[int, int]
    kind: type[np.generic]

    @classmethod
    def made(cls, path: Path, shape: tuple[int, int], kind: type[np.generic]) -> Raster:
        """A new one, of zeros. Raises InputError where the disk has no room for all of it: a mapped file that finds none
        later would end the process."""
        with refused_by_disk(path):
            np.lib.format.open_memmap(path, mode="w+", dtype=kind, shape=shape)
            with path.open("r+b") as file:
                os.posix_fallocate(file.fileno(), 0, path.stat().st_size)
        return cls(path, shape, kind)

    def read(self, window: Window) -> npt.NDArray[np.generic]:
        """Cells of a window, which must lie inside."""
        held = np.load(self.path, mmap_mode="r")
        return np.array(held[window.row : window.row + window.rows, window.col : window.col + window.cols])

    def write(self, window: Window, cells: npt.NDArray[np.generic]) -> None:
        """Put cells into a window, which must lie inside."""
        held = np.lib.format.open_memmap(self.path, mode="r+")
        held[window.row : window.row + window.rows, window.col : window.col + window.cols] = cells
        held.flush()


@dataclass(frozen=True)
class Blocks:
    """A raster in blocks of at most `side` cells a side."""

    shape: tuple[int, int]
    side: int = SIDE

    @property
    def down(self) -> int:
        """Rows of blocks."""
        return -(-self.shape[0] // self.side)

    @property
    def across(self) -> int:
        """Columns of blocks."""
        return -(-self.shape[1] // self.side)

    def window(self, number: int) -> Window:
        """Of a block; they are numbered along rows."""
        i, j = divmod(number, self.across)
        row, col = i * self.side, j * self.side
        return Window(row, col, min(self.side, self.shape[0] - row), min(self.side, self.shape[1] - col))

    def __iter__(self) -> Iterator[int]:
        return iter(range(self.down * self.across))

    def sides(self, window: Window) -> Sides:
        """Which sides of a window are the raster's rim."""
        rows, cols = self.shape
        return (
            window.row == 0,
            window.col == 0,
            window.row + window.rows == rows,
            window.col + window.cols == cols,
        )

    def around(self, window: Window, cells: int = 1) -> Window:
        """A window with so many cells around it, as far as there are any."""
        row, col = max(window.row - cells, 0), max(window.col - cells, 0)
        last_row = min(window.row + window.rows + cells, self.shape[0])
        last_col = min(window.col + window.cols + cells, self.shape[1])
        return Window(row, col, last_row - row, last_col - col)


def _inside(window: Window, around: Window) -> tuple[slice, slice]:
    """Where a window lies in one around it."""
    row, col = window.row - around.row, window.col - around.col
    return slice(row, row + window.rows), slice(col, col + window.cols)


@kernel
def _root(up, at):
    while up[at] != at:
        up[at] = up[up[at]]
        at = up[at]
    return at


@kernel
def _thinned(first, second, z, keeps, kept):
    """Of passes, the lowest first, those that tell how high one must go from any node of `keeps` to any other: where
    two parts that both hold such nodes are joined. Written over the passes as pairs of these nodes; `kept` has their
    heights. Returns how many there are."""
    count = keeps.size
    up = np.arange(count)
    held = np.full(count, -1, np.int64)
    for node in range(count):
        if keeps[node]:
            held[node] = node
    made = 0
    for k in range(z.size):
        a = _root(up, first[k])
        b = _root(up, second[k])
        if a == b:
            continue
        if held[a] >= 0 and held[b] >= 0:
            one, other = held[a], held[b]
            first[made] = one
            second[made] = other
            kept[made] = z[k]
            made += 1
        elif held[a] < 0:
            held[a] = held[b]
        up[b] = a
    return made


@kernel
def _levels(first, second, z, level):
    """How high one must go from each node to the outside, node 0, over passes, the lowest first. level: -inf at first,
    and what is not reached keeps that."""
    count = level.size
    up = np.arange(count)
    # nodes of a part are chained, so that all of them are told when it reaches the outside
    on = np.full(count, -1, np.int64)
    last = np.arange(count)
    for k in range(z.size):
        a = _root(up, first[k])
        b = _root(up, second[k])
        if a == b:
            continue
        out = _root(up, 0)
        if a == out or b == out:
            inner = b if a == out else a
            node = inner
            while node != -1:
                level[node] = z[k]
                node = on[node]
            up[inner] = out
            continue
        on[last[a]] = b
        last[a] = last[b]
        up[b] = a


@dataclass(frozen=True)
class _Block:
    """What the others must know of a block. rim: basins of the cells along its north, south, west and east, by their
    place among `nodes` that the block gives to the graph, from 1 on; 0 is outside. heights: of these cells. first,
    second, z: passes between these nodes."""

    rim: tuple[Whole, Whole, Whole, Whole]
    heights: tuple[Heights, Heights, Heights, Heights]
    nodes: int
    first: Nodes
    second: Nodes
    z: FloatArray


def _rims(cells: npt.NDArray[np.generic]) -> tuple[npt.NDArray[np.generic], ...]:
    return cells[0].copy(), cells[-1].copy(), cells[:, 0].copy(), cells[:, -1].copy()


def _basins(heights: Heights, grid: Grid, sides: Sides) -> tuple[Whole, int]:
    """Basins of the cells of a block; water leaves it at the raster's rim only. Lowest places on its own rim are
    basins, for it is not known here where their water goes on."""
    to = steepest_ways(heights, grid)
    inner = np.zeros(heights.shape, np.bool_)
    lines = (inner[0], inner[:, 0], inner[-1], inner[:, -1])
    for side, line in zip(sides, lines, strict=True):
        line[:] |= not side
    for side, line in zip(sides, lines, strict=True):
        line[:] &= not side
    # beside an empty cell water leaves whatever lies beyond the block
    beside = np.pad(heights, 1, constant_values=0.0)
    leaves = edges(beside)[1:-1, 1:-1]
    to[inner & (to == OUT) & ~leaves] = NONE
    return basins_of(heights, to)


def _ordered(first: Nodes, second: Nodes, z: FloatArray) -> tuple[Nodes, Nodes, FloatArray]:
    order = np.argsort(z, kind="stable")
    return first[order], second[order], z[order]


def _looked_at(heights: Heights, grid: Grid, sides: Sides) -> tuple[Whole, int, Nodes, Nodes, FloatArray]:
    """Basins of a block and the passes between them, the lowest first."""
    basin, count = _basins(heights, grid, sides)
    first, second, z, _ = passes_of(heights, basin, count, 0, len(heights), sides)
    return basin, count, *_ordered(first, second, z)


def _rim_nodes(basin: Whole, count: int) -> npt.NDArray[np.bool_]:
    """Which basins have cells on the rim of their block; the outside counts as one."""
    there = np.zeros(count + 1, np.bool_)
    for side in _rims(basin):
        there[side] = True
    there[_OUTSIDE] = True
    return there


def _told(heights: Heights, grid: Grid, sides: Sides) -> _Block:
    basin, count, first, second, z = _looked_at(heights, grid, sides)
    there = _rim_nodes(basin, count)
    kept = np.empty(len(z))
    made = int(_thinned(first, second, z, there, kept))
    number = np.cumsum(there) - 1  # the outside is 0
    rim = tuple(number[side].astype(np.int32) for side in _rims(basin))
    return _Block(
        (rim[0], rim[1], rim[2], rim[3]),
        _four(_rims(heights)),
        int(there.sum()) - 1,
        number[first[:made]],
        number[second[:made]],
        kept[:made],
    )


def _four(given: tuple[npt.NDArray[np.generic], ...]) -> tuple[Heights, Heights, Heights, Heights]:
    north, south, west, east = (np.asarray(one, np.float32) for one in given)
    return north, south, west, east


def _across_seam(one: Heights, nodes: Nodes, other: Heights, other_nodes: Nodes) -> tuple[Nodes, Nodes, FloatArray]:
    """Passes between two rows of cells that lie beside each other. Into an empty cell water leaves."""
    size = len(one)
    found = []
    for step in (-1, 0, 1):
        here = slice(max(-step, 0), size - max(step, 0))
        there = slice(max(step, 0), size - max(-step, 0))
        a, b, p, q = one[here], other[there], nodes[here], other_nodes[there]
        p, q = np.where(np.isnan(a), _OUTSIDE, p), np.where(np.isnan(b), _OUTSIDE, q)
        z = np.fmax(a, b)
        real = (p != q) & ~np.isnan(z)
        found.append((p[real], q[real], z[real].astype(np.float64)))
    first, second, z = (np.concatenate(each_one) for each_one in zip(*found, strict=True))
    return first, second, z


def _seams(blocks: Blocks, told: list[_Block], base: Nodes) -> tuple[Nodes, Nodes, FloatArray]:
    """All passes across the seams between blocks, between nodes of the whole graph."""

    def lines(numbers: list[int], side: int) -> tuple[Heights, Nodes]:
        nodes = [np.where(told[one].rim[side] > 0, base[one] + told[one].rim[side], 0) for one in numbers]
        return np.concatenate([told[one].heights[side] for one in numbers]), np.concatenate(nodes).astype(np.int64)

    found = [(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))]
    for i in range(blocks.down - 1):
        upper = [i * blocks.across + j for j in range(blocks.across)]
        lower = [one + blocks.across for one in upper]
        found.append(_across_seam(*lines(upper, 1), *lines(lower, 0)))
    for j in range(blocks.across - 1):
        left = [i * blocks.across + j for i in range(blocks.down)]
        right = [one + 1 for one in left]
        found.append(_across_seam(*lines(left, 3), *lines(right, 2)))
    first, second, z = (np.concatenate(each_one) for each_one in zip(*found, strict=True))
    return first, second, z


def fill(
    read: Callable[[Window], Heights],
    grid: Grid,
    filled: Raster,
    side: int = SIDE,
    progress: Progress = ignore_progress,
) -> None:
    """Fill hollows to where they run over, block by block.

    Parameters
    ----------
    read : callable
        Heights of a window in metres, NaN where empty; asked for twice.
    grid : Grid
        Of the whole raster.
    filled : Raster
        Of float32, into which the filled heights are written.
    side : int
        Cells along a side of a block.
    progress : callable
    """
    blocks = Blocks((grid.rows, grid.cols), side)

    def look(number: int) -> _Block:
        window = blocks.window(number)
        return _told(np.ascontiguousarray(read(window), np.float32), grid.part(window), blocks.sides(window))

    told = each(list(blocks), look, part_of(progress, 0.0, 0.48))
    base = np.append(0, np.cumsum([one.nodes for one in told]))
    inner = [
        (
            np.where(one.first > 0, base[number] + one.first, 0),
            np.where(one.second > 0, base[number] + one.second, 0),
            one.z,
        )
        for number, one in enumerate(told)
    ]
    first, second, z = (np.concatenate(one) for one in zip(_seams(blocks, told, base), *inner, strict=True))
    level = np.full(int(base[-1]) + 1, -np.inf)
    _levels(*_ordered(first, second, z), level)
    progress(0.52)

    def raise_block(number: int) -> None:
        window = blocks.window(number)
        heights = np.ascontiguousarray(read(window), np.float32)
        basin, count, first, second, z = _looked_at(heights, grid.part(window), blocks.sides(window))
        nodes = np.flatnonzero(_rim_nodes(basin, count))[1:]
        # from each basin on the rim it is known how high water stands there
        known = level[base[number] + 1 : base[number] + 1 + len(nodes)]
        outside = np.zeros(len(nodes), np.int64)
        own = np.full(count + 1, -np.inf)
        _levels(*_ordered(np.append(first, outside), np.append(second, nodes), np.append(z, known)), own)
        raised = np.empty_like(heights)
        raise_to(heights, basin, own.astype(np.float32), 0, len(heights), raised)
        filled.write(window, raised)

    each(list(blocks), raise_block, part_of(progress, 0.52, 1.0))


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


def directions(filled: Raster, grid: Grid, to: Raster, side: int = SIDE, progress: Progress = ignore_progress) -> None:
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
        given = _rims(which[numbers])
        rim = tuple(np.asarray(one, np.int32) for one in given)
        found = boxes[crossing, :4] + np.array([window.row, window.row, window.col, window.col])
        at = np.zeros((len(crossing), 2), np.int64)
        flat = which[numbers]
        places = np.argwhere(flat > 0)
        at[flat[places[:, 0], places[:, 1]] - 1] = places + np.array([window.row, window.col])
        return _Level(found, at, (rim[0], rim[1], rim[2], rim[3]), _four(_rims(own)))

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
        a, b = _root(up, first), _root(up, second)
        if a != b:
            up[b] = a
    group = np.array([_root(up, one) for one in range(len(boxes))], np.int64)
    whole = boxes.copy()
    for column, least in ((0, np.minimum), (1, np.maximum), (2, np.minimum), (3, np.maximum)):
        least.at(whole[:, column], group, boxes[:, column])
    roots = np.flatnonzero(group == np.arange(len(boxes)))
    for done, root in enumerate(roots.tolist()):
        top, bottom, left, right = whole[root].tolist()
        window = blocks.around(Window(top, left, bottom - top + 1, right - left + 1))
        if window.rows * window.cols > _MOST_LEVEL:
            raise InputError(
                f"Level ground of {right - left + 1} by {bottom - top + 1} cells is too large to be drained. Name it a "
                "sea or a lake, or make the surface coarser."
            )
        heights = np.asarray(filled.read(window), np.float32)
        ways = np.asarray(to.read(window), np.int8)
        row, col = int(seeds[root, 0]) - window.row, int(seeds[root, 1]) - window.col
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


@kernel
def _leave(to, starts, ends):
    """For each of some cells of a block the cell of it from which its water leaves the block; -1 where it ends within.
    Cells are counted along rows."""
    rows, cols = to.shape
    for k in range(starts.size):
        at = starts[k]
        ends[k] = -1
        while True:
            r = at // cols
            c = at % cols
            n = to[r, c]
            if n < 0 or n > 7:
                break
            i = r + ROWS[n]
            j = c + COLS[n]
            if i < 0 or j < 0 or i >= rows or j >= cols:
                ends[k] = at
                break
            at = i * cols + j


@dataclass(frozen=True)
class _Flow:
    """What comes to the rim of a block. cells: those on its rim, counted along the rows of the whole raster, in order.
    own: how many of its own cells drain through each. ends: the place among `cells` of that from which the water of
    each leaves; -1 where it does not. into: the cell of another block into which it leaves there; -1 elsewhere."""

    cells: Nodes
    own: FloatArray = field(repr=False)
    ends: Nodes = field(repr=False)
    into: Nodes = field(repr=False)


def _within(to: Directions) -> Directions:
    """Directions of which none leads out of the block."""
    kept = to.copy()
    for line, steps, way in ((kept[0], ROWS, -1), (kept[-1], ROWS, 1), (kept[:, 0], COLS, -1), (kept[:, -1], COLS, 1)):
        line[np.isin(line, np.flatnonzero(steps == way))] = OUT
    return kept


@kernel
def _inflow(starts, ends, into, own, come):
    """What comes into each rim cell from other blocks, and what leaves at each, worked off from those into which nothing
    comes. starts: the rim cells, all in order; ends: the place of that from which the water of each leaves its block,
    -1 where it does not; into: the place of the rim cell into which it leaves there, -1 where it is none. own: what
    drains through each of its own block. come: what comes from others into each, at first 0."""
    count = starts.size
    waits = np.zeros(count, np.int64)
    # an exit waits for all entries whose water it takes; an entry for all exits that lead into it
    for k in range(count):
        if ends[k] >= 0 and ends[k] != k:
            waits[ends[k]] += 1
        if into[k] >= 0:
            waits[into[k]] += 1
    through = np.zeros(count)  # what passes each on its way out, from other blocks
    stack = np.empty(count, np.int64)
    size = 0
    for k in range(count):
        if waits[k] == 0:
            stack[size] = k
            size += 1
    while size > 0:
        size -= 1
        k = stack[size]
        # what came into it goes to where its water leaves
        passes = come[k] + through[k]
        if ends[k] >= 0 and ends[k] != k:
            through[ends[k]] += come[k]
            waits[ends[k]] -= 1
            if waits[ends[k]] == 0:
                stack[size] = ends[k]
                size += 1
        if into[k] >= 0:
            come[into[k]] += own[k] + passes
            waits[into[k]] -= 1
            if waits[into[k]] == 0:
                stack[size] = into[k]
                size += 1


def accumulate(to: Raster, grid: Grid, counts: Raster, side: int = SIDE, progress: Progress = ignore_progress) -> None:
    """How many cells drain through each, block by block; see `accumulation`.

    Parameters
    ----------
    to : Raster
        Where water goes.
    grid : Grid
        Of the whole raster.
    counts : Raster
        Of whole numbers, into which they are written; 0 where there is no height.
    side : int
    progress : callable
    """
    blocks = Blocks((grid.rows, grid.cols), side)
    total_cols = grid.cols

    def look(number: int) -> _Flow:
        window = blocks.window(number)
        ways = np.asarray(to.read(window), np.int8)
        rim = np.zeros(ways.shape, np.bool_)
        rim[0] = rim[-1] = True
        rim[:, 0] = rim[:, -1] = True
        cells = np.flatnonzero(rim.ravel())
        total = accumulation(_within(ways))
        ends = np.empty(len(cells), np.int64)
        _leave(ways, cells, ends)
        rows, cols = np.divmod(cells, window.cols)
        leaves = np.flatnonzero(ends == cells)
        into = np.full(len(cells), -1, np.int64)
        step = ways.ravel()[cells[leaves]].astype(np.int64)
        into[leaves] = (window.row + rows[leaves] + ROWS[step]) * total_cols + window.col + cols[leaves] + COLS[step]
        place = np.where(ends >= 0, np.searchsorted(cells, ends), -1)
        own = np.nan_to_num(total.ravel()[cells])
        return _Flow((window.row + rows) * total_cols + window.col + cols, own, place, into)

    told = each(list(blocks), look, part_of(progress, 0.0, 0.45))
    base = np.append(0, np.cumsum([len(one.cells) for one in told]))
    cells = np.concatenate([one.cells for one in told])
    ends = np.concatenate([np.where(one.ends >= 0, base[k] + one.ends, -1) for k, one in enumerate(told)])
    into = np.concatenate([one.into for one in told])
    own = np.concatenate([one.own for one in told])
    order = np.argsort(cells)
    there = np.flatnonzero(into >= 0)
    into[there] = order[np.searchsorted(cells, into[there], sorter=order)]
    come = np.zeros(len(cells))
    _inflow(cells, ends, into, own, come)
    progress(0.5)

    def work(number: int) -> None:
        window = blocks.window(number)
        ways = np.asarray(to.read(window), np.int8)
        weight = np.ones(ways.shape)
        held = told[number]
        rows, cols = np.divmod(held.cells, total_cols)
        weight[rows - window.row, cols - window.col] += come[base[number] : base[number + 1]]
        total = accumulation(_within(ways), weight)
        counts.write(window, np.nan_to_num(total).astype(counts.kind))

    each(list(blocks), work, part_of(progress, 0.5, 1.0))
