"""Cells that hang together, across blocks: the sea, and the hollows that are within no other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.blocks.raster import Blocks, Nodes, Raster, beside, joined, numbered_on, rims
from yama.terrain.drain.hollows import Flags, Whole
from yama.terrain.grid import Window
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, each

ndimage = later("scipy.ndimage")

_EIGHT = np.ones((3, 3), np.bool_)


def _numbered(mask: Flags) -> tuple[Whole, int]:
    """Parts of a mask whose cells touch by a side or a corner, from 1 on."""
    number = np.zeros(mask.shape, np.int32)
    return number, int(ndimage.label(mask, _EIGHT, number))


@dataclass(frozen=True)
class Parts:
    """Parts of a mask that hang together by sides or corners of cells.

    Parameters
    ----------
    blocks : Blocks
    mask : callable
        The mask in a window, which is the one of a block.
    base : ndarray of int64, shape (blocks + 1,)
        How many parts there are in the blocks before each, and in all of them.
    whole : ndarray of int64, shape (parts,)
        The part, one of them all, to which each part of a block belongs.
    at_rim : ndarray of bool, shape (parts,)
        Whether each comes to the rim of the raster.
    """

    blocks: Blocks
    mask: Callable[[Window], Flags] = field(repr=False)
    base: Nodes = field(repr=False)
    whole: Nodes = field(repr=False)
    at_rim: Flags = field(repr=False)

    @classmethod
    def of(cls, blocks: Blocks, mask: Callable[[Window], Flags], progress: Progress = ignore_progress) -> Parts:
        """Look for them block by block."""

        def look(number: int) -> tuple[int, Nodes, tuple[Whole, Whole, Whole, Whole]]:
            window = blocks.window(number)
            numbers, count = _numbered(mask(window))
            north, west, south, east = blocks.sides(window)
            sides = rims(numbers)
            outer = zip(sides, (north, south, west, east), strict=True)
            at_rim = np.unique(np.concatenate([side if there else side[:0] for side, there in outer]))
            return count, at_rim[at_rim > 0].astype(np.int64) - 1, sides

        told = each(list(blocks), look, progress, spread=True)
        base = np.append(0, np.cumsum([count for count, _, _ in told]))
        numbers = numbered_on([sides for _, _, sides in told], base)
        pairs = [(np.empty(0, np.int64), np.empty(0, np.int64))]
        for ((p, q),) in beside(blocks, numbers):
            both = (p > 0) & (q > 0)
            pairs.append((p[both] - 1, q[both] - 1))
        first, second = (np.concatenate(one) for one in zip(*pairs, strict=True))
        whole = joined(int(base[-1]), first, second)
        reaching = [start + one for start, (_, one, _) in zip(base.tolist(), told, strict=False)]
        at_rim = np.zeros(len(whole), np.bool_)
        at_rim[whole[np.concatenate([np.empty(0, np.int64), *reaching])]] = True
        return cls(blocks, mask, base, whole, at_rim[whole])

    def numbers(self, block: int) -> npt.NDArray[np.int64]:
        """The part to which each cell of a block belongs; -1 where the mask has none."""
        numbers, _ = _numbered(self.mask(self.blocks.window(block)))
        held = np.append(-1, self.whole[self.base[block] : self.base[block + 1]])
        found: npt.NDArray[np.int64] = held[numbers]
        return found

    def at(self, cells: Nodes) -> Nodes:
        """The part to which each of some cells, counted along the rows of the raster, belongs; -1 where the mask has
        none."""
        rows, cols = np.divmod(cells, self.blocks.shape[1])
        block = self.blocks.of(cells)
        found = np.full(len(cells), -1, np.int64)
        for number in np.unique(block).tolist():
            window = self.blocks.window(number)
            there = block == number
            found[there] = self.numbers(number)[rows[there] - window.row, cols[there] - window.col]
        return found


def drown(cells: Raster, level: float, side: int, progress: Progress = ignore_progress) -> bool:
    """Empty the cells at or below a level that hang together with the rim; see `sea.without_sea`. Returns whether any
    height is left."""
    blocks = Blocks(cells.shape, side)

    def low(window: Window) -> Flags:
        found: Flags = cells.read(window) <= np.float32(level)
        return found

    sea = Parts.of(blocks, low, part_of(progress, 0.0, 0.5))

    def empty(number: int) -> bool:
        window = blocks.window(number)
        heights: Heights = cells.read(window)
        parts = sea.numbers(number)
        low = parts >= 0
        low[low] = sea.at_rim[parts[low]]
        heights[low] = np.nan
        cells.write(window, heights)
        return not np.isnan(heights).all()

    return any(each(list(blocks), empty, part_of(progress, 0.5, 1.0)))
