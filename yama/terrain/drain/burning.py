"""Known streams pressed into a surface, so that water follows them.

The bed falls along each line: from its upper end on it is never higher than before, and lies so many metres below the
ground, as M. Hutchinson asks of drainage (Journal of Hydrology 106, 1989). Lines that rise are turned and told.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.later import later
from yama.terrain.surface import Heights

ndimage = later("scipy.ndimage")
spatial = later("scipy.spatial")

_END = 0.1  # of a line that says how high its end lies
_LEVEL = 0.05  # metres between ends that say nothing about which way a line runs
_ASIDE = 60.0  # metres to both sides in which a valley is looked for
_ABOVE = 5.0  # metres that a river stands above the ground beside it where it has left its valley
_STRETCH = 40.0  # metres over which it must do so


@dataclass(frozen=True)
class Burning:
    """How lines are pressed in.

    Parameters
    ----------
    width : float
        Metres across the bed.
    depth : float
        Metres that it lies below the ground along the line.
    bank : float
        Metres to each side of the bed over which the ground is brought down to it.
    """

    width: float
    depth: float
    bank: float = 0.0

    def __post_init__(self) -> None:
        if not self.width > 0:
            raise InputError("The bed must be wider than 0 m.")
        if not self.depth >= 0 or not self.bank >= 0:
            raise InputError("Depth and banks of the bed cannot be below 0 m.")


@dataclass(frozen=True)
class BurnedLine:
    """What became of a line.

    Parameters
    ----------
    number : int
        Its place among the lines that were given, from 0 on.
    turned : bool
        Whether it was drawn uphill.
    outside : bool
        Whether no height lies along it, so that nothing was done.
    highest_cut : float
        Metres that the ground along it was lowered at most.
    astray : tuple of float, optional
        Where it stands on a slope instead of in a valley, x and y in the grid's CRS.
    """

    number: int
    turned: bool = False
    outside: bool = False
    highest_cut: float = 0.0
    astray: tuple[float, float] | None = None


def _heights_at(heights: Heights, grid: Grid, x: FloatArray, y: FloatArray) -> FloatArray:
    """Of the cells in which places lie; NaN outside."""
    rows = np.rint(grid.row_of(y)).astype(np.int64)
    cols = np.rint(grid.col_of(x)).astype(np.int64)
    there = (rows >= 0) & (cols >= 0) & (rows < grid.rows) & (cols < grid.cols)
    found = np.full(x.shape, np.nan)
    found[there] = heights[rows[there], cols[there]]
    return found


def _sampled(line: shapely.LineString, step: float) -> FloatArray:
    """Places along a line, its ends among them, `(places, 2)`."""
    count = max(int(np.ceil(line.length / step)), 1) + 1
    along = shapely.line_interpolate_point(line, np.linspace(0, 1, count), normalized=True)
    found: FloatArray = shapely.get_coordinates(along)
    return found


def _rises(ground: FloatArray) -> bool:
    """Whether a line is drawn uphill: by how high its ends lie."""
    known = ground[~np.isnan(ground)]
    share = max(int(_END * known.size), 1)
    return bool(np.median(known[-share:]) > np.median(known[:share]) + _LEVEL)


def _astray(places: FloatArray, ground: FloatArray, heights: Heights, grid: Grid) -> tuple[float, float] | None:
    """The middle of the first stretch along which the ground to one side of the line falls well below it, as it does
    not in a valley."""
    across, along = grid.metres_per_unit()
    way = np.gradient(places, axis=0) if len(places) > 1 else np.zeros_like(places)
    length = np.hypot(way[:, 0] * across, way[:, 1] * along)
    length[length == 0] = 1.0
    side = np.column_stack([-way[:, 1] * along, way[:, 0] * across]) / length[:, None]
    low = []
    for sign in (-1.0, 1.0):
        lowest = np.full(len(places), np.inf)
        for away in np.linspace(_ASIDE / 4, _ASIDE, 4):
            at = places + sign * away * side / np.array([across, along])
            lowest = np.fmin(lowest, _heights_at(heights, grid, at[:, 0], at[:, 1]))
        low.append(lowest)
    off = np.minimum(*low) < ground - _ABOVE
    steps = np.hypot(*(np.diff(places, axis=0) * np.array([across, along])).T) if len(places) > 1 else np.zeros(0)
    run = 0.0
    began = 0
    for at in range(len(places)):
        if not off[at]:
            run, began = 0.0, at + 1
            continue
        run += float(steps[at - 1]) if at > began else 0.0
        if run >= _STRETCH:
            x, y = places[(began + at) // 2]
            return float(x), float(y)
    return None


def burned(
    heights: Heights, grid: Grid, lines: Sequence[shapely.LineString], how: Burning
) -> tuple[Heights, list[BurnedLine]]:
    """Heights with lines pressed in.

    Parameters
    ----------
    heights : ndarray, shape (rows, cols)
        In metres, NaN where empty; empty cells stay empty.
    grid : Grid
    lines : sequence of LineString
        In the grid's CRS.
    how : Burning

    Returns
    -------
    heights : ndarray, shape (rows, cols)
        Nowhere higher than before.
    told : list of BurnedLine
        What became of each line, in their order.
    """
    beds = beds_of(heights, grid, lines, how)
    found = heights.copy()
    if len(beds.places):
        press(found, grid, grid.whole, beds.places, beds.beds, how)
    return found, beds.told


@dataclass(frozen=True)
class Beds:
    """Where lines are pressed in.

    Parameters
    ----------
    places : ndarray, shape (places, 2)
        Along the lines, in the grid's CRS, where there are heights.
    beds : ndarray, shape (places,)
        How high their beds lie, in metres.
    told : list of BurnedLine
    """

    places: FloatArray = field(repr=False)
    beds: FloatArray = field(repr=False)
    told: list[BurnedLine]


def beds_of(heights: Heights, grid: Grid, lines: Sequence[shapely.LineString], how: Burning) -> Beds:
    """The beds of lines, which fall along each of them; see `burned`."""
    step = 0.5 * min(grid.cell_width, grid.cell_height)
    told: list[BurnedLine] = []
    places: list[FloatArray] = [np.empty((0, 2))]
    beds: list[FloatArray] = [np.empty(0)]
    for number, line in enumerate(lines):
        at = _sampled(line, step)
        ground = _heights_at(heights, grid, at[:, 0], at[:, 1])
        known = ~np.isnan(ground)
        if not known.any():
            told.append(BurnedLine(number, outside=True))
            continue
        turned = _rises(ground)
        if turned:
            at, ground, known = at[::-1], ground[::-1], known[::-1]
        bed = np.minimum.accumulate(np.where(known, ground, np.inf)) - how.depth
        told.append(
            BurnedLine(number, turned, False, float((ground - bed)[known].max()), _astray(at, ground, heights, grid))
        )
        places.append(at[known])
        beds.append(bed[known])
    return Beds(np.concatenate(places), np.concatenate(beds), told)


def _reach(grid: Grid, how: Burning) -> float:
    """Metres from a line within which ground is changed at most."""
    # the cells in which the line lies are its bed however narrow that is
    return how.width / 2 + how.bank + min(grid.metres_per_cell())


def reach_of(grid: Grid, how: Burning) -> tuple[int, int]:
    """Rows and columns of cells from a line within which ground is changed at most."""
    across, along = grid.metres_per_cell()
    return int(np.ceil(_reach(grid, how) / along)), int(np.ceil(_reach(grid, how) / across))


def press(heights: Heights, grid: Grid, window: Window, places: FloatArray, bed: FloatArray, how: Burning) -> None:
    """Bring cells of a window near places, which lie in it, down to their beds, in place."""
    half, reach, scale = how.width / 2, _reach(grid, how), np.array(grid.metres_per_unit())
    rows = np.rint(grid.row_of(places[:, 1])).astype(np.int64) - window.row
    cols = np.rint(grid.col_of(places[:, 0])).astype(np.int64) - window.col
    up, aside = reach_of(grid, how)
    near = np.zeros(heights.shape, np.bool_)
    own = np.unique(rows * window.cols + cols)
    near.ravel()[own] = True
    if up or aside:
        near = ndimage.maximum_filter(near, size=(2 * up + 1, 2 * aside + 1))
    near &= ~np.isnan(heights)
    r, c = np.nonzero(near)
    tree = spatial.cKDTree(places * scale)
    away, at = tree.query(
        np.column_stack([grid.x_of(window.col + c), grid.y_of(window.row + r)]) * scale, distance_upper_bound=reach
    )
    there = np.isfinite(away)
    r, c, away, low = r[there], c[there], away[there], bed[at[there]]
    z = heights[r, c].astype(np.float64)
    share = np.clip((away - half) / how.bank, 0.0, 1.0) if how.bank > 0 else (away > half).astype(np.float64)
    smooth = share * share * (3 - 2 * share)
    made = np.where(share >= 1, z, low + (z - low) * smooth)
    heights[r, c] = np.minimum(z, made).astype(np.float32)
    np.minimum.at(heights.reshape(-1), rows * window.cols + cols, bed.astype(np.float32))
