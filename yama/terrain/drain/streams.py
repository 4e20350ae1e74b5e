"""Streams: where enough ground drains through a cell.

Heads by area and slope: D. Montgomery and W. Dietrich, "Channel initiation and the problem of landscape
scale", Science 255 (1992).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.directions import COLS, ROWS, Directions, apart_on
from yama.terrain.drain.links import Links, Numbers
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.kernels import kernel
from yama.terrain.surface import Heights

Heads = Literal["area", "slope"]

_LONG_LEVEL = 100.0  # metres that a way over level ground is long at least to be told
_LONG_CELLS = 10.0  # and sides of cells: on fewer nobody sees a streak
_USUAL_SLOPE = 0.1  # on which as much ground makes a head as is asked for, whether slope counts or not
_SLOPE_OVER = 30.0  # metres along a stream, and
_SLOPE_CELLS = 4.0  # sides of cells over which its slope is told
_IN_CELL = 0.49  # of a cell's side that a corner of a smoothed line may be moved
_ROUNDS = 8  # of smoothing: more are not seen


@kernel
def _below(cells, to, cols, places, down, lengths, apart):
    """The number among cells of the one that each leads to, -1 where none; and how far that is. places: for each cell
    of the raster its number, or -1."""
    for k in range(cells.size):
        r = cells[k] // cols
        c = cells[k] % cols
        n = to[r, c]
        down[k] = -1
        lengths[k] = 0.0
        if 0 <= n < 8:
            at = places[r + ROWS[n], c + COLS[n]]
            down[k] = at
            if at >= 0:
                lengths[k] = apart[n]


@kernel
def _linked(down, used, link, starts, ends, order, magnitude, above):
    """Number the links of a network whose cells come in the order in which water passes them. A link goes from a head
    or from below a junction to the next junction, or to where the stream ends. Returns how many there are."""
    for k in range(down.size):
        if used[k] and down[k] >= 0:
            above[down[k]] += 1
    count = 0
    # the highest order that has come to a cell from above, and from how many links
    highest = np.zeros(down.size, np.int32)
    times = np.zeros(down.size, np.int32)
    sums = np.zeros(down.size, np.int64)
    for k in range(down.size):
        if not used[k]:
            continue
        if above[k] != 1:
            link[k] = count
            starts[count] = k
            if above[k] == 0:
                order[count] = 1
                magnitude[count] = 1
            else:
                order[count] = highest[k] + (1 if times[k] > 1 else 0)
                magnitude[count] = sums[k]
            count += 1
        number = link[k]
        on = down[k]
        ends[number] = k
        if on < 0:
            continue
        if above[on] == 1:
            link[on] = number
        else:
            ends[number] = on
            if order[number] > highest[on]:
                highest[on] = order[number]
                times[on] = 1
            elif order[number] == highest[on]:
                times[on] += 1
            sums[on] += magnitude[number]
    return count


@kernel
def _measure(down, used, link, lengths, length):
    for k in range(down.size):
        if used[k] and link[k] >= 0:
            length[link[k]] += lengths[k]


@kernel
def _level_ways(down, level, lengths, way):
    """For each place from which water goes on over level ground how long the way is that it is on there, as far as that
    is level; 0 elsewhere."""
    above = np.zeros(down.size)
    for k in range(down.size):
        if level[k] and down[k] >= 0:
            so_far = above[k] + lengths[k]
            if so_far > above[down[k]]:
                above[down[k]] = so_far
    for k in range(down.size - 1, -1, -1):
        way[k] = 0.0
        if level[k] and down[k] >= 0:
            way[k] = lengths[k]
            if level[down[k]]:
                way[k] += way[down[k]]
    for k in range(down.size):
        if way[k] > 0:
            way[k] += above[k]


@kernel
def _by_slope(down, area, heights, lengths, over, usual, begins):
    """How much ground would make a head of each place on a usual slope, and of the places above it: area times the
    square of the slope. Cells come in the order in which water passes them."""
    for k in range(down.size):
        at = k
        way = 0.0
        while way < over and down[at] >= 0:
            way += lengths[at]
            at = down[at]
        slope = (heights[k] - heights[at]) / way if way > 0.0 else 0.0
        begins[k] = max(begins[k], area[k] * max(slope / usual, 0.0) ** 2)
        if down[k] >= 0 and begins[k] > begins[down[k]]:
            begins[down[k]] = begins[k]


@kernel
def _passing(down, through):
    """Mark each place whose water comes to one that is marked. Cells come in the order in which water passes them."""
    for k in range(down.size - 1, -1, -1):
        if down[k] >= 0 and through[down[k]]:
            through[k] = True


@kernel
def _paths(down, starts, ends, sizes, path):
    """The cells of links one after the other, each with the cell at which it ends."""
    at = 0
    for n in range(starts.size):
        k = starts[n]
        begun = at
        path[at] = k
        at += 1
        while k != ends[n]:
            k = down[k]
            path[at] = k
            at += 1
        sizes[n] = at - begun


@dataclass(frozen=True)
class Streams(Links):
    """A network of streams, link by link.

    Parameters
    ----------
    cells : ndarray of int64, shape (places,)
        Cells along the links one after the other, counted along rows; the last one of a link is the first one of the
        link below.
    starts : ndarray of int64, shape (links + 1,)
        Where each link begins in `cells`.
    unsure : ndarray of bool, shape (places,)
        For each of `cells` whether the way from it to the next one is part of a long one over level ground. Where it
        runs there the computation decides, not the ground.
    level : ndarray, shape (links,)
        Metres of each link that are so.
    """

    cells: Numbers = field(repr=False)
    starts: Numbers = field(repr=False)
    unsure: npt.NDArray[np.bool_] = field(repr=False)
    level: FloatArray = field(repr=False)

    def lines(self, smooth: bool = False) -> npt.NDArray[np.object_]:
        """The links as lines in the grid's CRS: through the centres of cells, or smoothed with every corner in its
        cell."""
        if not len(self):
            return np.empty(0, object)
        places = self._smoothed() if smooth else self._centres(self.cells)
        numbers = np.repeat(np.arange(len(self)), np.diff(self.starts))
        made: npt.NDArray[np.object_] = np.asarray(shapely.linestrings(places, indices=numbers), object)
        return made

    def _centres(self, cells: Numbers) -> FloatArray:
        rows, cols = np.divmod(cells, self.grid.cols)
        return np.column_stack([self.grid.x_of(cols), self.grid.y_of(rows)])

    def _smoothed(self) -> FloatArray:
        """Places along the links, each drawn towards those before and behind it as far as its cell reaches. Ends stay,
        since links meet in them."""
        centres = self._centres(self.cells)
        inner = np.ones(len(centres), np.bool_)
        inner[self.starts[:-1]] = inner[self.starts[1:] - 1] = False
        at = np.flatnonzero(inner)
        reach = _IN_CELL * np.array([self.grid.cell_width, self.grid.cell_height])
        places = centres.copy()
        for _ in range(_ROUNDS):
            drawn = (places[at - 1] + 2 * places[at] + places[at + 1]) / 4
            places[at] = np.clip(drawn, centres[at] - reach, centres[at] + reach)
        return places

    def unsure_lines(self) -> npt.NDArray[np.object_]:
        """The stretches over level ground as lines through the centres of cells, in the grid's CRS."""
        numbers = np.repeat(np.arange(len(self)), np.diff(self.starts))
        inside = np.append(numbers[1:] == numbers[:-1], False) if len(numbers) else np.empty(0, np.bool_)
        steps = np.flatnonzero(self.unsure & inside)
        if not len(steps):
            return np.empty(0, object)
        runs = np.split(steps, np.flatnonzero((np.diff(steps) > 1) | np.diff(numbers[steps]).astype(np.bool_)) + 1)
        made = [shapely.LineString(self._centres(self.cells[run[0] : run[-1] + 2])) for run in runs]
        return np.array(made, object)

    def features(self, smooth: bool = False) -> Features:
        """The links as lines with what is known of them; see `lines`."""
        columns, units = self.columns()
        columns["level"] = np.round(self.level, 2).tolist()
        return Features(self.grid.crs, self.lines(smooth), columns, {**units, "level": "m"})


@dataclass(frozen=True)
class Channels:
    """Cells through which some ground drains, kept so that streams from any larger area on are told at once.

    Parameters
    ----------
    grid : Grid
    cells : ndarray of int64, shape (cells,)
        Counted along rows, in the order in which water passes them.
    down : ndarray of int64, shape (cells,)
        The number of the one that each leads to; -1 where that is none of them.
    area : ndarray, shape (cells,)
        Square metres that drain through each.
    heights : ndarray, shape (cells,)
        In metres.
    lengths : ndarray, shape (cells,)
        Metres to the one it leads to.
    level : ndarray of bool, shape (cells,)
        Whether water goes on from it over level ground that no way was cut through.
    least : float
        Square metres from which on cells are in it.
    """

    grid: Grid
    cells: Numbers = field(repr=False)
    down: Numbers = field(repr=False)
    area: FloatArray = field(repr=False)
    heights: FloatArray = field(repr=False)
    lengths: FloatArray = field(repr=False)
    level: npt.NDArray[np.bool_] = field(repr=False)
    least: float

    @cached_property
    def by_slope(self) -> FloatArray:
        """Square metres of ground that would make a head of each place, or of one above it, on a slope of 10 %:
        area times the square of the slope over that."""
        begins = np.zeros(len(self.cells))
        over = max(_SLOPE_OVER, _SLOPE_CELLS * min(self.grid.metres_per_cell()))
        _by_slope(self.down, self.area, self.heights, self.lengths, over, _USUAL_SLOPE, begins)
        return begins

    def streams(
        self,
        area: float,
        minimum_length: float = 0.0,
        over_level: bool = True,
        heads: Heads = "area",
        above: Sequence[int] | None = None,
    ) -> Streams:
        """The streams that begin where so much ground drains through a cell.

        Parameters
        ----------
        area : float
            Square metres.
        minimum_length : float
            Metres; streams from a head to the first junction that are shorter are left out.
        over_level : bool
            Whether the stretches over level ground are among them. Without them streams end where such ground begins,
            and go on behind it with the orders and magnitudes that they have.
        heads : {"area", "slope"}
            Whether they begin at so much ground, or at so much on a slope of 10 %: at more where it is gentler, at less
            where it is steeper, but at no less than is kept.
        above : sequence of int, optional
            Cells, counted along rows. Only what flows through one of them is told, down to the lowest of them;
            orders and magnitudes are as they are without it. All of it where this is not given.

        Raises
        ------
        InputError
            Where the area is less than what is kept.
        """
        if not area >= self.least:
            raise InputError(f"Streams are known from {self.least / 10_000:g} ha on. Choose that or more.")
        used = (self.area if heads == "area" else self.by_slope) >= area
        found = self._linked(used)
        while minimum_length > 0:
            short = (found.magnitude == 1) & (found.below >= 0) & (found.length < minimum_length)
            # of what meets at a junction the longest stays
            longest = np.zeros(len(found))
            np.maximum.at(longest, found.below[found.below >= 0], found.length[found.below >= 0])
            short &= found.length < longest[found.below]
            if not short.any():
                break
            for number in np.flatnonzero(short):
                used[self._at(found.cells[found.starts[number] : found.starts[number + 1] - 1])] = False
            found = self._linked(used)
        if above is not None:
            # what joins a stream joins it from above, so that orders there do not change
            used &= self._through(above)
            found = self._linked(used)
        return found if over_level else self._linked(used, without=self._unsure)

    @cached_property
    def _unsure(self) -> npt.NDArray[np.bool_]:
        """Whether the way from a place to the next is part of a long one over level ground."""
        way = np.empty(len(self.cells))
        _level_ways(self.down, self.level, self.lengths, way)
        found: npt.NDArray[np.bool_] = way >= max(_LONG_LEVEL, _LONG_CELLS * min(self.grid.metres_per_cell()))
        return found

    def _through(self, cells: Sequence[int]) -> npt.NDArray[np.bool_]:
        """Which places have water that comes to one of some cells."""
        through: npt.NDArray[np.bool_] = np.isin(self.cells, np.asarray(cells, np.int64))
        _passing(self.down, through)
        return through

    @cached_property
    def _by_cell(self) -> Numbers:
        return np.argsort(self.cells)

    def _at(self, cells: Numbers) -> Numbers:
        found: Numbers = self._by_cell[np.searchsorted(self.cells, cells, sorter=self._by_cell)]
        return found

    def _links(self, down: Numbers, used: npt.NDArray[np.bool_]) -> tuple[Numbers, ...]:
        """For each place the number of its link, -1 where it has none; and where links start and end, their orders and
        magnitudes."""
        size = len(self.cells)
        link, above = np.full(size, -1, np.int64), np.zeros(size, np.int8)
        starts, ends = np.empty(size, np.int64), np.empty(size, np.int64)
        order, magnitude = np.empty(size, np.int64), np.empty(size, np.int64)
        count = int(_linked(down, used, link, starts, ends, order, magnitude, above))
        return link, starts[:count], ends[:count], order[:count], magnitude[:count]

    def _linked(self, used: npt.NDArray[np.bool_], without: npt.NDArray[np.bool_] | None = None) -> Streams:
        """The network of places that are used. without: places whose steps are cut out of it."""
        down = np.where((self.down >= 0) & used[self.down], self.down, -1)
        link, starts, ends, order, magnitude = self._links(down, used)
        if without is not None:
            whole = link, order, magnitude
            used = used & ~without
            down = np.where((down >= 0) & used[down], down, -1)
            link, starts, ends, _, _ = self._links(down, used)
            order, magnitude = (one[whole[0][starts]] for one in whole[1:])
        count = len(starts)
        length = np.zeros(count)
        _measure(down, used, link, np.where(down >= 0, self.lengths, 0.0), length)
        sizes, path = np.zeros(count, np.int64), np.empty(int(used.sum()) + count, np.int64)
        _paths(down, starts, ends, sizes, path)
        bounds = np.append(0, np.cumsum(sizes))
        path = path[: bounds[-1]]
        last = path[bounds[1:] - 1]
        # a link that ends in a junction ends in the first cell of the link below
        below = np.where(link[last] != np.arange(count), link[last], -1)
        before = np.where(below >= 0, path[np.maximum(bounds[1:] - 2, bounds[:-1])], last)
        # a single cell is no line: one that drains just enough where water leaves, or a junction there
        lines = sizes > 1
        level = np.zeros(count)
        _measure(down, used & self._unsure, link, self.lengths, level)
        number = np.append(np.where(lines, np.cumsum(lines) - 1, -1), -1)
        shown = path[np.repeat(lines, sizes)]
        return Streams(
            self.grid,
            order[lines],
            magnitude[lines],
            number[below[lines]],
            length[lines],
            self.area[before[lines]],
            self.heights[starts[lines]],
            self.heights[last[lines]],
            self.cells[shown],
            np.append(0, np.cumsum(sizes[lines])),
            self._unsure[shown],
            level[lines],
        )


def channels(
    heights: Heights,
    to: Directions,
    counts: npt.NDArray[Any],
    grid: Grid,
    least: float,
    level: npt.NDArray[np.bool_] | None = None,
) -> Channels:
    """The cells through which at least so much ground drains.

    Parameters
    ----------
    heights, to : ndarray, shape (rows, cols)
        Heights in metres, and where water goes.
    counts : ndarray, shape (rows, cols)
        How many cells drain through each, along `to`; 0 or NaN where there is no height.
    grid : Grid
    least : float
        Square metres.
    level : ndarray of bool, shape (rows, cols), optional
        Where water goes on over level ground; nowhere if not given.

    Raises
    ------
    InputError
        Where nothing drains so much ground, or the area is not above 0.
    """
    if not least > 0:
        raise InputError("Streams begin at an area above 0.")
    ground = float(np.prod(grid.metres_per_cell()))
    cells = np.flatnonzero(counts.ravel() * ground >= least)
    if not cells.size:
        raise InputError(_none(least, float(np.nanmax(counts, initial=0)) * ground))
    drained = counts.ravel()[cells].astype(np.float64)
    # what drains more lies below
    order = np.argsort(drained, kind="stable")
    cells, drained = cells[order], drained[order]
    places = np.full(to.shape, -1, np.int32)
    places.ravel()[cells] = np.arange(len(cells))
    down, lengths = np.empty(len(cells), np.int64), np.empty(len(cells))
    _below(cells, to, grid.cols, places, down, lengths, apart_on(grid))
    over = np.zeros(len(cells), np.bool_) if level is None else level.ravel()[cells]
    high = heights.ravel()[cells].astype(np.float64)
    return Channels(grid, cells, down, drained * ground, high, lengths, over, float(least))


def _none(least: float, most: float) -> str:
    return f"No cell drains {least / 10_000:g} ha; the most is {most / 10_000:.3g} ha. Let streams begin at less."


def sparse_channels(
    cells: Numbers,
    counts: FloatArray,
    to: npt.NDArray[Any],
    heights: FloatArray,
    given: FloatArray,
    grid: Grid,
    least: float,
) -> Channels:
    """As `channels`, from those cells alone through which enough ground drains.

    cells: counted along rows; counts, to, heights, given: of each of them, the heights after and before conditioning.
    """
    if not len(cells):
        raise InputError(_none(least, 0.0))
    order = np.lexsort((cells, counts))
    cells, counts, to, heights, given = cells[order], counts[order], to[order], heights[order], given[order]
    goes = np.flatnonzero((to >= 0) & (to < 8))
    way = to[goes].astype(np.int64)
    into = cells[goes] + ROWS[way] * grid.cols + COLS[way]
    by_cell = np.argsort(cells)
    at = np.minimum(np.searchsorted(cells, into, sorter=by_cell), len(cells) - 1)
    found = by_cell[at]
    down, lengths = np.full(len(cells), -1, np.int64), np.zeros(len(cells))
    there = cells[found] == into
    down[goes[there]] = found[there]
    lengths[goes[there]] = apart_on(grid)[way[there]]
    level = (down >= 0) & (heights[down] == heights) & (given <= heights)
    ground = float(np.prod(grid.metres_per_cell()))
    return Channels(grid, cells, down, counts * ground, heights, lengths, level, float(least))
