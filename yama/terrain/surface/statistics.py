"""What all cells of a surface say together."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import Window
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface.base import Surface
from yama.terrain.surface.walking import prepared, walk


@dataclass
class Statistics:
    """What all cells of a surface say together. Heights are None where every cell is empty."""

    cells: int = 0
    empty: int = 0
    lowest: float | None = None
    highest: float | None = None
    mean: float | None = None
    deviation: float | None = None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return dict(self.__dict__)


@dataclass
class Moments:
    """Count, mean, squares and extremes of a block, which add up (T. F. Chan et al., "Updating formulae", 1979)."""

    cells: int = 0
    count: int = 0
    mean: float = 0.0
    squares: float = 0.0
    lowest: float = np.inf
    highest: float = -np.inf

    @classmethod
    def of(cls, heights: npt.NDArray[Any]) -> Moments:
        """Those of an array."""
        filled = heights[~np.isnan(heights)].astype(np.float64)
        if not filled.size:
            return cls(heights.size)
        mean = float(filled.mean())
        squares = float(((filled - mean) ** 2).sum())
        return cls(heights.size, filled.size, mean, squares, float(filled.min()), float(filled.max()))

    def __add__(self, other: Moments) -> Moments:
        count = self.count + other.count
        shift = other.mean - self.mean
        return Moments(
            self.cells + other.cells,
            count,
            self.mean + shift * other.count / max(count, 1),
            self.squares + other.squares + shift**2 * self.count * other.count / max(count, 1),
            min(self.lowest, other.lowest),
            max(self.highest, other.highest),
        )


def summed(blocks: dict[tuple[int, int], Moments]) -> Statistics:
    """Statistics of blocks by their place: summed in order of it, so that it does not matter which was ready first."""
    total = sum((blocks[place] for place in sorted(blocks)), Moments())
    if not total.count:
        return Statistics(cells=total.cells, empty=total.cells)
    return Statistics(
        cells=total.cells,
        empty=total.cells - total.count,
        lowest=total.lowest,
        highest=total.highest,
        mean=total.mean,
        deviation=float(np.sqrt(total.squares / total.count)),
    )


def _moments(surface: Surface, window: Window) -> Moments:
    return Moments.of(surface.read(window))


def statistics(surface: Surface, progress: Progress = ignore_progress, workers: int | None = None) -> Statistics:
    """Statistics over all cells of a surface, in bounded memory.

    Parameters
    ----------
    surface : Surface
        It is prepared first, then read block by block.
    progress : callable
        Called with the share done; what it raises ends the work.
    workers : int, optional
        How many blocks are read at one time; see `cluster.cores` where not given.

    Returns
    -------
    Statistics
        Sums are added in the order of blocks, so that they do not depend on which was read first.
    """
    progress = prepared(surface, progress)
    found: dict[tuple[int, int], Moments] = {}

    def keep(window: Window, moments: Moments) -> None:
        found[window.row, window.col] = moments

    walk(surface, _moments, keep, progress, None, workers)
    return summed(found)
