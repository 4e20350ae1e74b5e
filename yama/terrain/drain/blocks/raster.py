"""Cells in files, and the blocks that they are looked at in."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.hollows import Sides
from yama.terrain.grid import Window
from yama.terrain.surface import Heights, refused_by_disk

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


def rims(cells: npt.NDArray[np.generic]) -> tuple[npt.NDArray[np.generic], ...]:
    return cells[0].copy(), cells[-1].copy(), cells[:, 0].copy(), cells[:, -1].copy()


def four(given: tuple[npt.NDArray[np.generic], ...]) -> tuple[Heights, Heights, Heights, Heights]:
    north, south, west, east = (np.asarray(one, np.float32) for one in given)
    return north, south, west, east
