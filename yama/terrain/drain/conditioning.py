"""Heights over which water finds its way out: hollows filled, breached, or whichever changes less.

Breaching along the least cost follows J. Lindsay and K. Dhun (International Journal of Geographical Information Science
29, 2015) and J. Lindsay (Hydrological Processes 30, 2016): from the lowest place of a hollow to the nearest lower
ground, where near means how much must be cut on the way.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.directions import COLS, ROWS, apart_on, is_edge
from yama.terrain.drain.hollows import Flags, Hollows
from yama.terrain.drain.strips import in_turn
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights

Method = Literal["leave", "fill", "breach", "lesser"]

LEFT, FILLED, BREACHED = 0, 1, 2
_AT_ONCE = 2_000  # hollows between two words of progress
_ROOM = 1 << 18  # cells that a hollow may have before more room is made
_FEW = 64  # cells of a hollow that is flooded before a way out is looked for
_SEARCHES = 1 << 21  # hollows that are told apart before notes are begun anew
_CELL_BITS = 40  # of a key: as many cells can be told apart


@kernel
def _noted(notes, side, row, col, cell, now):
    """The place of a cell among the notes of a search, and whether it has been noted. side: 0 where there is room for a
    note of every cell; else notes fill a square with sides of so many, and begin anew beyond it: neighbours are noted
    beside each other, however large the surface is."""
    if side == 0:  # there is room for every cell
        known = notes[cell] == now
        notes[cell] = now
        return cell, known
    wanted = np.int64(now) << _CELL_BITS | np.int64(cell)
    mask = notes.size - 1
    at = ((row & (side - 1)) * side + (col & (side - 1))) & mask
    while True:
        if notes[at] == wanted:
            return at, True
        if notes[at] >> _CELL_BITS != now:
            notes[at] = wanted
            return at, False
        at = (at + 1) & mask


@kernel
def _flooded(heights, start, notes, side, now, most_depth, most_cells, most_added, heap, keys, cells):
    """Flood a hollow from its lowest place until water runs over: the level, how many cells are in `cells`, and what
    must be added to all of these, in metres times cells. The level is NaN where it is deeper or larger than allowed, or
    more must be added, and the count -1 where there is no room in the heap."""
    rows, cols = heights.shape
    low = heights[start // cols, start % cols]
    level = low
    size = push(heap, keys, 0, start, low)
    _noted(notes, side, start // cols, start % cols, start, now)
    used = 1
    count = 0
    total = 0.0
    while size > 0:
        if size + 8 > heap.size or count == cells.size or (side > 0 and 2 * used + 16 > notes.size):
            return level, -1, 0.0
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell % cols
        z = heights[r, c]
        if z < level:
            break
        level = z
        if level - low > most_depth or count > most_cells or level * np.float64(count) - total > most_added:
            return np.float32(np.nan), count, 0.0
        if is_edge(heights, r, c):
            break
        cells[count] = cell
        count += 1
        total += z
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            _, known = _noted(notes, side, i, j, i * cols + j, now)
            if not known:
                used += 1
                size = push(heap, keys, size, i * cols + j, heights[i, j])
    return level, count, level * np.float64(count) - total


@kernel
def _way_out(heights, start, notes, side, now, cost, back, apart, most_cost, most_depth, most_length, heap, keys, path):
    """The way from a lowest place to lower ground, or off the surface, along which least must be cut: the cell where it
    ends, what is cut, in metres times cells, and its length. The cell is -1 where there is none within the limits, and
    -2 where there is no room in the heap. path: the cells of the way from its end back, -1 after the last one."""
    rows, cols = heights.shape
    low = np.float64(heights[start // cols, start % cols])
    size = push(heap, keys, 0, start, 0.0)
    place, _ = _noted(notes, side, start // cols, start % cols, start, now)
    cost[place] = 0.0
    back[place] = -1
    used = 1
    while size > 0:
        if size + 8 > heap.size or (side > 0 and 2 * used + 16 > notes.size):
            return -2, 0.0, 0.0
        spent = keys[0]
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell % cols
        place, _ = _noted(notes, side, r, c, cell, now)
        if spent > cost[place]:
            continue  # a dearer way to where a cheaper one has been
        if spent > most_cost:
            break
        z = heights[r, c]
        if z < low or is_edge(heights, r, c):
            length = 0.0
            at = cell
            count = 0
            while True:
                if count + 1 == path.size:
                    return -2, 0.0, 0.0
                path[count] = at
                count += 1
                place, _ = _noted(notes, side, at // cols, at % cols, at, now)
                n = back[place]
                if n < 0:
                    break
                length += apart[n]
                at -= ROWS[n] * cols + COLS[n]
            path[count] = -1
            if length > most_length:
                return -1, spent, length
            return cell, spent, length
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            at = i * cols + j
            above = max(heights[i, j] - low, 0.0)
            if above > most_depth:
                continue
            # of two ways that cut as much the shorter one is taken
            there = np.float32(spent + above + 1e-6 * apart[n])
            place, known = _noted(notes, side, i, j, at, now)
            used += not known
            if not known or there < cost[place]:
                cost[place] = there
                back[place] = n
                size = push(heap, keys, size, at, np.float64(there))
    return -1, 0.0, 0.0


@kernel
def _condition(
    heights,
    starts,
    first,
    last,
    filling,
    breaching,
    fill_depth,
    fill_cells,
    cut_depth,
    cut_length,
    apart,
    notes,
    side,
    cost,
    back,
    heap,
    keys,
    cells,
    path,
    done,
    raised,
    cut,
    lengths,
):
    """Fill or breach hollows in place, from that with the highest lowest place on: when one is looked at, all within it
    have a way into it. done: what was done; raised, cut: metres times cells; lengths: of ways that were cut. Returns
    the number of the first that is left, because there is no room in the heap."""
    rows, cols = heights.shape
    for k in range(first, last):
        start = starts[k]
        level = np.float32(np.nan)
        count = 0
        added = 0.0
        now = 3 * (k % _SEARCHES) + 1
        if filling:
            few = min(fill_cells, _FEW) if breaching else fill_cells
            level, count, added = _flooded(heights, start, notes, side, now, fill_depth, few, np.inf, heap, keys, cells)
            if count < 0:
                return k
        fits = filling and not np.isnan(level)
        end = -1
        if breaching:
            end, spent, length = _way_out(
                heights,
                start,
                notes,
                side,
                now + 1,
                cost,
                back,
                apart,
                added if fits else np.inf,
                cut_depth,
                cut_length,
                heap,
                keys,
                path,
            )
            if end == -2:
                return k
            # a large hollow is flooded only as far as that moves less ground than the way out does
            if filling and not fits and fill_cells > _FEW:
                most = spent if end >= 0 else np.inf
                level, count, added = _flooded(
                    heights, start, notes, side, now + 2, fill_depth, fill_cells, most, heap, keys, cells
                )
                if count < 0:
                    return k
                fits = not np.isnan(level)
        if end >= 0 and not (fits and added <= spent):
            low = heights[start // cols, start % cols]
            m = 0
            while path[m] >= 0:
                r = path[m] // cols
                c = path[m] % cols
                if heights[r, c] > low:
                    cut[k] += heights[r, c] - low
                    heights[r, c] = low
                m += 1
            lengths[k] = length
            done[k] = BREACHED
        elif fits:
            for m in range(count):
                heights[cells[m] // cols, cells[m] % cols] = level
            raised[k] = added
            done[k] = FILLED
    return last


@dataclass(frozen=True)
class Limits:
    """Up to where hollows are changed; None where that does not matter.

    Parameters
    ----------
    depth : float, optional
        Metres that a hollow may be deep to be filled, and that a way out may be cut.
    area : float, optional
        Square metres that a hollow may cover to be filled.
    length : float, optional
        Metres that a way out may be long.
    """

    depth: float | None = None
    area: float | None = None
    length: float | None = None


@dataclass(frozen=True)
class Conditioned:
    """Heights over which water finds its way out.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        In metres.
    done : ndarray of int8, shape (basins + 1,)
        What was done about each lowest place: LEFT, FILLED or BREACHED.
    raised, cut : ndarray, shape (basins + 1,)
        Cubic metres added and taken away for it.
    lengths : ndarray, shape (basins + 1,)
        Metres of the way that was cut for it.
    """

    heights: Heights = field(repr=False)
    done: npt.NDArray[np.int8] = field(repr=False)
    raised: FloatArray = field(repr=False)
    cut: FloatArray = field(repr=False)
    lengths: FloatArray = field(repr=False)

    @property
    def moved(self) -> float:
        """Cubic metres added and taken away."""
        return float(self.raised.sum() + self.cut.sum())


def condition(
    found: Hollows,
    method: Method,
    limits: Limits | None = None,
    kept: Flags | None = None,
    progress: Progress = ignore_progress,
) -> Conditioned:
    """Make water find its way out of hollows.

    Parameters
    ----------
    found : Hollows
    method : {"leave", "fill", "breach", "lesser"}
        lesser: each is filled or breached, whichever moves less ground.
    limits : Limits, optional
        What is beyond them is left as it is, but what lies within it is not.
    kept : ndarray of bool, shape (basins + 1,), optional
        Lowest places that keep their water.
    progress : callable

    Returns
    -------
    Conditioned

    Raises
    ------
    InputError
        Where a limit is not above 0, or `kept` is not of these hollows.
    """
    limits = limits or Limits()
    for title, limit in (("depth", limits.depth), ("area", limits.area), ("length", limits.length)):
        if limit is not None and not limit > 0:
            raise InputError(f"The largest {title} must be above 0.")
    count = found.basins
    if kept is not None and kept.shape != (count + 1,):
        raise InputError(f"There are {count} lowest places, and {kept.size - 1} are said to be kept or not.")
    heights = found.heights.copy()
    done, lengths = np.zeros(count + 1, np.int8), np.zeros(count + 1)
    raised, cut = np.zeros(count + 1), np.zeros(count + 1)
    if method == "fill" and kept is None and limits.depth is None and limits.area is None:
        return _all_filled(found, progress)
    if method != "leave":
        wanted = np.arange(1, count + 1)
        if kept is not None:
            wanted = wanted[~kept[1:]]
        # the highest first; of two alike the one that stands first, so that the outcome is always the same
        wanted = wanted[np.lexsort((found.low_at[wanted], -found.low[wanted]))]
        starts, told = found.low_at[wanted], part_of(progress, 0.0, 0.99)
        outcomes = work_off(heights, found.grid, starts, method, limits, True, told)
        done[wanted], raised[wanted], cut[wanted], lengths[wanted] = outcomes
    progress(1.0)
    return Conditioned(heights, done, raised * found.cell_area, cut * found.cell_area, lengths)


def _all_filled(found: Hollows, progress: Progress) -> Conditioned:
    """Every hollow filled: told by the tree, without flooding any."""
    count = found.basins
    done = np.ones(count + 1, np.int8)
    done[0] = LEFT
    raised, nothing = np.zeros(count + 1), np.zeros(count + 1)
    outer = found.outermost
    at = found.basin.ravel()[found.low_at[outer]]
    raised[at] = found.volume[outer]
    return Conditioned(found.filled(progress=progress), done, raised, nothing, nothing.copy())


def work_off(
    heights: Heights,
    grid: Grid,
    starts: npt.NDArray[np.int64],
    method: Method,
    limits: Limits,
    whole: bool,
    progress: Progress = ignore_progress,
) -> tuple[npt.NDArray[np.int8], FloatArray, FloatArray, FloatArray]:
    """Fill or breach hollows in place.

    heights: those of the grid; they may lie in a mapped file, for little is held beside them. starts: lowest places,
    counted along rows, in the order in which they are worked off. whole: whether there is memory for a note of every
    cell, which is faster. Returned of each: what was done, metres times cells
    that were added and taken away, and the metres of the way that was cut.
    """
    count = len(starts)
    done, raised, cut, lengths = np.zeros(count, np.int8), np.zeros(count), np.zeros(count), np.zeros(count)
    filling, breaching = method in ("fill", "lesser"), method in ("breach", "lesser")
    depth = np.inf if limits.depth is None else limits.depth
    area = float(np.prod(grid.metres_per_cell()))
    most = heights.size if limits.area is None else int(limits.area / area + 1e-6)
    length = np.inf if limits.length is None else limits.length
    bounds = depth, most, depth, length, apart_on(grid)
    room = _Room(_ROOM, heights.size if whole else 0)
    reached = 0
    while reached < count:
        # the notes of searches that were told apart so far would be taken for those of others
        until = min(reached + _AT_ONCE, count, (reached // _SEARCHES + 1) * _SEARCHES)
        if reached % _SEARCHES == 0:
            room.notes[:] = 0
        outcomes = done, raised, cut, lengths
        came = _condition(heights, starts, reached, until, filling, breaching, *bounds, *room.arrays, *outcomes)
        if came < until:
            room = room.larger()  # what was begun is begun again
        reached = came
        progress(reached / count)
    return done, raised, cut, lengths


class _Room:
    """What a search needs of arrays.

    Parameters
    ----------
    cells : int
        How many it may come to, a power of 4.
    every : int
        How many the surface has, where there is a note of each; 0 where there are notes of those alone that it comes
        to.
    """

    def __init__(self, cells: int, every: int = 0) -> None:
        self.cells, self.every = cells, every
        side = 0 if every else int(np.sqrt(cells))
        self.notes = np.zeros(every or cells, np.int32 if every else np.int64)
        noted = self.notes, side, np.empty(len(self.notes), np.float32), np.empty(len(self.notes), np.int8)
        heap = np.empty(cells, np.int64), np.empty(cells)
        self.arrays = (*noted, *heap, np.empty(cells, np.int64), np.empty(cells, np.int64))

    def larger(self) -> _Room:
        """Four times as large."""
        return _Room(4 * self.cells, self.every)


def ways_out(
    heights: Heights,
    grid: Grid,
    starts: npt.NDArray[np.int64],
    whole: bool,
    progress: Progress = ignore_progress,
) -> tuple[FloatArray, FloatArray]:
    """From lowest places the length, in metres, of the way on which least must be cut to let water out, and what must be
    cut, in cubic metres; NaN where there is none. starts: counted along rows; whole: as `work_off` has it."""
    apart, area = apart_on(grid), float(np.prod(grid.metres_per_cell()))
    lengths, cuts = np.full(len(starts), np.nan), np.full(len(starts), np.nan)
    room = _Room(_ROOM, heights.size if whole else 0)
    for number, start in enumerate(starts.tolist()):
        while True:
            notes, side, cost, back, heap, keys, _, path = room.arrays
            noted = notes, side, number + 1, cost, back
            end, spent, length = _way_out(heights, start, *noted, apart, np.inf, np.inf, np.inf, heap, keys, path)
            if end != -2:
                break
            room = room.larger()
        if end >= 0:
            lengths[number], cuts[number] = length, spent * area
        progress((number + 1) / len(starts))
    return lengths, cuts


def with_fall(
    heights: Heights,
    to: npt.NDArray[np.int8],
    fall: float,
    grid: Grid,
    progress: Progress = ignore_progress,
    zeros: Callable[..., npt.NDArray[Any]] = np.zeros,
) -> Heights:
    """Heights that fall along the way of the water.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        Conditioned, in metres.
    to : ndarray of int8, shape (rows, cols)
        Where water goes.
    fall : float
        Metres a metre that they fall at least. A fall smaller than what the numbers can tell is the next number.
    grid : Grid
    progress : callable
    zeros : callable
        As `accumulation` has it.
    """
    raised = zeros(heights.shape, np.float32)
    raised[:] = heights
    done = zeros(heights.shape, np.bool_)
    way = np.empty(heights.size, np.int64)  # what is not used takes no memory
    in_turn(_raise, heights.shape, (to, fall * apart_on(grid)), (done, way, raised), progress)
    return raised


@kernel
def _raise(to, falls, first, last, done, way, heights):
    """Raise cells of rows, and all below them, in place, from the end of their way up."""
    cols = to.shape[1]
    for row in range(first, last):
        for col in range(cols):
            r = row
            c = col
            size = 0
            while not done[r, c]:
                done[r, c] = True
                n = to[r, c]
                if n < 0 or n > 7:
                    break
                way[size] = r * cols + c
                size += 1
                r += ROWS[n]
                c += COLS[n]
            for k in range(size - 1, -1, -1):
                r = way[k] // cols
                c = way[k] % cols
                n = to[r, c]
                below = heights[r + ROWS[n], c + COLS[n]]
                least = below + falls[n]
                if heights[r, c] < least:
                    z = np.float32(least)
                    heights[r, c] = z if z > below else np.nextafter(below, np.float32(np.inf))
