"""Contours: lines of equal height, traced block by block and joined exactly.

Marching squares between cell centres (W. Lorensen and H. Cline, "Marching cubes", SIGGRAPH 1987, in the plane): where a level
lies between two neighbouring centres a line crosses between them, at the place of linear interpolation. A square with two high
corners across is parted by the mean of its four (G. Nielson and B. Hamann, "The asymptotic decider", Visualization 1991, as
a mean). A height equal to a level counts as above it, so no line has loose ends but at empty cells and at the grid's edge.
Higher ground lies on the left of every line. Each crossing has a number of its own on the whole grid, so lines of neighbouring
blocks join without a search and whatever the blocks are.
"""

from __future__ import annotations

import bisect
import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, Grid, Ground, Window, along_columns, ground_lengths, ground_of
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, LiveSurface, Surface, walk

ndimage = later("scipy.ndimage")

MOST_VERTICES = 40_000_000
MOST_LEVELS = 5_000
_BLOCK = 1_024

Indices = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Levels:
    """Heights of lines: base + k * interval, in height units; or those that are listed, from low to high."""

    interval: float
    base: float = 0.0
    listed: tuple[float, ...] = ()

    def at(self, number: int) -> float:
        """The height of the lines of a number."""
        return self.listed[number] if self.listed else self.base + number * self.interval

    def between(self, lowest: float, highest: float) -> int:
        """How many lie above one height and not above another."""
        if self.listed:
            return bisect.bisect_right(self.listed, highest) - bisect.bisect_right(self.listed, lowest)
        return math.floor((highest - self.base) / self.interval) - math.floor((lowest - self.base) / self.interval)


@dataclass(frozen=True)
class Lines:
    """Lines of equal height. starts: where each begins in `x` and `y`, and their end. numbers: which level each is of.
    A closed line repeats its first vertex."""

    x: FloatArray
    y: FloatArray
    starts: Indices
    numbers: Indices

    def __len__(self) -> int:
        return int(self.numbers.size)


@kernel
def _height(k, base, interval, listed):
    if listed.size == 0:
        return base + k * interval
    return listed[k] if k < listed.size else np.inf


@kernel
def _first_level(low, base, interval, listed):
    """The lowest k whose level is above a height."""
    if listed.size:
        return int(np.searchsorted(listed, low, side="right"))
    k = int(np.floor((low - base) / interval)) + 1
    while base + (k - 1) * interval > low:
        k -= 1
    while base + k * interval <= low:
        k += 1
    return k


@kernel
def _extremes(z, r, c):
    a, b, d, e = z[r, c], z[r, c + 1], z[r + 1, c], z[r + 1, c + 1]
    return min(min(a, b), min(d, e)), max(max(a, b), max(d, e)), a + b + d + e


@kernel
def _count(z, base, interval, listed, lowest, counts):
    """How many squares each level crosses; counts[k - lowest]."""
    for r in range(z.shape[0] - 1):
        for c in range(z.shape[1] - 1):
            low, high, total = _extremes(z, r, c)
            if total != total:
                continue
            k = _first_level(low, base, interval, listed)
            while _height(k, base, interval, listed) <= high:
                counts[k - lowest] += 1
                k += 1


@kernel
def _list_squares(z, base, interval, listed, lowest, cursor, squares):
    cols = z.shape[1] - 1
    for r in range(z.shape[0] - 1):
        for c in range(cols):
            low, high, total = _extremes(z, r, c)
            if total != total:
                continue
            k = _first_level(low, base, interval, listed)
            while _height(k, base, interval, listed) <= high:
                squares[cursor[k - lowest]] = r * cols + c
                cursor[k - lowest] += 1
                k += 1


@kernel
def _exit(z, r, c, level, entry):
    """The side by which the line that enters a square by `entry` leaves it: 0 north, 1 east, 2 south, 3 west; -1 where none
    enters there."""
    case = 0
    if z[r, c] >= level:
        case |= 1
    if z[r, c + 1] >= level:
        case |= 2
    if z[r + 1, c + 1] >= level:
        case |= 4
    if z[r + 1, c] >= level:
        case |= 8
    if case == 5 or case == 10:
        high = (z[r, c] + z[r, c + 1] + z[r + 1, c + 1] + z[r + 1, c]) / 4.0 >= level
        if case == 5:
            if entry == 1:
                return 0 if high else 2
            if entry == 3:
                return 2 if high else 0
            return -1
        if entry == 0:
            return 3 if high else 1
        if entry == 2:
            return 1 if high else 3
        return -1
    if case == 1:
        return 0 if entry == 3 else -1
    if case == 2:
        return 1 if entry == 0 else -1
    if case == 3:
        return 1 if entry == 3 else -1
    if case == 4:
        return 2 if entry == 1 else -1
    if case == 6:
        return 2 if entry == 0 else -1
    if case == 7:
        return 2 if entry == 3 else -1
    if case == 8:
        return 3 if entry == 2 else -1
    if case == 9:
        return 0 if entry == 2 else -1
    if case == 11:
        return 1 if entry == 2 else -1
    if case == 12:
        return 3 if entry == 1 else -1
    if case == 13:
        return 0 if entry == 1 else -1
    if case == 14:
        return 3 if entry == 0 else -1
    return -1


@kernel
def _crossing(z, r, c, side, level):
    """Row and column, in cell centres of the block, where a level crosses a side of a square."""
    if side == 0 or side == 2:
        row = r if side == 0 else r + 1
        a = z[row, c]
        return float(row), c + (level - a) / (z[row, c + 1] - a)
    col = c if side == 3 else c + 1
    a = z[r, col]
    return r + (level - a) / (z[r + 1, col] - a), float(col)


@kernel
def _side_number(top, left, cols, r, c, side):
    """The number of a side on the whole grid: twice the cell it begins at, and one more where it runs south."""
    if side == 0 or side == 2:
        row = top + r + (1 if side == 2 else 0)
        return 2 * (row * cols + left + c)
    col = left + c + (1 if side == 1 else 0)
    return 2 * ((top + r) * cols + col) + 1


@kernel
def _beside(r, c, side):
    if side == 0:
        return r - 1, c
    if side == 1:
        return r, c + 1
    if side == 2:
        return r + 1, c
    return r, c - 1


@kernel
def _trace(z, level, squares, open_sides, top, left, cols, ends, rows_out, cols_out, starts, used, lines):
    """Trace all lines of a level through a block. open_sides[r, c]: bits of the sides not yet entered. ends[line]: the numbers of
    the sides where an open line begins and ends, -1 for closed ones. Returns vertices and lines used so far."""
    high, wide = z.shape[0] - 1, z.shape[1] - 1
    for index in range(squares.size):
        r, c = squares[index] // wide, squares[index] % wide
        bits = 0
        for side in range(4):
            if _exit(z, r, c, level, side) >= 0:
                bits |= 1 << side
        open_sides[r, c] = bits
    for phase in range(2):  # lines that come in from somewhere first; what is left runs in rings
        for index in range(squares.size):
            r0, c0 = squares[index] // wide, squares[index] % wide
            for side in range(4):
                if not open_sides[r0, c0] & (1 << side):
                    continue
                br, bc = _beside(r0, c0, side)
                inside = 0 <= br < high and 0 <= bc < wide
                if phase == 0 and inside:
                    total = z[br, bc] + z[br, bc + 1] + z[br + 1, bc] + z[br + 1, bc + 1]
                    if total == total:
                        continue
                starts[lines] = used
                r, c, entry = r0, c0, side
                ends[lines, 0] = _side_number(top, left, cols, r, c, entry) if phase == 0 else -1
                ends[lines, 1] = -1
                row, col = _crossing(z, r, c, entry, level)
                rows_out[used] = row
                cols_out[used] = col
                used += 1
                while True:
                    out = _exit(z, r, c, level, entry)
                    open_sides[r, c] &= ~(1 << entry)
                    row, col = _crossing(z, r, c, out, level)
                    rows_out[used] = row
                    cols_out[used] = col
                    used += 1
                    nr, nc = _beside(r, c, out)
                    entry = (out + 2) % 4
                    going = 0 <= nr < high and 0 <= nc < wide and open_sides[nr, nc] & (1 << entry)
                    if not going:
                        if phase == 0:
                            ends[lines, 1] = _side_number(top, left, cols, r, c, out)
                        break
                    r, c = nr, nc
                lines += 1
    for index in range(squares.size):
        open_sides[squares[index] // wide, squares[index] % wide] = 0
    return used, lines


@dataclass
class _Traced:
    """Lines of one block. rows, cols: of vertices, in cells of the whole grid."""

    rows: FloatArray
    cols: FloatArray
    starts: Indices
    numbers: Indices
    ends: Indices


@dataclass(frozen=True)
class _Tracer:
    levels: Levels

    def __call__(self, surface: Surface, window: Window) -> _Traced:
        # a cell more to the south and east: squares lie between centres
        grid = surface.grid
        wide = Window(window.row, window.col, window.rows + 1, window.cols + 1).clipped(grid.rows, grid.cols)
        z = surface.read(wide).astype(np.float64)
        return _lines_of(z, self.levels, wide.row, wide.col, grid.cols)


def _lines_of(z: FloatArray, levels: Levels, top: int, left: int, cols: int) -> _Traced:
    none = np.empty(0, np.int64)
    empty = _Traced(np.empty(0), np.empty(0), np.zeros(1, np.int64), none, np.empty((0, 2), np.int64))
    if min(z.shape) < 2 or np.isnan(z).all():
        return empty
    regular = (levels.base, levels.interval, np.array(levels.listed, np.float64))
    lowest = _first_level(float(np.nanmin(z)), *regular)
    count = max(levels.between(float(np.nanmin(z)), float(np.nanmax(z))) + 2, 1)
    if count > MOST_LEVELS:
        raise InputError(f"An interval of {levels.interval:g} makes more than {MOST_LEVELS} heights. Take a wider one.")
    counts = np.zeros(count, np.int64)
    _count(z, *regular, lowest, counts)
    places = np.concatenate([[0], np.cumsum(counts)])
    total = int(places[-1])
    if not total:
        return empty
    if total > MOST_VERTICES:
        raise InputError(f"These contours would have more than {MOST_VERTICES:,} vertices. Take a wider interval.")
    squares = np.empty(total, np.int64)
    _list_squares(z, *regular, lowest, places[:-1].copy(), squares)
    # at most two lines through a square, and each line has a vertex more than squares
    rows_out, cols_out = np.empty(4 * total), np.empty(4 * total)
    starts, ends = np.empty(2 * total + 1, np.int64), np.empty((2 * total, 2), np.int64)
    open_sides = np.zeros((z.shape[0] - 1, z.shape[1] - 1), np.int8)
    numbers = []
    used = lines = 0
    for i in np.flatnonzero(counts):
        before = lines
        level = levels.at(lowest + int(i))
        part = squares[places[i] : places[i + 1]]
        used, lines = _trace(z, level, part, open_sides, top, left, cols, ends, rows_out, cols_out, starts, used, lines)
        numbers.append(np.full(lines - before, lowest + int(i), np.int64))
    starts[lines] = used
    return _Traced(
        rows_out[:used] + top,
        cols_out[:used] + left,
        starts[: lines + 1].copy(),
        np.concatenate(numbers),
        ends[:lines].copy(),
    )


def contours(surface: Surface, levels: Levels, progress: Progress = ignore_progress, block: int = _BLOCK) -> Lines:
    """Contours of a whole surface. Vertices are in its CRS; those that fall together are one.

    Raises InputError where the interval makes more levels or vertices than can be held.
    """
    parts: dict[tuple[int, int], _Traced] = {}
    vertices = 0

    def keep(window: Window, traced: _Traced) -> None:
        nonlocal vertices
        vertices += traced.rows.size
        if vertices > MOST_VERTICES:
            raise InputError(
                f"These contours have more than {MOST_VERTICES:,} vertices. Take a wider interval, or a part."
            )
        parts[window.row, window.col] = traced

    walk(surface, _Tracer(levels), keep, lambda share: progress(0.9 * share), block=block)
    return _joined([parts[place] for place in sorted(parts)], surface.grid)


@kernel
def _chain(starts, ends, after, order, sizes):
    """Follow lines from each that nothing comes before; then rings. order: lines one after another; sizes: lines a chain."""
    count = after.size
    has_before = np.zeros(count, np.bool_)
    for i in range(count):
        if after[i] >= 0:
            has_before[after[i]] = True
    seen = np.zeros(count, np.bool_)
    at = 0
    chains = 0
    for phase in range(2):
        for i in range(count):
            if seen[i] or (phase == 0 and has_before[i]):
                continue
            begun = at
            j = i
            while j >= 0 and not seen[j]:
                seen[j] = True
                order[at] = j
                at += 1
                j = after[j]
            sizes[chains] = at - begun
            chains += 1
    return chains


@kernel
def _copy(rows, cols, starts, order, sizes, chains, out_rows, out_cols, out_starts):
    """Lay the lines of each chain end to end; vertices that fall together are one."""
    used = 0
    at = 0
    for chain in range(chains):
        out_starts[chain] = used
        for _ in range(sizes[chain]):
            line = order[at]
            at += 1
            for k in range(starts[line], starts[line + 1]):
                here = used > out_starts[chain]
                if here and abs(out_rows[used - 1] - rows[k]) < 1e-9 and abs(out_cols[used - 1] - cols[k]) < 1e-9:
                    continue
                out_rows[used] = rows[k]
                out_cols[used] = cols[k]
                used += 1
    out_starts[chains] = used
    return used


def _joined(parts: list[_Traced], grid: Grid) -> Lines:
    """Lines of blocks, joined where one ends on the side that another begins at."""
    rows, cols = (np.concatenate([getattr(one, name) for one in parts]) for name in ("rows", "cols"))
    numbers = np.concatenate([one.numbers for one in parts])
    ends = np.concatenate([one.ends for one in parts])
    shifts = np.concatenate([[0], np.cumsum([one.rows.size for one in parts])])
    starts = np.concatenate(
        [*(one.starts[:-1] + shift for one, shift in zip(parts, shifts, strict=False)), shifts[-1:]]
    )
    after = np.full(numbers.size, -1, np.int64)
    begins = np.flatnonzero(ends[:, 0] >= 0)
    if begins.size:
        low = int(numbers.min())
        key = lambda side, number: side * (int(numbers.max()) - low + 1) + (number - low)  # noqa: E731
        first, last = key(ends[begins, 0], numbers[begins]), key(ends[begins, 1], numbers[begins])
        sorter = np.argsort(first, kind="stable")
        at = np.searchsorted(first, last, sorter=sorter)
        at = np.minimum(at, begins.size - 1)
        met = first[sorter[at]] == last
        after[begins[met]] = begins[sorter[at[met]]]
    order, sizes = np.empty(numbers.size, np.int64), np.empty(numbers.size, np.int64)
    chains = _chain(starts, ends, after, order, sizes)
    sizes = sizes[:chains]
    out_rows, out_cols, out_starts = np.empty(rows.size), np.empty(rows.size), np.empty(chains + 1, np.int64)
    used = _copy(rows, cols, starts, order, sizes, chains, out_rows, out_cols, out_starts)
    leaders = order[np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64)] if chains else order[:0]
    found = Lines(grid.x_of(out_cols[:used]), grid.y_of(out_rows[:used]), out_starts, numbers[leaders])
    return _without(found, np.diff(out_starts) < 2)


def _without(lines: Lines, drop: npt.NDArray[np.bool_]) -> Lines:
    if not drop.any():
        return lines
    keep = np.repeat(~drop, np.diff(lines.starts))
    sizes = np.diff(lines.starts)[~drop]
    starts = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    return Lines(lines.x[keep], lines.y[keep], starts, lines.numbers[~drop])


def lengths(lines: Lines) -> FloatArray:
    """Length of each line, in CRS units."""
    if not len(lines):
        return np.empty(0)
    return _added(np.hypot(np.diff(lines.x), np.diff(lines.y)), lines)


def _added(steps: FloatArray, lines: Lines) -> FloatArray:
    """What the steps from each vertex to the next add up to along each line."""
    steps = np.concatenate([steps, [0.0]])
    steps[lines.starts[1:] - 1] = 0.0  # from one line to the next
    found: FloatArray = np.add.reduceat(steps, lines.starts[:-1])
    return found


def longer_than(lines: Lines, metres: float, crs: str) -> Lines:
    """Without those that are shorter on the ground."""
    if metres <= 0 or not len(lines):
        return lines
    x, y = lines.x, lines.y
    unit = ground_of(crs, Bounds(float(x.min()), float(y.min()), float(x.max()), float(y.max()))).unit
    if unit is not None:
        return _without(lines, lengths(lines) * unit < metres)
    across, up = ground_lengths(crs, (x[1:] + x[:-1]) / 2, (y[1:] + y[:-1]) / 2)
    return _without(lines, _added(np.hypot(np.diff(x) * across, np.diff(y) * up), lines) < metres)


def _blurred(cells: FloatArray, radius: float, bands: list[tuple[int, int, float, float]]) -> FloatArray:
    """Gaussian means over so many metres, each row by the size of its own cells."""
    result = np.empty(cells.shape)
    for first, after, wide, high in bands:
        reach = math.ceil(3 * radius / high) + 1
        top = max(first - reach, 0)
        part = cells[top : after + reach]
        down = ndimage.gaussian_filter1d(part, radius / high, axis=0, mode="constant", truncate=3.0)
        own = down[first - top : after - top]
        result[first:after] = ndimage.gaussian_filter1d(own, radius / wide, axis=1, mode="constant", truncate=3.0)
    return result


def smoothed(surface: Surface, radius: float) -> Surface:
    """A surface whose heights are Gaussian means over `radius` metres (their standard deviation), live; empty cells stay empty and
    count for nothing. Contours of it are smoother and, unlike lines that are smoothed one by one, never cross."""
    if radius <= 0:
        return surface

    ground = surface.grid.ground()

    def compute(arrays: list[Heights], grid: Grid) -> Heights:
        return along_columns(arrays[0], grid, halo, ground, work)

    def work(cells: Heights, grid: Grid, ground: Ground) -> Heights:
        filled = ~np.isnan(cells)
        heights = np.where(filled, cells, 0.0).astype(np.float64)
        weights, sums = (_blurred(one, radius, ground.bands(grid)) for one in (filled.astype(np.float64), heights))
        with np.errstate(invalid="ignore", divide="ignore"):
            result = np.where(filled, sums / weights, np.nan).astype(np.float32)
        return result[halo:-halo, halo:-halo]

    halo = math.ceil(3 * radius / surface.grid.smallest_cell()) + 1
    return LiveSurface([surface], compute, halo, surface.unit, surface.vertical_datum, of=("smoothed", radius))
