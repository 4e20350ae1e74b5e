"""Judging: shifts between two surfaces, and how sure error figures are."""

from __future__ import annotations

import time

import numpy as np
from scipy import ndimage

from yama.terrain.grid import Grid
from yama.terrain.judge.coregistration import coregistration
from yama.terrain.judge.intervals import sureness
from yama.terrain.surface import ArraySurface

SIDE = 4096
_ROOM = 100  # cells around, so that what is moved in is ground too


def _seen(ground: np.ndarray, east: float, north: float, up: float, seed: int) -> ArraySurface:  # type: ignore[type-arg]
    """The ground moved by so many cells and metres, with noise of 0.3 m."""
    moved = ndimage.shift(ground, (-north, east), order=3)[_ROOM:-_ROOM, _ROOM:-_ROOM] + up
    cells = moved + np.random.default_rng(seed).normal(0, 0.3, moved.shape)
    return ArraySurface(cells.astype(np.float32), Grid("EPSG:32741", 440_000.0, 5_450_000.0, 2.0, 2.0, SIDE, SIDE))


def shifted() -> list[tuple[float, float, float]]:
    """For made shifts of 4096² cells: seconds, by how many cells the one that is found is off, and by how much of the
    noise its offset is."""
    rng = np.random.default_rng(1)
    side = SIDE + 2 * _ROOM
    ground = ndimage.zoom(rng.normal(0, 60, (67, 67)), side / 67 + 0.01, order=3)[:side, :side]
    reference = _seen(ground, 0, 0, 0, 2)
    told = []
    for east, north, up in ((0.35, -0.2, 1.7), (20.5, -2.15, 0.5), (-3.3, 7.8, -2.0)):
        judged = _seen(ground, east, north, up, 3)
        began = time.perf_counter()
        found = coregistration(judged, reference, tilted=True)
        took = time.perf_counter() - began
        told.append((took, float(np.hypot(found.east / 2 - east, found.north / 2 - north)), abs(found.up - up) / 0.3))
    return told


def sure() -> float:
    """Seconds for the intervals of the figures of ten surfaces at 10 000 checkpoints."""
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 8000, (2, 10_000))
    errors = rng.normal(0, 1, (10, 10_000))
    sureness(errors[0], x, y)
    began = time.perf_counter()
    for one in errors:
        sureness(one, x, y)
    return time.perf_counter() - began
