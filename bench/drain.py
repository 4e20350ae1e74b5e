"""Water over a surface: hollows filled and breached, what drains where, streams and catchments."""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass, fields

import numpy as np
from distributed import LocalCluster
from scipy import ndimage
from skimage.morphology import reconstruction

from yama.terrain.cluster import ADDRESS
from yama.terrain.drain.accumulation import accumulation
from yama.terrain.drain.catchments import catchments, snapped
from yama.terrain.drain.conditioning import condition
from yama.terrain.drain.directions import directions
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.large import Given, LargeDrainage
from yama.terrain.drain.streams import channels
from yama.terrain.grid import Grid, Window
from yama.terrain.surface import Heights, Surface

SIDE = 4096
_RUNS = 5


def ground() -> tuple[Heights, Grid]:
    """Hills with valleys at every scale, and noise of 5 cm."""
    rng = np.random.default_rng(1)
    cells = sum(
        ndimage.zoom(rng.normal(0, 2.0**k, (SIDE // 2**k + 3,) * 2), 2**k, order=1)[:SIDE, :SIDE] for k in (4, 6, 8)
    )
    x, y = np.meshgrid(np.linspace(0, 120, SIDE), np.linspace(0, 60, SIDE))
    cells = cells + x + y + rng.normal(0, 0.05, (SIDE, SIDE))
    return np.asarray(cells, np.float32), Grid("EPSG:32741", 500_000.0, 5_440_000.0, 2.0, 2.0, SIDE, SIDE)


def _seconds(work: Callable[[], object], times: int = 1) -> float:
    began = time.perf_counter()
    for _ in range(times):
        work()
    return (time.perf_counter() - began) / times


@dataclass(frozen=True)
class Steps:
    """Seconds of each step, in the median of several runs. fill: from heights to filled ones. whole: of all of them, from
    heights to a catchment."""

    fill: float
    lesser: float
    accumulated: float
    dragged: float
    pressed: float
    whole: float


@dataclass(frozen=True)
class Times:
    """Ours, and seconds that a reconstruction takes for filling, whether it gives the same heights, and those of a
    copy."""

    ours: Steps
    reconstruction: float
    alike: bool
    copied: float


def run(heights: Heights, on: Grid) -> tuple[Heights, Steps]:
    """Filled heights, and seconds of each step."""
    began = time.perf_counter()
    found = hollows(heights, on)
    filled = condition(found, "fill").heights
    fill = time.perf_counter() - began
    began = time.perf_counter()
    conditioned = condition(found, "lesser").heights
    lesser = time.perf_counter() - began
    began = time.perf_counter()
    to = directions(conditioned, on)
    turned = time.perf_counter() - began
    began = time.perf_counter()
    counts = accumulation(to)
    accumulated = time.perf_counter() - began
    began = time.perf_counter()
    held = channels(conditioned, to, counts, on, 1_000.0)
    kept = time.perf_counter() - began
    dragged = _seconds(lambda: held.streams(20_000.0).lines(), 3)
    row, col = divmod(int(np.nanargmax(counts)), on.cols)
    outlet = snapped(counts, on, float(on.x_of(col)), float(on.y_of(row)), 20.0)
    catchments(to, on, [outlet])
    pressed = _seconds(lambda: catchments(to, on, [outlet]), 3)
    whole = fill + lesser + turned + accumulated + kept + dragged + pressed
    return filled, Steps(fill, lesser, accumulated, dragged, pressed, whole)


def measured() -> Times:
    """All of it on one surface of 4096²."""
    cells, grid = ground()
    small = np.ascontiguousarray(cells[:300, :300])
    part = Grid(grid.crs, grid.west, grid.north, 2.0, 2.0, 300, 300)

    run(small, part)  # once to compile
    runs = [run(cells, grid) for _ in range(_RUNS)]
    filled = runs[0][0]
    told = Steps(*(statistics.median(getattr(one, name.name) for _, one in runs) for name in fields(Steps)))
    began = time.perf_counter()
    seed = cells.copy()
    seed[1:-1, 1:-1] = cells.max()
    other = reconstruction(seed, cells, method="erosion")  # type: ignore[no-untyped-call]
    slow = time.perf_counter() - began
    # reconstruction looks at eight neighbours as well, and gives the same heights
    alike = bool(np.array_equal(np.asarray(other, np.float32), filled))
    return Times(told, slow, alike, _seconds(cells.copy, 5))


class Repeated(Surface):
    """Many cells that take hardly any time to read: some ground, mirrored again and again."""

    levels = "means"

    def __init__(self, cells: Heights, grid: Grid) -> None:
        super().__init__(grid)
        self._cells = cells

    def made_of(self) -> tuple[object, ...]:
        return ("repeated", self.grid.rows, self.grid.cols)

    def read(self, window: Window, level: int = 0) -> Heights:
        side = len(self._cells)
        places = [
            np.arange(first, first + count) % (2 * side)
            for first, count in ((window.row, window.rows), (window.col, window.cols))
        ]
        rows, cols = (np.where(at < side, at, 2 * side - 1 - at) for at in places)
        return self._cells[rows][:, cols]


def in_blocks(side: int) -> tuple[float, float]:
    """Seconds to fill the hollows of so many cells a side and to count what drains where, block by block, as a share of
    the time that 4096² take in memory, cell by cell; and seconds of it."""
    cells, grid = ground()

    def at_once() -> None:
        accumulation(directions(hollows(cells, grid).filled(), grid))

    at_once()
    base = _seconds(at_once) / cells.size
    wide = Grid(grid.crs, grid.west, grid.north, 2.0, 2.0, side, side)
    small = Repeated(cells, Grid(grid.crs, grid.west, grid.north, 2.0, 2.0, 300, 300))
    LargeDrainage.worked_out(Given.read(small), "fill")
    took = _seconds(lambda: LargeDrainage.worked_out(Given.read(Repeated(cells, wide)), "fill"))
    return took / side**2 / base, took


def on_workers(side: int) -> list[float]:
    """Seconds that the same takes on one worker of a scheduler, and on two, each with one thread."""
    cells, grid = ground()
    wide, small = (Grid(grid.crs, grid.west, grid.north, 2.0, 2.0, one, one) for one in (side, 600))

    def work(on: Grid, blocks: int) -> None:
        given = Given.read(Repeated(cells, on), side=blocks)
        LargeDrainage.worked_out(given, "fill", side=blocks)

    took = []
    for count in (1, 2):
        how = {"threads_per_worker": 1, "dashboard_address": None, "silence_logs": 50}
        with LocalCluster(n_workers=count, **how) as cluster:  # type: ignore[no-untyped-call]
            os.environ[ADDRESS] = cluster.scheduler_address
            work(small, 100)  # once to compile on each
            took.append(_seconds(lambda: work(wide, 0)))
            del os.environ[ADDRESS]
    return took
