"""Where two surfaces differ most: coherent patches of difference, with what probably made them.

A patch is a set of joined cells on one side of the median difference, which reaches beyond three NMAD somewhere and
beyond one and a half everywhere (two thresholds: J. Canny, "A computational approach to edge detection", IEEE PAMI 8,
1986), after a median of 3 x 3 cells, so that single cells make none. Patches are ranked by their volume: what is wide
and low counts as much as what is narrow and high.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import contourpy
import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.judge.places import Places, nearest_named
from yama.terrain.judge.splits import by_polygons
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.median import robust_spread
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, Surface, each

ndimage = later("scipy.ndimage")

Cause = Literal["trees", "buildings", "shift", "water", "filled", "smoothed", "change"]
TITLES: dict[Cause, str] = {
    "trees": "trees", "buildings": "buildings", "shift": "shift", "water": "water", "filled": "void filled",
    "smoothed": "smoothed", "change": "change, or an error",
}  # fmt: skip

_MOST = 4_000_000  # cells that are looked at: of a coarser level where there are more
_BLOCK = 512
_SEED, _GROW = 3.0, 1.5  # NMAD
_TOGETHER = 0.7
_FEWEST = 9  # cells of a patch
_FLOOR = 0.02  # metres: surfaces that differ by less nowhere differ
_KEPT = 0.5  # of its mean square that a patch of a shift is left with at most
_STEEP = 0.05  # rise over run from which on slopes tell of a shift
_SMOOTH = 0.35  # times the unevenness of the other surface that a filled void has at most
_LEVEL = 0.15  # metres by which water rises and falls at most
_TALL, _TALLEST = 1.5, 45.0  # metres of trees and buildings
_ROUGHER = 1.3
_WIDTHS = (60.0, 120.0)  # metres over which ground is smoothed to see whether that makes the difference
_EXPLAINED = 0.5  # of the difference that smoothing makes at least
_WOODS = ("wood", "forest", "tree", "scrub")
_TOWNS = ("town", "build", "urban", "house")
_OUTLINE = 160  # places of a ring at most


@dataclass(frozen=True)
class WorstPlace:
    """A place where two surfaces differ.

    Parameters
    ----------
    x, y : float
        Where they differ most, in the CRS of the grid.
    ring : list of (float, float)
        Its outline; of several the longest.
    area : float
        m².
    volume : float
        m³ between the two; below 0 where the first lies lower. Against the median difference of all of the ground.
    mean, lowest, highest : float
        Metres, first minus second.
    slope : float
        Mean of the evener of both surfaces, in degrees.
    cover : str
        That most of it has; empty where nobody says.
    near : str
        The named place nearest to it; empty where nobody says.
    cause : str
        What probably made it.
    which : {"first", "second", "both"}
        Which surface the cause is suspected in.
    """

    x: float
    y: float
    ring: list[tuple[float, float]]
    area: float
    volume: float
    mean: float
    lowest: float
    highest: float
    slope: float
    cover: str
    near: str
    cause: Cause
    which: Literal["first", "second", "both"]


@dataclass(frozen=True)
class Worst:
    """The worst places of two surfaces, the one of most volume first.

    Parameters
    ----------
    places : list of WorstPlace
    count : int
        Of all patches, also those that are not told one by one.
    volume : float
        m³ of all of them, whatever their sign.
    median, nmad : float
        Of the difference all over, in metres.
    cell : float
        Metres of the cells that were looked at.
    """

    places: list[WorstPlace]
    count: int
    volume: float
    median: float
    nmad: float
    cell: float


@kernel
def _median_of_nine(cells, out):
    """Of each cell and those around it that are filled; empty cells stay so."""
    rows, cols = cells.shape
    near = np.empty(9, np.float32)
    for r in range(rows):
        for c in range(cols):
            if np.isnan(cells[r, c]):
                out[r, c] = np.nan
                continue
            count = 0
            for dr in range(-1, 2):
                for dc in range(-1, 2):
                    if 0 <= r + dr < rows and 0 <= c + dc < cols:
                        value = cells[r + dr, c + dc]
                        if not np.isnan(value):
                            # kept in order as they come
                            at = count
                            while at > 0 and near[at - 1] > value:
                                near[at] = near[at - 1]
                                at -= 1
                            near[at] = value
                            count += 1
            middle = count // 2
            out[r, c] = near[middle] if count % 2 else np.float32(0.5) * (near[middle - 1] + near[middle])


@kernel
def _patches(cells, high, low, labels, stack):
    """Labels of patches from 1 on; returns how many there are.

    cells: less their median. high, low: thresholds of seeds and of what they grow over, on one side of 0 each.
    stack: as many as there are cells.
    """
    rows, cols = cells.shape
    count = 0
    for r in range(rows):
        for c in range(cols):
            if labels[r, c] or not abs(cells[r, c]) > high:
                continue
            count += 1
            above = cells[r, c] > 0
            labels[r, c] = count
            stack[0] = r * cols + c
            top = 1
            while top:
                top -= 1
                at = stack[top]
                y, x = at // cols, at % cols
                for dr in range(-1, 2):
                    for dc in range(-1, 2):
                        y1, x1 = y + dr, x + dc
                        if y1 < 0 or x1 < 0 or y1 >= rows or x1 >= cols or labels[y1, x1]:
                            continue
                        value = cells[y1, x1]
                        if abs(value) > low and (value > 0) == above:
                            labels[y1, x1] = count
                            stack[top] = y1 * cols + x1
                            top += 1
    return count


@kernel
def _sums(cells, labels, counts, sums):
    """Cells and sum of the differences of each patch."""
    for r in range(cells.shape[0]):
        for c in range(cells.shape[1]):
            label = labels[r, c]
            if label:
                counts[label] += 1
                sums[label] += cells[r, c]


def _read(surface: Surface, grid: Grid, level: int, progress: Progress, from_: float, to: float) -> Heights:
    """All cells of a level, block by block on all cores."""
    made = np.empty((grid.rows, grid.cols), np.float32)
    blocks = list(grid.blocks(_BLOCK))

    def one(window: Window) -> None:
        part = surface.read(window, level)
        made[window.row : window.row + window.rows, window.col : window.col + window.cols] = part

    each(blocks, one, lambda share: progress(from_ + (to - from_) * share))
    return made


def _rises(cells: Heights, grid: Grid) -> FloatArray:
    wide, high = grid.metres_per_cell()
    south, east = np.gradient(cells.astype(np.float64))
    rises: FloatArray = np.stack([east / wide, -south / high])
    return rises


def _uneven(cells: Heights) -> FloatArray:
    """How far a cell lies from the mean of the four around it."""
    around = np.full(cells.shape, np.nan)
    around[1:-1, 1:-1] = 0.25 * (
        cells[:-2, 1:-1].astype(np.float64) + cells[2:, 1:-1] + cells[1:-1, :-2] + cells[1:-1, 2:]
    )
    found: FloatArray = np.abs(cells - around)
    return found


class _Ground:
    """What is known of the ground that two surfaces show, to tell causes by."""

    def __init__(self, first: Heights, second: Heights, grid: Grid) -> None:
        self.first, self.second, self.grid = first, second, grid
        self._lost: dict[int, list[FloatArray]] = {}
        self.uneven = (_uneven(first), _uneven(second))
        self.usual = [float(np.nanmedian(one)) if np.isfinite(one).any() else 0.0 for one in self.uneven]
        # slopes of the evener one: what the other has of detail would hide how both lie to each other
        self.rises = _rises(second if self.usual[1] <= self.usual[0] else first, grid)
        self.slopes = np.hypot(*self.rises)

    def lost(self, which: int) -> list[FloatArray]:
        """By how much each cell of a surface lies above the mean of wide squares around it: what smoothing would take
        off."""
        if which not in self._lost:
            cells = (self.first, self.second)[which]
            known = np.isfinite(cells)
            filled = np.where(known, cells, 0).astype(np.float64)
            self._lost[which] = []
            for metres in _WIDTHS:
                side = max(int(round(metres / max(self.grid.metres_per_cell()))) | 1, 3)
                share = np.maximum(ndimage.uniform_filter(known.astype(np.float64), side), 1e-9)
                # twice, as a tent: a square alone leaves corners
                mean = ndimage.uniform_filter(filled, side) / share
                self._lost[which].append(cells - ndimage.uniform_filter(mean, side))
        return self._lost[which]

    def shift(self, apart: FloatArray, known: npt.NDArray[np.bool_]) -> tuple[float, float]:
        """By how much the first lies to the east and north of the second, from the slopes of the ground; (0, 0) where
        that is not more than chance."""
        east, north = self.rises
        use = known & np.isfinite(east + north) & (self.slopes > _STEEP)
        if use.sum() < 400:
            return (0.0, 0.0)
        every = max(int(use.sum()) // 200_000, 1)
        terms = np.stack([-east[use][::every], -north[use][::every]], axis=1)
        d = apart[use][::every]
        found: FloatArray = np.zeros(2)
        for _ in range(8):
            rest = d - terms @ found
            far = 4.685 * max(robust_spread(rest), 1e-6)
            weight = np.where(np.abs(rest) < far, (1 - (rest / far) ** 2) ** 2, 0.0)
            found = np.linalg.pinv(terms.T @ (weight[:, None] * terms)) @ (terms.T @ (weight * d))
        before, after = robust_spread(d), robust_spread(d - terms @ found)
        return (float(found[0]), float(found[1])) if after < 0.9 * before else (0.0, 0.0)


def _thresholds(calm: Heights, nmad: float) -> tuple[float, float]:
    """Of seeds and of what they grow over. Where both differ everywhere alike, as by a shift, nothing reaches beyond
    three NMAD: then the largest of differences that go together from cell to cell are told."""
    high, low = max(_SEED * nmad, _FLOOR), max(_GROW * nmad, _FLOOR / 2)
    sizes = np.abs(calm)
    if float(1.4826 * np.median(sizes)) > _TOGETHER * nmad:  # of noise the median of nine is 0.4 of that
        high = max(min(high, float(np.quantile(sizes, 0.95))), _FLOOR)
        low = max(min(low, float(np.quantile(sizes, 0.80))), _FLOOR / 2)
    return high, low


def _range(cells: Heights) -> float:
    """From the lowest to the highest of nine tenths of the cells: at its rim a patch holds some that are not of it."""
    low, high = np.quantile(cells, (0.05, 0.95))
    return float(high - low)


def _cause(
    ground: _Ground,
    box: tuple[slice, slice],
    own: npt.NDArray[np.bool_],
    mean: float,
    shift: tuple[float, float],
    cover: str,
) -> tuple[Cause, Literal["first", "second", "both"]]:
    """What probably made a patch, and in which of the surfaces."""
    higher: Literal["first", "second"] = "first" if mean > 0 else "second"
    cells = {"first": ground.first[box][own], "second": ground.second[box][own]}
    uneven = {"first": ground.uneven[0][box][own], "second": ground.uneven[1][box][own]}
    rough = {name: float(np.nanmedian(one)) if np.isfinite(one).any() else 0.0 for name, one in uneven.items()}
    for name, other in (("first", "second"), ("second", "first")):
        if _range(cells[name]) < _LEVEL and _range(cells[other]) > 3 * _LEVEL:
            return "water", name  # type: ignore[return-value]
    if any(shift):
        east, north = (one[box][own] for one in ground.rises)
        apart = (ground.first - ground.second)[box][own]
        rest = apart + shift[0] * east + shift[1] * north
        if np.nanmean(rest**2) < _KEPT * np.nanmean(apart**2):
            return "shift", "both"
    words = cover.lower()
    tall = _TALL < abs(mean) < _TALLEST
    if tall and any(word in words for word in _WOODS):
        return "trees", higher
    if tall and any(word in words for word in _TOWNS):
        return "buildings", higher
    for name, other in (("first", "second"), ("second", "first")):
        usual = ground.usual[0 if name == "first" else 1] / max(ground.usual[1 if name == "first" else 0], 1e-9)
        if (
            rough[name] < _SMOOTH * usual * rough[other]
            and rough[name] < _SMOOTH * ground.usual[0 if name == "first" else 1]
        ):
            return "filled", name  # type: ignore[return-value]
    for which, other, sign in ((0, "second", 1.0), (1, "first", -1.0)):
        if any(_is_smoothed(ground, box, own, sign * lost) for lost in ground.lost(which)):
            return "smoothed", other  # type: ignore[return-value]
    lower = "second" if higher == "first" else "first"
    if tall and not cover and rough[higher] > _ROUGHER * rough[lower] and np.nanmean(ground.slopes[box][own]) < 0.6:
        return "trees", higher
    return "change", "both"


def _is_smoothed(ground: _Ground, box: tuple[slice, slice], own: npt.NDArray[np.bool_], lost: FloatArray) -> bool:
    """Whether what smoothing takes off makes the difference of a patch, and of what lies around it too: where something
    was dug out or built, it does not."""
    rows, cols = lost.shape
    high, wide = own.shape
    top, left = max(box[0].start - high, 0), max(box[1].start - wide, 0)
    around = (slice(top, min(box[0].stop + high, rows)), slice(left, min(box[1].stop + wide, cols)))
    apart, gone = (ground.first - ground.second)[around].astype(np.float64), lost[around]
    within = np.zeros(apart.shape, np.bool_)
    within[box[0].start - top : box[0].stop - top, box[1].start - left : box[1].stop - left] = own
    known = np.isfinite(apart) & np.isfinite(gone)
    inner, outer = known & within, known & ~within
    if not inner.any() or outer.sum() < _FEWEST:
        return False
    middle = float(np.median(apart[outer]))
    if float(gone[inner].mean()) / (float(apart[inner].mean()) - middle or 1e-9) < _EXPLAINED:
        return False
    if gone[outer].std() < 1e-6 or apart[outer].std() < 1e-6:
        return False
    return float(np.corrcoef(gone[outer], apart[outer])[0, 1]) > _EXPLAINED


def _ring(own: npt.NDArray[np.bool_], grid: Grid, top: int, left: int) -> list[tuple[float, float]]:
    """The longest outline of a patch, with as many places as a map can show."""
    padded = np.pad(own, 1).astype(np.float32)
    lines: Any = contourpy.contour_generator(z=padded).lines(0.5)
    longest = max(lines, key=len)
    step = max(len(longest) // _OUTLINE, 1)
    x, y = grid.x_of(longest[::step, 0] - 1 + left), grid.y_of(longest[::step, 1] - 1 + top)
    return [(float(a), float(b)) for a, b in zip(x, y, strict=True)]


def worst_places(
    first: Surface,
    second: Surface,
    on: Grid,
    count: int = 10,
    cover: Sequence[Features] = (),
    column: str = "",
    named: Sequence[Features] = (),
    least_area: float = 0.0,
    progress: Progress = ignore_progress,
) -> Worst:
    """Where two surfaces differ most.

    Parameters
    ----------
    first, second : Surface
        In metres, on any grids.
    on : Grid
        Whose cells are compared, or as many coarser ones where there are more than four million.
    count : int
        How many are told.
    cover : sequence of Features
        Polygons of what covers the ground, told apart by `column`.
    named : sequence of Features
        Points with a column "name", by which places are called.
    least_area : float
        m² that a place has at least.
    progress : callable, optional

    Raises
    ------
    InputError
        Where both have no cell in common, or are equal all over.
    """
    level = 0
    while on.at_level(level).cell_count > _MOST:
        level += 1
    grid = on.at_level(level)
    one = _read(fitted(first, on), grid, level, progress, 0.0, 0.4)
    other = _read(fitted(second, on), grid, level, progress, 0.4, 0.8)
    names = first.name or "The first surface", second.name or "the second"
    apart = one - other
    # where the sea was filled in with 0 nothing was measured
    apart[(one == 0) | (other == 0)] = np.nan
    known = np.isfinite(apart)
    if not known.any():
        raise InputError(f"{names[0]} and {names[1]} have no filled cell in common here, so nothing can be compared.")
    every = max(int(known.sum()) // 1_000_000, 1)
    some = apart[known][::every].astype(np.float64)
    median, nmad = float(np.median(some)), robust_spread(some)
    if float(np.abs(some).max()) < 1e-6:
        raise InputError(f"{names[0]} and {names[1]} are equal all over: there is no place where they differ.")
    calm = np.empty_like(apart)
    _median_of_nine(apart - np.float32(median), calm)
    labels = np.zeros(calm.shape, np.int32)
    high, low = _thresholds(calm[known][::every], nmad)
    found = _patches(calm, np.float32(high), np.float32(low), labels, np.empty(calm.size, np.int64))
    go_on()
    counts, sums = np.zeros(found + 1, np.int64), np.zeros(found + 1)
    _sums(calm, labels, counts, sums)
    wide, tall = grid.metres_per_cell()
    cell = wide * tall
    fewest = max(_FEWEST, least_area / cell)
    volumes = np.where(counts >= fewest, sums * cell, 0.0)
    volumes[0] = 0.0
    order = np.argsort(-np.abs(volumes), kind="stable")[:count]
    chosen = [int(label) for label in order if volumes[label]]
    boxes = ndimage.find_objects(labels)
    ground = _Ground(one, other, grid)
    shift = ground.shift((apart - median).astype(np.float64), known) if chosen else (0.0, 0.0)
    places = []
    for number, label in enumerate(chosen):
        box = boxes[label - 1]
        own = labels[box] == label
        inner = apart[box][own].astype(np.float64)
        worst = int(np.argmax(np.where(own, np.abs(calm[box]), -1)))
        row, col = np.unravel_index(worst, own.shape)
        top, left = box[0].start, box[1].start
        x, y = float(grid.x_of(left + int(col))), float(grid.y_of(top + int(row)))
        said = _cover(own, grid, top, left, cover, column)
        cause, which = _cause(ground, box, own, float(inner.mean()), shift, said)
        places.append(WorstPlace(
            x, y, _ring(own, grid, top, left), int(counts[label]) * cell, float(volumes[label]), float(inner.mean()),
            float(inner.min()), float(inner.max()),
            float(np.degrees(np.arctan(np.nanmean(ground.slopes[box][own])))) if np.isfinite(ground.slopes[box][own]).any() else 0.0,
            said, _beside(x, y, grid.crs, named), cause, which,
        ))  # fmt: skip
        progress(0.85 + 0.15 * (number + 1) / len(chosen))
    return Worst(places, int((volumes != 0).sum()), float(np.abs(volumes).sum()), median, nmad, float(max(wide, tall)))


def _cover(own: npt.NDArray[np.bool_], grid: Grid, top: int, left: int, cover: Sequence[Features], column: str) -> str:
    """What covers most of a patch; empty where no polygon lies there."""
    if not cover:
        return ""
    rows, cols = np.nonzero(own)
    some = np.linspace(0, rows.size - 1, min(rows.size, 400)).astype(np.int64)
    x, y = grid.x_of(cols[some] + left), grid.y_of(rows[some] + top)
    try:
        split = by_polygons(cover, column, Places(grid.crs, x, y, np.zeros(x.size)))
    except InputError:  # none of the polygons lies there
        return ""
    inside = (split.of >= 0).sum()
    return split.names[0] if 2 * int(inside) > some.size else ""


_BESIDE = 150.0  # metres from a named place within which no direction is told


def _beside(x: float, y: float, crs: str, named: Sequence[Features]) -> str:
    """The nearest named place, and on which side of it."""
    found = nearest_named(x, y, crs, named)
    if found is None:
        return ""
    return found.name if found.away < _BESIDE else f"{found.name}, {found.side}"
