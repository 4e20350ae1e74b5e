"""Kriging: the best linear unbiased prediction where heights differ by how far apart they lie.

G. Matheron, "Principles of geostatistics", Economic Geology 58 (1963), for the variogram and the prediction; models and
weights as in N. Cressie, "Statistics for Spatial Data" (1993): spherical, exponential, Gaussian, and Matérn's of smoothness
3/2; fitted to the empirical variogram with weights N / model² ("Fitting variogram models by weighted least squares",
Mathematical Geology 17, 1985). Each place is predicted from its nearest points.

Ordinary kriging takes the mean of heights around each place for unknown; simple kriging is given one for all of them.

The nugget is taken for measurement noise and filtered out: the surface is continuous and, with a nugget, does not pass
exactly through the points. Without one it does. So the variance is that of the surface's error; that of the difference from
another measurement with the same noise is the nugget more.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.point_index import PointIndex, empty_beyond, in_bucket_order, nearest_k
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.surface import EvaluatedSurface, Heights

optimize = later("scipy.optimize")

Model = Literal["spherical", "exponential", "gaussian", "matern"]
MODELS: tuple[Model, ...] = ("spherical", "exponential", "gaussian", "matern")
_NUMBERS: dict[str, int] = {name: i for i, name in enumerate(MODELS)}

_PAIRS = 3_000_000
_ROWS = 32  # computed without a break
_STEADY = 1e-9
"""Share of the sill added to each point's own variance, so that points almost at one place stay solvable."""


@dataclass(frozen=True)
class Variogram:
    """Half the mean squared difference of heights by distance.

    model: its shape. nugget: at distance 0, in height units squared. sill: what is added to the nugget far away. range:
    distance, in CRS units, at which it has risen all the way (spherical) or to 95 % (the others). direction: degrees
    clockwise from north along which heights stay alike the longest; across it the range is `ratio` times as long, 0 to 1.
    """

    model: Model
    nugget: float
    sill: float
    range: float
    direction: float = 0.0
    ratio: float = 1.0

    def __post_init__(self) -> None:
        if self.model not in MODELS:
            raise InputError(f"There is no variogram {self.model!r}; there are: {', '.join(MODELS)}.")
        if not (self.nugget >= 0 and self.sill > 0 and self.range > 0 and 0 < self.ratio <= 1):
            raise InputError(
                "A variogram needs a nugget of 0 or more, a sill and a range above 0, and a ratio up to 1."
            )

    def at(self, distance: npt.ArrayLike) -> FloatArray:
        """Its value at distances along `direction`, of any shape but at least one row; 0 at distance 0."""
        far = np.atleast_1d(np.asarray(distance, np.float64))
        alike = _correlations(far.ravel() / self.range, _NUMBERS[self.model]).reshape(far.shape)
        return np.where(far > 0, self.nugget + self.sill * (1 - alike), 0.0)

    @property
    def turn(self) -> tuple[float, float, float, float]:
        """A matrix (row by row) that makes the plane isotropic, with distances in reaches."""
        angle = np.radians(self.direction)
        along = np.array([np.sin(angle), np.cos(angle)]) / self.range
        across = np.array([np.cos(angle), -np.sin(angle)]) / (self.range * self.ratio)
        return float(along[0]), float(along[1]), float(across[0]), float(across[1])


@kernel
def _correlation(h, model):
    """How alike heights are at a distance given in reaches: 1 at 0, falling to 0."""
    if model == 0:
        return 1.0 - 1.5 * h + 0.5 * h * h * h if h < 1.0 else 0.0
    if model == 1:
        return np.exp(-3.0 * h)
    if model == 2:
        return np.exp(-3.0 * h * h)
    scaled = 4.743864518 * h  # (1 + s) exp(-s) is 0.05 there
    return (1.0 + scaled) * np.exp(-scaled)


@kernel
def _correlations(h, model):
    result = np.empty(h.size)
    for i in range(h.size):
        result[i] = _correlation(h[i], model)
    return result


@dataclass(frozen=True)
class Empirical:
    """Half the mean squared difference of pairs by class of distance: mean distance, value and number of pairs, each
    `(classes,)`. Classes without pairs are left out."""

    distances: FloatArray
    values: FloatArray
    pairs: npt.NDArray[np.int64]


@kernel
def _pairs(x, y, z, step, classes, sums, distances, counts):
    beyond = (step * classes) ** 2
    for i in range(x.size):
        for j in range(i + 1, x.size):
            square = (x[i] - x[j]) ** 2 + (y[i] - y[j]) ** 2
            if square < beyond:
                far = np.sqrt(square)
                place = min(int(far / step), classes - 1)
                sums[place] += 0.5 * (z[i] - z[j]) ** 2
                distances[place] += far
                counts[place] += 1


def empirical(
    x: FloatArray, y: FloatArray, z: FloatArray, classes: int = 15, farthest: float | None = None, seed: int = 1
) -> Empirical:
    """The variogram of points `(points,)`, from all pairs of some of them where there are very many pairs.

    farthest: distance up to which pairs count, a third of the bulk's diagonal where not given. The same every time.
    Raises InputError where there are fewer than ten points.
    """
    if x.size < 10:
        raise InputError(f"A variogram needs ten points at least; there are {x.size}.")
    (west, east), (south, north) = (np.quantile(values, (0.02, 0.98)) for values in (x, y))
    limit = farthest or float(np.hypot(east - west, north - south)) / 3
    some = int((2 * _PAIRS) ** 0.5)
    chosen = np.arange(x.size)
    if x.size > some:
        chosen = np.sort(np.random.default_rng(seed).permutation(x.size)[:some])
    sums, distances, counts = np.zeros(classes), np.zeros(classes), np.zeros(classes, np.int64)
    _pairs(x[chosen], y[chosen], z[chosen], limit / classes, classes, sums, distances, counts)
    held = counts > 0
    if not held.any():
        raise InputError("No two points lie near enough to each other for a variogram.")
    return Empirical(distances[held] / counts[held], sums[held] / counts[held], counts[held])


def fit(found: Empirical, model: Model) -> Variogram:
    """The variogram of a model that follows an empirical one best."""
    far, most = float(found.distances.max()), max(float(found.values.max()), 1e-12)

    def miss(numbers: FloatArray) -> FloatArray:
        nugget, sill, far = np.exp(numbers)
        values = nugget + sill * (1 - _correlations(found.distances / far, _NUMBERS[model]))
        result: FloatArray = np.sqrt(found.pairs) * (found.values / np.maximum(values, 1e-12 * most) - 1)
        return result

    best: tuple[float, FloatArray] | None = None
    low = np.log([1e-9 * most, 1e-6 * most, 0.02 * far])
    high = np.log([2 * most, 20 * most, 10 * far])
    for share in (0.15, 0.4, 1.0):  # the sum of squares has several valleys
        start = np.clip(np.log([0.02 * most, most, share * far]), low + 1e-9, high - 1e-9)
        found_here = optimize.least_squares(miss, start, bounds=(low, high))
        if best is None or found_here.cost < best[0]:
            best = (float(found_here.cost), found_here.x)
    assert best is not None
    nugget, sill, far = (float(value) for value in np.exp(best[1]))
    return Variogram(model, 0.0 if nugget < 1e-7 * most else nugget, sill, far)


@kernel
def _predict(u, v, count, found, x, y, z, model, nugget, sill, simple, matrix, right, ones):
    """Height and its variance at (u, v) from `count` points, all in isotropic coordinates. Room: matrix `(k, k)`, right and
    ones `(k,)`. Weights by Cholesky's factors of the covariances, made to sum to 1 by a Lagrange multiplier unless `simple`:
    heights are from the known mean then."""
    for i in range(count):
        a = found[i]
        for j in range(i):
            b = found[j]
            far = np.sqrt((x[a] - x[b]) ** 2 + (y[a] - y[b]) ** 2)
            matrix[i, j] = sill * _correlation(far, model)
        matrix[i, i] = sill * (1.0 + _STEADY) + nugget
        right[i] = sill * _correlation(np.sqrt((x[a] - u) ** 2 + (y[a] - v) ** 2), model)
        ones[i] = 1.0
    for i in range(count):
        for j in range(i + 1):
            total = matrix[i, j]
            for k in range(j):
                total -= matrix[i, k] * matrix[j, k]
            if i == j:
                if total <= 0.0:
                    return np.nan, np.nan
                matrix[i, i] = np.sqrt(total)
            else:
                matrix[i, j] = total / matrix[j, j]
    # forward substitution of both right sides
    for i in range(count):
        first = right[i]
        second = ones[i]
        for k in range(i):
            first -= matrix[i, k] * right[k]
            second -= matrix[i, k] * ones[k]
        right[i] = first / matrix[i, i]
        ones[i] = second / matrix[i, i]
    explained = 0.0
    cross = 0.0
    sum_of = 0.0
    for i in range(count):
        explained += right[i] * right[i]
        cross += right[i] * ones[i]
        sum_of += ones[i] * ones[i]
    shift = 0.0 if simple else (1.0 - cross) / sum_of
    # weights: back substitution of right + shift * ones
    height = 0.0
    for i in range(count):
        right[i] += shift * ones[i]
    for i in range(count - 1, -1, -1):
        total = right[i]
        for k in range(i + 1, count):
            total -= matrix[k, i] * right[k]
        right[i] = total / matrix[i, i]
        height += right[i] * z[found[i]]
    variance = sill - explained + shift * (1.0 - cross)
    return height, max(variance, 0.0)


@kernel
def _fill(xs, ys, turn, x, y, z, starts, layout, k, limit, model, nugget, sill, simple, spread, noise, result):
    squares = np.empty(k)
    found = np.empty(k, np.int64)
    matrix = np.empty((k, k))
    right = np.empty(k)
    ones = np.empty(k)
    for r in range(ys.size):
        for c in range(xs.size):
            if np.isnan(result[r, c]):
                continue
            u = turn[0] * xs[c] + turn[1] * ys[r]
            v = turn[2] * xs[c] + turn[3] * ys[r]
            count = nearest_k(u, v, k, limit, x, y, starts, layout, squares, found)
            if count == 0:
                result[r, c] = np.nan
                continue
            height, variance = _predict(u, v, count, found, x, y, z, model, nugget, sill, simple, matrix, right, ones)
            result[r, c] = np.sqrt(variance + noise) if spread else height


@kernel
def _fill_at(us, vs, x, y, z, starts, layout, k, limit, model, nugget, sill, simple, heights, variances):
    squares = np.empty(k)
    found = np.empty(k, np.int64)
    matrix = np.empty((k, k))
    right = np.empty(k)
    ones = np.empty(k)
    for i in range(us.size):
        count = nearest_k(us[i], vs[i], k, limit, x, y, starts, layout, squares, found)
        heights[i], variances[i] = np.nan, np.nan
        if count:
            heights[i], variances[i] = _predict(
                us[i], vs[i], count, found, x, y, z, model, nugget, sill, simple, matrix, right, ones
            )


def _isotropic(x: FloatArray, y: FloatArray, variogram: Variogram) -> tuple[FloatArray, FloatArray]:
    a, b, c, d = variogram.turn
    return a * x + b * y, c * x + d * y


def kriged(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    grid: Grid,
    variogram: Variogram,
    neighbours: int = 16,
    reach: float = np.inf,
    mean: float | None = None,
    deviation: bool = False,
    with_nugget: bool = False,
    unit: str = "m",
) -> EvaluatedSurface:
    """A surface by kriging, or the standard deviation of its error.

    x, y, z: `(points,)` in the grid's CRS, one point a place. neighbours: nearest points (as the variogram measures
    nearness) that a cell is predicted from, 2 to 64. reach: cells with no point this near stay empty; CRS units. mean: of all
    heights, where it is known (simple kriging); None for ordinary kriging. with_nugget: the deviation is that of the
    difference from another measurement, which holds the nugget; else that of the surface from the ground.
    Raises InputError on parameters outside those.
    """
    if not 2 <= neighbours <= 64:
        raise InputError(f"Kriging takes 2 to 64 neighbours, not {neighbours}.")
    east, north = float(np.mean(x)), float(np.mean(y))
    index = PointIndex.of(*_isotropic(x - east, y - north, variogram))
    plain = PointIndex.of(x, y) if np.isfinite(reach) else None
    heights = in_bucket_order(z, index.ids)
    middle = float(np.mean(z)) if mean is None else mean
    heights -= middle

    def evaluate(part: Grid) -> Heights:
        xs, ys = part.centres(part.whole)
        result = np.zeros((part.rows, part.cols), np.float32)
        if plain is not None:
            empty_beyond(result, xs, ys, plain, reach)
        for first in range(0, part.rows, _ROWS):
            go_on()
            rows = slice(first, first + _ROWS)
            _fill(
                xs - east, ys[rows] - north, variogram.turn, index.x, index.y, heights, index.starts, index.layout,
                min(neighbours, x.size), np.inf, _NUMBERS[variogram.model], variogram.nugget, variogram.sill, mean is not None,
                deviation, variogram.nugget if with_nugget else 0.0, result[rows],
            )  # fmt: skip
        if not deviation:
            result += np.float32(middle)
        return result

    of = ("kriging", x, y, z, variogram, neighbours, reach, mean, deviation, with_nugget)
    return EvaluatedSurface(grid, evaluate, unit, of=of)


def kriged_at(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    qx: FloatArray,
    qy: FloatArray,
    variogram: Variogram,
    neighbours: int = 16,
    mean: float | None = None,
) -> tuple[FloatArray, FloatArray]:
    """Heights at places `(places,)` and the variances of their errors without the nugget; see `kriged`."""
    east, north = float(np.mean(x)), float(np.mean(y))
    middle = float(np.mean(z)) if mean is None else mean
    index = PointIndex.of(*_isotropic(x - east, y - north, variogram))
    us, vs = _isotropic(qx - east, qy - north, variogram)
    heights, variances = np.empty(qx.size), np.empty(qx.size)
    _fill_at(
        us, vs, index.x, index.y, in_bucket_order(z, index.ids) - middle, index.starts, index.layout,
        min(neighbours, x.size), np.inf, _NUMBERS[variogram.model], variogram.nugget, variogram.sill, mean is not None,
        heights, variances,
    )  # fmt: skip
    return heights + middle, variances
