"""How heights are distributed over an area: moments, exact quantiles, a histogram, and areas and volumes about two levels.

Quantiles are order statistics found by radix selection over the bits of the numbers (D. Knuth, "The Art of Computer
Programming", vol. 3, 5.2.5): counts of their upper halves say which lower halves to count, so that blocks of any number are
read twice and never held together.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside
from yama.terrain.fit.reproject import difference, fitted
from yama.terrain.frame import Frame
from yama.terrain.grid import Bounds, FloatArray, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, Surface
from yama.terrain.units import UNITS

SHARES = (0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
BINS = 64
_ENDS = (0.001, 0.999)
_BLOCK = 1024
_READS = 7
"""How often `describe` reads all blocks."""
_HALVES = 1 << 16
_KEPT = 4_000_000
"""Cells that are read once and kept; of more, blocks are read again."""

Blocks = Callable[[], Iterator[Heights]]
"""Reads all blocks anew, each `(cells,)`."""


@dataclass(frozen=True)
class Zone:
    """What lies below, between or above levels. area: m². volume: m³ between the ground and the nearer level: the room under
    the lower one, the ground over the upper one; between the levels, the ground over the lower one."""

    cells: int
    area: float
    volume: float


@dataclass(frozen=True)
class Distribution:
    """Figures of the filled cells. cell: their width in metres; empty: how many others there are. deviation: standard deviation.
    skew: third standardised moment; nmad: 1.4826 times the median distance from the median. quantiles: at SHARES, interpolated
    between order statistics. counts: of BINS equal steps from `first` to `last`, which leave out one in a thousand at either end.
    Heights are None where every cell is empty; zones are None where no level was asked for."""

    cell: float
    cells: int
    empty: int
    lowest: float | None = None
    highest: float | None = None
    mean: float | None = None
    deviation: float | None = None
    skew: float | None = None
    nmad: float | None = None
    quantiles: tuple[float, ...] = ()
    first: float = 0.0
    last: float = 1.0
    counts: tuple[int, ...] = (0,) * BINS
    below: Zone | None = None
    between: Zone | None = None
    above: Zone | None = None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        return asdict(self)


@kernel
def _ordered(bits):
    """Bits of a float32 as a number of the same order."""
    return bits ^ np.uint32(0xFFFFFFFF) if bits >> np.uint32(31) else bits | np.uint32(0x80000000)


@kernel
def _upper(heights, about, folded, counts):
    """Count the upper halves of heights, or of their distances from `about` where folded."""
    one = np.empty(1, np.float32)
    bits = one.view(np.uint32)
    for h in heights:
        if not np.isnan(h):
            one[0] = abs(h - about) if folded else h
            counts[_ordered(bits[0]) >> np.uint32(16)] += 1


@kernel
def _lower(heights, about, folded, rows, counts):
    """Count the lower halves of those whose upper half has a row in `counts`."""
    one = np.empty(1, np.float32)
    bits = one.view(np.uint32)
    for h in heights:
        if not np.isnan(h):
            one[0] = abs(h - about) if folded else h
            key = _ordered(bits[0])
            row = rows[key >> np.uint32(16)]
            if row >= 0:
                counts[row, key & np.uint32(0xFFFF)] += 1


@kernel
def _sums(heights, areas, low, high, sums, zones):
    """Add count, total, lowest and highest of heights; and to the zones below `low`, between and above `high` their cells, areas and
    volumes `(3, 3)`. areas: of each cell, or one for all."""
    for i in range(heights.size):
        h = heights[i]
        if np.isnan(h):
            continue
        sums[0] += 1
        sums[1] += h
        sums[2] = min(sums[2], h)
        sums[3] = max(sums[3], h)
        area = areas[i] if areas.size > 1 else areas[0]
        if h < low:
            zone = 0
            off = low - h
        elif h > high:
            zone = 2
            off = h - high
        else:
            zone = 1
            off = h - low
        zones[zone, 0] += 1
        zones[zone, 1] += area
        zones[zone, 2] += off * area


@kernel
def _powers(heights, mean, powers):
    for h in heights:
        if not np.isnan(h):
            off = h - mean
            powers[0] += off * off
            powers[1] += off * off * off


def _order_statistics(blocks: Blocks, ranks: Sequence[int], about: float = 0.0, folded: bool = False) -> list[float]:
    """The values of the given ranks, counted from 0, exactly."""
    counts = np.zeros(_HALVES, np.int64)
    for heights in blocks():
        _upper(heights, np.float32(about), folded, counts)
    before = np.concatenate([[0], np.cumsum(counts)])
    upper = [int(np.searchsorted(before, rank, side="right")) - 1 for rank in ranks]
    rows = np.full(_HALVES, -1, np.int32)
    for row, half in enumerate(dict.fromkeys(upper)):
        rows[half] = row
    fine = np.zeros((int(rows.max()) + 1, _HALVES), np.int64)
    for heights in blocks():
        _lower(heights, np.float32(about), folded, rows, fine)
    found = []
    for rank, half in zip(ranks, upper, strict=True):
        within = np.cumsum(fine[rows[half]])
        low = int(np.searchsorted(within, rank - before[half], side="right"))
        key = np.uint32((half << 16) | low)
        bits = key ^ np.uint32(0x80000000) if key >> np.uint32(31) else ~key
        found.append(float(np.array([bits], np.uint32).view(np.float32)[0]))
    return found


def _quantiles(
    blocks: Blocks, count: int, shares: Sequence[float], about: float = 0.0, folded: bool = False
) -> list[float]:
    """Quantiles interpolated linearly between the order statistics beside them."""
    places = [share * (count - 1) for share in shares]
    ranks = sorted({rank for place in places for rank in (int(place), min(int(place) + 1, count - 1))})
    values = dict(zip(ranks, _order_statistics(blocks, ranks, about, folded), strict=True))
    found = []
    for place in places:
        low = int(place)
        high = min(low + 1, count - 1)
        found.append(values[low] + (place - low) * (values[high] - values[low]))
    return found


def describe(
    blocks: Blocks, cell: float, area: float | Blocks = 1.0, levels: tuple[float, float] | None = None,
    into_metres: float = 1.0,
) -> Distribution:  # fmt: skip
    """Figures of blocks of heights, `(any,)` and NaN where empty, which are read _READS times.

    cell: their width in metres; area: that of one cell in m², or blocks of those of each; levels: lower and upper, in the unit of the heights; into_metres:
    of that unit. Raises InputError where the upper level lies below the lower.
    """
    low, high = levels or (0.0, 0.0)
    if not (np.isfinite([low, high]).all() and low <= high):
        raise InputError("The lower level must lie below the upper.")
    sums, zoned = np.array([0, 0, np.inf, -np.inf], np.float64), np.zeros((3, 3))
    cells = 0
    every = itertools.repeat(np.array([area], np.float64)) if isinstance(area, (int, float)) else area()
    for heights, areas in zip(blocks(), every, strict=False):
        _sums(heights, areas, low, high, sums, zoned)
        cells += heights.size
    count = int(sums[0])
    zones: dict[str, Any] = {}
    if levels is not None:
        zones = {
            name: Zone(int(number), float(covered), float(volume * into_metres))
            for name, (number, covered, volume) in zip(("below", "between", "above"), zoned, strict=True)
        }
    if not count:
        return Distribution(cell, cells, cells, **zones)
    mean = float(sums[1] / count)
    powers = np.zeros(2)
    for heights in blocks():
        _powers(heights, mean, powers)
    deviation = float(np.sqrt(powers[0] / count))
    first, *quantiles, last = _quantiles(blocks, count, (_ENDS[0], *SHARES, _ENDS[1]))
    last = max(last, first + 1e-6)
    counts = np.zeros(BINS, np.int64)
    for heights in blocks():
        counts += np.histogram(heights[~np.isnan(heights)].astype(np.float64), BINS, (first, last))[0]
    median = quantiles[SHARES.index(0.5)]
    spread = _quantiles(blocks, count, (0.5,), median, True)[0]
    return Distribution(
        cell, cells, cells - count, float(sums[2]), float(sums[3]), mean, deviation,
        float(powers[1] / count / deviation**3) if deviation > 1e-9 else 0.0, 1.4826 * spread,
        tuple(quantiles), first, last, tuple(counts.tolist()), **zones,
    )  # fmt: skip


@dataclass(frozen=True)
class Over:
    """Where to look: a rectangle in the frame's CRS, polygons in it, or all of the frame. cells: at most so many, of a level
    whose cells are wider where there would be more; None reads every cell."""

    bounds: Bounds | None = None
    polygons: tuple[shapely.Polygon, ...] = ()
    cells: int | None = None


def _windows(frame: Frame, over: Over) -> tuple[int, list[Window]]:
    """The level to read, and windows of it."""
    bounds = over.bounds or frame.grid.bounds
    if over.polygons:
        around = Bounds(*shapely.total_bounds(shapely.MultiPolygon(over.polygons)).tolist())
        inside = bounds.intersection(around)
        if inside is None:
            return 0, []
        bounds = inside
    level = 0
    while True:
        at = frame.grid.at_level(level)
        whole = at.window_over(bounds).clipped(at.rows, at.cols)
        if over.cells is None or whole.rows * whole.cols <= over.cells:
            break
        level += 1
    rows = range(whole.row, whole.row + whole.rows, _BLOCK)
    cols = range(whole.col, whole.col + whole.cols, _BLOCK)
    last = (whole.row + whole.rows, whole.col + whole.cols)
    return level, [Window(r, c, min(_BLOCK, last[0] - r), min(_BLOCK, last[1] - c)) for r in rows for c in cols]


def distributions(
    first: Surface | None,
    second: Surface | None,
    frame: Frame,
    over: Over,
    levels: tuple[float, float] | None = None,
    about: tuple[float, float] = (0.0, 0.0),
    progress: Progress = ignore_progress,
) -> dict[str, Any]:
    """Distributions of two surfaces and of first - second over an area of the frame, as JSON values: `a`, `b`, `minus`.

    levels: of the surfaces; about: of the difference, whose lower and upper zones are what would be cut and filled. Surfaces are
    read by the nearest cell, their difference on the frame's cells, bilinearly.
    """
    level, windows = _windows(frame, over)
    at = frame.grid.at_level(level)
    wide, high = at.metres_per_cell()
    ground = frame.grid.ground()

    def of_each() -> Iterator[FloatArray]:
        """Areas of the cells that are read, where rows differ."""
        for window in windows:
            part = at.part(window)
            each = np.concatenate(
                [np.repeat(np.prod(own.sizes(part), axis=0)[:, None], after - first, axis=1)
                 for first, after, own in ground.columns(part)], axis=1
            ).ravel()  # fmt: skip
            yield each[(inside(over.polygons, at, window) > 0).ravel()] if over.polygons else each

    areas: float | Callable[[], Iterator[Any]] = wide * high if ground.unit is not None else of_each
    asked: dict[str, Surface] = {}
    if first is not None:
        asked["a"] = fitted(first, frame.grid, "nearest")
    if second is not None:
        asked["b"] = fitted(second, frame.grid, "nearest")
    if first is not None and second is not None and first.unit == second.unit:
        asked["minus"] = difference(first, second, frame.grid)
    found: dict[str, Any] = {"a": None, "b": None, "minus": None}
    total = sum(window.rows * window.cols for window in windows)
    for number, (name, surface) in enumerate(asked.items()):

        def read(window: Window, surface: Surface = surface) -> Heights:
            if not over.polygons:
                return surface.read(window, level).ravel()
            within = inside(over.polygons, at, window) > 0
            return surface.read(window, level)[within] if within.any() else np.empty(0, np.float32)

        kept = [read(window) for window in windows] if total <= _KEPT else None

        done = itertools.count(1)

        def blocks(
            read: Callable[[Window], Heights] = read,
            kept: list[Heights] | None = kept,
            number: int = number,
            done: itertools.count[int] = done,
        ) -> Iterator[Heights]:
            if kept is not None:
                yield from kept
                return
            for window in windows:
                yield read(window)
                progress((number + next(done) / (_READS * len(windows))) / len(asked))

        found[name] = describe(
            blocks, wide, areas, about if name == "minus" else levels, UNITS.get(surface.unit, 1.0)
        ).to_dict()
        progress((number + 1) / len(asked))
    return found
