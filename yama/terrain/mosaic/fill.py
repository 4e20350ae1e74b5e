"""Filling holes: empty cells that data surround, from their rim or from another surface fitted to the rim."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import partial
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.cog import BLOCK, Encoding
from yama.terrain.errors import GridError, InputError
from yama.terrain.findings import Finding
from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.plate import Known, solve_plate
from yama.terrain.interpolate.triangulation import triangulated
from yama.terrain.kept import Kept, parts_of
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.surface import Category, Heights, Over, Surface
from yama.terrain.voids import HoleFinder, Holes

ndimage = later("scipy.ndimage")

Method = Literal["facets", "plate", "distance", "other"]
MOST_ACROSS = 2_000
"""Cells across the widest hole that is filled: what must be looked at around each part of the surface."""
_RIM = 3
"""Cells around a hole that its filling is bent to."""
_FIRM = 1e4
_CALM = 1.0
"""Tension of the plate between a surface and another: enough that noise along a rim makes no waves across the hole."""
_HELD = 48
_SMALL = 60
"""Cells of holes whose plate is solved at once; a whole surface of speckles takes seconds, not minutes."""

Mask = npt.NDArray[np.bool_]


@kernel
def _by_distance(rows, cols, known_rows, known_cols, known, result):
    for i in range(rows.size):
        total = 0.0
        weights = 0.0
        for k in range(known.size):
            down = float(rows[i] - known_rows[k])
            across = float(cols[i] - known_cols[k])
            weight = 1.0 / (down * down + across * across)
            total += weight * known[k]
            weights += weight
        result[i] = total / weights


def by_distance(heights: npt.NDArray[np.float64], hole: Mask, rim: Mask) -> npt.NDArray[np.float64]:
    """Heights of the cells of a hole, in row order: means of the rim's, weighted by one over the squared distance."""
    (rows, cols), (known_rows, known_cols) = np.nonzero(hole), np.nonzero(rim)
    result = np.empty(rows.size)
    _by_distance(rows, cols, known_rows, known_cols, heights[rim], result)
    return result


def _by_facets(heights: npt.NDArray[np.float64], hole: Mask, rim: Mask) -> npt.NDArray[np.float64]:
    """By the facets between the rim's cells; by distance where they leave a cell out."""
    rows, cols = np.nonzero(rim)
    grid = Grid("EPSG:32741", 0.0, float(hole.shape[0]), 1.0, 1.0, *hole.shape)
    try:
        found = triangulated(grid.x_of(cols), grid.y_of(rows), heights[rim], grid).read_all()[hole].astype(np.float64)
    except InputError:  # all of the rim on one line
        found = np.full(int(hole.sum()), np.nan)
    left = np.isnan(found)
    if left.any():
        found[left] = by_distance(heights, hole, rim)[left]
    return found


@kernel
def _enter(z, number, places, factors, weight, normal, right):
    """Enter one squared term into the normal equations: the sum of factors times the heights of some cells is to be 0.
    Terms that touch an unknown cell outside the hole, or none inside it, do not exist."""
    inside = 0
    known = 0.0
    for k in range(factors.size):
        r = places[k, 0]
        c = places[k, 1]
        if number[r, c] >= 0:
            inside += 1
        elif np.isnan(z[r, c]):
            return
        else:
            known += factors[k] * z[r, c]
    if inside == 0:
        return
    for k in range(factors.size):
        i = number[places[k, 0], places[k, 1]]
        if i < 0:
            continue
        right[i] -= weight * factors[k] * known
        for m in range(factors.size):
            j = number[places[m, 0], places[m, 1]]
            if j >= 0:
                normal[i, j] += weight * factors[k] * factors[m]


@kernel
def _bent(z, number, count, tension):
    """The plate over the cells with a number, from the known ones around them: its normal equations, solved at once."""
    rows, cols = z.shape
    normal = np.zeros((count, count))
    right = np.zeros(count)
    second = np.array([1.0, -2.0, 1.0])
    twist = np.array([1.0, -1.0, -1.0, 1.0])
    first = np.array([1.0, -1.0])
    places = np.empty((4, 2), np.int64)
    for r in range(rows):
        for c in range(cols):
            if 1 <= c < cols - 1:
                for k in range(3):
                    places[k, 0] = r
                    places[k, 1] = c + k - 1
                _enter(z, number, places, second, 1.0, normal, right)
            if 1 <= r < rows - 1:
                for k in range(3):
                    places[k, 0] = r + k - 1
                    places[k, 1] = c
                _enter(z, number, places, second, 1.0, normal, right)
            if r < rows - 1 and c < cols - 1:
                for k in range(4):
                    places[k, 0] = r + k // 2
                    places[k, 1] = c + k % 2
                _enter(z, number, places, twist, 2.0, normal, right)
            for side in range(2):
                i = r + side
                j = c + 1 - side
                if i < rows and j < cols:
                    places[0, 0] = r
                    places[0, 1] = c
                    places[1, 0] = i
                    places[1, 1] = j
                    _enter(z, number, places, first, tension + 1e-9, normal, right)
    return np.linalg.solve(normal, right)


def _by_plate(heights: npt.NDArray[np.float64], hole: Mask, band: Mask, tension: float) -> npt.NDArray[np.float64]:
    """By a thin plate bent to the cells of a band around the hole; a small hole by its equations at once."""
    count = int(hole.sum())
    if count <= _SMALL:
        number = np.full(hole.shape, -1, np.int64)
        number[hole] = np.arange(count)
        middle = float(heights[band].mean())
        small: npt.NDArray[np.float64] = _bent(np.where(band, heights - middle, np.nan), number, count, tension)
        return small + middle
    cells = np.where(band, heights, np.nan)
    known = Known(np.empty((0, 6)), cells - np.nanmean(cells))
    bent = solve_plate(hole.shape, (0.0, float(hole.shape[0]), 1.0, 1.0), known, tension, _FIRM)
    found: npt.NDArray[np.float64] = bent[hole] + np.nanmean(cells)
    return found


def fill_hole(heights: Heights, hole: Mask, method: Method, other: Heights | None = None) -> npt.NDArray[np.float64]:
    """Heights of the cells of one hole, in row order.

    heights, hole: `(rows, cols)` of the hole and three cells around it; hole is true in its cells, other empty cells are NaN.
    other: another surface's heights there; where it is empty the result is NaN. Its difference from `heights` is known along
    the rim and bent across the hole as a plate under tension, so that no step is left (a delta surface: G. Grohman, G. Kroenung
    and J. Strebeck, Photogrammetric Engineering & Remote Sensing 72, 2006).
    """
    exact = heights.astype(np.float64)
    square = np.ones((3, 3), np.bool_)
    filled = ~np.isnan(exact)
    rim = ndimage.binary_dilation(hole, square) & filled
    if method == "distance":
        return by_distance(exact, hole, rim)
    if method == "facets":
        return _by_facets(exact, hole, rim)
    band = ndimage.binary_dilation(hole, square, _RIM) & filled
    if method == "plate":
        return _by_plate(exact, hole, band, 0.0)
    if other is None:
        raise InputError("Filling from another surface needs that surface.")
    apart = exact - other
    known = band & ~np.isnan(apart)
    if not known.any():
        return np.full(int(hole.sum()), np.nan)
    return other[hole] + _by_plate(apart, hole, known, _CALM)


class Filled(Over):
    """A surface whose holes up to a width are filled, part by part as it is looked at. Thread-safe.

    across: metres; a hole that is wider or higher stays, and so does what is empty at the grid's edge. other: on the same grid.
    Each hole is filled from the cells around it alone, the same whatever part of the surface is asked for.
    """

    def __init__(self, surface: Surface, method: Method, across: float, other: Surface | None = None) -> None:
        super().__init__(surface)
        self.by_parts = True
        if other is not None and other.grid != surface.grid:
            raise GridError("The surface to fill from is not on the same grid. Fit it first.")
        if across / min(self.grid.metres_per_cell()) > MOST_ACROSS + 1e-6:
            raise InputError(
                f"Holes of {across:g} m are more than {MOST_ACROSS} cells wide, more than are filled at once."
            )
        self._method = method
        self._across = across
        self._other = other if method == "other" else None
        if method == "other" and other is None:
            raise InputError("Filling from another surface needs that surface.")
        self._parts: Kept[tuple[int, int, int], tuple[Heights, Mask | None]] = Kept(_HELD)
        self._told: dict[tuple[int, int], tuple[int, npt.NDArray[np.uint8]]] = {}

    def settings(self) -> tuple[Any, ...]:
        return (self._method, self._across, self._other and self._other.fingerprint)

    @property
    def facets(self) -> None:
        """None: what was filled is none of them."""
        return None

    def companion(self, name: str, below: Surface) -> Surface | None:
        """The source of the cells that were not filled; of the others nothing true can be said."""
        return Unfilled(below, self) if name in ("source", "uncertainty") else None

    @property
    def findings(self) -> list[Finding]:
        """What was filled and what is left, once every cell has been made."""
        found = self.surface.findings
        if self.done is None:
            return found
        filled, left = self.done
        cell = min(self.grid.metres_per_cell())
        found = [*found, Finding("filled", "note", f"{filled:,} cells were filled.".replace(",", "\u202f"))]
        if left.count:
            largest = left.largest[0]
            wide = max(largest.bottom - largest.top, largest.right - largest.left) + 1
            holes = "1 hole" if left.count == 1 else f"{left.count} holes"
            found.append(
                Finding("left", "caution", f"{holes} with {left.cells} empty cells left, the largest {wide} cells "
                        f"({wide * cell:.0f} m) across.", "They are wider than was allowed, or what they are filled from is empty "
                        "there.")
            )  # fmt: skip
        return found

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._read(window, level)[0]

    @property
    def done(self) -> tuple[int, Holes] | None:
        """How many cells were filled and which holes are left, once every cell has been made; None before."""
        grid, told = self.grid, self._told
        down, across = -(-grid.rows // BLOCK), -(-grid.cols // BLOCK)
        if len(told) < down * across:
            return None
        finder = HoleFinder(grid.rows, grid.cols)
        for i in range(down):
            rows = min(BLOCK, grid.rows - i * BLOCK)
            strip = np.zeros((rows, grid.cols), np.bool_)
            for j in range(across):
                left = told[i, j][1]
                if left.size:
                    part = strip[:, j * BLOCK : (j + 1) * BLOCK]
                    part[:] = np.unpackbits(left, count=part.size).reshape(part.shape)
            finder.add(strip)
        return sum(count for count, _ in told.values()), finder.result

    def filled(self, window: Window, level: int = 0) -> Mask:
        """Which cells of a window were filled: `(window.rows, window.cols)`."""
        return self._read(window, level)[1]

    def _read(self, window: Window, level: int) -> tuple[Heights, Mask]:
        grid = self.grid.at_level(level)
        heights = np.full((window.rows, window.cols), np.nan, np.float32)
        filled = np.zeros(heights.shape, np.bool_)
        for part in parts_of(window, grid.rows, grid.cols, BLOCK):
            key = (level, part.row, part.col)
            cells, mask = self._parts.get(key, partial(self._make, *key))
            heights[part.put] = cells[part.taken]
            if mask is not None:
                filled[part.put] = mask[part.taken]
        return heights, filled

    def _make(self, level: int, i: int, j: int) -> tuple[Heights, Mask | None]:
        heights, filled = self._made(level, i, j)
        if level == 0:
            empty = np.isnan(heights)
            left = np.packbits(empty) if empty.any() else np.empty(0, np.uint8)
            self._told[i, j] = (0 if filled is None else int(filled.sum()), left)
        return heights, filled

    def _made(self, level: int, i: int, j: int) -> tuple[Heights, Mask | None]:
        grid = self.grid.at_level(level)
        core = Window(i * BLOCK, j * BLOCK, min(BLOCK, grid.rows - i * BLOCK), min(BLOCK, grid.cols - j * BLOCK))
        heights = self.surface.read(core, level)
        # a width given in cells comes back as that many
        most = max(math.floor(self._across / min(grid.metres_per_cell()) + 1e-6), 0)
        empty = np.isnan(heights)
        if not most or not empty.any() or (empty.all() and most < BLOCK):
            return heights, None
        around = most + _RIM
        wide = self.surface.read(core.grown(around), level)
        labels, _ = ndimage.label(np.isnan(wide))
        filled = np.zeros(heights.shape, np.bool_)
        for number, box in enumerate(ndimage.find_objects(labels), start=1):
            high, across = box[0].stop - box[0].start, box[1].stop - box[1].start
            if high > most or across > most or not _meets(box, around, core):
                continue
            near = tuple(slice(side.start - _RIM, side.stop + _RIM) for side in box)
            if near[0].start < 0 or near[1].start < 0 or near[0].stop > wide.shape[0] or near[1].stop > wide.shape[1]:
                continue  # it touches what is not looked at, so it is wider than `most` or lies at the grid's edge
            hole = labels[near] == number
            other = None
            if self._other is not None:
                corner = Window(core.row - around + near[0].start, core.col - around + near[1].start, *hole.shape)
                other = self._other.read(corner, level)
            found = fill_hole(wide[near], hole, self._method, other)
            rows, cols = np.nonzero(hole)
            rows, cols = rows + near[0].start - around, cols + near[1].start - around
            inside = (rows >= 0) & (cols >= 0) & (rows < core.rows) & (cols < core.cols) & ~np.isnan(found)
            heights[rows[inside], cols[inside]] = found[inside]
            filled[rows[inside], cols[inside]] = True
        return heights, filled if filled.any() else None


def _meets(box: tuple[slice, slice], around: int, core: Window) -> bool:
    """Whether a box of the wide window reaches into its core."""
    down = box[0].stop > around and box[0].start < around + core.rows
    beside = box[1].stop > around and box[1].start < around + core.cols
    return bool(down and beside)


class Unfilled(Over):
    """A companion of a surface whose holes were filled: empty where they were."""

    def __init__(self, companion: Surface, filled: Filled) -> None:
        super().__init__(companion)
        self._filled = filled

    def settings(self) -> tuple[Any, ...]:
        return (self._filled.fingerprint,)

    def read(self, window: Window, level: int = 0) -> Heights:
        cells = self.surface.read(window, level)
        return np.where(self._filled.filled(window, level), np.float32(np.nan), cells)


class FilledCells(Over):
    """1 where a cell was filled, empty elsewhere."""

    encoding = Encoding("uint8", 1.0, 0.0, categorical=True)

    def __init__(self, filled: Filled) -> None:
        super().__init__(filled, unit="")
        self._filled = filled
        self.categories = (Category(1, "filled"),)

    def settings(self) -> tuple[Any, ...]:
        return ()

    @property
    def companions(self) -> Mapping[str, Surface]:
        return {}

    def read(self, window: Window, level: int = 0) -> Heights:
        return np.where(self._filled.filled(window, level), np.float32(1), np.float32(np.nan)).astype(np.float32)
