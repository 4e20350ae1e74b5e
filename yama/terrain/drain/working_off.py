"""Hollows worked off one after the other: each is filled, or a way is cut out of it.

Breaching along the least cost follows J. Lindsay and K. Dhun (International Journal of Geographical Information Science
29, 2015) and J. Lindsay (Hydrological Processes 30, 2016): from the lowest place of a hollow to the nearest lower
ground, where near means how much must be cut on the way.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.drain.directions import COLS, ROWS, apart_on, is_edge
from yama.terrain.drain.far import SHIFT, SIDE, least_left
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.heap import pop, push
from yama.terrain.kernels import kernel
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights

Method = Literal["leave", "fill", "breach", "lesser"]

LEFT, FILLED, BREACHED = 0, 1, 2
_PATIENCE = 0.5  # seconds between two words of progress
_ROOM = 1 << 18  # cells that a hollow may have before more room is made
_FEW = 64  # cells of a hollow that is flooded before a way out is looked for
_SEARCHES = 1 << 20  # hollows that are told apart before notes are begun anew
_CELL_BITS = 40  # of a key: as many cells can be told apart
_LED = ((0, 30_000), (64, 60_000), (256, 400_000), (512, -1))
"""Blocks a side that lead a search, and the cells that it may come to before more of them do."""
_NUMBERS = len(_LED) + 2  # of searches that a hollow may take: its ways, and two floods


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
def _flooded(heights, start, notes, side, now, most_depth, most_cells, most_added, heap, keys, cells, told):
    """Flood a hollow from its lowest place until water runs over: the level, how many cells are in `cells`, and what
    must be added to all of these, in metres times cells. The level is NaN where it is deeper or larger than allowed, or
    more must be added, and the count -1 where there is no room in the heap, or it was told to stop."""
    rows, cols = heights.shape
    low = heights[start // cols, start % cols]
    level = low
    size = push(heap, keys, 0, start, low)
    _noted(notes, side, start // cols, start % cols, start, now)
    used = 1
    count = 0
    total = 0.0
    while size > 0:
        if told[0] != 0 or size + 8 > heap.size or count == cells.size or (side > 0 and 2 * used + 16 > notes.size):
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
def _left_at(left, down, across):
    """What the rest of a way takes at least from a cell so far from the corner of the blocks; nothing beyond them."""
    if down < 0 or across < 0 or down >= left.shape[0] << SHIFT or across >= left.shape[0] << SHIFT:
        return 0.0
    return left[down >> SHIFT, across >> SHIFT]


@kernel
def _way_within(
    heights,
    start,
    notes,
    side,
    now,
    cost,
    back,
    apart,
    most_cost,
    most_depth,
    most_length,
    heap,
    keys,
    path,
    left,
    pops,
    told,
):
    """The way from a lowest place to lower ground, or off the surface, along which least must be cut: the cell where it
    ends, what is cut, in metres times cells, and its length. The cell is -1 where there is none within the limits, -2
    where there is no room in the heap or it was told to stop, and -3 where more than `pops` cells would have to be
    looked at (-1 is any number). left: what the rest of a way takes at least, as `least_left` has it, in the middle of which the search begins; nothing
    where it is empty. path: the cells of the way from its end back, -1 after the last one."""
    rows, cols = heights.shape
    low = np.float64(heights[start // cols, start % cols])
    blocks = left.shape[0]
    north = start // cols - blocks // 2 * SIDE
    west = start % cols - blocks // 2 * SIDE
    size = push(heap, keys, 0, start, 0.0)
    place, _ = _noted(notes, side, start // cols, start % cols, start, now)
    cost[place] = 0.0
    back[place] = -1
    used = 1
    while size > 0:
        if told[0] != 0 or size + 8 > heap.size or (side > 0 and 2 * used + 16 > notes.size):
            return -2, 0.0, 0.0
        spent = keys[0]
        cell, size = pop(heap, keys, size)
        r = cell // cols
        c = cell - r * cols
        place, _ = _noted(notes, side, r, c, cell, now)
        if spent > cost[place] + _left_at(left, r - north, c - west):
            continue  # a dearer way to where a cheaper one has been
        if pops == 0:
            return -3, 0.0, 0.0
        pops -= 1
        spent = np.float64(cost[place])
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
            z = heights[i, j]
            above = max(z - low, 0.0)
            if above > most_depth:
                continue
            # of two ways that cut as much the shorter one is taken
            there = np.float32(spent + above + 1e-6 * apart[n])
            place, known = _noted(notes, side, i, j, at, now)
            if known and there >= cost[place]:
                continue
            used += not known
            cost[place] = there
            back[place] = n
            sum = there + _left_at(left, i - north, j - west)
            if sum <= most_cost:
                size = push(heap, keys, size, at, sum)
                if z < low:
                    most_cost = np.float64(there)
    return -1, 0.0, 0.0


@kernel
def _way_out(
    heights, start, notes, side, now, cost, back, apart, most_cost, most_depth, most_length, heap, keys, path, told
):
    """As `_way_within`, however far it is: a search that comes to many cells begins again, and is led."""
    cols = heights.shape[1]
    for attempt in range(len(_LED)):
        blocks, pops = _LED[attempt]
        left = least_left(heights, start // cols, start % cols, blocks) if blocks > 0 else np.zeros((0, 0))
        end, spent, length = _way_within(
            heights,
            start,
            notes,
            side,
            now + attempt,
            cost,
            back,
            apart,
            most_cost,
            most_depth,
            most_length,
            heap,
            keys,
            path,
            left,
            pops,
            told,
        )
        if end != -3:
            break
    return end, spent, length


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
    told,
):
    """Fill or breach hollows in place, from that with the highest lowest place on: when one is looked at, all within it
    have a way into it. done: what was done; raised, cut: metres times cells; lengths: of ways that were cut. told: 1
    where it is to stop, and which hollow it is at. Returns the number of the first that is left, because there is no room
    in the heap."""
    rows, cols = heights.shape
    for k in range(first, last):
        told[1] = k
        start = starts[k]
        level = np.float32(np.nan)
        count = 0
        added = 0.0
        now = _NUMBERS * (k % _SEARCHES) + 1
        if filling:
            few = min(fill_cells, _FEW) if breaching else fill_cells
            level, count, added = _flooded(
                heights, start, notes, side, now, fill_depth, few, np.inf, heap, keys, cells, told
            )
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
                told,
            )
            if end == -2:
                return k
            # a large hollow is flooded only as far as that moves less ground than the way out does
            if filling and not fits and fill_cells > _FEW:
                most = spent if end >= 0 else np.inf
                level, count, added = _flooded(
                    heights,
                    start,
                    notes,
                    side,
                    now + _NUMBERS - 1,
                    fill_depth,
                    fill_cells,
                    most,
                    heap,
                    keys,
                    cells,
                    told,
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
    cell, which is faster. Returned of each: what was done, metres times cells that were added and taken away, and the
    metres of the way that was cut.
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
    outcomes = done, raised, cut, lengths
    reached = 0
    with _Heard(progress, count) as heard:
        while reached < count:
            # the notes of searches that were told apart so far would be taken for those of others
            until = min(count, (reached // _SEARCHES + 1) * _SEARCHES)
            if reached % _SEARCHES == 0:
                room.notes[:] = 0
            given = heights, starts, reached, until, filling, breaching, *bounds, *room.arrays, *outcomes
            came = heard.run(_condition, given)
            if came < until:
                room = room.larger()  # what was begun is begun again
            reached = came
    return done, raised, cut, lengths


class _Heard:
    """Runs kernels that hear a stop while they run, however long.

    Parameters
    ----------
    progress : callable
    count : int
        Of how many hollows they say which they are at.
    """

    def __init__(self, progress: Progress, count: int) -> None:
        self._progress, self._count = progress, count
        self._told = np.zeros(2, np.int64)
        self._worker = ThreadPoolExecutor(1)

    def __enter__(self) -> _Heard:
        return self

    def __exit__(self, *_: object) -> None:
        self._told[0] = 1
        self._worker.shutdown()

    def run(self, kernel: Callable[..., Any], given: Sequence[Any], at: int | None = None) -> Any:
        """What a kernel makes of what is given, and of what it is told. at: the hollow, where the kernel does not say."""
        if at is not None:
            self._told[1] = at
        made = self._worker.submit(kernel, *given, self._told)
        while True:
            finished, _ = wait([made], timeout=_PATIENCE)
            self._progress(int(self._told[1]) / self._count)
            if finished:
                return made.result()


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
    with _Heard(progress, len(starts)) as heard:
        for number, start in enumerate(starts.tolist()):
            if number and number % _SEARCHES == 0:  # as in `work_off`
                room.notes[:] = 0
            while True:
                notes, side, cost, back, heap, keys, _, path = room.arrays
                noted = notes, side, _NUMBERS * (number % _SEARCHES) + 1, cost, back
                given = heights, start, *noted, apart, np.inf, np.inf, np.inf, heap, keys, path
                end, spent, length = heard.run(_way_out, given, number)
                if end != -2:
                    break
                room = room.larger()
            if end >= 0:
                lengths[number], cuts[number] = length, spent * area
    return lengths, cuts
