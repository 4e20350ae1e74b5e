"""Overlaps: how surfaces differ where two of them have heights, measured before they are joined."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from yama.terrain.cluster import cores
from yama.terrain.cog import BLOCK
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights

KILOMETRE = 1_000.0
FEET = 3.28084
_SAMPLED = 40_000
_PILOT_CELLS = 100_000
_BLUNDER, _LEAST = 8.0, 0.5  # times the NMAD, and height units at least
_UNIT_TOLERANCE = 0.04
_FEWEST_FOR_UNIT = 500
_COUNT, _D, _DD, _A, _B, _AA, _BB, _AB, _N, _U, _V, _UU, _UV, _VV, _ND, _UD, _VD, _LOW, _HIGH, _TERMS = range(20)


class _Read(Protocol):
    @property
    def number(self) -> int: ...
    def meets(self, window: Window, level: int) -> bool: ...
    def read(self, window: Window, level: int) -> Heights: ...


@dataclass(frozen=True)
class Overlap:
    """Two surfaces where both have heights; differences are first - second, in height units.

    cells: shared ones of the level looked at; where both are exactly 0 the sea was filled in, which is no measurement and does
    not count. tilt: of the plane through the differences, height units a kilometre, falling
    towards `direction` degrees from north. nmad, median: from an even sample of the cells. sampled: that sample.
    unit_factor: where one stands about 3.28 times as high as the other, how many times first is second; else 0.
    blunders: cells whose difference lies farther from the median than eight times the NMAD, such as undeclared voids; they
    count for mean, deviation, lowest and highest only. matrix, vector: sums of f fᵀ `(3, 3)` and f times the difference `(3,)`
    over the others, f = (1, km east, km north of x0, y0).
    """

    first: int
    second: int
    cells: int
    blunders: int
    mean: float
    deviation: float
    lowest: float
    highest: float
    median: float
    nmad: float
    tilt: float
    direction: float
    unit_factor: float
    x0: float
    y0: float
    matrix: FloatArray = field(repr=False, compare=False)
    vector: FloatArray = field(repr=False, compare=False)
    sampled: FloatArray = field(repr=False, compare=False)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values, with a histogram of the middle 98 % of the differences."""
        low, high = np.quantile(self.sampled, (0.01, 0.99)) if self.sampled.size else (0.0, 0.0)
        counts, ends = np.histogram(self.sampled, bins=24, range=(float(low), float(max(high, low + 1e-6))))
        kept = ("first", "second", "cells", "blunders", "mean", "deviation", "lowest", "highest", "median", "nmad", "tilt",
                "direction", "unit_factor")  # fmt: skip
        return {
            **{name: getattr(self, name) for name in kept},
            "histogram": {"low": float(ends[0]), "high": float(ends[-1]), "counts": counts.tolist()},
        }


@kernel
def _gather(one, other, u, v, row, col, stride, low, high, sums, sample, size):
    for r in range(one.shape[0]):
        for c in range(one.shape[1]):
            a = one[r, c]
            b = other[r, c]
            if np.isnan(a) or np.isnan(b) or (a == 0.0 and b == 0.0):
                continue
            d = float(a) - float(b)
            sums[_COUNT] += 1
            sums[_D] += d
            sums[_DD] += d * d
            sums[_LOW] = min(sums[_LOW], d)
            sums[_HIGH] = max(sums[_HIGH], d)
            if low <= d <= high:
                sums[_N] += 1
                sums[_A] += a
                sums[_B] += b
                sums[_AA] += float(a) * a
                sums[_BB] += float(b) * b
                sums[_AB] += float(a) * b
                sums[_U] += u[c]
                sums[_V] += v[r]
                sums[_UU] += u[c] * u[c]
                sums[_UV] += u[c] * v[r]
                sums[_VV] += v[r] * v[r]
                sums[_ND] += d
                sums[_UD] += u[c] * d
                sums[_VD] += v[r] * d
            # an even scatter of cells, the same however the grid is cut into blocks
            if ((row + r) * 73_856_093 ^ (col + c) * 19_349_663) % stride == 0 and size < sample.size:
                sample[size] = d
                size += 1
    return size


class _Pair:
    """Sums of one pair, added to block by block."""

    def __init__(
        self, first: _Read, second: _Read, shared: int, usual: tuple[float, float] = (-np.inf, np.inf)
    ) -> None:
        self.first, self.second = first, second
        self.stride = max(1, shared // _SAMPLED)
        self.usual = usual
        self.sums = np.zeros(_TERMS)
        self.sums[_LOW], self.sums[_HIGH] = np.inf, -np.inf
        self.sample: list[FloatArray] = []

    def add(self, one: Heights, other: Heights, u: FloatArray, v: FloatArray, window: Window) -> None:
        sample = np.empty(one.size // self.stride * 2 + 64)
        size = _gather(one, other, u, v, window.row, window.col, self.stride, *self.usual, self.sums, sample, 0)
        self.sample.append(sample[:size].copy())

    def result(self, x0: float, y0: float) -> Overlap | None:
        s = self.sums
        count = s[_COUNT]
        if not count:
            return None
        mean = s[_D] / count
        sampled = np.concatenate(self.sample)
        if not sampled.size:
            sampled = np.array([mean])
        matrix = np.array([[s[_N], s[_U], s[_V]], [s[_U], s[_UU], s[_UV]], [s[_V], s[_UV], s[_VV]]])
        vector = np.array([s[_ND], s[_UD], s[_VD]])
        plane = np.linalg.lstsq(matrix, vector, rcond=1e-9)[0] if s[_N] >= 3 else np.zeros(3)
        median = float(np.median(sampled))
        return Overlap(
            self.first.number, self.second.number, int(count), int(count - s[_N]), float(mean),
            float(math.sqrt(max(s[_DD] / count - mean**2, 0.0))), float(s[_LOW]), float(s[_HIGH]), median,
            float(1.4826 * np.median(np.abs(sampled - median))), float(math.hypot(plane[1], plane[2])),
            float(math.degrees(math.atan2(-plane[1], -plane[2])) % 360), self._unit_factor(), x0, y0, matrix, vector, sampled,
        )  # fmt: skip

    def _unit_factor(self) -> float:
        """3.28 or its inverse where one height is that many times the other over all, with one form of the land; else 0."""
        s = self.sums
        count = max(s[_N], 1.0)
        spread_a = s[_AA] - s[_A] ** 2 / count
        spread_b = s[_BB] - s[_B] ** 2 / count
        if count < _FEWEST_FOR_UNIT or spread_a <= 0 or spread_b <= 0:
            return 0.0
        alike = (s[_AB] - s[_A] * s[_B] / count) / math.sqrt(spread_a * spread_b)
        if alike < 0.9:
            return 0.0
        ratio = math.sqrt(spread_a / spread_b)  # the slope of the line through both, as both err
        for factor in (FEET, 1 / FEET):
            if abs(ratio / factor - 1) < _UNIT_TOLERANCE:
                return factor
        return 0.0


def looked_at(grid: Grid, most: int) -> int:
    """The finest level of a grid with at most so many cells."""
    level = 0
    while grid.at_level(level).cell_count > most:
        level += 1
    return level


def overlaps(
    placed: Sequence[Any], grid: Grid, level: int = 0, progress: Progress = ignore_progress, workers: int | None = None
) -> list[Overlap]:
    """Every pair of surfaces that share cells of a level of the grid, in their order. One pass over the blocks that two or
    more may meet; each surface is read once, and before that on so few cells that it takes no time, to tell blunders.
    placed: as `mosaic.place` makes them."""
    usual: dict[tuple[int, int], tuple[float, float]] = {}
    workers = workers or cores()
    few = looked_at(grid, _PILOT_CELLS)
    if few > level:
        for one in _measured(placed, grid, few, usual, ignore_progress, workers):
            usual[one.first, one.second] = _usual(one)
    found = _measured(placed, grid, level, usual, progress, workers)
    if few <= level:  # so small that it is measured twice
        usual = {(one.first, one.second): _usual(one) for one in found}
        found = _measured(placed, grid, level, usual, ignore_progress, workers)
    return found


def _usual(one: Overlap) -> tuple[float, float]:
    """The differences that are no blunders."""
    reach = max(_BLUNDER * one.nmad, _LEAST)
    return one.median - reach, one.median + reach


def _measured(
    placed: Sequence[Any], grid: Grid, level: int, usual: dict[tuple[int, int], tuple[float, float]], progress: Progress,
    workers: int,
) -> list[Overlap]:  # fmt: skip
    """Every pair, with what is usual for those where that is known."""
    part = grid.at_level(level)
    across, up = grid.metres_per_unit()
    x0, y0 = (part.bounds.west + part.bounds.east) / 2, (part.bounds.south + part.bounds.north) / 2
    pairs: dict[tuple[int, int], _Pair] = {}
    for i, one in enumerate(placed):
        for j in range(i + 1, len(placed)):
            shared = _shared(one.cells, placed[j].cells) >> (2 * level)
            if shared:
                pairs[i, j] = _Pair(
                    one, placed[j], shared, usual.get((one.number, placed[j].number), (-np.inf, np.inf))
                )
    todo = [(window, met) for window in part.blocks(BLOCK) if len(met := _met(placed, pairs, window, level)) > 1]

    def read(work: tuple[Window, list[int]]) -> dict[int, Heights]:
        window, met = work
        return {i: placed[i].read(window, level) for i in met}

    with ThreadPoolExecutor(workers) as pool:
        for start in range(0, len(todo), 2 * workers):
            chunk = todo[start : start + 2 * workers]
            for (window, met), arrays in zip(chunk, pool.map(read, chunk), strict=True):
                xs, ys = part.centres(window)
                u, v = (xs - x0) * across / KILOMETRE, (ys - y0) * up / KILOMETRE
                filled = [i for i in met if not np.isnan(arrays[i]).all()]
                for k, i in enumerate(filled):
                    for j in filled[k + 1 :]:
                        if (i, j) in pairs:
                            pairs[i, j].add(arrays[i], arrays[j], u, v, window)
            progress((start + len(chunk)) / len(todo))
    found = [pair.result(x0, y0) for pair in pairs.values()]
    return [one for one in found if one is not None]


def _shared(one: Window, other: Window) -> int:
    rows = min(one.row + one.rows, other.row + other.rows) - max(one.row, other.row)
    cols = min(one.col + one.cols, other.col + other.cols) - max(one.col, other.col)
    return max(rows, 0) * max(cols, 0)


def _met(placed: Sequence[Any], pairs: dict[tuple[int, int], _Pair], window: Window, level: int) -> list[int]:
    """Those that meet a window and share cells with another that does."""
    near = [i for i, one in enumerate(placed) if one.meets(window, level)]
    return [i for i in near if any((min(i, j), max(i, j)) in pairs for j in near if i != j)]
