"""Cells in files, and the blocks that they are looked at in."""

from __future__ import annotations

import errno
import itertools
import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.hollows import Sides, root
from yama.terrain.grid import Window
from yama.terrain.kernels import kernel
from yama.terrain.surface import refused_by_disk

Nodes = npt.NDArray[np.int64]


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

    def mapped(self, to_write: bool = False) -> npt.NDArray[Any]:
        """All cells, read from the file as they are looked at. to_write: whether what is put into them comes into the
        file; else it is forgotten."""
        # kernels are compiled once for arrays that can be written to
        return np.asarray(np.load(self.path, mmap_mode="r+" if to_write else "c"))

    def read(self, window: Window) -> npt.NDArray[Any]:
        """Cells of a window, which must lie inside."""
        cells = np.empty((window.rows, window.cols), self.kind)
        with self.path.open("rb", buffering=0) as file:
            for line, at in self._lines(window, cells):
                if os.preadv(file.fileno(), [line], at) != len(line):
                    raise OSError(errno.EIO, "The file is shorter than it was", str(self.path))
        return cells

    def write(self, window: Window, cells: npt.NDArray[Any]) -> None:
        """Put cells into a window, which must lie inside."""
        # written and not mapped: a mapping would be waited for until it is on the disk, or be seen by no other machine
        with self.path.open("r+b", buffering=0) as file:
            for line, at in self._lines(window, np.ascontiguousarray(cells, self.kind)):
                os.pwritev(file.fileno(), [line], at)

    def _lines(self, window: Window, cells: npt.NDArray[Any]) -> Iterator[tuple[memoryview, int]]:
        """The bytes of each row of a window, and where they stand in the file; of all rows, where these are whole."""
        size = cells.itemsize
        begin = self.path.stat().st_size - self.shape[0] * self.shape[1] * size
        if window.cols == self.shape[1]:
            cells = cells.reshape(1, -1)
        for number, line in enumerate(cells if cells.size else ()):
            yield memoryview(line).cast("B"), begin + ((window.row + number) * self.shape[1] + window.col) * size


@dataclass(frozen=True)
class Blocks:
    """A raster in blocks of at most `side` cells a side."""

    shape: tuple[int, int]
    side: int

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

    def of(self, cells: Nodes) -> Nodes:
        """The block in which each of some cells lies, which are counted along the rows of the raster."""
        rows, cols = np.divmod(cells, self.shape[1])
        found: Nodes = rows // self.side * self.across + cols // self.side
        return found

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


Rims = tuple[npt.NDArray[Any], npt.NDArray[Any], npt.NDArray[Any], npt.NDArray[Any]]
"""What lies along the north, south, west and east of a block."""
_NORTH, _SOUTH, _WEST, _EAST = 0, 1, 2, 3


def rims(cells: npt.NDArray[np.generic]) -> Rims:
    """The first and the last row, and the first and the last column."""
    return cells[0].copy(), cells[-1].copy(), cells[:, 0].copy(), cells[:, -1].copy()


def rim_of(window: Window) -> Nodes:
    """The cells along the rim of a window, counted along its rows, in order."""
    rim = np.zeros((window.rows, window.cols), np.bool_)
    rim[0] = rim[-1] = True
    rim[:, 0] = rim[:, -1] = True
    return np.flatnonzero(rim)


def along(rim: Rims, make: Callable[[npt.NDArray[Any]], npt.NDArray[Any]]) -> Rims:
    """What is made of each side."""
    north, south, west, east = (make(side) for side in rim)
    return north, south, west, east


def numbered_on(told: Sequence[Rims], base: Nodes) -> list[Rims]:
    """Numbers along the rims of blocks, which are counted from 1 on in each, as numbers of them all, from 1 on too; 0
    stays 0. base: how many there are in the blocks before each."""

    def on(side: npt.NDArray[Any], first: int) -> npt.NDArray[Any]:
        return np.where(side > 0, first + side.astype(np.int64), 0)

    return [along(one, partial(on, first=first)) for first, one in zip(base.tolist(), told, strict=False)]


def beside(blocks: Blocks, *told: Sequence[Rims]) -> Iterator[list[tuple[npt.NDArray[Any], npt.NDArray[Any]]]]:
    """All pairs of cells that lie beside each other, or corner to corner, across a seam between blocks.

    told: what blocks tell of their rims, block by block. Yielded for each seam and each way across it: of each of
    `told` what is on one side, and what is on the other.
    """
    rows = [[i * blocks.across + j for j in range(blocks.across)] for i in range(blocks.down)]
    cols = [[i * blocks.across + j for i in range(blocks.down)] for j in range(blocks.across)]
    seams = [(one, _SOUTH, other, _NORTH) for one, other in itertools.pairwise(rows)]
    seams += [(one, _EAST, other, _WEST) for one, other in itertools.pairwise(cols)]
    for numbers, side, others, other_side in seams:
        here = [np.concatenate([given[one][side] for one in numbers]) for given in told]
        there = [np.concatenate([given[one][other_side] for one in others]) for given in told]
        size = len(here[0])
        for step in (-1, 0, 1):
            first = slice(max(-step, 0), size - max(step, 0))
            second = slice(max(step, 0), size - max(-step, 0))
            yield [(a[first], b[second]) for a, b in zip(here, there, strict=True)]


@kernel
def _joined(up, first, second):
    for k in range(first.size):
        a = root(up, first[k])
        b = root(up, second[k])
        if a != b:
            up[max(a, b)] = min(a, b)
    for k in range(up.size):
        up[k] = root(up, k)


def joined(count: int, first: Nodes, second: Nodes) -> Nodes:
    """Of things that are numbered from 0 on, some pairs of which belong together, the first one that each belongs
    to."""
    up = np.arange(count)
    _joined(up, first, second)
    return up
