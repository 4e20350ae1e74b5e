"""How long a run takes here, told from a look at its result."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import contourpy
import numpy as np

from yama.terrain.cluster import cores
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Grid, Window
from yama.terrain.surface import Surface

_OUTLINE_CELLS = 360
_SMALLEST_RING = 20
_TIMED_CELLS = 128  # along each side
_LONG = 0.03  # seconds
_WRITTEN = 1.2e-7
"""Seconds of writing and compressing a cell, about as long as computing a cheap one."""
_START = 0.5


@dataclass(frozen=True)
class Look:
    """What a look at a surface tells.

    Parameters
    ----------
    outline : list
        Rings of x, y around the filled cells, but for specks.
    filled : float
        Share of cells that are not empty.
    seconds : float
        That a run takes here.
    """

    outline: list[list[tuple[float, float]]]
    filled: float
    seconds: float


def _timed(surface: Surface, side: int) -> tuple[float, int]:
    """Seconds of computing that cells in the middle of a surface take, and how many of them are not empty, or all where they all are."""
    own = surface.grid
    part = Window(own.rows // 2, own.cols // 2, side, side).clipped(own.rows, own.cols)
    began = time.thread_time()
    filled = int(np.count_nonzero(np.isfinite(surface.read(part))))
    return time.thread_time() - began, filled or max(part.rows * part.cols, 1)


def look_at(surface: Surface, frame: Grid, told: float | None = None) -> Look:
    """Look at a surface on few cells of a frame. Of a quick stand-in the seconds are those of what it stands in for. told: seconds
    that are known already."""
    level = 0
    while max(frame.at_level(level).rows, frame.at_level(level).cols) > _OUTLINE_CELLS:
        level += 1
    view = fitted(surface, frame, "nearest")
    grid = frame.at_level(level)
    started = time.perf_counter()
    own = surface.grid
    told = surface.cost if told is None else told
    exact = surface.exact
    surface.prepare()
    if told is None and exact is None:
        for eighth in (1, 3, 5, 7):  # what is prepared for a part of the surface is prepared now
            surface.read(Window(own.rows * eighth // 8, own.cols // 2, 1, 1))
    ready = time.perf_counter()
    heights = view.read(grid.whole.grown(1), level)
    seconds = 0.0 if surface.by_parts else (time.perf_counter() - ready) / heights.size
    if told is not None:
        seconds = told / own.cell_count
    elif exact is not None:
        _timed(exact, 1)  # what is loaded or prepared once
        took, cells = _timed(exact, _TIMED_CELLS // 4)
        if took < _LONG:
            took, cells = _timed(exact, _TIMED_CELLS // 2)
        seconds = took / cells * float(np.isfinite(heights).mean())  # empty cells take next to nothing
    elif not surface.by_parts and level:
        # wide cells of many surfaces cost more than its own do
        took, cells = _timed(surface, _TIMED_CELLS)
        seconds = min(seconds, took / cells)
    filled = np.isfinite(heights)
    rings = []
    lines: Any = contourpy.contour_generator(z=filled.astype(np.float32)).lines(0.5)
    for ring in lines:
        if len(ring) < _SMALLEST_RING:
            continue
        x, y = grid.x_of(ring[:, 0] - 1), grid.y_of(ring[:, 1] - 1)
        rings.append([(round(float(a), 1), round(float(b), 1)) for a, b in zip(x, y, strict=True)])
    share = float(filled[1:-1, 1:-1].mean())
    whole = own.cell_count * (seconds / cores() + _WRITTEN * share) + _START + ready - started
    return Look(rings, share, whole)
