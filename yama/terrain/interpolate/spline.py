"""Regularised spline with tension: the smoothest surface through or near the points, held down between them.

L. Mitas and H. Mitasova, "General variational approach to the interpolation problem", Computers & Mathematics with
Applications 16 (1988); H. Mitasova and L. Mitas, "Interpolation by regularized spline with tension", Mathematical Geology 25
(1993): z = trend + sum of weight * R(distance), R(r) = -(E1(p) + ln p + 0.5772...) with p = (tension * r)², r in mean
spacings of the points. Small tension
gives a stiff plate that overshoots, large tension a membrane with a sharp top at each point. The trend is a plane here, so
that even slopes are met exactly.

The plane is parted into square patches of some forty points. Each has a spline of its own from the points of its
neighbourhood, and where patches overlap their splines are blended (a partition of unity: I. Babuška and J. M. Melenk,
International Journal for Numerical Methods in Engineering 40, 1997), so that no seam shows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.point_index import bulk, index_within, near_points
from yama.terrain.interpolate.thin_plate import thin_matrix
from yama.terrain.kept import Kept
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.surface import EvaluatedSurface, Heights

linalg = later("scipy.linalg")
special = later("scipy.special")

_EULER = 0.5772156649015329
_PATCH_POINTS = 40.0
_FEWEST = 60
_MOST = 2_500
"""Points a patch is solved from at most; of more the nearest to its middle are taken."""
_OVERLAP = 0.3  # of a patch's side, on each side
_AROUND = 1.5
"""A patch is solved from the points so many of its sides around its middle: three patches by three. Heights differ by less
than a millimetre from those of larger neighbourhoods at usual tensions, by centimetres where it is 1."""
_HELD = 4_096
TENSION, SMOOTHING = 2.0, 0.01
"""Usual settings: those with the least leave-out errors on the demo's survey, where banks bring jumps between close points."""
LEAST_TENSION = 0.5
"""Below it the equations lose all digits: the basis is nearly a parabola over the whole of a patch."""
_STEPS, _OCTAVES = 8, 16
_REST = 52 - _STEPS


@lru_cache(1)
def _table() -> FloatArray:
    """R by the squared distance p: the four coefficients of Hermite's cubic in each of 2 ** _STEPS equal steps of each octave of
    p + 1, `(steps, 4)`. So the leading bits of p + 1 say which, and the others where in it."""
    count = 1 << _STEPS
    octave = np.repeat(2.0 ** np.arange(_OCTAVES), count)
    start = octave * (1 + np.tile(np.arange(count) / count, _OCTAVES)) - 1
    step = octave / count
    value, after = _exact(start), _exact(start + step)
    slope, slope_after = _slope(start) * step, _slope(start + step) * step
    rise = after - value
    return np.column_stack([value, slope, 3 * rise - 2 * slope - slope_after, slope + slope_after - 2 * rise])


def _exact(square: FloatArray) -> FloatArray:
    result = np.empty_like(square)
    far = square >= 1e-3
    result[far] = -(special.exp1(square[far]) + np.log(square[far]) + _EULER)
    near = square[~far]
    result[~far] = -(near - near**2 / 4 + near**3 / 18 - near**4 / 96 + near**5 / 600)
    return result


def _slope(square: FloatArray) -> FloatArray:
    return np.divide(np.expm1(-square), square, out=np.full_like(square, -1.0), where=square > 0)


@kernel
def _basis(square, table):
    """R at a squared distance in units of one over the tension, within 1e-11. Without a root, a logarithm or a branch that the
    processor could not foretell: most of a spline's time is spent here."""
    bits = np.float64(square + 1.0).view(np.int64)
    at = (bits >> _REST) - (1023 << _STEPS)
    if at >= table.shape[0]:
        return -(np.log(square) + _EULER)
    t = (bits & ((1 << _REST) - 1)) * (1.0 / (1 << _REST))
    return ((table[at, 3] * t + table[at, 2]) * t + table[at, 1]) * t + table[at, 0]


@kernel
def _matrix(x, y, smoothing, table, result):
    for i in range(x.size):
        result[i, i] = smoothing
        for j in range(i):
            value = _basis((x[i] - x[j]) ** 2 + (y[i] - y[j]) ** 2, table)
            result[i, j] = value
            result[j, i] = value


@kernel
def _add(xs, ys, inside_x, inside_y, middle_x, middle_y, half, px, py, weights, scale, a, b, c, table, total, sums):
    """Add one patch's spline to the cells it reaches, weighted by its bump at `inside`: a cell's own place, or for one outside
    all patches the place on their rim nearest to it."""
    for r in range(ys.size):
        v = abs(inside_y[r] - middle_y) / half
        for k in range(xs.size):
            u = abs(inside_x[k] - middle_x) / half
            if u >= 1.0 or v >= 1.0 or np.isnan(total[r, k]):
                continue
            qx = (xs[k] - middle_x) * scale
            qy = (ys[r] - middle_y) * scale
            height = a + b * qx + c * qy
            for i in range(px.size):
                dx = qx - px[i]
                dy = qy - py[i]
                height += weights[i] * _basis(dx * dx + dy * dy, table)
            bump = ((1.0 - u * u) * (1.0 - v * v)) ** 3
            total[r, k] += bump * height
            sums[r, k] += bump


@kernel
def _system(x, y, right, smoothing, table, matrix, sides):
    """The equations for all weights but the last, which is minus their sum: `matrix` on such weights is positive, while that on all
    weights is so only on those that sum to zero."""
    last = x.size - 1
    to_last = np.empty(last)
    for i in range(last):
        to_last[i] = _basis((x[i] - x[last]) ** 2 + (y[i] - y[last]) ** 2, table)
        sides[i] = right[i] - right[last]
    for i in range(last):
        for j in range(i + 1):
            own = _basis((x[i] - x[j]) ** 2 + (y[i] - y[j]) ** 2, table) if i != j else smoothing
            value = own - to_last[i] - to_last[j] + smoothing
            matrix[i, j] = value
            matrix[j, i] = value


@kernel
def _solved(factor, sides, x, y, right, smoothing, table):
    """Weights by Cholesky's lower factor, the last with them, and the constant."""
    count = sides.size
    weights = np.zeros(count + 1)
    for i in range(count):
        total = sides[i]
        for k in range(i):
            total -= factor[i, k] * weights[k]
        weights[i] = total / factor[i, i]
    for i in range(count - 1, -1, -1):
        weights[i] /= factor[i, i]
        for k in range(i):
            weights[k] -= factor[i, k] * weights[i]
    constant = right[count]
    for i in range(count):
        weights[count] -= weights[i]
        constant -= weights[i] * _basis((x[i] - x[count]) ** 2 + (y[i] - y[count]) ** 2, table)
    return weights, constant - weights[count] * smoothing


def _weights(x: FloatArray, y: FloatArray, right: FloatArray, smoothing: float) -> tuple[FloatArray, float] | None:
    """Weights that sum to zero, and a constant, with which the spline is `right` at its points; None where the equations have lost
    all digits. Patches are solved in several threads at once: all of it lets go of the interpreter."""
    matrix, sides = np.empty((x.size - 1, x.size - 1)), np.empty(x.size - 1)
    _system(x, y, right, smoothing, _table(), matrix, sides)
    norm = float(np.linalg.norm(matrix, 1))
    try:
        factor = np.linalg.cholesky(matrix)
    except np.linalg.LinAlgError:
        return None
    if linalg.lapack.dpocon(factor, norm, uplo="L")[0] < np.finfo(np.float64).eps:
        return None
    weights, constant = _solved(factor, sides, x, y, right, smoothing, _table())
    return weights, float(constant)


@dataclass(frozen=True)
class _Patch:
    x: FloatArray
    y: FloatArray
    weights: FloatArray
    trend: tuple[float, float, float]


class TensionSpline:
    """The spline of points, patch by patch as it is asked for. Thread-safe; solved patches are kept a while. around: see
    `_AROUND`; less is quicker and less exact."""

    def __init__(
        self, x: FloatArray, y: FloatArray, z: FloatArray, tension: float, smoothing: float, around: float = _AROUND
    ) -> None:  # fmt: skip
        if x.size < 3:
            raise InputError(f"A spline needs three points; there are {x.size}.")
        if not (tension >= LEAST_TENSION and smoothing >= 0):
            raise InputError(f"Tension must be {LEAST_TENSION:g} or more and smoothing 0 or more.")
        west, east = bulk(x)
        south, north = bulk(y)
        area = max((east - west) * (north - south), 1e-12)
        self.spacing = float((area / x.size) ** 0.5)
        self._scale = tension / self.spacing
        self._around_it = around
        self._smoothing = smoothing
        self._side = max(self.spacing * _PATCH_POINTS**0.5, 1e-9)
        self._west, self._south = west, south
        self._cols = min(int((east - west) / self._side) + 1, 4_000)
        self._rows = min(int((north - south) / self._side) + 1, 4_000)
        col, row = self._place(x, self._west, self._cols), self._place(y, self._south, self._rows)
        order = np.argsort(row * self._cols + col, kind="stable")
        self._x, self._y, self._z = x[order], y[order], z[order]
        counts = np.bincount(row * self._cols + col, minlength=self._rows * self._cols)
        self._starts = np.concatenate([[0], np.cumsum(counts)])
        self._patches: Kept[tuple[int, int], _Patch] = Kept(_HELD)

    def _place(self, values: npt.ArrayLike, corner: float, count: int) -> npt.NDArray[np.int64]:
        """Which patch holds a coordinate; those beyond all belong to the outermost."""
        place = np.floor((np.asarray(values, np.float64) - corner) / self._side)
        found: npt.NDArray[np.int64] = np.clip(place, 0, count - 1).astype(np.int64)
        return found

    def _around(self, row: int, col: int) -> npt.NDArray[np.int64]:
        """Numbers of the points of a patch's neighbourhood."""
        ring = 1
        middle_x, middle_y = self._middle(row, col)
        while True:
            low, high = max(row - ring, 0), min(row + ring, self._rows - 1)
            left, right = max(col - ring, 0), min(col + ring, self._cols - 1)
            parts = [
                np.arange(self._starts[r * self._cols + left], self._starts[r * self._cols + right + 1])
                for r in range(low, high + 1)
            ]
            found = np.concatenate(parts)
            if ring == 1 and self._around_it < _AROUND:
                half = self._around_it * self._side
                close = (np.abs(self._x[found] - middle_x) <= half) & (np.abs(self._y[found] - middle_y) <= half)
                found = found[close] if close.sum() >= _FEWEST else found
            whole = low == 0 and left == 0 and high == self._rows - 1 and right == self._cols - 1
            if found.size >= _FEWEST or whole:
                break
            ring += 1
        if found.size > _MOST:
            apart = (self._x[found] - middle_x) ** 2 + (self._y[found] - middle_y) ** 2
            found = np.sort(found[np.argsort(apart, kind="stable")[:_MOST]])
        return found

    def _middle(self, row: int, col: int) -> tuple[float, float]:
        return self._west + (col + 0.5) * self._side, self._south + (row + 0.5) * self._side

    def _patch(self, row: int, col: int) -> _Patch:
        return self._patches.get((row, col), lambda: self._solve(row, col))

    def _levelled(
        self, row: int, col: int, chosen: npt.NDArray[np.int64]
    ) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        """Places of a patch's points from its middle, the plane's columns there, and the plane fitted to their heights."""
        middle_x, middle_y = self._middle(row, col)
        x, y = (self._x[chosen] - middle_x) * self._scale, (self._y[chosen] - middle_y) * self._scale
        base = np.column_stack([np.ones(x.size), x, y])
        found, _, rank, _ = np.linalg.lstsq(base, self._z[chosen], rcond=None)
        trend = np.asarray(found, np.float64)
        if rank < 3:  # all on one line: no slope across it
            trend = np.array([self._z[chosen].mean(), 0.0, 0.0])
        return x, y, base, trend

    def _solve(self, row: int, col: int) -> _Patch:
        chosen = self._around(row, col)
        x, y, base, trend = self._levelled(row, col, chosen)
        # what is left above the plane sums to zero against the constant, as the spline asks
        right = self._z[chosen] - base @ trend
        for least in (0.0, 1e-9, 1e-7, 1e-5):  # points much closer together than the rest need a trace of smoothing
            found = _weights(x, y, right, max(self._smoothing, least))
            if found is not None:
                weights, constant = found
                return _Patch(x, y, weights, (float(trend[0]) + constant, float(trend[1]), float(trend[2])))
        raise InputError("Points lie so close together that no spline goes through them. Join those at one place, "
                         "or allow some smoothing.")  # fmt: skip

    def left_out_errors(
        self, smoothings: Sequence[float], patches: int = 12, plate: bool = False
    ) -> tuple[FloatArray, FloatArray]:
        """What the spline would miss each point by were it left out, for each smoothing: `(smoothings, points)`; and the
        measured heights `(points,)`.

        Of points in at most `patches` patches spread evenly over all, without solving anew for each point: the error of a
        linear predictor at a point left out is its weight over the inverse's diagonal (O. Dubrule, "Cross validation of
        kriging in a unique neighborhood", Mathematical Geology 15, 1983). One decomposition of a patch serves every
        smoothing. The plane under the spline stays that of all points of the patch. plate: of the thin plate without tension,
        whose plane is part of its equations.
        """
        filled = np.flatnonzero(np.diff(self._starts))
        errors, heights = [], []
        for place in filled[np.unique(np.linspace(0, filled.size - 1, patches).astype(int))]:
            row, col = divmod(int(place), self._cols)
            chosen = self._around(row, col)
            own = np.isin(chosen, np.arange(self._starts[place], self._starts[place + 1]))
            x, y, base, trend = self._levelled(row, col, chosen)
            count = x.size
            matrix = np.empty((count, count))
            # the equations are solved in the space of weights that sum to zero, a plate's against every plane
            if plate:
                apart = self._scale * self.spacing
                thin_matrix(x / apart, y / apart, 0.0, matrix)
                space = linalg.qr(base)[0][:, 3:]
            else:
                _matrix(x, y, 0.0, _table(), matrix)
                space = linalg.qr(np.ones((count, 1)))[0][:, 1:]
            values, vectors = linalg.eigh(space.T @ matrix @ space, driver="evd", check_finite=False)
            vectors = space @ vectors
            right = vectors.T @ (self._z[chosen] - base @ trend)
            for_each = np.empty((len(smoothings), int(own.sum())))
            for i, smoothing in enumerate(smoothings):
                inverse = 1.0 / np.maximum(values + smoothing, 1e-9)
                weights = vectors[own] @ (inverse * right)
                for_each[i] = weights / (vectors[own] ** 2 @ inverse)
            errors.append(for_each)
            heights.append(self._z[chosen][own])
        return np.concatenate(errors, axis=1), np.concatenate(heights)

    def add_to(self, xs: FloatArray, ys: FloatArray, heights: Heights) -> None:
        """Fill the cells of heights `(ys, xs)` that are not NaN."""
        half = self._side * (0.5 + _OVERLAP)
        reach = self._side * _OVERLAP
        total = np.where(np.isnan(heights), np.nan, 0.0)
        sums = np.zeros(total.shape)
        # cells outside all patches belong to the nearest; its bump is widened by moving the cell to its rim
        inside_x = np.clip(xs, self._west, self._west + self._cols * self._side)
        inside_y = np.clip(ys, self._south, self._south + self._rows * self._side)
        cols = range(
            int(self._place(inside_x.min() - reach, self._west, self._cols)),
            int(self._place(inside_x.max() + reach, self._west, self._cols)) + 1,
        )
        rows = range(
            int(self._place(inside_y.min() - reach, self._south, self._rows)),
            int(self._place(inside_y.max() + reach, self._south, self._rows)) + 1,
        )
        for row in rows:
            in_y = np.abs(inside_y - self._middle(row, 0)[1]) < half
            if not in_y.any():
                continue
            for col in cols:
                middle_x, middle_y = self._middle(row, col)
                in_x = np.abs(inside_x - middle_x) < half
                if not in_x.any() or np.isnan(total[np.ix_(in_y, in_x)]).all():
                    continue
                go_on()
                patch = self._patch(row, col)
                where = np.ix_(in_y, in_x)
                part, weights = np.ascontiguousarray(total[where]), np.ascontiguousarray(sums[where])
                _add(
                    xs[in_x], ys[in_y], inside_x[in_x], inside_y[in_y], middle_x, middle_y, half, patch.x, patch.y,
                    patch.weights, self._scale, *patch.trend, _table(), part, weights,
                )  # fmt: skip
                total[where], sums[where] = part, weights
        with np.errstate(divide="ignore", invalid="ignore"):
            heights[:] = (total / sums).astype(np.float32)


def tension_spline(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    grid: Grid,
    tension: float = TENSION,
    smoothing: float = 0.0,
    reach: float = np.inf,
    unit: str = "m",
) -> EvaluatedSurface:
    """A surface by regularised spline with tension.

    x, y, z: `(points,)` in the grid's CRS, one point a place. tension: in units of one over the points' mean spacing, at least 0.5.
    smoothing: 0 passes through the points; larger lets it miss them. reach: cells with no point this near stay empty; CRS
    units. Far outside the points it goes on as a plane with a logarithm. Raises InputError on parameters outside those.
    """
    spline = TensionSpline(x, y, z, tension, smoothing)
    return near_points(
        index_within(x, y, reach), grid, reach, unit, spline.add_to, ("spline", x, y, z, tension, smoothing)
    )


def tension_spline_at(
    x: FloatArray,
    y: FloatArray,
    z: FloatArray,
    qx: FloatArray,
    qy: FloatArray,
    tension: float = TENSION,
    smoothing: float = 0.0,
) -> FloatArray:
    """Heights at places `(places,)`; see `tension_spline`."""
    spline = TensionSpline(x, y, z, tension, smoothing)
    result = np.empty(qx.size)
    for i in range(qx.size):
        cell = np.zeros((1, 1), np.float32)
        spline.add_to(qx[i : i + 1], qy[i : i + 1], cell)
        result[i] = cell[0, 0]
    return result
