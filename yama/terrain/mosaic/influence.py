"""Which sources a joined cell is made of: by how much it rises with each of them."""

from __future__ import annotations

import copy
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from yama.terrain.grid import FloatArray, Window
from yama.terrain.mosaic.fusion import Fused
from yama.terrain.mosaic.joined import Joined
from yama.terrain.mosaic.mosaic import Mosaic
from yama.terrain.surface import Heights, Over, Surface

_STEP = 0.05  # of the surface's unit by which a source is raised
_LEAST = 0.002  # of a cell's height that a source has at least to be told


class _Raised(Over):
    """A surface that stands a little higher."""

    def settings(self) -> tuple[Any, ...]:
        return (_STEP,)

    def read(self, window: Window, level: int = 0) -> Heights:
        return self.surface.read(window, level) + np.float32(_STEP)


@dataclass(frozen=True)
class Influence:
    """A source's part in a cell.

    Parameters
    ----------
    source : int
        Its place among the sources, from 0.
    weight : float
        By how much the cell rises where the source does, as a share.
    height : float
        Its own height there as it was joined: levelled, or without its bias where that is taken off; NaN where that is
        not told.
    """

    source: int
    weight: float
    height: float


def influences(surface: Surface, x: float, y: float) -> list[Influence]:
    """The sources of a joined surface's cell, the one with most weight first.

    Parameters
    ----------
    surface : Surface
        A mosaic or a best of all, or what stands over one; of any other nothing is told.
    x, y : float
        In its CRS.

    Returns
    -------
    list of Influence
        Of those sources that have any weight there.
    """
    joined: Any = surface
    while not isinstance(joined, (Mosaic, Joined, Fused)):
        if not isinstance(joined, Over):
            return []
        joined = joined.surface
    if isinstance(joined, Joined):
        joined.prepare()
        joined = joined.made()[0]
    grid = joined.grid
    row, col = int(np.rint(grid.row_of(y))), int(np.rint(grid.col_of(x)))
    if not (0 <= row < grid.rows and 0 <= col < grid.cols):
        return []
    cell = Window(row, col, 1, 1)
    found = _of_mosaic(joined, cell) if isinstance(joined, Mosaic) else _of_fused(joined, cell)
    return sorted((one for one in found if abs(one.weight) >= _LEAST), key=lambda one: -one.weight)


def _weight(after: FloatArray, before: FloatArray) -> float:
    found = float(after[0, 0] - before[0, 0]) / _STEP
    return found if np.isfinite(found) else 0.0


def _of_mosaic(mosaic: Mosaic, cell: Window) -> list[Influence]:
    before = mosaic.read(cell).astype(np.float64)
    told = []
    for at, one in enumerate(mosaic.placed):
        if not one.meets(cell, 0):
            continue
        twin = copy.copy(mosaic)
        twin.placed = list(mosaic.placed)
        twin.placed[at] = replace(one, plane=replace(one.plane, offset=one.plane.offset + _STEP))
        height = float(one.read(cell, 0)[0, 0])
        told.append(Influence(one.number, _weight(twin.read(cell).astype(np.float64), before), height))
    return told


def _of_fused(fused: Fused, cell: Window) -> list[Influence]:
    return [
        Influence(
            number, _weight(twin.read(cell).astype(np.float64), fused.read(cell).astype(np.float64)), float("nan")
        )
        for number, twin in enumerate(fused.with_one_raised(_Raised))
    ]
