"""How the difference of two surfaces hangs together over the ground, and what its means over areas are worth.

Errors of neighbouring cells are alike, so that a mean over an area is far less sure than its number of cells promises
(C. Rolstad, T. Haug and B. Denby, "Spatially integrated geodetic glacier mass balance and its uncertainty based on
geostatistical analysis", Journal of Glaciology 55, 2009). How alike they are is told by the variogram of the
difference, to which two spherical models over a nugget are fitted, for errors of a short and of a long reach (R.
Hugonnet and others, "Uncertainty analysis of digital elevation models by spatial inference from stable terrain", IEEE
JSTARS 15, 2022).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on, heard_by
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.clip import inside, named_polygons
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.judge.accuracy import Figures, figures_of
from yama.terrain.later import later
from yama.terrain.median import robust_spread
from yama.terrain.progress import Progress, ignore_progress, part_of
from yama.terrain.surface import Heights, Surface, each
from yama.terrain.units import UNITS

optimize = later("scipy.optimize")

SHARES = (0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99)
_MOST = 25_000_000
"""Cells that are compared; a coarser grid is taken where there are more."""
_STRIP = 2_000_000
_PAIRS = 400_000  # of cells so far apart, at most
_FEWEST = 200  # pairs that say anything
_LAGS = 24
_FAR = 0.5  # of the shorter side that lags reach
_CLIP = 6.0  # NMADs from the median at which a difference is cut off: blunders would hide what hangs together
_RANGES = 26  # of reach that are tried between the shortest and the longest lag


@dataclass(frozen=True)
class Reach:
    """Errors that hang together: their variance in square metres, and over how many metres they do."""

    sill: float
    range: float

    def at(self, lags: FloatArray) -> FloatArray:
        """Variogram of a spherical model."""
        h = np.minimum(lags / self.range, 1.0)
        found: FloatArray = self.sill * (1.5 * h - 0.5 * h**3)
        return found

    def of_mean(self, radius: float) -> float:
        """Variance of the mean over a disc, after Rolstad and others: the covariance to its middle, as a mean of it."""
        m, a = min(radius, self.range), self.range
        return self.sill * 2 / radius**2 * (m**2 / 2 - m**3 / (2 * a) + m**5 / (10 * a**3))


@dataclass(frozen=True)
class Likeness:
    """How a difference hangs together.

    Parameters
    ----------
    cell : float
        Metres across a cell.
    lags, variogram : ndarray, shape (lags,)
        Metres, and half the mean square of what two cells so far apart differ by.
    nugget : float
        Variance of what neighbouring cells do not share, in square metres.
    reaches : list of Reach
        The short and the long one; none where nothing hangs together.
    """

    cell: float
    lags: FloatArray
    variogram: FloatArray
    nugget: float
    reaches: list[Reach]

    def model(self, lags: FloatArray) -> FloatArray:
        """The fitted variogram."""
        return self.nugget + sum((one.at(lags) for one in self.reaches), np.zeros(lags.size))

    def error_of_mean(self, area: float) -> float:
        """Standard error of a mean over so many square metres, in metres."""
        radius = float(np.sqrt(area / np.pi))
        cells = max(area / self.cell**2, 1.0)
        return float(np.sqrt(self.nugget / cells + sum(one.of_mean(radius) for one in self.reaches)))


@dataclass(frozen=True)
class Class:
    """Figures of the difference in one class of ground. area: square metres; error: standard error of its mean."""

    name: str
    figures: Figures
    skew: float
    quantiles: list[float]
    area: float
    error: float


@dataclass(frozen=True)
class Statistics:
    """All that is told of a difference. clipped: share of the cells that were cut off for the variogram."""

    classes: list[Class]
    likeness: Likeness
    clipped: float
    grid: Grid = field(repr=False)


def _read(first: Surface, second: Surface, grid: Grid, progress: Progress) -> Heights:
    one, other = fitted(first, grid), fitted(second, grid)
    metres = [np.float32(UNITS[each_.unit]) for each_ in (first, second)]
    cells = np.empty((grid.rows, grid.cols), np.float32)
    high = max(_STRIP // grid.cols, 1)
    strips = [Window(row, 0, min(high, grid.rows - row), grid.cols) for row in range(0, grid.rows, high)]

    def read(strip: Window) -> None:
        cells[strip.row : strip.row + strip.rows] = one.read(strip) * metres[0] - other.read(strip) * metres[1]

    each(strips, read, progress)
    return cells


def variogram(cells: Heights, cell: float, seed: int = 1) -> tuple[FloatArray, FloatArray]:
    """Half the mean square difference of cells that lie apart, along rows and columns, at lags that grow by a factor.

    Parameters
    ----------
    cells : ndarray, shape (rows, cols)
        NaN where empty.
    cell : float
        Metres across.
    seed : int
        Of the pairs that are picked where there are very many.

    Returns
    -------
    lags, values : ndarray, shape (lags,)
        Metres, and square metres.
    """
    rng = np.random.default_rng(seed)
    far = max(int(_FAR * min(cells.shape)), 1)
    steps = np.unique(np.geomspace(1, far, _LAGS).round().astype(np.int64))
    rows, cols = cells.shape
    lags, values = [], []
    for step in steps.tolist():
        go_on()
        squares: list[npt.NDArray[np.float32]] = []
        for down, right in ((step, 0), (0, step)):
            high, wide = rows - down, cols - right
            if high <= 0 or wide <= 0:
                continue
            picked = rng.integers(0, high * wide, _PAIRS // 2) if high * wide > _PAIRS // 2 else np.arange(high * wide)
            r, c = picked // wide, picked % wide
            apart = cells[r, c] - cells[r + down, c + right]
            squares.append(apart[np.isfinite(apart)] ** 2)
        known = np.concatenate(squares) if squares else np.empty(0)
        if known.size >= _FEWEST:
            lags.append(step * cell)
            values.append(float(known.mean(dtype=np.float64)) / 2)
    return np.array(lags), np.array(values)


def fitted_likeness(lags: FloatArray, values: FloatArray, cell: float) -> Likeness:
    """A nugget and two spherical models that fit a variogram best, each as relative to its value.

    Raises InputError where there are too few lags to tell.
    """
    if lags.size < 4:
        raise InputError("The two share too little ground to tell how their difference hangs together.")
    ranges = np.geomspace(lags[0] * 1.5, lags[-1] * 1.2, _RANGES)
    weight = 1 / np.maximum(values, 1e-12)
    shapes = [Reach(1.0, float(one)).at(lags) for one in ranges]
    best: tuple[float, FloatArray, int, int] | None = None
    for i in range(_RANGES):
        go_on()
        for j in range(i + 1, _RANGES):
            matrix = np.column_stack([np.ones(lags.size), shapes[i], shapes[j]]) * weight[:, None]
            found, left = optimize.nnls(matrix, values * weight)
            if best is None or left < best[0]:
                best = (float(left), found, i, j)
    assert best is not None
    _, (nugget, short, long), i, j = best
    reaches = [Reach(float(sill), float(ranges[k])) for sill, k in ((short, i), (long, j)) if sill > 0]
    return Likeness(cell, lags, values, float(nugget), reaches)


def statistics(
    first: Surface,
    second: Surface,
    grid: Grid,
    cover: Sequence[Features] = (),
    column: str = "",
    progress: Progress = ignore_progress,
) -> Statistics:
    """Figures of first minus second, and how the difference hangs together.

    Parameters
    ----------
    first, second : Surface
        Of heights, in any units.
    grid : Grid
        Cells on which they are compared; coarser ones are taken where there would be very many.
    cover : sequence of Features, optional
        Polygons into which the ground is split, told apart by `column`.
    column : str
    progress : callable

    Raises
    ------
    InputError
        Where one has no heights, or they share too little ground.
    """
    for one in (first, second):
        if one.unit not in UNITS:
            raise InputError(f"{one.name or 'A surface'} is in {one.unit or 'no unit'}: it has no heights.")
    level = 0
    while grid.at_level(level).cell_count > _MOST:
        level += 1
    grid = grid.at_level(level)
    cells = _read(first, second, grid, lambda share: progress(0.7 * share))
    known = cells[np.isfinite(cells)]
    if known.size < _FEWEST:
        raise InputError("The two share too little ground to be compared.")
    median = float(np.median(known))
    nmad = robust_spread(known)
    low, high = median - _CLIP * max(nmad, 1e-6), median + _CLIP * max(nmad, 1e-6)
    clipped = float(((known < low) | (known > high)).mean())
    cell = float(np.sqrt(np.prod(grid.metres_per_cell())))
    progress(0.75)
    with heard_by(progress):
        likeness = fitted_likeness(*variogram(np.clip(cells, low, high), cell), cell)
    progress(0.8)
    classes = [_class("all", known, likeness, cell, part_of(progress, 0.8, 0.9))]
    covers = _covers(cover, column, grid)
    for number, (name, chosen) in enumerate(covers.items()):
        part = part_of(progress, 0.9 + 0.1 * number / len(covers), 0.9 + 0.1 * (number + 1) / len(covers))
        part(0.0)
        there = cells[chosen]
        there = there[np.isfinite(there)]
        if there.size:
            classes.append(_class(name, there, likeness, cell, part))
    progress(1.0)
    return Statistics(classes, likeness, clipped, grid)


def _class(name: str, known: Heights, likeness: Likeness, cell: float, progress: Progress) -> Class:
    values = known.astype(np.float64)
    with heard_by(progress):
        figures = figures_of(values)
    progress(0.5)
    skew = float(np.mean((values - figures.mean) ** 3) / max(figures.deviation, 1e-12) ** 3)
    area = known.size * cell**2
    progress(0.7)
    quantiles = np.quantile(values, SHARES).tolist()
    return Class(name, figures, skew, quantiles, area, likeness.error_of_mean(area))


def _covers(cover: Sequence[Features], column: str, grid: Grid) -> dict[str, npt.NDArray[np.bool_]]:
    """Cells by what covers them, of the later polygon where several do."""
    found = named_polygons(cover, column, grid.crs, "covered")
    if not found:
        return {}
    names = [name for _, name in found]
    which = inside([polygon for polygon, _ in found], grid)
    by_name: dict[str, npt.NDArray[np.bool_]] = {}
    for name in dict.fromkeys(names):
        numbers = [i + 1 for i, one in enumerate(names) if one == name]
        by_name[name] = np.isin(which, numbers)
    return by_name
