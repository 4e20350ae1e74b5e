"""Hollows filled block by block: passes between basins at the rims of blocks, joined over all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, Rims, along, beside, numbered_on, rims
from yama.terrain.drain.directions import NONE, OUT, edges, steepest_ways
from yama.terrain.drain.hollows import Sides, Whole, basins_of, passes_of, raise_to, root
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each

_OUTSIDE = 0


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
        a = root(up, first[k])
        b = root(up, second[k])
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
        a = root(up, first[k])
        b = root(up, second[k])
        if a == b:
            continue
        out = root(up, 0)
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
    second, z: passes between these nodes. highest: of its cells; NaN where all are empty."""

    rim: Rims
    heights: Rims
    nodes: int
    first: Nodes
    second: Nodes
    z: FloatArray
    highest: float


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
    for side in rims(basin):
        there[side] = True
    there[_OUTSIDE] = True
    return there


def _told(heights: Heights, grid: Grid, sides: Sides) -> _Block:
    basin, count, first, second, z = _looked_at(heights, grid, sides)
    there = _rim_nodes(basin, count)
    kept = np.empty(len(z))
    made = int(_thinned(first, second, z, there, kept))
    number = np.cumsum(there) - 1  # the outside is 0
    return _Block(
        along(rims(basin), lambda side: number[side].astype(np.int32)),
        rims(heights),
        int(there.sum()) - 1,
        number[first[:made]],
        number[second[:made]],
        kept[:made],
        float(np.fmax.reduce(heights, axis=None)),
    )


def _seams(blocks: Blocks, told: list[_Block], base: Nodes) -> tuple[Nodes, Nodes, FloatArray]:
    """All passes across the seams between blocks, between nodes of the whole graph. Into an empty cell water leaves."""
    nodes = numbered_on([one.rim for one in told], base)
    found = [(np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0))]
    for (a, b), (p, q) in beside(blocks, [one.heights for one in told], nodes):
        p, q = np.where(np.isnan(a), _OUTSIDE, p), np.where(np.isnan(b), _OUTSIDE, q)
        z = np.fmax(a, b)
        real = (p != q) & ~np.isnan(z)
        found.append((p[real], q[real], z[real].astype(np.float64)))
    first, second, z = (np.concatenate(each_one) for each_one in zip(*found, strict=True))
    return first, second, z


def fill(
    read: Callable[[Window], Heights],
    grid: Grid,
    filled: Raster,
    side: int,
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

    told = each(list(blocks), look, part_of(progress, 0.0, 0.48), spread=True)
    if all(np.isnan(one.highest) for one in told):
        raise InputError("Every cell of the surface is empty. Choose another.")
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

    each(list(blocks), raise_block, part_of(progress, 0.52, 1.0), spread=True)
