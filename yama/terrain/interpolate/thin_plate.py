"""Thin-plate spline: the surface through points that bends least, from all of them at once.

J. Duchon, "Splines minimizing rotation-invariant semi-norms in Sobolev spaces" (1977): z = plane + sum of weight * R(distance),
R(r) = r² ln r, the weights being orthogonal to every plane. It is the spline with no tension at all: each point reaches
everywhere, so it cannot be solved in parts as `spline` is.

A cell's height is summed from the points near it; what the others add is smooth there and is interpolated between 16 x 16
Chebyshev nodes of the block that holds the cell, to within 1e-9 of their sum (L. N. Trefethen, "Approximation Theory and
Approximation Practice", 2013, chapter 8, for how fast that error falls).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.point_index import bulk, index_within, near_points
from yama.terrain.kept import Kept
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.shelf import shared
from yama.terrain.surface import EvaluatedSurface, Heights

linalg = later("scipy.linalg")

MOST_POINTS = 5_000
"""Their equations take 400 MB and two seconds, and grow with the square and the cube of this."""
_NODES = 16
_BLOCK_POINTS = 40.0
_HELD = 8_192


@kernel
def thin_matrix(x, y, smoothing, result):
    """R between all pairs of points, `(points, points)`, with the smoothing along the diagonal."""
    for i in range(x.size):
        result[i, i] = smoothing
        for j in range(i):
            value = _basis((x[i] - x[j]) ** 2 + (y[i] - y[j]) ** 2)
            result[i, j] = value
            result[j, i] = value


@kernel
def _basis(square):
    return 0.5 * square * np.log(square) if square > 0.0 else 0.0


@kernel
def _reflect(matrix, v):
    """Mirror a symmetric matrix on both sides at the plane that the unit vector `v` stands on."""
    count = v.size
    image = np.zeros(count)
    for i in range(count):
        total = 0.0
        for j in range(count):
            total += matrix[i, j] * v[j]
        image[i] = total
    share = 0.0
    for i in range(count):
        share += image[i] * v[i]
    for i in range(count):
        image[i] -= share * v[i]
    for i in range(count):
        for j in range(count):
            matrix[i, j] -= 2.0 * (v[i] * image[j] + image[i] * v[j])


@kernel
def _sums(xs, ys, px, py, weights, result):
    """What some points add at nodes `(ys, xs)`."""
    for r in range(ys.size):
        for c in range(xs.size):
            total = 0.0
            for i in range(px.size):
                total += weights[i] * _basis((xs[c] - px[i]) ** 2 + (ys[r] - py[i]) ** 2)
            result[r, c] = total


@kernel
def _shares(at, nodes, factors, result):
    """Lagrange's shares of the nodes at a place, by their barycentric factors."""
    total = 0.0
    for k in range(nodes.size):
        apart = at - nodes[k]
        if apart == 0.0:
            result[:] = 0.0
            result[k] = 1.0
            return
        result[k] = factors[k] / apart
        total += result[k]
    for k in range(nodes.size):
        result[k] /= total


@kernel
def _add(xs, ys, px, py, weights, node_x, node_y, factors, far, plane, result):
    """Heights of the cells of a block that are not NaN, each alone, so that any window has the same."""
    count = node_x.size
    shares, across = np.empty(count), np.empty((xs.size, count))
    for c in range(xs.size):
        _shares(xs[c], node_x, factors, shares)
        across[c] = shares
    column = np.empty(count)
    for r in range(ys.size):
        _shares(ys[r], node_y, factors, shares)
        for k in range(count):
            total = 0.0
            for i in range(count):
                total += shares[i] * far[i, k]
            column[k] = total
        for c in range(xs.size):
            if np.isnan(result[r, c]):
                continue
            height = plane[0] + plane[1] * xs[c] + plane[2] * ys[r]
            for k in range(count):
                height += across[c, k] * column[k]
            for i in range(px.size):
                height += weights[i] * _basis((xs[c] - px[i]) ** 2 + (ys[r] - py[i]) ** 2)
            result[r, c] = height


def _reflectors(base: FloatArray) -> tuple[list[FloatArray], FloatArray]:
    """Householder's unit vectors that bring `base` `(points, 3)` to a triangle, and that triangle."""
    rest, vectors = base.copy(), []
    for k in range(base.shape[1]):
        v = np.zeros(len(base))
        v[k:] = rest[k:, k]
        v[k] += np.copysign(np.linalg.norm(v), v[k])
        v /= np.linalg.norm(v)
        rest -= 2.0 * np.outer(v, v @ rest)
        vectors.append(v)
    return vectors, rest[: base.shape[1]]


@dataclass(frozen=True)
class _Block:
    """Points near a block, and what the others add at its nodes."""

    near: npt.NDArray[np.int64]
    node_x: FloatArray
    node_y: FloatArray
    far: FloatArray


class ThinPlate:
    """The thin-plate spline of points. Thread-safe; solved when it is made.

    x, y, z: `(points,)`, one point a place, not all on one line. smoothing: 0 passes through the points, larger lets it miss them;
    in the unit in which the points' mean spacing is 1. Raises InputError for fewer than three points, for more than MOST_POINTS and
    for points on one line.
    """

    def __init__(self, x: FloatArray, y: FloatArray, z: FloatArray, smoothing: float = 0.0) -> None:
        if x.size < 3:
            raise InputError(f"A spline needs three points; there are {x.size}.")
        if x.size > MOST_POINTS:
            raise InputError(f"A spline without tension is solved from all points at once, {MOST_POINTS} at most, and there are "
                             f"{x.size}. With a tension of 0.5 or more it is solved in parts.")  # fmt: skip
        if not smoothing >= 0:
            raise InputError("Smoothing must be 0 or more.")
        (west, east), (south, north) = bulk(x), bulk(y)
        self.spacing = float((max((east - west) * (north - south), 1e-12) / x.size) ** 0.5)
        self._middle = (float(np.mean(x)), float(np.mean(y)))
        self._x, self._y = self._placed(x, y)
        self._weights, self._plane = shared(("thin plate", x, y, z, smoothing), lambda: self._solved(z, smoothing))
        self._side = _BLOCK_POINTS**0.5
        self._col, self._row = np.floor(self._x / self._side), np.floor(self._y / self._side)
        angles = (np.arange(_NODES) + 0.5) * np.pi / _NODES
        self._nodes = np.cos(angles)
        self._factors = np.sin(angles) * (-1.0) ** np.arange(_NODES)
        self._blocks: Kept[tuple[int, int], _Block] = Kept(_HELD)

    def _placed(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        return (x - self._middle[0]) / self.spacing, (y - self._middle[1]) / self.spacing

    def _solved(self, z: FloatArray, smoothing: float) -> tuple[FloatArray, FloatArray]:
        count = z.size
        base = np.column_stack([np.ones(count), self._x, self._y])
        if np.linalg.matrix_rank(base, tol=1e-9 * count * float(np.abs(base).max())) < 3:
            raise InputError("All points lie on one line. A spline without tension needs three that do not.")
        vectors, triangle = _reflectors(base)
        for least in (0.0, 1e-10, 1e-8):  # points much closer together than the rest need a trace of smoothing
            matrix = np.empty((count, count))
            thin_matrix(self._x, self._y, max(smoothing, least), matrix)
            right = z - z.mean()
            for v in vectors:
                _reflect(matrix, v)
                right = right - 2.0 * v * (v @ right)
            go_on()
            try:
                factor = linalg.cholesky(matrix[3:, 3:], lower=True, check_finite=False)
            except np.linalg.LinAlgError:
                continue
            weights = np.concatenate([np.zeros(3), linalg.cho_solve((factor, True), right[3:], check_finite=False)])
            plane = np.linalg.solve(triangle, right[:3] - matrix[:3] @ weights)
            for v in reversed(vectors):
                weights = weights - 2.0 * v * (v @ weights)
            plane[0] += z.mean()
            return weights, plane
        raise InputError("Points lie so close together that no spline goes through them. Join those at one place, "
                         "or allow some smoothing.")  # fmt: skip

    def _block(self, row: int, col: int) -> _Block:
        near = (np.abs(self._row - row) <= 1) & (np.abs(self._col - col) <= 1)
        half = self._side / 2
        node_x = (col + 0.5) * self._side + half * self._nodes
        node_y = (row + 0.5) * self._side + half * self._nodes
        far = np.zeros((_NODES, _NODES))
        _sums(node_x, node_y, self._x[~near], self._y[~near], self._weights[~near], far)
        return _Block(np.flatnonzero(near), node_x, node_y, far)

    def add_to(self, xs: FloatArray, ys: FloatArray, heights: Heights) -> None:
        """Fill the cells of heights `(ys, xs)` that are not NaN."""
        px, py = self._placed(xs, ys)
        cols, rows = np.floor(px / self._side).astype(np.int64), np.floor(py / self._side).astype(np.int64)
        for row in np.unique(rows):
            in_y = rows == row
            for col in np.unique(cols):
                where = np.ix_(in_y, cols == col)
                part = heights[where].astype(np.float64)
                if np.isnan(part).all():
                    continue
                go_on()
                block = self._blocks.get((int(row), int(col)), lambda at=(int(row), int(col)): self._block(*at))  # type: ignore[misc]
                _add(
                    px[cols == col], py[in_y], self._x[block.near], self._y[block.near], self._weights[block.near],
                    block.node_x, block.node_y, self._factors, block.far, self._plane, part,
                )  # fmt: skip
                heights[where] = part


def thin_plate_spline(
    x: FloatArray, y: FloatArray, z: FloatArray, grid: Grid, smoothing: float = 0.0, reach: float = np.inf, unit: str = "m"
) -> EvaluatedSurface:  # fmt: skip
    """A surface by thin-plate spline.

    x, y, z: `(points,)` in the grid's CRS, one point a place. smoothing: see `ThinPlate`. reach: cells with no point this near stay
    empty; CRS units. Raises InputError as `ThinPlate` does.
    """
    spline = ThinPlate(x, y, z, smoothing)
    return near_points(index_within(x, y, reach), grid, reach, unit, spline.add_to, ("thin plate", x, y, z, smoothing))
