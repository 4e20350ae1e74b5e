"""Water over a surface: its conditioned heights, where water goes, and how much ground drains through each cell."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.accumulation import Flow, accumulation
from yama.terrain.drain.burning import BurnedLine, Burning, burned
from yama.terrain.drain.catchments import Catchments, Outlet, basins, between, catchments, snapped
from yama.terrain.drain.conditioning import Conditioned, condition, with_fall
from yama.terrain.drain.directions import Directions, directions, over_level
from yama.terrain.drain.hollows import Flags, Hollows, Whole, hollows
from yama.terrain.drain.kinds import Hollow, listed
from yama.terrain.drain.large import Given, LargeDrainage, LargeSurface
from yama.terrain.drain.sea import without_sea
from yama.terrain.drain.streams import Channels, Streams, channels
from yama.terrain.drain.working_off import Limits, Method
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import inside
from yama.terrain.grid import FloatArray, Grid, Window, turn_between
from yama.terrain.kept import Kept
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import ArraySurface, Heights, Surface, digest, read_block, walk
from yama.terrain.units import UNITS

Tells = Literal["heights", "change", "one", "two", "many"]

_MOST_CELLS = 250_000_000
"""About four gigabytes are held for so many."""


@dataclass(frozen=True)
class Known:
    """What is known of the water beside heights, in the surface's CRS.

    Parameters
    ----------
    lakes : tuple of Polygon
        Hollows whose lowest places lie in these keep their water.
    streams : tuple of LineString
        What is burned in, where that is asked for.
    waters : tuple of (float, float)
        Places whose hollows keep their water.
    """

    lakes: tuple[shapely.Polygon, ...] = ()
    streams: tuple[shapely.LineString, ...] = ()
    waters: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Conditioning:
    """How water finds its way.

    Parameters
    ----------
    method : {"leave", "fill", "breach", "lesser"}
        What becomes of hollows.
    limits : Limits
        Up to where.
    sea : float, optional
        The height in metres up to which what reaches the rim is sea, in which water ends; None where there is none.
    burning : Burning, optional
        How known streams are burned in; None where they are not.
    """

    method: Method = "lesser"
    limits: Limits = field(default_factory=Limits)
    sea: float | None = None
    burning: Burning | None = None


def _refuse_other_units(surface: Surface) -> None:
    if surface.unit not in UNITS:
        raise InputError(f"{surface.name or 'The surface'} is in {surface.unit or 'no unit'}: it has no heights.")


def heights_of(surface: Surface, progress: Progress = ignore_progress) -> Heights:
    """All heights of a surface in metres.

    Raises
    ------
    InputError
        Where it holds no heights, is empty, or is too large to be held at once.
    """
    _refuse_other_units(surface)
    if is_large(surface):
        raise InputError(
            f"{surface.name or 'The surface'} has {surface.grid.cell_count / 1e6:.0f} million cells; this is done over "
            f"{_MOST_CELLS / 1e6:.0f} million at most. Clip it, or make it coarser."
        )
    cells = np.empty((surface.grid.rows, surface.grid.cols), np.float32)
    metres = np.float32(UNITS[surface.unit])

    def keep(window: Window, block: Heights) -> None:
        cells[window.row : window.row + window.rows, window.col : window.col + window.cols] = block * metres

    walk(surface, read_block, keep, progress)
    if np.isnan(cells).all():
        raise InputError(f"Every cell of {surface.name or 'the surface'} is empty. Choose another.")
    return cells


def places_in(places: Sequence[tuple[float, float]], source: str, target: str) -> tuple[tuple[float, float], ...]:
    """Places turned from one CRS into another."""
    turn = turn_between(source, target)
    turned = [turn.transform(x, y) for x, y in places]
    return tuple((float(x), float(y)) for x, y in turned)


def lying_in(found: Hollows, areas: Sequence[shapely.Polygon]) -> Flags:
    """Which lowest places lie in areas, `(basins + 1,)`. areas: in the CRS of the hollows."""
    kept = np.zeros(found.basins + 1, np.bool_)
    if areas:
        within = (inside(list(areas), found.grid) > 0).ravel()
        kept[1:] = within[found.low_at[1 : found.basins + 1]]
    return kept


def holding(found: Hollows, places: Sequence[tuple[float, float]]) -> tuple[Flags, int]:
    """The lowest places of the hollows in which places lie, `(basins + 1,)`, and how many places lie in none.
    places: in the CRS of the hollows."""
    kept, missed = np.zeros(found.basins + 1, np.bool_), 0
    if not places:
        return kept, missed
    top = found.top
    filled = found.levels()
    grid = found.grid
    for x, y in places:
        row, col = int(np.rint(grid.row_of(y))), int(np.rint(grid.col_of(x)))
        inside_grid = 0 <= row < grid.rows and 0 <= col < grid.cols
        basin = int(found.basin[row, col]) if inside_grid else 0
        if basin == 0 or not found.heights[row, col] < filled[basin]:
            missed += 1
        else:
            kept |= top[: found.basins + 1] == top[basin]
    kept[0] = False
    return kept, missed


@dataclass(frozen=True)
class Drainage:
    """Water over a surface.

    Parameters
    ----------
    grid : Grid
    heights : ndarray, shape (rows, cols)
        Conditioned, in metres.
    to : ndarray of int8, shape (rows, cols)
        Where water goes, as `directions` gives it.
    counts : ndarray of int32, shape (rows, cols)
        How many cells drain through each; 0 where there is no height.
    done : Conditioned
        What conditioning did, without its heights.
    level : ndarray of bool, shape (rows, cols)
        Where water goes on over level ground, as `over_level` gives it.
    burned : tuple of BurnedLine
        What became of each known stream, where they are burned in.
    missed : int
        How many of the places whose hollows were to keep their water lie in none.
    """

    grid: Grid
    heights: Heights = field(repr=False)
    to: Directions = field(repr=False)
    counts: npt.NDArray[np.int32] = field(repr=False)
    done: Conditioned = field(repr=False)
    level: Flags = field(repr=False)
    burned: tuple[BurnedLine, ...] = field(default=(), repr=False)
    missed: int = 0

    @property
    def cell_area(self) -> float:
        """Square metres of a cell."""
        return float(np.prod(self.grid.metres_per_cell()))

    def outcome(self) -> Conditioned:
        """What conditioning did."""
        return self.done

    def ground(self) -> float:
        """Square metres that have heights."""
        return float(np.count_nonzero(self.counts)) * self.cell_area

    def channels(self, least: float) -> Channels:
        """Cells through which at least so many square metres drain; see `channels`."""
        return channels(self.heights, self.to, self.counts, self.grid, least, self.level)

    def outlet(self, x: float, y: float, radius: float, name: str = "") -> Outlet:
        """A place, moved to where most ground drains nearby; see `snapped`."""
        return snapped(self.counts, self.grid, x, y, radius, name)

    def catchments(self, outlets: Sequence[Outlet]) -> Catchments:
        """The catchments of outlets; see `catchments`."""
        return catchments(self.to, self.grid, outlets)

    def basins(self, least_area: float) -> tuple[Whole, FloatArray]:
        """All catchments of at least so many square metres of where water leaves the surface or stays on it, from 1 on,
        the largest first; 0 elsewhere. And the square metres of each, by number."""
        labels = basins(self.to)
        sizes = self.cell_area * np.bincount(labels.ravel()).astype(np.float64)
        sizes = sizes[: 1 + int((sizes[1:] >= least_area).sum())]
        labels[labels >= len(sizes)] = 0
        return labels, sizes

    def between(self, streams: Streams) -> tuple[Whole, FloatArray]:
        """The ground that drains into each link of a network, from 1 on, without that of links above it; 0
        elsewhere. And the square metres of each, by number."""
        labels = between(self.to, streams)
        return labels, self.cell_area * np.bincount(labels.ravel(), minlength=len(streams) + 1).astype(np.float64)

    def falling(self, fall: float) -> Heights:
        """Conditioned heights that fall along the way of the water; see `conditioning.with_fall`."""
        return with_fall(self.heights, self.to, fall, self.grid)

    def drained(self, flow: Flow) -> npt.NDArray[np.float64]:
        """Square metres that drain through each cell, with the water of one shared as `flow` says; NaN where empty."""
        if flow == "one":
            return np.where(self.counts > 0, self.counts * self.cell_area, np.nan)
        return accumulation(self.to, None, flow, self.heights, self.grid) * self.cell_area


_held: Kept[str, Drainage] = Kept(2)
_NOTHING_KNOWN = Known()


def begun(
    surface: Surface, conditioning: Conditioning, known: Known, progress: Progress = ignore_progress
) -> tuple[Heights, list[BurnedLine]]:
    """Heights in metres whose hollows are looked for: without the sea, and with streams burned in; and what became of
    these. Raises InputError as `drainage` does."""
    cells = heights_of(surface, progress)
    if conditioning.sea is not None:
        cells = without_sea(cells, conditioning.sea)
        if np.isnan(cells).all():
            raise InputError(f"All of it lies below a sea of {conditioning.sea:g} m. Choose a lower one.")
    if conditioning.burning is None:
        return cells, []
    _refuse_no_lines(known)
    return burned(cells, surface.grid, known.streams, conditioning.burning)


def _refuse_no_lines(known: Known) -> None:
    if not known.streams:
        raise InputError("There are no lines to burn in. Choose rivers, or burn nothing in.")


def told(surface: Surface, conditioning: Conditioning, known: Known) -> str:
    """What drainage is known by: the same in every process."""
    shapes = [
        [one.hex() for one in shapely.to_wkb(np.array(list(given), object)).tolist()]
        for given in (known.lakes, known.streams)
    ]
    return digest(surface.fingerprint, repr(conditioning), shapes, known.waters)


def drainage(
    surface: Surface,
    conditioning: Conditioning,
    known: Known = _NOTHING_KNOWN,
    progress: Progress = ignore_progress,
) -> Drainage:
    """Water over a surface; what was asked for last is held.

    Parameters
    ----------
    surface : Surface
        Of heights, in any unit.
    conditioning : Conditioning
    known : Known
    progress : callable

    Raises
    ------
    InputError
        See `heights_of` and `condition`; where streams are to be burned in, and there are none.
    """

    def make() -> Drainage:
        cells, lines = begun(surface, conditioning, known, part_of(progress, 0.0, 0.15))
        found = hollows(cells, surface.grid, part_of(progress, 0.15, 0.4))
        kept, missed = holding(found, known.waters)
        if known.lakes:
            kept |= lying_in(found, known.lakes)
        done = condition(
            found,
            conditioning.method,
            conditioning.limits,
            kept if kept.any() else None,
            part_of(progress, 0.4, 0.75),
        )
        del found
        to = directions(done.heights, surface.grid, part_of(progress, 0.75, 0.9))
        counts = np.nan_to_num(accumulation(to, progress=part_of(progress, 0.9, 1.0))).astype(np.int32)
        level = np.empty(to.shape, np.bool_)
        over_level(cells, done.heights, to, level)
        progress(1.0)
        nothing = np.empty((0, 0), np.float32)
        without = Conditioned(nothing, done.done, done.raised, done.cut, done.lengths)
        return Drainage(surface.grid, done.heights, to, counts, without, level, tuple(lines), missed)

    return _held.get(told(surface, conditioning, known), make)


def is_large(surface: Surface) -> bool:
    """Whether it has more cells than are held at once."""
    return surface.grid.cell_count > _MOST_CELLS


def water_over(
    surface: Surface,
    how: Conditioning,
    known: Known = _NOTHING_KNOWN,
    counted: bool = True,
    progress: Progress = ignore_progress,
) -> Drainage | LargeDrainage:
    """Water over a surface: as `drainage` works it out, or block by block in files where there are more cells than are
    held at once. counted: whether it is told there how much drains where.

    Raises
    ------
    InputError
        See `drainage`.
    """
    if not is_large(surface):
        return drainage(surface, how, known, progress)
    return _large_drainage(surface, how, known, counted, progress)


def _large_drainage(
    surface: Surface, how: Conditioning, known: Known, counted: bool, progress: Progress
) -> LargeDrainage:
    on = _given(surface, how, known, part_of(progress, 0.0, 0.2))
    rest = part_of(progress, 0.2, 1.0)
    return LargeDrainage.worked_out(
        on, how.method, how.limits, known.lakes, known.waters, counted=counted, progress=rest
    )


def _given(surface: Surface, how: Conditioning, known: Known, progress: Progress) -> Given:
    _refuse_other_units(surface)
    if how.burning is not None:
        _refuse_no_lines(known)
    return Given.read(surface, how.sea, how.burning, known.streams, progress=progress)


def hollows_of(
    surface: Surface,
    how: Conditioning,
    known: Known,
    least_depth: float,
    count: int,
    waters: Sequence[tuple[shapely.Polygon, str]] = (),
    progress: Progress = ignore_progress,
) -> list[Hollow]:
    """The hollows of a surface that are within no other, without the sea and with streams burned in; see
    `kinds.listed`. Raises InputError as `drainage` does."""
    if is_large(surface):
        on = _given(surface, how, known, part_of(progress, 0.0, 0.2))
        return on.hollows(least_depth, count, waters, part_of(progress, 0.2, 1.0))
    cells, _ = begun(surface, how, known, part_of(progress, 0.0, 0.2))
    found = hollows(cells, surface.grid, part_of(progress, 0.2, 0.6))
    return listed(found, least_depth, count, waters, part_of(progress, 0.6, 1.0))


class DrainedSurface(Surface):
    """What water over a surface tells of each cell, computed as a whole when the first one is asked for.

    Parameters
    ----------
    surface : Surface
        Of heights, in metres.
    conditioning : Conditioning
    known : Known
    tells : {"heights", "change", "one", "two", "many"}
        Conditioned heights; what conditioning added; or the square metres that drain through a cell, with water shared
        so.
    fall : float
        Metres a metre that conditioned heights fall along the way of the water at least.
    """

    levels = "means"

    def __init__(
        self,
        surface: Surface,
        conditioning: Conditioning,
        known: Known = _NOTHING_KNOWN,
        tells: Tells = "heights",
        fall: float = 0.0,
    ) -> None:
        unit = "m" if tells in ("heights", "change") else ""
        super().__init__(surface.grid, unit, surface.vertical_datum if tells == "heights" else "")
        self._surface, self._conditioning, self._known, self._tells = surface, conditioning, known, tells
        self._fall = fall
        self._made: Surface | None = None
        self._making = threading.Lock()

    def made_of(self) -> tuple[Any, ...]:
        of = told(self._surface, self._conditioning, self._known), self._tells
        return (*of, self._fall) if self._fall > 0 else of

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self._cells(progress)

    def _large(self, progress: Progress) -> Surface:
        """Over more cells than are held at once, block by block."""
        tells = self._tells
        counted = self._fall > 0 or tells not in ("heights", "change")
        found = _large_drainage(self._surface, self._conditioning, self._known, counted, part_of(progress, 0.0, 0.8))
        if tells == "heights":
            cells: Callable[[Window], npt.NDArray[np.floating]] = found.heights_in(self._fall)
        elif tells == "change":
            cells = found.change(self._fall)
        else:
            cells = found.drained(tells, part_of(progress, 0.8, 0.9))
        told_of = self.made_of()
        return LargeSurface(found, cells, tells, self.unit, self.vertical_datum, told_of, part_of(progress, 0.9, 1.0))

    def _cells(self, progress: Progress = ignore_progress) -> Surface:
        with self._making:
            if self._made is None and is_large(self._surface):
                self._surface.prepare(part_of(progress, 0.0, 0.1))
                self._made = self._large(part_of(progress, 0.1, 1.0))
            if self._made is None:
                self._surface.prepare(part_of(progress, 0.0, 0.1))
                found = drainage(self._surface, self._conditioning, self._known, part_of(progress, 0.1, 0.9))
                tells = self._tells
                if tells == "heights" or tells == "change":
                    given = heights_of(self._surface)
                    made = found.falling(self._fall) if self._fall > 0 else found.heights
                    added = tells == "change"
                    # water ends in the sea, whose cells are as they were
                    cells: npt.NDArray[np.floating] = made - given if added else np.where(np.isnan(made), given, made)
                else:
                    cells = found.drained(tells)
                self._made = ArraySurface(cells, self.grid, self.unit, self.vertical_datum)
                progress(1.0)
            return self._made

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._cells().read(window, level)

    def read_exact(self, window: Window) -> npt.NDArray[Any]:
        return self._cells().read_exact(window)
