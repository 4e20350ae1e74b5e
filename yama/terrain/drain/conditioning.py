"""Heights over which water finds its way out: hollows filled, breached, or whichever changes less.

Breaching along the least cost follows J. Lindsay and K. Dhun (International Journal of Geographical Information Science
29, 2015) and J. Lindsay (Hydrological Processes 30, 2016): from the lowest place of a hollow to the nearest lower
ground, where near means how much must be cut on the way.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.directions import COLS, ROWS, apart_on, edges
from yama.terrain.drain.hollows import Flags, Hollows
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray
from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights

Method = Literal["leave", "fill", "breach", "lesser"]

LEFT, FILLED, BREACHED = 0, 1, 2
_AT_ONCE = 2_000  # hollows between two words of progress
_ROOM = 1 << 18  # cells that a hollow may have before more room is made


@kernel
def _flooded(heights, edge, start, stamp, now, most_depth, most_cells, heap, keys, cells):
    """Flood a hollow from its lowest place until water runs over: the level, how many cells are in `cells`, and what
    must be added to all of these, in metres times cells. The level is NaN where it is deeper or larger than allowed,
    and the count -1 where there is no room in the heap."""
    rows, cols = heights.shape
    low = heights[start // cols, start % cols]
    level = low
    size = push(heap, keys, 0, start, low)
    stamp[start] = now
    count = 0
    total = 0.0
    while size > 0:
        if size + 8 > heap.size or count == cells.size:
            return level, -1, 0.0
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell % cols
        z = heights[r, c]
        if z < level:
            break
        level = z
        if level - low > most_depth or count > most_cells:
            return np.float32(np.nan), count, 0.0
        if edge[r, c]:
            break
        cells[count] = cell
        count += 1
        total += z
        for n in range(8):
            i = r + ROWS[n]
            j = c + COLS[n]
            at = i * cols + j
            if stamp[at] != now:
                stamp[at] = now
                size = push(heap, keys, size, at, heights[i, j])
    return level, count, level * np.float64(count) - total


@kernel
def _way_out(heights, edge, start, stamp, now, cost, back, apart, most_cost, most_depth, most_length, heap, keys):
    """The way from a lowest place to lower ground, or off the surface, along which least must be cut: the cell where it
    ends, what is cut, in metres times cells, and its length. The cell is -1 where there is none within the limits, and
    -2 where there is no room in the heap."""
    rows, cols = heights.shape
    low = np.float64(heights[start // cols, start % cols])
    size = push(heap, keys, 0, start, 0.0)
    stamp[start] = now
    cost[start] = 0.0
    back[start] = -1
    while size > 0:
        if size + 8 > heap.size:
            return -2, 0.0, 0.0
        spent = keys[0]
        cell, size = pop(heap, keys, size)
        if spent > cost[cell]:
            continue  # a dearer way to where a cheaper one has been
        if spent > most_cost:
            break
        r = cell // cols
        c = cell % cols
        z = heights[r, c]
        if z < low or edge[r, c]:
            length = 0.0
            at = cell
            while back[at] >= 0:
                n = back[at]
                length += apart[n]
                at -= ROWS[n] * cols + COLS[n]
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
            if stamp[at] != now or there < cost[at]:
                stamp[at] = now
                cost[at] = there
                back[at] = n
                size = push(heap, keys, size, at, np.float64(there))
    return -1, 0.0, 0.0


@kernel
def _condition(
    heights,
    edge,
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
    stamp,
    cost,
    back,
    heap,
    keys,
    cells,
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
        if filling:
            level, count, added = _flooded(
                heights, edge, start, stamp, 2 * k + 1, fill_depth, fill_cells, heap, keys, cells
            )
            if count < 0:
                return k
        fits = filling and not np.isnan(level)
        end = -1
        if breaching:
            end, spent, length = _way_out(
                heights,
                edge,
                start,
                stamp,
                2 * k + 2,
                cost,
                back,
                apart,
                added if fits else np.inf,
                cut_depth,
                cut_length,
                heap,
                keys,
            )
            if end == -2:
                return k
        if end >= 0 and not (fits and added <= spent):
            low = heights[start // cols, start % cols]
            at = end
            while True:
                r = at // cols
                c = at % cols
                if heights[r, c] > low:
                    cut[k] += heights[r, c] - low
                    heights[r, c] = low
                if back[at] < 0:
                    break
                n = back[at]
                at -= ROWS[n] * cols + COLS[n]
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
        _work(found, method, limits, heights, wanted, (done, raised, cut, lengths), progress)
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


def _work(
    found: Hollows,
    method: Method,
    limits: Limits,
    heights: Heights,
    wanted: npt.NDArray[np.int64],
    into: tuple[npt.NDArray[np.int8], FloatArray, FloatArray, FloatArray],
    progress: Progress,
) -> None:
    count = len(wanted)
    starts = found.low_at[wanted]
    outcomes: list[npt.NDArray[np.generic]] = [np.zeros(count, one.dtype) for one in into]
    size = heights.size
    edge = edges(heights)
    stamp = np.zeros(size, np.int32)
    breaching = method in ("breach", "lesser")
    cost = np.empty(size if breaching else 0, np.float32)
    back = np.empty(size if breaching else 0, np.int8)
    depth = np.inf if limits.depth is None else limits.depth
    cells = heights.size if limits.area is None else int(limits.area / found.cell_area + 1e-6)
    length = np.inf if limits.length is None else limits.length
    apart = apart_on(found.grid)
    told = part_of(progress, 0.0, 0.99)
    room = _ROOM
    first = 0
    while first < count:
        # what was begun where there was no room is begun again with more
        heap, keys, held = np.empty(room, np.int64), np.empty(room), np.empty(room, np.int64)
        reached = first
        while reached < count:
            until = min(reached + _AT_ONCE, count)
            reached = _condition(
                heights,
                edge,
                starts,
                reached,
                until,
                method in ("fill", "lesser"),
                breaching,
                depth,
                cells,
                depth,
                length,
                apart,
                stamp,
                cost,
                back,
                heap,
                keys,
                held,
                *outcomes,
            )
            told(reached / count)
            if reached < until:
                room *= 4
                stamp[:] = 0
                break
        first = reached
    given: tuple[npt.NDArray[np.generic], ...] = into
    for one, outcome in zip(given, outcomes, strict=True):
        one[wanted] = outcome


def ways_out(
    found: Hollows, nodes: npt.NDArray[np.int64], progress: Progress = ignore_progress
) -> tuple[FloatArray, FloatArray]:
    """For hollows the length, in metres, of the way on which least must be cut to let their water out, and what must be
    cut, in cubic metres; NaN where there is none."""
    heights, size = found.heights, found.heights.size
    edge = edges(heights)
    stamp, cost, back = np.zeros(size, np.int32), np.empty(size, np.float32), np.empty(size, np.int8)
    apart = apart_on(found.grid)
    lengths, cuts = np.full(len(nodes), np.nan), np.full(len(nodes), np.nan)
    room, now = _ROOM, 0
    heap, keys = np.empty(room, np.int64), np.empty(room)
    for number, node in enumerate(nodes.tolist()):
        while True:
            now += 1
            end, spent, length = _way_out(
                heights, edge, found.low_at[node], stamp, now, cost, back, apart, np.inf, np.inf, np.inf, heap, keys
            )
            if end != -2:
                break
            room *= 4
            heap, keys = np.empty(room, np.int64), np.empty(room)
        if end >= 0:
            lengths[number], cuts[number] = length, spent * found.cell_area
        progress((number + 1) / len(nodes))
    return lengths, cuts


def with_fall(
    heights: Heights, to: npt.NDArray[np.int8], fall: float, order: npt.NDArray[np.int64], apart: FloatArray
) -> Heights:
    """Heights that fall along the way of the water, by at least so many metres a metre.

    heights: conditioned. to, order: where water goes, and cells so that each comes after the one it leads to.
    """
    raised = heights.copy()
    _raise(raised, to, fall * apart, order)
    return raised


@kernel
def _raise(heights, to, falls, order):
    rows, cols = heights.shape
    for cell in order:
        r = cell // cols
        c = cell % cols
        n = to[r, c]
        if 0 <= n < 8:
            least = heights[r + ROWS[n], c + COLS[n]] + falls[n]
            if heights[r, c] < least:
                z = np.float32(least)
                # a fall smaller than what the number can tell is the next number
                if z <= heights[r + ROWS[n], c + COLS[n]]:
                    z = np.nextafter(heights[r + ROWS[n], c + COLS[n]], np.float32(np.inf))
                heights[r, c] = z
