"""Hollows: ground from which no way leads down and out.

Every cell leads down to a lowest place; the passes between the basins of these, from the lowest up, tell how high water
stands in each before it runs out, and which hollow spills into which. So every cell is looked at a few times, however
deep hollows lie within each other, where flooding from the rim must sort them. Filled heights are those of R. Barnes,
C. Lehman and D. Mulla's priority flood (Computers & Geosciences 62, 2014); the tree of hollows is that of R. Barnes, K.
Callaghan and A. Wickert (Earth Surface Dynamics 8, 2020).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.cluster import cores
from yama.terrain.drain.directions import COLS, NONE, OUT, ROWS, Directions, steepest_ways
from yama.terrain.drain.strips import in_turn, over_rows
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each

Whole = npt.NDArray[np.int32]
Flags = npt.NDArray[np.bool_]

_MOST_CELLS = 2**31 - 1  # cells are counted in 32 bits
_AT_ONCE = 16_000_000  # cells in which passes are looked for between two words of progress
_FULL = 0.6  # of a table of pairs
_OUTSIDE = 0
"""The basin of what runs off the surface."""


@kernel
def _downhill(to, first, last, link):
    """The cell that each cell of rows leads to towards lower ground; -1 where there is none."""
    cols = to.shape[1]
    for r in range(first, last):
        for c in range(cols):
            way = to[r, c]
            if way >= 0 and way != OUT:
                link[r, c] = (r + ROWS[way]) * cols + c + COLS[way]
            else:
                link[r, c] = -1


@kernel
def _over_level(heights, to, first, last, link):
    """The cell that each cell of level ground leads to: to where that goes on or else to one cell of it, which leads to
    itself. Links stay -1 where water leaves and where there is no height. Of ground that begins in some rows. Returns
    how many lead to themselves."""
    rows, cols = heights.shape
    lowest = 0
    for r in range(first, last):
        for c in range(cols):
            if to[r, c] != NONE or link[r, c] != -1:
                continue
            z = heights[r, c]
            start = r * cols + c
            on = -1
            # cells that are still to be looked at are chained by their links, below -1
            link[r, c] = -2
            head = start
            while head != -1:
                a = head // cols
                b = head % cols
                chained = link[a, b]
                head = -1 if chained == -2 else -(chained + 3)
                link[a, b] = start
                for n in range(8):
                    i = a + ROWS[n]
                    j = b + COLS[n]
                    if i < 0 or j < 0 or i >= rows or j >= cols or heights[i, j] != z:
                        continue
                    if to[i, j] == NONE:
                        if link[i, j] == -1:
                            link[i, j] = -2 if head == -1 else -(head + 3)
                            head = i * cols + j
                    elif on == -1:
                        on = i * cols + j
            link[r, c] = on if on != -1 else start
            lowest += on == -1
    return lowest


@kernel
def _lowest(link, heights, first, last, count, low, low_at):
    """Number the lowest places in some rows; their links become -2 and less. count: one number, how many there are so
    far; low, low_at: their heights and cells."""
    rows, cols = link.shape
    flat = link.reshape(rows * cols)
    z = heights.reshape(rows * cols)
    for cell in range(first * cols, last * cols):
        if flat[cell] == cell:
            count[0] += 1
            number = count[0]
            low[number] = z[cell]
            low_at[number] = cell
            flat[cell] = -number - 1


@kernel
def _basins(link, first, last):
    """Follow links from cells of rows, and write the numbers at their ends to all cells on the way, as `_lowest` does."""
    rows, cols = link.shape
    flat = link.reshape(rows * cols)
    for cell in range(first * cols, last * cols):
        at = cell
        while flat[at] >= 0:
            at = flat[at]
        found = flat[at]
        at = cell
        while flat[at] >= 0:
            on = flat[at]
            flat[at] = found
            at = on


@kernel
def _plain_numbers(link, first, last):
    """Numbers of basins from 1 on, and 0 outside, from what `_basins` leaves."""
    for r in range(first, last):
        for c in range(link.shape[1]):
            link[r, c] = -link[r, c] - 1


@kernel
def _enter(keys, heights_of, places, one, other, z, place):
    """Note a pass between two basins, the lowest of each pair; returns 1 where the pair is new."""
    if one > other:
        one, other = other, one
    key = np.int64(one) << 32 | np.int64(other)
    mask = keys.size - 1
    at = (key * np.int64(-7046029254386353131) >> 20) & mask
    while True:
        if keys[at] == key:
            if z < heights_of[at] or (z == heights_of[at] and place < places[at]):
                heights_of[at] = z
                places[at] = place
            return 0
        if keys[at] == -1:
            keys[at] = key
            heights_of[at] = z
            places[at] = place
            return 1
        at = (at + 1) & mask


@kernel
def _passes(heights, basin, first, last, outer, keys, heights_of, places, most):
    """The passes between basins from cells of rows; False where the table is too small. outer: whether water leaves at
    the rim in the north, west, south and east."""
    rows, cols = heights.shape
    north, west, south, east = outer
    count = 0
    for r in range(first, last):
        for c in range(cols):
            z = heights[r, c]
            own = basin[r, c]
            if np.isnan(z):  # water leaves into it
                for n in range(8):
                    i = r + ROWS[n]
                    j = c + COLS[n]
                    if 0 <= i < rows and 0 <= j < cols and basin[i, j] != 0:
                        count += _enter(keys, heights_of, places, 0, basin[i, j], heights[i, j], i * cols + j)
            else:
                if own != 0 and (
                    (r == 0 and north) or (c == 0 and west) or (r == rows - 1 and south) or (c == cols - 1 and east)
                ):
                    count += _enter(keys, heights_of, places, 0, own, z, r * cols + c)
                for n in range(4):
                    i = r + ROWS[n]
                    j = c + COLS[n]
                    if i >= rows or j < 0 or j >= cols or basin[i, j] == own or np.isnan(heights[i, j]):
                        continue
                    if heights[i, j] > z:
                        count += _enter(keys, heights_of, places, own, basin[i, j], heights[i, j], i * cols + j)
                    else:
                        count += _enter(keys, heights_of, places, own, basin[i, j], z, r * cols + c)
            if count > most:
                return False
    return True


@kernel
def root(up, at):
    while up[at] != at:
        up[at] = up[up[at]]
        at = up[at]
    return at


@kernel
def _tree(first, second, z, place, count, parent, spill, spill_at, into, low, low_at):
    """Join basins over passes, the lowest first. Returns how many nodes there are."""
    up = np.arange(count + 1)
    top = np.arange(count + 1)
    nodes = count + 1
    for k in range(first.size):
        a = root(up, first[k])
        b = root(up, second[k])
        if a == b:
            continue
        out = root(up, 0)
        if a == out or b == out:
            inner = b if a == out else a
            node = top[inner]
            parent[node] = -1
            spill[node] = z[k]
            spill_at[node] = place[k]
            into[node] = first[k] if inner == b else second[k]
            up[inner] = out
            continue
        for side in range(2):
            node = top[a] if side == 0 else top[b]
            parent[node] = nodes
            spill[node] = z[k]
            spill_at[node] = place[k]
            into[node] = second[k] if side == 0 else first[k]
        lower = top[a] if low[top[a]] <= low[top[b]] else top[b]
        low[nodes] = low[lower]
        low_at[nodes] = low_at[lower]
        up[b] = a
        top[a] = nodes
        nodes += 1
    return nodes


@kernel
def _jumps(parent):
    """For each node one of the nodes that hold it, so that any of these is found in few steps (E. Myers, Information
    Processing Letters 17, 1983)."""
    jump = np.zeros(parent.size, np.int64)
    depth = np.zeros(parent.size, np.int64)
    for node in range(parent.size - 1, 0, -1):
        above = parent[node]
        if above < 0:
            jump[node] = node
            continue
        depth[node] = depth[above] + 1
        further = jump[above]
        if depth[above] - depth[further] == depth[further] - depth[jump[further]]:
            jump[node] = jump[further]
        else:
            jump[node] = above
    return jump


@kernel
def _measure(heights, basin, level, parent, spill, jump, first, last, cells, sums):
    """How many cells of rows each node covers when it is full, and the sum of their heights, of those that no node
    within it covers."""
    for r in range(first, last):
        for c in range(heights.shape[1]):
            z = heights[r, c]
            node = basin[r, c]
            if node == 0 or np.isnan(z) or z >= level[node]:
                continue
            while spill[node] <= z:
                node = jump[node] if spill[jump[node]] <= z and jump[node] != node else parent[node]
            cells[node] += 1
            sums[node] += z


@kernel
def raise_to(heights, basin, level, first, last, raised):
    """Heights, and the level of its basin where a cell is lower."""
    cols = heights.shape[1]
    for r in range(first, last):
        for c in range(cols):
            z = heights[r, c]
            stands = level[basin[r, c]]
            raised[r, c] = stands if stands > z else z


@dataclass(frozen=True)
class Hollows:
    """Hollows of heights, in a tree: basins from 1 on, then the hollows that are made of two others.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        In metres.
    grid : Grid
    to : ndarray of int8, shape (rows, cols)
        As `steepest_ways` gives it.
    basin : ndarray of int32, shape (rows, cols)
        Of which basin each cell is; 0 where water runs off, and where there is no height.
    parent : ndarray of int32, shape (nodes,)
        The hollow that a node is part of; -1 of those that spill towards the outside.
    low, low_at : ndarray, shape (nodes,)
        Height and cell (counted along rows) of the lowest place.
    spill, spill_at : ndarray, shape (nodes,)
        The height at which it runs over, and the cell over which it does.
    into : ndarray of int32, shape (nodes,)
        The basin into which it runs; 0 for the outside.
    cells : ndarray of int64, shape (nodes,)
        How many it covers when it is full.
    volume : ndarray, shape (nodes,)
        What it then holds, in cubic metres.
    """

    heights: Heights = field(repr=False)
    grid: Grid
    to: Directions = field(repr=False)
    basin: Whole = field(repr=False)
    parent: Whole = field(repr=False)
    low: FloatArray = field(repr=False)
    low_at: npt.NDArray[np.int64] = field(repr=False)
    spill: FloatArray = field(repr=False)
    spill_at: npt.NDArray[np.int64] = field(repr=False)
    into: Whole = field(repr=False)
    cells: npt.NDArray[np.int64] = field(repr=False)
    volume: FloatArray = field(repr=False)

    @property
    def basins(self) -> int:
        """How many lowest places there are."""
        return (len(self.parent) + int((self.parent[1:] < 0).sum())) // 2

    @property
    def outermost(self) -> npt.NDArray[np.int64]:
        """The hollows that are within no other."""
        found: npt.NDArray[np.int64] = np.flatnonzero(self.parent[1:] < 0) + 1
        return found

    @property
    def top(self) -> npt.NDArray[np.int64]:
        """For each node the hollow that holds it and is within no other."""
        top = np.arange(len(self.parent))
        for node in range(len(self.parent) - 1, 0, -1):
            if self.parent[node] > 0:
                top[node] = top[self.parent[node]]
        return top

    @property
    def depth(self) -> FloatArray:
        """From the lowest place to where it runs over, in metres."""
        return self.spill - self.low

    @property
    def cell_area(self) -> float:
        """Square metres of a cell."""
        return float(np.prod(self.grid.metres_per_cell()))

    def children(self) -> npt.NDArray[np.int64]:
        """The two hollows that each node is made of, `(nodes, 2)`; 0 of a basin."""
        found = np.zeros((len(self.parent), 2), np.int64)
        for node in range(1, len(self.parent)):
            above = self.parent[node]
            if above > 0:
                found[above, 0 if found[above, 0] == 0 else 1] = node
        return found

    def levels(self, filled: Flags | None = None) -> Heights:
        """Up to which height each basin is filled, `(basins + 1,)`; -inf where it is not.

        filled: which nodes are filled, with all within them; the outermost where not given.
        """
        wanted = self.parent < 0 if filled is None else filled.copy()
        wanted[_OUTSIDE] = False
        level = np.where(wanted, self.spill, -np.inf)
        # whatever holds a node was made after it
        for node in range(len(self.parent) - 1, 0, -1):
            above = self.parent[node]
            if above > 0 and level[above] > level[node]:
                level[node] = level[above]
        return level[: self.basins + 1].astype(np.float32)

    def filled(self, filled: Flags | None = None, progress: Progress = ignore_progress) -> Heights:
        """Heights with hollows filled to where they run over; see `levels`."""
        raised = np.empty_like(self.heights)
        over_rows(raise_to, self.heights.shape[0], (self.heights, self.basin, self.levels(filled)), (raised,), progress)
        return raised


def _numbered(
    heights: Heights, to: Directions, progress: Progress = ignore_progress
) -> tuple[Whole, FloatArray, npt.NDArray[np.int64]]:
    """Of which basin each cell is, from 1 on, 0 where water leaves; and the heights and cells of their lowest places,
    with room for the hollows that are made of two others."""
    basin = np.empty(heights.shape, np.int32)
    shape = heights.shape
    over_rows(_downhill, shape[0], (to,), (basin,), part_of(progress, 0.0, 0.1))
    count = in_turn(_over_level, shape, (heights, to), (basin,), part_of(progress, 0.1, 0.3))
    low, low_at = np.full(2 * count + 1, np.nan), np.full(2 * count + 1, -1, np.int64)
    so_far = np.zeros(1, np.int64)
    in_turn(_lowest, shape, (basin, heights), (so_far, low, low_at), part_of(progress, 0.3, 0.4))
    in_turn(_basins, shape, (basin,), (), part_of(progress, 0.4, 0.9))
    over_rows(_plain_numbers, shape[0], (basin,), (), part_of(progress, 0.9, 1.0))
    return basin, low, low_at


def basins_of(heights: Heights, to: Directions) -> tuple[Whole, int]:
    """Of which basin each cell is, from 1 on, and how many there are; 0 where water leaves, and where there is no
    height. to: as `steepest_ways` gives it."""
    basin, low, _ = _numbered(heights, to)
    return basin, (len(low) - 1) // 2


def hollows(heights: Heights, grid: Grid, progress: Progress = ignore_progress) -> Hollows:
    """The hollows of heights.

    Parameters
    ----------
    heights : ndarray of float32, shape (rows, cols)
        In metres, NaN where empty. Water leaves at the rim, and into empty cells.
    grid : Grid
        Whose cells these are.

    Raises
    ------
    InputError
        Where there are more cells than can be counted in 32 bits.
    """
    if heights.size > _MOST_CELLS:
        raise InputError(f"{heights.size / 1e6:.0f} million cells are too many at once. Take a part of them.")
    heights = np.ascontiguousarray(heights, np.float32)
    to = steepest_ways(heights, grid, part_of(progress, 0.0, 0.2))
    basin, low, low_at = _numbered(heights, to, part_of(progress, 0.2, 0.6))
    count = (len(low) - 1) // 2
    first, second, z, place = _all_passes(heights, basin, count, part_of(progress, 0.6, 0.85))
    nodes = 2 * count + 1
    parent, into = np.full(nodes, -1, np.int32), np.zeros(nodes, np.int32)
    spill, spill_at = np.full(nodes, -np.inf), np.full(nodes, -1, np.int64)
    made = int(_tree(first, second, z, place, count, parent, spill, spill_at, into, low, low_at))
    cells, sums = np.zeros(made, np.int64), np.zeros(made)
    parent, spill = parent[:made], spill[:made]
    found = Hollows(
        heights,
        grid,
        to,
        basin,
        parent,
        low[:made],
        low_at[:made],
        spill,
        spill_at[:made],
        into[:made],
        cells,
        np.zeros(made),
    )
    level = found.levels().astype(np.float64)
    given = (heights, basin, level, parent, spill, _jumps(parent))
    in_turn(_measure, heights.shape, given, (cells, sums), part_of(progress, 0.85, 1.0))
    for node in range(1, made):
        if parent[node] > 0:
            cells[parent[node]] += cells[node]
            sums[parent[node]] += sums[node]
    found.volume[1:] = (spill[1:] * cells[1:] - sums[1:]) * found.cell_area
    progress(1.0)
    return found


Passes = tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], FloatArray, npt.NDArray[np.int64]]
"""Both basins of each, its height, and its cell."""
Sides = tuple[bool, bool, bool, bool]
"""North, west, south, east."""
ALL_SIDES: Sides = (True, True, True, True)


def passes_of(heights: Heights, basin: Whole, count: int, first: int, last: int, outer: Sides) -> Passes:
    """The lowest pass between any two basins from cells of rows, in no order. count: how many basins there are about;
    outer: the sides at which water leaves the raster."""
    size = 1 << max(int(8 * (count + 16)).bit_length(), 10)
    while True:
        keys, z, place = np.full(size, -1, np.int64), np.empty(size), np.empty(size, np.int64)
        if _passes(heights, basin, first, last, outer, keys, z, place, int(_FULL * size)):
            there = np.flatnonzero(keys >= 0)
            return keys[there] >> 32, keys[there] & 0xFFFFFFFF, z[there], place[there]
        size *= 4


def _all_passes(heights: Heights, basin: Whole, count: int, progress: Progress = ignore_progress) -> Passes:
    """Passes between basins, the lowest first."""
    strips = max(cores(), heights.size // _AT_ONCE)
    bounds = np.linspace(0, heights.shape[0], strips + 1).astype(int)
    parts = [part for part in zip(bounds[:-1].tolist(), bounds[1:].tolist(), strict=True) if part[0] < part[1]]

    def found(part: tuple[int, int]) -> Passes:
        return passes_of(heights, basin, count // len(parts), *part, ALL_SIDES)

    # a pair that more than one part has comes more than once: its lowest pass comes first, and no other joins anything
    first, second, z, place = (np.concatenate(one) for one in zip(*each(parts, found, progress), strict=True))
    order = np.lexsort((second, first, place, z))
    return first[order], second[order], z[order], place[order]
