"""Best of all: one surface from several, each weighted where it stands by what is known of its errors, in each scale.

Every source is taken apart into bands of detail, from cells of the grid to blocks of many (P. Burt and E. Adelson, "A
multiresolution spline with application to image mosaics", ACM Transactions on Graphics 2, 1983), with empty cells
left out. In each band the sources are averaged by the inverse of the variance of their errors there: fine detail
comes from who has it, broad shape from who is right. Beyond its edge a source goes on as the others do, bent to meet
it, and in each band its weight ends over cells of that band's width, so that no seam is left. Before, each source is
raised or lowered by a smooth surface to where the better ones stand.

A cell depends on cells within a known reach only, so any window, level and block gives the same cells.
"""

from __future__ import annotations

import copy
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.clip import inside, named_polygons
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.judge.places import Places
from yama.terrain.judge.uncertainty import FEWEST, ErrorModel, fitted_model, of_differences, spreads_between
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.median import robust_spread
from yama.terrain.mosaic.mosaic import SourceSurface, WithSources
from yama.terrain.mosaic.rules import Sources
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.shelf import shared
from yama.terrain.surface import Category, Heights, Surface, digest, each, sample
from yama.terrain.units import UNITS

ndimage = later("scipy.ndimage")

MOST = 16
"""Sources at most."""
_BESIDE = 0.25  # of its weight that a source has in the coarse cell beside its edge
_TOO_FINE = 1e-3  # what it weighs in bands finer than its own cells
_BANDS = 7  # at most
_LATTICE = 120_000  # cells of the coarse grid on which sources are brought to one height
_READ = 1024  # cells along a block that is read for it
_PATCH = 6  # of these cells in a square whose median difference is told
_CALIBRATED = 200  # points at most at which the uncertainty is brought to its size
_SAMPLES = 12  # blocks from which the shares of bands are told
_PLACES = 4_000  # at which sources are compared where no points are given
_NOTHING = np.empty((1, 1))
_NO_CLASS = np.zeros((1, 1), np.int64)
_LEAST = 0.01  # of a variance that a band has at least


@kernel
def _halved(cells, weights, cover, out, out_weights, out_cover):
    """Each 2 x 2 cells as one: the mean of those that are not empty, and the means of their weights and of what a
    source covers."""
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            total = 0.0
            count = 0
            weight = 0.0
            share = 0.0
            for dr in range(2):
                for dc in range(2):
                    value = cells[2 * r + dr, 2 * c + dc]
                    if not np.isnan(value):
                        total += value
                        count += 1
                    weight += weights[2 * r + dr, 2 * c + dc]
                    share += cover[2 * r + dr, 2 * c + dc]
            out[r, c] = total / count if count else np.nan
            out_weights[r, c] = weight / 4
            out_cover[r, c] = share / 4


@kernel
def _pulled(cells, out):
    """Each 2 x 2 cells as the mean of those that are not empty."""
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            total = 0.0
            count = 0
            for dr in range(2):
                for dc in range(2):
                    value = cells[2 * r + dr, 2 * c + dc]
                    if not np.isnan(value):
                        total += value
                        count += 1
            out[r, c] = total / count if count else np.nan


@kernel
def _pushed(cells, coarse):
    """Empty cells from those of the next coarser level, in place."""
    for r in range(cells.shape[0]):
        for c in range(cells.shape[1]):
            if np.isnan(cells[r, c]):
                cells[r, c] = _between(coarse, r, c)


@kernel
def _between(coarse, r, c):
    """A cell of the next finer level, between the four around it that are not empty; NaN where all are."""
    rows, cols = coarse.shape
    r0 = r // 2
    c0 = c // 2
    r1 = r0 - 1 if r % 2 == 0 else r0 + 1
    c1 = c0 - 1 if c % 2 == 0 else c0 + 1
    r1 = min(max(r1, 0), rows - 1)
    c1 = min(max(c1, 0), cols - 1)
    total = 0.0
    share = 0.0
    value = coarse[r0, c0]
    if not np.isnan(value):
        total += 0.5625 * value
        share += 0.5625
    value = coarse[r1, c0]
    if not np.isnan(value):
        total += 0.1875 * value
        share += 0.1875
    value = coarse[r0, c1]
    if not np.isnan(value):
        total += 0.1875 * value
        share += 0.1875
    value = coarse[r1, c1]
    if not np.isnan(value):
        total += 0.0625 * value
        share += 0.0625
    return total / share if share > 0 else np.nan


@kernel
def _reach(weights, cover, out, out_cover):
    """A source reaches one cell farther than it covers: what lies between coarse cells depends on those beside its
    edge, and what it covers itself must stay as it is."""
    rows, cols = weights.shape
    for r in range(rows):
        for c in range(cols):
            if cover[r, c] > 0:
                out[r, c] = weights[r, c]
                out_cover[r, c] = cover[r, c]
                continue
            most = 0.0
            for dr in range(-1, 2):
                for dc in range(-1, 2):
                    if 0 <= r + dr < rows and 0 <= c + dc < cols and cover[r + dr, c + dc] > 0:
                        most = max(most, weights[r + dr, c + dc] / cover[r + dr, c + dc])
            out[r, c] = most * _BESIDE
            out_cover[r, c] = _BESIDE if most > 0 else 0.0


@kernel
def _add_band(cells, coarse, last, weights, cover, divisor, ratio, total, weight, doubts, most, which, number):
    """Adds a source's band to the sums: its weight times what it has beyond the coarser level.

    last: whether there is no coarser level. divisor: by what the weight is divided in this band; ratio: of that what
    the variance of its errors in this band is of the whole. doubts: sum of the squares of weights times variances.
    most, which: the largest weight so far, and whose."""
    for r in range(cells.shape[0]):
        for c in range(cells.shape[1]):
            own = weights[r, c] / divisor
            if not own > 0:
                continue
            part = cells[r, c] if last else cells[r, c] - _between(coarse, r, c)
            total[r, c] += own * part
            weight[r, c] += own
            # of what it covers a part of it knows the less; it weighs there all the same, for the sake of that part
            doubts[r, c] += own * ratio / cover[r, c] ** 2
            if own > most[r, c]:
                most[r, c] = own
                which[r, c] = number


@kernel
def _close_band(total, weight, doubts, coarse, coarse_doubts, last, out, out_doubts):
    """The band's mean, and its variance, on top of those of the coarser levels."""
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            if not weight[r, c] > 0:
                out[r, c] = np.nan
                out_doubts[r, c] = np.nan
                continue
            value = total[r, c] / weight[r, c]
            doubt = doubts[r, c] / (weight[r, c] * weight[r, c])
            out[r, c] = value if last else value + _between(coarse, r, c)
            out_doubts[r, c] = doubt if last else doubt + _between(coarse_doubts, r, c)


@kernel
def _place(cells, metres, lattice, rows, cols, classes, bias):
    """Heights in metres, less a shift on a coarse lattice and the mean error of what covers the ground.

    rows, cols: of the lattice, for each row and column of the cells, within it. classes: `(1, 1)` where nobody says.
    """
    known = classes.size > 1
    for r in range(cells.shape[0]):
        r0 = int(rows[r])
        r1 = min(r0 + 1, lattice.shape[0] - 1)
        down = rows[r] - r0
        for c in range(cells.shape[1]):
            if np.isnan(cells[r, c]):
                continue
            c0 = int(cols[c])
            c1 = min(c0 + 1, lattice.shape[1] - 1)
            right = cols[c] - c0
            upper = lattice[r0, c0] * (1 - right) + lattice[r0, c1] * right
            lower = lattice[r1, c0] * (1 - right) + lattice[r1, c1] * right
            shift = upper * (1 - down) + lower * down
            cells[r, c] = cells[r, c] * metres - shift - bias[classes[r, c] if known else bias.size - 1]


@kernel
def _weigh(cells, slopes, classes, floor, per_rise, doubts, own, out):
    """Inverse of the variance of the errors; 0 where a source is empty."""
    known = classes.size > 1
    with_doubts = doubts.size > 1
    for r in range(cells.shape[0]):
        for c in range(cells.shape[1]):
            if np.isnan(cells[r, c]):
                out[r, c] = 0.0
                continue
            variance = floor[classes[r, c] if known else floor.size - 1] ** 2 + (per_rise * slopes[r, c]) ** 2
            if with_doubts and not np.isnan(doubts[r, c]):
                variance += (own * doubts[r, c]) ** 2
            out[r, c] = 1.0 / variance


@dataclass(frozen=True)
class Source:
    """A source of a fusion, as far as it is known before any cell is told.

    Parameters
    ----------
    model : ErrorModel
        In metres.
    shift : ndarray, shape (rows, cols)
        What is taken off it on the coarse lattice, in metres.
    shares : ndarray, shape (bands,)
        Of the variance of its errors that each band has, finest first; together 1.
    native : float
        Metres of its own cells.
    """

    model: ErrorModel
    shift: FloatArray
    shares: FloatArray
    native: float


@dataclass(frozen=True)
class Known:
    """What is known of all sources before any cell is told.

    Parameters
    ----------
    sources : list of Source
        In the order they were given.
    slopes : ndarray, shape (rows, cols)
        Rise over run of the ground, on the coarse lattice.
    level : int
        Of the grid, whose cells the coarse lattice has.
    order : list of int
        Sources from the one that errs least on.
    fitted_at : int
        Points whose heights were used; 0 where sources were compared with each other.
    factor : float
        What the uncertainty is multiplied by, so that nine tenths of the points lie within their intervals.
    """

    sources: list[Source]
    slopes: FloatArray
    level: int
    order: list[int]
    fitted_at: int
    factor: float = 1.0


@dataclass
class _Told:
    """Cells of a window: heights in metres, variance in m², and the number of the source of most weight, -1 where
    empty."""

    heights: FloatArray
    doubts: FloatArray
    which: Sources


class Fused(WithSources):
    """The best of several surfaces.

    Parameters
    ----------
    surfaces : sequence of Surface
        Of heights, on any grids.
    grid : Grid
    cover : sequence of Features
        Polygons of what covers the ground, told apart by `column`.
    column : str
    at : Places, optional
        Known heights to which the models of errors are fitted; without them sources are compared with each other.
    unit, vertical_datum : str
        Of the result.

    Raises
    ------
    InputError
        Where there are fewer than two surfaces, or more than sixteen.
    """

    def __init__(
        self,
        surfaces: Sequence[Surface],
        grid: Grid,
        cover: Sequence[Features] = (),
        column: str = "",
        at: Places | None = None,
        unit: str = "m",
        vertical_datum: str = "",
    ) -> None:
        super().__init__(grid, unit, vertical_datum)
        if not 2 <= len(surfaces) <= MOST:
            raise InputError(f"The best of {len(surfaces)} is made of 2 to {MOST} surfaces.")
        for one in surfaces:
            if one.unit not in UNITS:
                raise InputError(
                    f"{one.name or 'A surface'} is in {one.unit or 'no unit'}: only heights can be joined."
                )
        self._surfaces = list(surfaces)
        self._fitted = [fitted(one, grid) for one in surfaces]
        self._metres = [UNITS[one.unit] for one in surfaces]
        self._cover, self._column, self._at = list(cover), column, at
        self._polygons, self._names, self._of = _classes(cover, column, grid.crs)
        native = [max(one.grid.metres_per_cell()) for one in surfaces]
        cell = max(grid.metres_per_cell())
        self._top = int(np.clip(np.log2(max(max(native) / cell, 1)), 2, _BANDS - 1))
        self._native = native
        self._lock = threading.RLock()
        self._known: Known | None = None

    def made_of(self) -> tuple[Any, ...]:
        at = () if self._at is None else (self._at.crs, self._at.x, self._at.y, self._at.heights, self._at.covers)
        return ([one.fingerprint for one in self._surfaces], [one.fingerprint for one in self._cover], self._column, at)

    @property
    def companions(self) -> Mapping[str, Surface]:
        """``source``: which surface weighs most in a cell; ``uncertainty``: one standard deviation
        of what is read there between the cells around, as points are read."""
        names = tuple(
            Category(i + 1, one.name or f"Surface {i + 1}", inputs=(i,)) for i, one in enumerate(self._surfaces)
        )
        return {"source": SourceSurface(self, names), "uncertainty": _Doubts(self)}

    def prepare(self, progress: Progress = ignore_progress) -> None:
        with self._lock:
            if self._known is None:
                self._known = shared(("fusion", digest(self.fingerprint)), lambda: self._learn(progress))

    @property
    def known(self) -> Known:
        """What is known of the sources; found when it is first asked for."""
        self.prepare()
        assert self._known is not None
        return self._known

    def with_one_raised(self, raised: Callable[[Surface], Surface]) -> Iterator[Fused]:
        """The same with each source in turn put in another's place, and with what is known of them as it is."""
        known = self.known
        for number, one in enumerate(self._fitted):
            twin = copy.copy(self)
            twin._known = known
            twin._fitted = [*self._fitted[:number], raised(one), *self._fitted[number + 1 :]]
            yield twin

    # -- cells ----------------------------------------------------------------------------------------------

    def read(self, window: Window, level: int = 0) -> Heights:
        return (self._told(window, level).heights / UNITS[self.unit]).astype(np.float32)

    def sources(self, window: Window, level: int = 0) -> Sources:
        return self._told(window, level).which

    def doubts(self, window: Window, level: int = 0) -> Heights:
        """One standard deviation of each cell, in the surface's unit."""
        sigma = np.sqrt(self._told(window, level).doubts) * (self.known.factor / UNITS[self.unit])
        return sigma.astype(np.float32)

    def _told(self, window: Window, level: int, known: Known | None = None) -> _Told:
        known = known or self.known
        grid = self.grid.at_level(level)
        result = _Told(
            np.full((window.rows, window.cols), np.nan), np.full((window.rows, window.cols), np.nan),
            np.full((window.rows, window.cols), -1, np.int32),
        )  # fmt: skip
        asked = window.clipped(grid.rows, grid.cols)
        if asked.rows <= 0 or asked.cols <= 0:
            return result
        bands = max(self._top + 1 - level, 1)
        wide, halo = _aligned(asked, bands - 1)
        made = self._joined(wide, level, bands, known)
        top, left = asked.row - wide.row, asked.col - wide.col
        inner = (slice(top, top + asked.rows), slice(left, left + asked.cols))
        outer = (
            slice(asked.row - window.row, asked.row - window.row + asked.rows),
            slice(asked.col - window.col, asked.col - window.col + asked.cols),
        )
        result.heights[outer], result.doubts[outer] = made.heights[inner], made.doubts[inner]
        result.which[outer] = made.which[inner]
        return result

    def _joined(self, window: Window, level: int, bands: int, known: Known) -> _Told:
        grid = self.grid.at_level(level)
        shape = (window.rows, window.cols)
        sums = [_Sums.of((shape[0] >> band, shape[1] >> band)) for band in range(bands)]
        slopes = self._on(known.slopes, known.level, window, level)
        classes = self._class_of(grid, window)
        cell = max(grid.metres_per_cell())
        rows, cols = self._lattice(known, window, level)
        read: list[FloatArray] = []
        for number, source in enumerate(known.sources):
            cells = self._fitted[number].read(window, level).astype(np.float64)
            _place(cells, self._metres[number], source.shift, rows, cols, classes, source.model.bias)
            read.append(cells)
        for number, source in enumerate(known.sources):
            filled = np.isfinite(read[number])
            if not filled.any():
                continue
            model, doubts = source.model, self._own_doubts(number, window, level)
            weights = np.empty(shape)
            _weigh(
                read[number], slopes, classes, model.floor, model.per_rise,
                _NOTHING if doubts is None else doubts, model.own, weights,
            )  # fmt: skip
            cells = read[number] if filled.all() else self._gone_on(read, number, known.order, bands)
            cover = filled.astype(np.float64)
            shares = _at_level(source.shares, level, bands)
            for band in range(bands):
                last = band == bands - 1
                # in bands finer than its own cells it has no detail
                ratio = _TOO_FINE if 2 * cell * 2**band <= source.native else 1.0
                divisor = float(shares[band]) / ratio
                coarse = weight = part = _NOTHING
                if not last:
                    half = (cells.shape[0] // 2, cells.shape[1] // 2)
                    coarse, weight, part = np.empty(half), np.empty(half), np.empty(half)
                    _halved(cells, weights, cover, coarse, weight, part)
                near, around = weights, cover
                if band and not filled.all():
                    near, around = np.empty(weights.shape), np.empty(weights.shape)
                    _reach(weights, cover, near, around)
                sums[band].add(cells, coarse, last, near, around, divisor, ratio, number)
                cells, weights, cover = coarse, weight, part
        heights = doubts = np.empty((1, 1))
        for band in range(bands - 1, -1, -1):
            heights, doubts = sums[band].closed(heights, doubts, band == bands - 1)
        which = sums[0].which
        which[np.isnan(heights)] = -1
        return _Told(heights, doubts, which)

    def _gone_on(self, read: Sequence[FloatArray], number: int, order: Sequence[int], bands: int) -> FloatArray:
        """A source beyond its edge: as the best of the others there, raised or lowered by what both differ at the
        edge, the farther from it the more broadly. So the others bend towards it, and it stays as it is."""
        ground = np.full(read[number].shape, np.nan)
        for other in order:
            if other != number:
                ground = np.where(np.isnan(ground), read[other], ground)
        apart = [read[number] - ground]
        for _ in range(bands - 1):
            coarse = np.empty((apart[-1].shape[0] // 2, apart[-1].shape[1] // 2))
            _pulled(apart[-1], coarse)
            apart.append(coarse)
        for finer, coarse in zip(apart[-2::-1], apart[:0:-1], strict=True):
            _pushed(finer, coarse)
        found: FloatArray = np.where(np.isnan(read[number]), ground + np.nan_to_num(apart[0]), read[number])
        return found

    def _lattice(self, known: Known, window: Window, level: int) -> tuple[FloatArray, FloatArray]:
        """Rows and columns of the coarse lattice that cells of a window have, at its edge at most."""
        scale = 2.0 ** (level - known.level)
        size = self.grid.at_level(known.level)
        rows = (np.arange(float(window.row), window.row + window.rows) + 0.5) * scale - 0.5
        cols = (np.arange(float(window.col), window.col + window.cols) + 0.5) * scale - 0.5
        return np.clip(rows, 0, size.rows - 1), np.clip(cols, 0, size.cols - 1)

    def _on(self, lattice: FloatArray, at: int, window: Window, level: int) -> FloatArray:
        """A coarse lattice on cells of a level, bilinear."""
        scale = 2.0 ** (level - at)
        rows = (np.arange(float(window.row), window.row + window.rows) + 0.5) * scale - 0.5
        cols = (np.arange(float(window.col), window.col + window.cols) + 0.5) * scale - 0.5
        return _spread(lattice, rows, cols)

    def _class_of(self, grid: Grid, window: Window) -> npt.NDArray[np.int64]:
        """Which class each cell is of; of one cell where nobody says what covers the ground."""
        if not self._polygons:
            return _NO_CLASS
        number = inside(self._polygons, grid, window)  # 0 is none of them
        found: npt.NDArray[np.int64] = self._of[number]
        return found

    def _own_doubts(self, number: int, window: Window, level: int) -> FloatArray | None:
        doubts = self._surfaces[number].companions.get("uncertainty")
        if doubts is None:
            return None
        return fitted(doubts, self.grid).read(window, level).astype(np.float64) * self._metres[number]

    # -- what is known before ---------------------------------------------------------------------------------

    def _learn(self, progress: Progress) -> Known:
        level = 0
        while self.grid.at_level(level).cell_count > _LATTICE:
            level += 1
        grid = self.grid.at_level(level)
        coarse = []
        for number, one in enumerate(self._fitted):
            part = part_of(progress, 0.5 * number / len(self._fitted), 0.5 * (number + 1) / len(self._fitted))
            coarse.append(_picked(one, self.grid, level, part) * self._metres[number])
            if not np.isfinite(coarse[-1]).any():
                name = self._surfaces[number].name or f"Surface {number + 1}"
                raise InputError(f"{name} has no height in the area. Leave it out.")
        at, errors = self._errors(coarse, grid)
        order = self._order(errors, coarse)
        shifts = _shifts(coarse, order, errors[order[0]] if at is not None else None)
        slopes = _slopes([one - shift for one, shift in zip(coarse, shifts, strict=True)], order, grid)
        progress(0.5)
        if at is not None:
            places = at
            rest = [one - _at(shift, grid, at) for one, shift in zip(errors, shifts, strict=True)]
        else:
            places, rest = self._rest_of_the_best(coarse, shifts, order, grid)
        kinds = self._kinds_at(places)
        rises = _at(slopes, grid, places)
        models = []
        for number, known_errors in enumerate(rest):
            own = self._own_at(number, places)
            models.append(self._model(number, known_errors, rises, kinds, own, models_of=rest))
        if at is None:
            self._without_truth(models, coarse, order)
        known = Known(
            [
                Source(model, shift, np.full(self._top + 1, 1 / (self._top + 1)), native)
                for model, shift, native in zip(models, shifts, self._native, strict=True)
            ],
            slopes, level, order, len(at) if at is not None else 0,
        )  # fmt: skip
        known = self._with_shares(known, order, coarse, level, progress)
        if at is not None:
            known = self._calibrated(known, at, progress)
        progress(1.0)
        return known

    def _errors(self, coarse: Sequence[FloatArray], grid: Grid) -> tuple[Places | None, list[FloatArray]]:
        """Known errors of each source at the points; none where there are too few."""
        if self._at is None:
            return None, []
        errors = []
        for number, one in enumerate(self._surfaces):
            x, y = self._at.in_crs(one.grid.crs)
            errors.append(sample(one, x, y) * self._metres[number] - self._at.heights)
        if max(int(np.isfinite(one).sum()) for one in errors) < FEWEST:
            raise InputError(
                f"Fewer than {FEWEST} of the points lie on any of the surfaces: too few to tell how wrong each is. "
                "Give more points, or none."
            )
        return self._at, errors

    def _order(self, errors: Sequence[FloatArray], coarse: Sequence[FloatArray]) -> list[int]:
        """Sources from the one that errs least on, by the spread of their errors, or of their differences."""
        if errors:
            spreads = [_spread_of(one) for one in errors]
            # of which too little is known stands last, by its cells
            return sorted(range(len(errors)), key=lambda i: (np.isnan(spreads[i]), spreads[i], self._native[i]))
        # without points the finer is taken for the better: what coarse sources lack of detail they lack together, so
        # that their differences would call them better than they are
        return sorted(range(len(coarse)), key=lambda i: self._native[i])

    def _rest_of_the_best(
        self, coarse: Sequence[FloatArray], shifts: Sequence[FloatArray], order: Sequence[int], grid: Grid
    ) -> tuple[Places, list[FloatArray]]:
        """Without points: what each source lies off the best one that is there, at places spread evenly."""
        best = np.full(coarse[0].shape, np.nan)
        for number in order:
            best = np.where(np.isnan(best), coarse[number] - shifts[number], best)
        rows, cols = np.nonzero(np.isfinite(best))
        some = np.unique(np.linspace(0, rows.size - 1, min(rows.size, _PLACES)).astype(np.int64))
        rows, cols = rows[some], cols[some]
        places = Places(grid.crs, grid.x_of(cols), grid.y_of(rows), best[rows, cols])
        rest = []
        for number, one in enumerate(coarse):
            apart = (one - shifts[number] - best)[rows, cols]
            # a source does not differ from itself: where it is the best nothing is known of it
            rest.append(np.where(apart == 0, np.nan, apart))
        return places, rest

    def _kinds_at(self, places: Places) -> npt.NDArray[np.int64] | None:
        if not self._polygons:
            return None
        found = np.full(len(places), len(self._names), np.int64)
        x, y = places.in_crs(self.grid.crs)
        for polygon, kind in zip(self._polygons, self._of[1:], strict=True):
            shapely.prepare(polygon)
            found[shapely.contains_xy(polygon, x, y)] = kind
        return found

    def _own_at(self, number: int, places: Places) -> FloatArray | None:
        doubts = self._surfaces[number].companions.get("uncertainty")
        if doubts is None:
            return None
        return sample(doubts, *places.in_crs(doubts.grid.crs)) * self._metres[number]

    def _model(
        self,
        number: int,
        rest: FloatArray,
        rises: FloatArray,
        kinds: npt.NDArray[np.int64] | None,
        own: FloatArray | None,
        models_of: Sequence[FloatArray],
    ) -> ErrorModel:
        classes = None if kinds is None else np.where(kinds == len(self._names), -1, kinds)
        try:
            return fitted_model(rest, rises, classes, self._names, own)
        except InputError:
            # too little is known of it: as wrong as the worst of which more is known, on the safe side
            spreads = [_spread_of(one) for one in models_of]
            known = [one for one in spreads if np.isfinite(one)]
            spread = max([*known, 0.1]) if number != int(np.nanargmin([*spreads, np.inf])) else 0.1
            count = len(self._names) + 1
            return ErrorModel(
                self._names, np.zeros(count), np.full(count, spread), 0.0, 0.0, int(np.isfinite(rest).sum()), np.nan
            )

    def _without_truth(self, models: list[ErrorModel], coarse: Sequence[FloatArray], order: Sequence[int]) -> None:
        """Without points each source was fitted to the best, which has errors of its own: what three or more say of
        each other tells how large."""
        best = order[0]
        others = 0.5 * min(float(models[i].floor.min()) for i in order[1:])
        try:
            alone = float(of_differences(spreads_between([one.ravel() for one in coarse]))[best])
        except InputError:  # two sources, or such as do not all meet
            alone = np.nan
        spread = min(alone, others) if alone > 0 else others
        count = len(self._names) + 1
        models[best] = ErrorModel(self._names, np.zeros(count), np.full(count, max(spread, 1e-3)), 0.0, 0.0, 0, np.nan)

    def _with_shares(
        self, known: Known, order: Sequence[int], coarse: Sequence[FloatArray], level: int, progress: Progress
    ) -> Known:
        """How the variance of each source's errors is shared among the bands: as its differences from the best are;
        of the best, as noise of its own cells would be."""
        bands = self._top + 1
        side = 4 << self._top
        sources = list(known.sources)
        cell = max(self.grid.metres_per_cell())
        best = order[0]
        for number in range(len(sources)):
            shares = _white(bands, max(sources[number].native / cell, 1.0))
            if number != best:
                told = []
                both = np.isfinite(coarse[number]) & np.isfinite(coarse[best])
                for window in _blocks_where(both, self.grid, level, side, _SAMPLES):
                    progress(0.5 + 0.2 * number / len(sources))
                    told.append(self._band_spreads(known, number, best, window))
                squares = np.array(told)
                if squares.size and np.isfinite(squares).any():
                    measured = np.nanmedian(squares, axis=0)
                    if measured.sum() > 0:
                        shares = measured / measured.sum()
            shares = np.maximum(shares, _LEAST)
            sources[number] = Source(
                sources[number].model, sources[number].shift, shares / shares.sum(), sources[number].native
            )
        return Known(sources, known.slopes, known.level, known.order, known.fitted_at)

    def _band_spreads(self, known: Known, number: int, best: int, window: Window) -> FloatArray:
        """Variance of the difference of two sources in each band, robustly."""
        apart = np.zeros((window.rows, window.cols))
        for sign, one in ((1, number), (-1, best)):
            cells = self._fitted[one].read(window, 0).astype(np.float64) * self._metres[one]
            apart += sign * (cells - self._on(known.sources[one].shift, known.level, window, 0))
        found = np.full(self._top + 1, np.nan)
        cells = apart
        for band in range(self._top + 1):
            half = (cells.shape[0] // 2, cells.shape[1] // 2)
            coarse = np.empty(half)
            detail = cells
            if band < self._top:
                _pulled(cells, coarse)
                detail = cells - _widened(coarse, cells.shape)
            squares = detail[np.isfinite(detail)] ** 2
            if squares.size > 8:
                # robustly: what lies beyond three standard deviations counts no more than that
                found[band] = float(np.mean(np.minimum(squares, 9 * 2.2 * np.median(squares))))
            cells = coarse
        return found

    def _calibrated(self, known: Known, at: Places, progress: Progress) -> Known:
        """The uncertainty as large as the points say: nine tenths of them lie within 1.645 of it."""
        some = np.unique(np.linspace(0, len(at) - 1, min(len(at), _CALIBRATED)).astype(np.int64))
        x, y = at.in_crs(self.grid.crs)
        rows, cols = self.grid.row_of(y[some]), self.grid.col_of(x[some])

        def one(place: int) -> float:
            row, col = int(np.floor(rows[place])), int(np.floor(cols[place]))
            told = self._told(Window(row, col, 2, 2), 0, known)
            down, right = float(rows[place]) - row, float(cols[place]) - col
            parts = np.outer((1 - down, down), (1 - right, right))
            height, doubt = float((parts * told.heights).sum()), float((parts * told.doubts).sum())
            return abs(height - float(at.heights[some[place]])) / np.sqrt(doubt) if doubt > 0 else np.nan

        ratios = np.array(each(range(some.size), one, lambda share: progress(0.7 + 0.3 * share)))
        ratios = ratios[np.isfinite(ratios)]
        if ratios.size < FEWEST:
            return known
        factor = float(np.clip(np.quantile(ratios, 0.9) / 1.6449, 0.5, 10.0))
        return Known(known.sources, known.slopes, known.level, known.order, known.fitted_at, factor)


class _Doubts(Surface):
    """The uncertainty of a fusion."""

    def __init__(self, fused: Fused) -> None:
        super().__init__(fused.grid, fused.unit)
        self._fused = fused

    def made_of(self) -> tuple[Any, ...]:
        return (self._fused.fingerprint,)

    def prepare(self, progress: Progress = ignore_progress) -> None:
        self._fused.prepare(progress)

    def read(self, window: Window, level: int = 0) -> Heights:
        return self._fused.doubts(window, level)


@dataclass
class _Sums:
    """Of a band: what its sources come to together."""

    total: FloatArray
    weight: FloatArray
    doubts: FloatArray
    most: FloatArray
    which: Sources

    @classmethod
    def of(cls, shape: tuple[int, int]) -> _Sums:
        return cls(np.zeros(shape), np.zeros(shape), np.zeros(shape), np.zeros(shape), np.full(shape, -1, np.int32))

    def add(
        self,
        cells: FloatArray,
        coarse: FloatArray,
        last: bool,
        weights: FloatArray,
        cover: FloatArray,
        divisor: float,
        ratio: float,
        number: int,
    ) -> None:
        _add_band(
            cells, coarse, last, weights, cover, divisor, ratio, self.total, self.weight, self.doubts, self.most, self.which, number
        )  # fmt: skip

    def closed(self, coarse: FloatArray, doubts: FloatArray, last: bool) -> tuple[FloatArray, FloatArray]:
        out, out_doubts = np.empty(self.total.shape), np.empty(self.total.shape)
        _close_band(self.total, self.weight, self.doubts, coarse, doubts, last, out, out_doubts)
        return out, out_doubts


def _aligned(window: Window, top: int) -> tuple[Window, int]:
    """A window and all cells that its bands depend on, from and to whole cells of the coarsest."""
    size = 1 << top
    halo = 4 * size
    row, col = ((at - halo) // size * size for at in (window.row, window.col))
    bottom, right = window.row + window.rows + halo, window.col + window.cols + halo
    rows, cols = -(-(bottom - row) // size) * size, -(-(right - col) // size) * size
    return Window(row, col, rows, cols), halo


def _classes(
    cover: Sequence[Features], column: str, crs: str
) -> tuple[list[Any], tuple[str, ...], npt.NDArray[np.int64]]:
    """Polygons, names of their classes, and of which class each polygon is: first of none of them, then one by one."""
    told = named_polygons(cover, column, crs, "covered")
    polygons, of = [polygon for polygon, _ in told], [name for _, name in told]
    found = tuple(sorted(set(of)))
    numbers = [len(found), *[found.index(one) for one in of]]
    return polygons, found, np.array(numbers, np.int64)


def _at_level(shares: FloatArray, level: int, bands: int) -> FloatArray:
    """Shares of the bands that are left at a coarser level."""
    left = shares[level : level + bands] if level < shares.size else shares[-1:]
    found: FloatArray = left / left.sum()
    return found


def _white(bands: int, native: float) -> FloatArray:
    """Shares of noise that is alike within cells so many times those of the grid, and independent from one to the
    next."""
    shares = np.zeros(bands)
    left = 1.0
    for band in range(bands - 1):
        if 2.0**band >= native / 2:
            shares[band] = 0.75 * left
            left *= 0.25
    shares[-1] = left
    return shares


def _widened(coarse: FloatArray, shape: tuple[int, int]) -> FloatArray:
    out = np.empty(shape)
    _widen(coarse, out)
    return out


@kernel
def _bilinear(lattice, rows, cols, out):
    for r in range(out.shape[0]):
        r0 = int(rows[r])
        r1 = min(r0 + 1, lattice.shape[0] - 1)
        down = rows[r] - r0
        for c in range(out.shape[1]):
            c0 = int(cols[c])
            c1 = min(c0 + 1, lattice.shape[1] - 1)
            right = cols[c] - c0
            upper = lattice[r0, c0] * (1 - right) + lattice[r0, c1] * right
            lower = lattice[r1, c0] * (1 - right) + lattice[r1, c1] * right
            out[r, c] = upper * (1 - down) + lower * down


@kernel
def _widen(coarse, out):
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            out[r, c] = _between(coarse, r, c)


def _spread(lattice: FloatArray, rows: FloatArray, cols: FloatArray) -> FloatArray:
    """A lattice at rows and columns of it, bilinear; beyond its edge as at it."""
    rows, cols = np.clip(rows, 0, lattice.shape[0] - 1), np.clip(cols, 0, lattice.shape[1] - 1)
    found = np.empty((rows.size, cols.size))
    _bilinear(lattice, rows, cols, found)
    return found


def _at(lattice: FloatArray, grid: Grid, places: Places) -> FloatArray:
    """A lattice at places; that of the nearest cell."""
    x, y = places.in_crs(grid.crs)
    rows = np.clip(np.rint(grid.row_of(y)), 0, grid.rows - 1).astype(np.int64)
    cols = np.clip(np.rint(grid.col_of(x)), 0, grid.cols - 1).astype(np.int64)
    found: FloatArray = lattice[rows, cols]
    return found


def _picked(surface: Surface, grid: Grid, level: int, progress: Progress) -> FloatArray:
    """The middle cell of level 0 of each cell of a coarse level. No coarse cells are read: those of a live surface
    differ from those of its stored copy, and both must be joined alike."""
    step = 1 << level
    coarse = grid.at_level(level)
    made = np.full((coarse.rows, coarse.cols), np.nan)
    side = max(_READ // step, 1)

    def one(window: Window) -> None:
        part = surface.read(Window(window.row * step, window.col * step, window.rows * step, window.cols * step))
        rows, cols = slice(window.row, window.row + window.rows), slice(window.col, window.col + window.cols)
        made[rows, cols] = part[step // 2 :: step, step // 2 :: step]

    each(list(coarse.blocks(side)), one, progress)
    return made


def _spread_of(values: FloatArray) -> float:
    """Of what is known; NaN of too few."""
    known = values[np.isfinite(values)]
    return robust_spread(known) if known.size >= FEWEST else np.nan


def _shifts(coarse: Sequence[FloatArray], order: Sequence[int], errors: FloatArray | None) -> list[FloatArray]:
    """What is taken off each source on the coarse lattice: of the best its median error, where that is known and more
    than chance; of each other a smooth surface through its median differences from the better ones, and their median
    where it meets none of them."""
    shifts: list[FloatArray] = [np.zeros(coarse[0].shape) for _ in coarse]
    best = order[0]
    if errors is not None:
        known = errors[np.isfinite(errors)]
        middle = float(np.median(known)) if known.size else 0.0
        chance = 1.2533 * _spread_of(known) / np.sqrt(max(known.size, 1)) if known.size >= FEWEST else np.inf
        if abs(middle) > 3 * chance:
            shifts[best] = np.full(coarse[0].shape, middle)
    ground = coarse[best] - shifts[best]
    for number in order[1:]:
        apart = coarse[number] - ground
        shifts[number] = _smooth(apart)
        ground = np.where(np.isnan(ground), coarse[number] - shifts[number], ground)
    return shifts


def _smooth(apart: FloatArray) -> FloatArray:
    """A smooth surface through the medians of differences in squares, everywhere."""
    rows, cols = apart.shape
    known = np.isfinite(apart)
    if not known.any():
        return np.zeros(apart.shape)
    high, wide = -(-rows // _PATCH), -(-cols // _PATCH)
    padded = np.full((high * _PATCH, wide * _PATCH), np.nan)
    padded[:rows, :cols] = apart
    squares = padded.reshape(high, _PATCH, wide, _PATCH).transpose(0, 2, 1, 3).reshape(high, wide, -1)
    counts = np.isfinite(squares).sum(axis=2)
    some = counts >= _PATCH
    middle = np.full((high, wide), np.nan)
    if some.any():
        middle[some] = np.nanmedian(squares[some], axis=1)
    whole = float(np.median(apart[known]))
    # far from all differences it is their median
    near = np.where(some, middle - whole, 0.0)
    share = ndimage.gaussian_filter(some.astype(np.float64), 2.0, mode="constant")
    part = ndimage.gaussian_filter(near, 2.0, mode="constant")
    level = whole + np.where(share > 1e-6, part / np.maximum(share, 1e-6) * np.clip(4 * share, 0, 1), 0.0)
    at_rows, at_cols = ((np.arange(float(count)) + 0.5) / _PATCH - 0.5 for count in (rows, cols))
    return _spread(level, at_rows, at_cols)


def _slopes(coarse: Sequence[FloatArray], order: Sequence[int], grid: Grid) -> FloatArray:
    """Rise over run of the best that is there, everywhere; 0 where nothing is."""
    ground = np.full(coarse[0].shape, np.nan)
    for number in order:
        ground = np.where(np.isnan(ground), coarse[number], ground)
    wide, high = grid.metres_per_cell()
    down, across = np.gradient(ground, high, wide) if min(ground.shape) > 1 else (np.zeros_like(ground),) * 2
    found: FloatArray = np.nan_to_num(np.hypot(down, across))
    return found


def _blocks_where(known: npt.NDArray[np.bool_], grid: Grid, level: int, side: int, most: int) -> list[Window]:
    """Blocks of the grid over cells of a coarse lattice that are known, spread evenly."""
    rows, cols = np.nonzero(known)
    if not rows.size:
        return []
    some = np.unique(np.linspace(0, rows.size - 1, min(rows.size, most)).astype(np.int64))
    found = []
    for row, col in zip(rows[some].tolist(), cols[some].tolist(), strict=True):
        top = max(((row << level) - side // 2) // (side // 4) * (side // 4), 0)
        left = max(((col << level) - side // 2) // (side // 4) * (side // 4), 0)
        found.append(Window(top, left, side, side))
    return list(dict.fromkeys(found))
