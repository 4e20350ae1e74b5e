"""By how much one surface lies beside, above and askew of another, and the surface put right.

Differences of two surfaces of one ground that lie beside each other swing with the ground's aspect: their size over
the tangent of the slope is a cosine whose amplitude is the distance and whose phase the direction (C. Nuth and A.
Kääb, "Co-registration and bias corrections of satellite elevation data sets for quantifying glacier thickness
change", The Cryosphere 5, 2011). Here the same is solved as a linear system in the slopes towards east and north,
with offset and tilt, robustly (Tukey's biweight: A. E. Beaton and J. W. Tukey, Technometrics 16, 1974), from coarse
cells to fine ones, and again after each step with the surface moved.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

import numpy as np
from pyproj import Transformer

from yama.terrain.cluster import cores
from yama.terrain.errors import InputError
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid, Window, metres_per_unit, parse_crs
from yama.terrain.kernels import kernel
from yama.terrain.median import robust_spread
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, Over, Surface
from yama.terrain.units import UNITS

_COARSE = 1 << 16  # cells of the level that is begun with
_MOST = 1 << 21  # cells that are looked at, spread evenly
_KEPT = 400_000  # cells whose residuals are kept
_BLOCK = 256
_FEWEST_BLOCKS = 36
_FEWEST_CELLS = 400
_TURNS = 12  # at the finest level
_STILL = 0.002  # of a cell: a shift that changes by less is found
_FAR = 4.685  # robust standard deviations at which the biweight is 0
_UNSURE = 0.5  # of a cell: a standard error from which on nothing is known of the shift
_STEEP = 0.0875  # rise over run, 5 degrees, from which on a cell says something of the shift
_BINS = 36  # of aspect
_FEWEST_OF_ASPECT = 10
_DOTS = 500
_TERMS = 5
_MOST_ALIKE = 1e7  # condition of scaled normal equations from which on they have no one solution


class NothingSharedError(InputError):
    """Two surfaces have too few cells in common to tell how they lie."""


class Moved(Over):
    """A surface at another place: its cells as they are, without resampling, on a grid that is moved; heights less an
    offset and a tilt.

    Parameters
    ----------
    surface : Surface
    east, north : float
        Metres that it is moved, along the axes of `crs`.
    up : float
        Metres that it is raised.
    tilt : (float, float)
        Metres that it is raised for each metre towards east and north of `at`.
    at : (float, float), optional
        Place in `crs`; the middle of the surface where not given.
    crs : str, optional
        The surface's own where not given.
    """

    def __init__(
        self,
        surface: Surface,
        east: float = 0.0,
        north: float = 0.0,
        up: float = 0.0,
        tilt: tuple[float, float] = (0.0, 0.0),
        at: tuple[float, float] | None = None,
        crs: str | None = None,
    ) -> None:
        own = surface.grid
        crs = crs or own.crs
        if parse_crs(crs) == parse_crs(own.crs):
            x, y = at or own.middle
            across, high = metres_per_unit(crs, x, y)
            dx, dy = east / across, north / high
        else:
            turn = Transformer.from_crs(parse_crs(crs), parse_crs(own.crs), always_xy=True)
            x, y = at or turn.transform(*own.middle, direction="INVERSE")
            across, high = metres_per_unit(crs, x, y)
            (x, to_x), (y, to_y) = turn.transform([x, x + east / across], [y, y + north / high])
            dx, dy = to_x - x, to_y - y
        grid = Grid(own.crs, own.west + dx, own.north + dy, own.cell_width, own.cell_height, own.rows, own.cols)
        super().__init__(surface, grid)
        self.by_parts = False
        unit = UNITS[surface.unit]
        self._up, self._tilt = up / unit, (tilt[0] / unit, tilt[1] / unit)
        self._at = (float(x), float(y))

    def settings(self) -> tuple[Any, ...]:
        return (self.grid.west, self.grid.north, self._up, self._tilt, self._at)

    def companion(self, name: str, below: Surface) -> Surface | None:
        return _Beside(below, self.grid)

    @property
    def facets(self) -> None:
        return None

    def read(self, window: Window, level: int = 0) -> Heights:
        cells = self.surface.read(window, level)
        if not (self._up or any(self._tilt)):
            return cells
        x, y = self.grid.at_level(level).centres(window)
        across, high = metres_per_unit(self.grid.crs, *self._at)
        east, north = (x - self._at[0]) * across, (y - self._at[1]) * high
        plane = self._up + self._tilt[0] * east[None, :] + self._tilt[1] * north[:, None]
        moved: Heights = (cells + plane).astype(np.float32)
        return moved


class _Beside(Over):
    """What accompanies a moved surface: as it is, on the moved grid."""

    def settings(self) -> tuple[Any, ...]:
        return (self.grid.west, self.grid.north)

    def read(self, window: Window, level: int = 0) -> Heights:
        return self.surface.read(window, level)


@dataclass(frozen=True)
class Fitness:
    """How two surfaces differ, in metres: mean, RMSE, NMAD; and the cells that say so."""

    mean: float
    rmse: float
    nmad: float
    cells: int


@dataclass(frozen=True)
class Coregistration:
    """Where a surface lies, seen from another.

    Parameters
    ----------
    east, north, up : float
        Metres that it lies to the east, to the north and above.
    tilt : (float, float)
        Metres that it rises for each metre towards east and north; (0, 0) where it was not asked for.
    errors : tuple of five floats
        Standard errors of these: of blocks of the ground left out in turn (jackknife), so that what is alike from
        cell to cell does not make them too small.
    at, crs : (float, float), str
        Place about which the tilt turns, and the CRS whose axes east and north follow.
    cell : float
        Of the coarser of both surfaces, in metres.
    before, after : Fitness
    aspect, swing, swing_after : ndarray, shape (36,)
        Aspects in degrees, and the medians there of the difference over the tangent of the slope, in metres, before and
        after; NaN where fewer than ten cells have that aspect.
    dots, dots_after : ndarray, shape (n, 2)
        Of some cells: aspect, difference over the tangent of the slope.
    """

    east: float
    north: float
    up: float
    tilt: tuple[float, float]
    errors: tuple[float, float, float, float, float]
    at: tuple[float, float]
    crs: str
    cell: float
    before: Fitness
    after: Fitness
    aspect: FloatArray = field(repr=False, compare=False)
    swing: FloatArray = field(repr=False, compare=False)
    swing_after: FloatArray = field(repr=False, compare=False)
    dots: FloatArray = field(repr=False, compare=False)
    dots_after: FloatArray = field(repr=False, compare=False)

    @property
    def distance(self) -> float:
        """Metres that it lies beside."""
        return float(np.hypot(self.east, self.north))

    @property
    def direction(self) -> float:
        """Degrees from north towards which it lies."""
        return float(np.degrees(np.arctan2(self.east, self.north)) % 360)

    def put_right(self, surface: Surface) -> Moved:
        """The surface where it belongs."""
        back = (-self.tilt[0], -self.tilt[1])
        return Moved(surface, -self.east, -self.north, -self.up, back, self.at, self.crs)


@kernel
def _gather(judged, reference, east, north, wide, high, plane, limit, apart, sums, rest, slopes):
    """Sums of the normal equations over a block, with biweights, and the residuals and slopes of its cells.

    judged, reference: `(rows + 2, cols + 2)`, with one cell more all around. plane: offset, and tilt towards east and
    north. limit: where the weight is 0; all weigh alike where it is 0. apart: by how much both slopes may differ where
    the judged surface's stand in for the reference's (instrumental variables); 0 where they do not. Slopes hold noise,
    which makes a shift seem surer than it is, and noise of both has nothing in common.
    """
    rows, cols = rest.shape
    terms, others = np.empty(sums.shape[0]), np.empty(sums.shape[0])
    for r in range(rows):
        for c in range(cols):
            rest[r, c] = np.nan
            gx = (reference[r + 1, c + 2] - reference[r + 1, c]) / (2.0 * wide)
            gy = (reference[r, c + 1] - reference[r + 2, c + 1]) / (2.0 * high)
            hx = (judged[r + 1, c + 2] - judged[r + 1, c]) / (2.0 * wide)
            hy = (judged[r, c + 1] - judged[r + 2, c + 1]) / (2.0 * high)
            d = float(judged[r + 1, c + 1]) - float(reference[r + 1, c + 1])
            d -= plane[0] + plane[1] * east[c] + plane[2] * north[r]
            slopes[0, r, c], slopes[1, r, c] = gx, gy
            slopes[2, r, c], slopes[3, r, c] = hx - gx, hy - gy
            if not np.isfinite(d + gx + gy + hx + hy):
                continue
            # where the sea was filled in with 0 nothing was measured
            if (reference[r + 1, c + 1] == 0.0 and gx == 0.0 and gy == 0.0) or (
                judged[r + 1, c + 1] == 0.0 and hx == 0.0 and hy == 0.0
            ):
                continue
            rest[r, c] = d
            if apart > 0.0 and max(abs(hx - gx), abs(hy - gy)) > apart:
                continue
            if apart == 0.0:
                hx, hy = gx, gy
            weight = 1.0
            if limit > 0.0:
                share = abs(d) / limit
                if share >= 1.0:
                    continue
                weight = (1.0 - share * share) ** 2
            terms[0], terms[1], terms[2] = -gx, -gy, 1.0
            others[0], others[1], others[2] = -hx, -hy, 1.0
            if terms.size > 3:
                terms[3], terms[4] = east[c], north[r]
                others[3], others[4] = east[c], north[r]
            for i in range(terms.size):
                for j in range(terms.size):
                    sums[i, j] += weight * others[i] * terms[j]
                sums[i, terms.size] += weight * others[i] * d


@dataclass
class _Gathered:
    """Of all blocks: sums of their normal equations; of some cells residuals, the reference's slopes towards east and
    north, and by how much the judged surface's differ from them."""

    sums: FloatArray
    rest: FloatArray
    slopes: FloatArray


def _blocks(window: Window, side: int, most: int) -> list[Window]:
    """Blocks that cover a window, or so many of them spread evenly over it."""
    rows = range(window.row, window.row + window.rows, side)
    cols = range(window.col, window.col + window.cols, side)
    found = [
        Window(r, c, min(side, window.row + window.rows - r), min(side, window.col + window.cols - c))
        for r in rows
        for c in cols
    ]
    if len(found) <= most:
        return found
    # a step that is no divisor of the blocks in a row, so that they do not stand in columns
    return [found[int(i)] for i in np.unique(np.linspace(0, len(found) - 1, most).astype(np.int64))]


class _Pair:
    """Two surfaces on the grid of the coarser one, of which the finer is moved."""

    def __init__(self, judged: Surface, reference: Surface, on: Grid | None) -> None:
        sizes = [max(one.grid.metres_per_cell()) for one in (judged, reference)]
        self.moves_judged = sizes[0] <= sizes[1]
        self.still, self.moving = (reference, judged) if self.moves_judged else (judged, reference)
        self.grid = on or self.still.grid
        self.at = self.grid.middle
        self.still = fitted(self.still, self.grid, "cubic")
        both = _overlap(self.grid, self.moving.grid)
        if both is None or _overlap(self.grid, self.still.grid) is None:
            raise NothingSharedError(
                f"{judged.name or 'The surface'} and {reference.name or 'the other'} have no ground in common."
            )
        self.whole = both
        self.at = self.grid.part(both).middle
        self._kept: dict[tuple[int, Window], Heights] = {}

    def forget(self) -> None:
        """Let go of the cells of the level before."""
        self._kept.clear()

    def level_window(self, level: int) -> Window:
        scale = 2**level
        top, left = self.whole.row // scale, self.whole.col // scale
        bottom, right = -(-(self.whole.row + self.whole.rows) // scale), -(-(self.whole.col + self.whole.cols) // scale)
        return Window(top, left, bottom - top, right - left)

    def read(self, east: float, north: float, window: Window, level: int) -> tuple[Heights, Heights]:
        """The judged surface and the reference on a window, the judged one moved back by so many metres, or the
        reference by as many the other way."""
        way = -1.0 if self.moves_judged else 1.0
        moved = fitted(Moved(self.moving, way * east, way * north, at=self.at, crs=self.grid.crs), self.grid, "cubic")
        if (level, window) not in self._kept:
            self._kept[level, window] = self.still.read(window, level)
        fixed, other = self._kept[level, window], moved.read(window, level)
        return (other, fixed) if self.moves_judged else (fixed, other)

    def gathered(
        self, shift: FloatArray, blocks: Sequence[Window], level: int, limit: float, terms: int, apart: float = 0.0
    ) -> _Gathered:
        grid = self.grid.at_level(level)
        wide, high = grid.metres_per_cell()
        across, tall = metres_per_unit(grid.crs, *self.at)
        every = max(sum(one.rows * one.cols for one in blocks) // _KEPT, 1)

        def one(window: Window) -> tuple[FloatArray, FloatArray, FloatArray]:
            judged, reference = self.read(shift[0], shift[1], window.grown(1), level)
            x, y = grid.centres(window)
            sums, rest = np.zeros((terms, terms + 1)), np.empty((window.rows, window.cols))
            slopes = np.empty((4, window.rows, window.cols))
            east, north = (x - self.at[0]) * across, (y - self.at[1]) * tall
            _gather(judged, reference, east, north, wide, high, shift[2:], limit, apart, sums, rest, slopes)
            known = np.isfinite(rest)
            return sums, rest[known][::every], slopes[:, known][:, ::every]

        with ThreadPoolExecutor(cores()) as pool:
            found = list(pool.map(one, blocks))
        return _Gathered(
            np.stack([sums for sums, _, _ in found]),
            np.concatenate([rest for _, rest, _ in found]),
            np.concatenate([slopes for _, _, slopes in found], axis=1),
        )


def _overlap(grid: Grid, other: Grid) -> Window | None:
    """The cells of a grid that another's bounds reach."""
    bounds = other.bounds
    if parse_crs(grid.crs) != parse_crs(other.crs):
        turn = Transformer.from_crs(parse_crs(other.crs), parse_crs(grid.crs), always_xy=True)
        bounds = type(bounds)(*turn.transform_bounds(*bounds))
    both = grid.bounds.intersection(bounds)
    if both is None or not np.isfinite(both).all():
        return None
    top = max(int(np.floor(float(grid.row_of(both.north)) + 0.5)), 0)
    left = max(int(np.floor(float(grid.col_of(both.west)) + 0.5)), 0)
    bottom = min(int(np.ceil(float(grid.row_of(both.south)) + 0.5)), grid.rows)
    right = min(int(np.ceil(float(grid.col_of(both.east)) + 0.5)), grid.cols)
    return Window(top, left, bottom - top, right - left) if bottom > top and right > left else None


def _solved(sums: FloatArray) -> FloatArray:
    """Corrections of the parameters from normal equations, scaled so that metres of tilt do not drown the others."""
    matrix, vector = sums[:, :-1], sums[:, -1]
    scale = np.sqrt(np.maximum(np.abs(np.diag(matrix)), 1e-300))
    found: FloatArray = np.linalg.lstsq(matrix / np.outer(scale, scale), vector / scale, rcond=1e-12)[0] / scale
    return found


def _told_apart(sums: FloatArray) -> bool:
    """Whether normal equations have one solution only: a plane that is raised is one that is moved."""
    matrix = sums[:, :-1]
    scale = np.sqrt(np.diag(matrix))
    return bool((scale > 0).all() and np.linalg.cond(matrix / np.outer(scale, scale)) < _MOST_ALIKE)


def shared_ground(judged: Surface, reference: Surface, on: Grid | None = None) -> Grid:
    """The part of the grid on which two surfaces are compared that both may show. Raises InputError where there is
    none."""
    pair = _Pair(judged, reference, on)
    return pair.grid.part(pair.whole)


def coregistration(
    judged: Surface,
    reference: Surface,
    tilted: bool = False,
    on: Grid | None = None,
    progress: Progress = ignore_progress,
) -> Coregistration:
    """Where a surface lies, seen from a reference.

    Parameters
    ----------
    judged, reference : Surface
        Heights in metres, each on any grid in any CRS; compared on the cells of the coarser one.
    tilted : bool
        Whether a tilt is looked for as well.
    on : Grid, optional
        Where they are compared, and along whose axes the shift is told; the cells of the coarser one where not given.
    progress : callable, optional

    Raises
    ------
    InputError
        Where they have no ground in common, or too little of it, or it is so flat that no shift can be known.
    """
    pair = _Pair(judged, reference, on)
    terms = _TERMS if tilted else 3
    shift: FloatArray = np.zeros(_TERMS)
    top = 0
    while (window := pair.level_window(top)).rows * window.cols > _COARSE:
        top += 1
    limit = 0.0
    for level in range(top, -1, -1):
        blocks = _spread(pair.level_window(level))
        cell = max(pair.grid.at_level(level).metres_per_cell())
        pair.forget()
        for turn in range(_TURNS):
            now = pair.gathered(shift, blocks, level, limit, terms)
            if now.rest.size < _FEWEST_CELLS:
                break  # holes are larger in coarse cells
            if not limit:
                shift[2] += float(np.median(now.rest))
                limit = _FAR * max(robust_spread(now.rest), 1e-6)
                continue
            change = _solved(now.sums.sum(axis=0))
            shift[:terms] += change
            limit = _FAR * max(robust_spread(now.rest), 1e-6)
            progress((top - level + (turn + 1) / _TURNS) / (top + 1))
            if np.hypot(change[0], change[1]) < _STILL * cell:
                break
    after = pair.gathered(shift, blocks, 0, limit, terms)
    if after.rest.size < _FEWEST_CELLS:
        raise NothingSharedError(
            f"{judged.name or 'The surface'} and {reference.name or 'the other'} have {after.rest.size} cells in common; "
            f"{_FEWEST_CELLS} are needed to tell how one lies to the other."
        )
    if not _told_apart(after.sums.sum(axis=0)):
        raise InputError(
            "All slopes of the ground that both show look one way, so that nothing tells how far one lies beside the "
            "other from how far it lies above. Judge it where slopes look in different directions."
        )
    apart = _FAR * max(robust_spread(after.slopes[2:].ravel()), 1e-9)
    errors = _jackknife(pair.gathered(shift, blocks, 0, limit, terms, apart).sums)
    if not max(errors[:2]) < _UNSURE * cell:
        raise InputError(
            f"The ground that both show is too flat, or too rough, to tell how one lies beside the other: a shift would be "
            f"known to {max(errors[:2]):.2g} m only, where a cell is {cell:.3g} m. Judge it where there are slopes."
        )
    if not pair.moves_judged:
        # the plane was laid through the judged surface where it lay; `put_right` takes it off where it belongs
        shift[2] += shift[3] * shift[0] + shift[4] * shift[1]
    before = pair.gathered(np.zeros(_TERMS), blocks, 0, 0.0, terms)
    swing, dots = _by_aspect(before)
    swing_after, dots_after = _by_aspect(after)
    return Coregistration(
        float(shift[0]),
        float(shift[1]),
        float(shift[2]),
        (float(shift[3]), float(shift[4])),
        errors,
        pair.at,
        pair.grid.crs,
        cell,
        _fitness(before.rest),
        _fitness(after.rest),
        (np.arange(_BINS) + 0.5) * 360 / _BINS,
        swing,
        swing_after,
        dots,
        dots_after,
    )


def _spread(window: Window) -> list[Window]:
    """Blocks of a window, many enough to be left out one by one."""
    side = int(np.clip(np.sqrt(window.rows * window.cols / _FEWEST_BLOCKS), 8, _BLOCK))
    return _blocks(window, side, max(_MOST // side**2, 1))


def _jackknife(sums: FloatArray) -> tuple[float, float, float, float, float]:
    """Standard errors of what normal equations give, from leaving out one block after the other."""
    used = sums[sums[:, 2, 2] > 0]
    count = len(used)
    if count < 2:
        return (np.inf, np.inf, np.inf, np.inf, np.inf)
    whole = used.sum(axis=0)
    found = np.stack([_solved(whole - one) for one in used])
    spread = np.sqrt((count - 1) / count * ((found - found.mean(axis=0)) ** 2).sum(axis=0))
    east, north, up, *tilt = (float(one) for one in spread)
    return (east, north, up, tilt[0], tilt[1]) if tilt else (east, north, up, 0.0, 0.0)


def _fitness(rest: FloatArray) -> Fitness:
    return Fitness(float(rest.mean()), float(np.sqrt(np.mean(rest**2))), robust_spread(rest), int(rest.size))


def _by_aspect(gathered: _Gathered) -> tuple[FloatArray, FloatArray]:
    """Medians of the difference over the tangent of the slope by aspect, and some cells of all."""
    east, north = gathered.slopes[:2]
    steep = np.hypot(east, north)
    some = steep > _STEEP
    aspect = np.degrees(np.arctan2(-east[some], -north[some])) % 360
    share = (gathered.rest[some] - np.median(gathered.rest)) / steep[some]
    bins = np.minimum((aspect * _BINS / 360).astype(np.int64), _BINS - 1)
    order = np.argsort(bins, kind="stable")
    ends = np.searchsorted(bins[order], np.arange(_BINS + 1))
    swing = np.array(
        [np.median(share[order[a:b]]) if b - a >= _FEWEST_OF_ASPECT else np.nan for a, b in pairwise(ends)]
    )
    every = max(some.sum() // _DOTS, 1)
    return swing, np.stack([aspect, share], axis=1)[::every]
