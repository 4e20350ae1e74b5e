"""Water standing in a basin at any level: area, volume and outline, and how surfaces differ in it.

A basin is flooded once, from a lake outwards, by the order in which cells come under water as it rises: that of
R. Barnes, C. Lehman and D. Mulla's priority flood (Computers & Geosciences 62, 2014), begun within instead of at the
rim. What stands under water at a level is then told by looking up how many cells are reached at it, so that a level
can be dragged.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Bounds, FloatArray, Grid, Window, turn_between
from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.relief.contours import Levels, contours
from yama.terrain.surface import ArraySurface, Heights, Surface, sample
from yama.terrain.units import UNITS

_MOST = 1_000_000
"""Cells of a basin; a coarser level is taken where there are more."""
_AROUND = 0.5  # of the lake's longer side that is looked at around it
_LEAST = 10  # cells of it at least
_RIM = 400
_LOW = 0.1  # of the ground of a view that is under water where nobody says a level
_SHARE = 0.95
_BED = 0.01  # metres that a lake nobody measured is put below its level, so that it is under water at it
_FEW = 0.25  # of a lake's cells that must have heights to say how it lies
_ALIKE = 0.9  # of the ground that two outlines share where they have one shape
_LEAST_ALIKE = 0.6
_AS_GOOD = 0.02  # of the ground shared by which levels are as good as the best: the offset is told from their middle


@kernel
def _spread(heights, seeds, reach):
    """Up to which level water must rise until each cell is under it, from seeds outwards; infinite where it never
    comes, such as through empty cells."""
    rows, cols = heights.shape
    heap = np.empty(rows * cols, np.int64)
    keys = np.empty(rows * cols, np.float64)
    seen = np.zeros((rows, cols), np.bool_)
    size = 0
    for r in range(rows):
        for c in range(cols):
            reach[r, c] = np.inf
            if np.isnan(heights[r, c]):
                seen[r, c] = True
            elif seeds[r, c]:
                seen[r, c] = True
                reach[r, c] = heights[r, c]
                size = push(heap, keys, size, r * cols + c, reach[r, c])
    while size > 0:
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell % cols
        for i in range(max(r - 1, 0), min(r + 2, rows)):
            for j in range(max(c - 1, 0), min(c + 2, cols)):
                if not seen[i, j]:
                    seen[i, j] = True
                    reach[i, j] = max(heights[i, j], reach[r, c])
                    size = push(heap, keys, size, i * cols + j, reach[i, j])


@dataclass(frozen=True)
class Wet:
    """What stands under water at a level: area in square metres, volume in cubic metres, and whether the water runs
    over its outlet."""

    area: float
    volume: float
    spilled: bool


@dataclass(frozen=True)
class Basin:
    """A lake's basin in a surface, heights in metres.

    Parameters
    ----------
    grid : Grid
        Of the part that is looked at.
    heights : ndarray, shape (rows, cols)
        Empty cells of the lake are a centimetre below `level`: a lake that nobody measured is taken to be level.
    reach : ndarray, shape (rows, cols)
        Up to which level water must rise to cover a cell; infinite beyond the outlet, NaN where the surface is empty.
    level : float
        The median height of the lake's cells; that of the lowest tenth of the rim where the lake is empty.
    flatness : float
        What 95 % of the lake's cells stay within of that; NaN where it is empty.
    filled : float
        Share of the lake that has heights.
    rim : ndarray, shape (places,)
        Heights along the lake's outline, NaN where empty.
    spill : float
        The level at which water runs over the outlet; infinite where it runs out nowhere.
    shore : float
        Metres of the lake's outline to a square metre of it.
    """

    grid: Grid
    heights: Heights = field(repr=False)
    reach: FloatArray = field(repr=False)
    level: float
    flatness: float
    filled: float
    rim: FloatArray = field(repr=False)
    spill: float
    shore: float

    @cached_property
    def _order(self) -> tuple[FloatArray, FloatArray]:
        """Levels at which cells come under water, from the lowest on, and the sums of their heights up to each."""
        known = np.isfinite(self.reach)
        order = np.argsort(self.reach[known], kind="stable")
        return self.reach[known][order], np.append(0.0, np.cumsum(self.heights[known][order].astype(np.float64)))

    @property
    def lowest(self) -> float:
        """The level from which on anything is under water."""
        return float(self._order[0][0])

    @property
    def highest(self) -> float:
        """The level from which on nothing more comes under water: that of the outlet, if there is one."""
        return min(self.spill, float(self._order[0][-1]))

    def at(self, level: float) -> Wet:
        """What is under water at a level."""
        reached, sums = self._order
        cells = int(np.searchsorted(reached, level, side="right"))
        ground = float(np.prod(self.grid.metres_per_cell()))
        return Wet(cells * ground, (level * cells - float(sums[cells])) * ground, level >= self.spill)

    def outline(self, level: float) -> list[list[tuple[float, float]]]:
        """The shore at a level, as lines in the grid's CRS."""
        dry = np.where(np.isinf(self.reach), self._order[0][-1] + 1.0 + abs(level), self.reach)
        surface = ArraySurface(dry.astype(np.float32), self.grid)
        found = contours(surface, Levels(1.0, listed=(level,)))
        return [
            list(zip(found.x[first:last].tolist(), found.y[first:last].tolist(), strict=True))
            for first, last in zip(found.starts[:-1], found.starts[1:], strict=True)
        ]

    def wet(self, level: float) -> npt.NDArray[np.bool_]:
        """Which cells are under water."""
        found: npt.NDArray[np.bool_] = self.reach <= level
        return found

    def to_dict(self) -> dict[str, Any]:
        """What is told of it, as plain JSON values."""
        known = self.rim[np.isfinite(self.rim)]
        low, middle, high = np.quantile(known, (0.05, 0.5, 0.95)) if known.size else (None, None, None)
        plain = {"level": self.level, "flatness": self.flatness, "filled": self.filled, "spill": self.spill}
        return {
            **{name: float(one) if np.isfinite(one) else None for name, one in plain.items()},
            "rim": [None if one is None else float(one) for one in (low, middle, high)],
            "cell": float(max(self.grid.metres_per_cell())),
        }


def lowland(surface: Surface, bounds: Bounds) -> Basin:
    """The ground of a part of a surface, under water wherever it is lower than the level.

    Parameters
    ----------
    surface : Surface
        Of heights, in any unit.
    bounds : Bounds
        In the surface's CRS.

    Returns
    -------
    Basin
        Water needs no way there, and runs out nowhere. Its level is one below which a tenth of the ground lies; it has
        no rim.

    Raises
    ------
    InputError
        Where the surface does not reach there, or has no height there.
    """
    name = _heights_of(surface)
    part, level = _part(surface, bounds)
    if part is None:
        raise InputError(f"{name} does not reach there.")
    window, grid = part
    heights = surface.read(window, level) * np.float32(UNITS[surface.unit])
    known = np.isfinite(heights)
    if not known.any():
        raise InputError(f"{name} has no height there.")
    stands = float(np.quantile(heights[known], _LOW))
    nan = float("nan")
    found = Basin(grid, heights, heights.astype(np.float64), stands, nan, float(known.mean()), np.empty(0), np.inf, 0.0)
    lines = [shapely.LineString(line).length for line in found.outline(stands) if len(line) > 1]
    along = sum(lines) * float(np.sqrt(np.prod(grid.metres_per_unit())))
    return replace(found, shore=along / found.at(stands).area)


def _heights_of(surface: Surface) -> str:
    """The surface's name; refuses one that holds no heights."""
    name = surface.name or "The surface"
    if surface.unit not in UNITS:
        raise InputError(f"{name} is in {surface.unit or 'no unit'}: it has no heights.")
    return name


def _part(surface: Surface, around: Bounds) -> tuple[tuple[Window, Grid] | None, int]:
    """The cells of a surface within bounds, of the first level on which they are not too many, and that level; None
    where there are none."""
    level = 0
    while (grid := surface.grid.at_level(level)) and _window(grid, around).rows * _window(grid, around).cols > _MOST:
        level += 1
    window = _window(grid, around)
    return ((window, grid.part(window)) if window.rows and window.cols else None), level


def basin(surface: Surface, lake: shapely.Polygon) -> Basin:
    """The basin of a lake in a surface.

    Parameters
    ----------
    surface : Surface
        Of heights, in any unit.
    lake : Polygon
        In the surface's CRS. Water spreads from all of it.

    Returns
    -------
    Basin
        On the surface's own cells, or on those of a level where there would be more than a million.

    Raises
    ------
    InputError
        Where the surface does not reach there, or has no height there.
    """
    name = _heights_of(surface)
    west, south, east, north = lake.bounds
    own = max(surface.grid.cell_width, surface.grid.cell_height)
    margin = max(_AROUND * max(east - west, north - south), _LEAST * own)
    around = Bounds(west - margin, south - margin, east + margin, north + margin)
    there, level = _part(surface, around)
    if there is None:
        raise InputError(f"{name} does not reach there.")
    window, part = there
    heights = surface.read(window, level) * np.float32(UNITS[surface.unit])
    seeds = inside([lake], part) > 0
    if not seeds.any():  # a pond within one cell
        middle = lake.representative_point()
        row, col = int(np.rint(part.row_of(middle.y))), int(np.rint(part.col_of(middle.x)))
        seeds[min(max(row, 0), part.rows - 1), min(max(col, 0), part.cols - 1)] = True
    water = heights[seeds]
    filled = float(np.isfinite(water).mean())
    water = water[np.isfinite(water)].astype(np.float64)
    rim = rim_of(surface, lake)
    known = rim[np.isfinite(rim)]
    flatness = float("nan")
    if water.size >= _FEW * seeds.sum():
        middle_height = float(np.median(water))
        flatness = float(np.quantile(np.abs(water - middle_height), _SHARE))
    elif known.size:
        middle_height = float(np.quantile(known, 0.1))
    else:
        raise InputError(f"{name} has no height in the lake, and none along its outline.")
    heights = np.where(seeds & np.isnan(heights), np.float32(middle_height - _BED), heights)
    reach, spill = _reach(heights, seeds)
    shore = lake.length / lake.area / float(np.sqrt(np.prod(part.metres_per_unit())))
    return Basin(part, heights, reach, middle_height, flatness, filled, rim, spill, shore)


def _reach(heights: Heights, seeds: npt.NDArray[np.bool_]) -> tuple[FloatArray, float]:
    """The reach of a basin's cells, and the level of its outlet. Beyond it lies what water leaves the part through
    without rising as high as the outlet: it would run off there, and never stands."""
    reach, escape = np.empty(heights.shape), np.empty(heights.shape)
    _spread(heights, seeds, reach)
    edge = np.ones(heights.shape, np.bool_)
    edge[1:-1, 1:-1] = False
    spill = float(reach[edge].min())
    _spread(heights, edge, escape)
    beyond = escape < spill
    if beyond.any():  # and what can be reached through it only
        _spread(np.where(beyond, np.float32(np.nan), heights), seeds, reach)
    reach[np.isnan(heights)] = np.nan
    return reach, spill


def _window(grid: Grid, around: Bounds) -> Window:
    top, bottom = int(np.floor(grid.row_of(around.north))), int(np.ceil(grid.row_of(around.south)))
    left, right = int(np.floor(grid.col_of(around.west))), int(np.ceil(grid.col_of(around.east)))
    return Window(top, left, bottom - top + 1, right - left + 1).clipped(grid.rows, grid.cols)


def rim_of(surface: Surface, lake: shapely.Polygon) -> FloatArray:
    """Heights in metres at places spread evenly along a lake's outline; NaN where the surface is empty."""
    line = lake.exterior
    along = shapely.line_interpolate_point(line, np.arange(_RIM) / _RIM, normalized=True)
    places = shapely.get_coordinates(along)
    return sample(surface, places[:, 0], places[:, 1]) * UNITS[surface.unit]


@dataclass(frozen=True)
class Unlike:
    """How a basin differs from another.

    Parameters
    ----------
    offset : float
        By how many metres its water must stand higher to lie most like the other's.
    rim : float
        By how many metres its rim stands higher, the median; NaN where they share none.
    shared : float
        Of the ground that is under water in either at the same level, the share that is in both.
    shared_put_right : float
        The same where its level is higher by the offset.
    likeness : float
        The share from which on two basins of their cells have one shape.
    """

    offset: float
    rim: float
    shared: float
    shared_put_right: float
    likeness: float

    @property
    def verdict(self) -> str:
        """Whether the two have one shape, another zero, or another shape; "" where that cannot be told."""
        if not np.isfinite(self.shared_put_right):
            return ""
        if self.shared_put_right < self.likeness:
            return "shape"
        return "alike" if self.shared >= self.likeness else "offset"

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values."""
        told = {name: float(one) if np.isfinite(one) else None for name, one in vars(self).items()}
        return {**told, "verdict": self.verdict}


def unlike(one: Basin, other: Basin, level: float) -> Unlike:
    """How a basin differs from another, of which `level` is a level of water: by a constant height, or in shape.

    The offset is the one at which most of the ground that is under water in either is under water in both.
    """
    apart = one.rim - other.rim
    apart = apart[np.isfinite(apart)]
    rim = float(np.median(apart)) if apart.size else float("nan")
    fine = other if other.grid.cell_width <= one.grid.cell_width else one
    own, against = (each.reach if each is fine else _picked(each, fine.grid) for each in (one, other))
    # what only one of them has a height for says nothing
    known = ~np.isnan(own) & ~np.isnan(against)
    own, wet = own[known], against[known] <= level
    order = np.argsort(own, kind="stable")
    reached = own[order]
    both = np.append(0, np.cumsum(wet[order]))
    shares = both / np.maximum(np.arange(own.size + 1) + wet.sum() - both, 1)
    # levels between two cells' are as good as the lower one's
    last = np.append(np.append(0, np.flatnonzero(reached[1:] > reached[:-1]) + 1), own.size)
    last = last[(last > 0) & np.isfinite(reached[np.maximum(last, 1) - 1])]
    if not last.size or not wet.any():
        return Unlike(float("nan"), rim, float("nan"), float("nan"), _ALIKE)
    best = float(shares[last].max())
    good = last[shares[last] >= best - _AS_GOOD]
    lowest, highest = reached[good[0] - 1], reached[good[-1] - 1]
    # any level between two cells' does as well as the lower one's
    above = reached[good[-1]] if good[-1] < reached.size and np.isfinite(reached[good[-1]]) else highest
    stands = float(np.clip(level, lowest, above)) if good.size == 1 else float(lowest + highest) / 2
    shared = float(shares[int(np.searchsorted(reached, level, side="right"))])
    # a sixth of a cell along the shore is told by chance
    coarse = max(*one.grid.metres_per_cell(), *other.grid.metres_per_cell())
    return Unlike(stands - level, rim, shared, best, max(_ALIKE - coarse / 6 * one.shore, _LEAST_ALIKE))


def _picked(basin_: Basin, grid: Grid) -> FloatArray:
    """A basin's reach at the cells of another grid: of the cell in which each lies, NaN beyond."""
    x, y = np.meshgrid(*grid.centres(grid.whole))
    if basin_.grid.crs != grid.crs:
        turned = turn_between(grid.crs, basin_.grid.crs).transform(x.ravel(), y.ravel())
        x, y = (np.asarray(one).reshape(x.shape) for one in turned)
    rows, cols = np.rint(basin_.grid.row_of(y)), np.rint(basin_.grid.col_of(x))
    within = (rows >= 0) & (cols >= 0) & (rows < basin_.grid.rows) & (cols < basin_.grid.cols)
    found = np.full(x.shape, np.nan)
    found[within] = basin_.reach[rows[within].astype(np.int64), cols[within].astype(np.int64)]
    return found
