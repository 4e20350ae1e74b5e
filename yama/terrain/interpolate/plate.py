"""A thin plate over the cells of a grid, bent to lines of known height and solved by multigrid.

Over all cells, in their own width: the sum of second differences squared (a plate: J. Duchon, "Splines minimizing
rotation-invariant semi-norms", 1977), plus `tension` times first differences squared, plus `weight` times the squared miss
at every place where a line of known height crosses from one cell's centre to the next. The miss is measured at the crossing
itself, between the two centres, so that a line leaves no step of one cell's width. Edges of the grid are free.

Solved by conjugate gradients with one multigrid cycle as preconditioner, begun on a coarse grid and carried down (A. Brandt,
"Multi-level adaptive solutions to boundary-value problems", Mathematics of Computation 31, 1977; O. Tatebe, "The multigrid
preconditioned conjugate gradient method", 1993). Symmetric Gauss-Seidel smooths; the passage between levels is cubic, since
a plate would feel the kinks of a linear one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from yama.terrain.ending import go_on
from yama.terrain.grid import FloatArray
from yama.terrain.kernels import kernel
from yama.terrain.later import later

linalg = later("scipy.linalg")

Cells = npt.NDArray[np.float64]

_SWEEPS = 2
_SMALLEST = 12
"""Rows and columns at which a level is solved at once."""
_MOST_STEPS, _FEW_STEPS = 60, 4
_FIRM = 1e-9
"""Weight of plain tension that keeps a plate on one straight line from turning about it."""


@kernel
def _cross(segments, west, north, width, height, across, down):
    """Note where segments `(any, 6)` of x, y, z and x, y, z cross from cell to cell: sums of t, of z, and how often."""
    rows, cols = across.shape[0], across.shape[1]
    for i in range(segments.shape[0]):
        u0 = (segments[i, 0] - west) / width - 0.5
        v0 = (north - segments[i, 1]) / height - 0.5
        z0 = segments[i, 2]
        u1 = (segments[i, 3] - west) / width - 0.5
        v1 = (north - segments[i, 4]) / height - 0.5
        z1 = segments[i, 5]
        first = max(int(np.floor(min(v0, v1))) + 1, 0)
        last = min(int(np.floor(max(v0, v1))), rows - 1)
        for r in range(first, last + 1):
            s = (r - v0) / (v1 - v0)
            u = u0 + s * (u1 - u0)
            c = int(np.floor(u))
            if 0 <= c < cols - 1:
                across[r, c, 0] += u - c
                across[r, c, 1] += z0 + s * (z1 - z0)
                across[r, c, 2] += 1.0
        first = max(int(np.floor(min(u0, u1))) + 1, 0)
        last = min(int(np.floor(max(u0, u1))), cols - 1)
        for c in range(first, last + 1):
            s = (c - u0) / (u1 - u0)
            v = v0 + s * (v1 - v0)
            r = int(np.floor(v))
            if 0 <= r < rows - 1:
                down[r, c, 0] += v - r
                down[r, c, 1] += z0 + s * (z1 - z0)
                down[r, c, 2] += 1.0


@kernel
def _settle(edges, weight):
    for r in range(edges.shape[0]):
        for c in range(edges.shape[1]):
            count = edges[r, c, 2]
            if count > 0.0:
                edges[r, c, 0] /= count
                edges[r, c, 1] /= count
                edges[r, c, 2] = weight


@kernel
def _bend(z, r, c):
    """The plate's pull on one cell: half the slope of the energy with respect to its height; and what its own height counts
    in it. Terms that reach over the edge do not exist."""
    rows, cols = z.shape
    pull = 0.0
    own = 0.0
    for k in range(-1, 2):
        factor = -2.0 if k == 0 else 1.0
        if 1 <= c + k < cols - 1:
            pull += factor * (z[r, c + k - 1] - 2.0 * z[r, c + k] + z[r, c + k + 1])
            own += factor * factor
        if 1 <= r + k < rows - 1:
            pull += factor * (z[r + k - 1, c] - 2.0 * z[r + k, c] + z[r + k + 1, c])
            own += factor * factor
    for i in range(-1, 1):
        for j in range(-1, 1):
            if 0 <= r + i < rows - 1 and 0 <= c + j < cols - 1:
                twist = z[r + i, c + j] - z[r + i, c + j + 1] - z[r + i + 1, c + j] + z[r + i + 1, c + j + 1]
                pull += 2.0 * (twist if i == j else -twist)
                own += 2.0
    return pull, own


@kernel
def _plain(z, r, c, tension):
    """Plate and tension at a cell at least two cells from every edge."""
    near = z[r - 1, c] + z[r + 1, c] + z[r, c - 1] + z[r, c + 1]
    corners = z[r - 1, c - 1] + z[r - 1, c + 1] + z[r + 1, c - 1] + z[r + 1, c + 1]
    far = z[r - 2, c] + z[r + 2, c] + z[r, c - 2] + z[r, c + 2]
    return (20.0 + 4.0 * tension) * z[r, c] - (8.0 + tension) * near + 2.0 * corners + far


@kernel
def _edged(z, r, c, tension, number, pins):
    """The operator at any cell, and its diagonal."""
    rows, cols = z.shape
    value, own = _bend(z, r, c)
    k = number[r, c]
    if k >= 0:
        value += pins[k, 0] * z[r, c]
        own += pins[k, 0]
    for side, (i, j) in enumerate(((0, 1), (0, -1), (1, 0), (-1, 0))):
        if 0 <= r + i < rows and 0 <= c + j < cols:
            value += tension * (z[r, c] - z[r + i, c + j])
            own += tension
            if k >= 0:
                value += pins[k, side + 1] * z[r + i, c + j]
    return value, own


@kernel
def _count(across, down, firm, number):
    """Numbers for the cells that known heights pull at, -1 for the others; returns how many there are."""
    rows, cols = number.shape
    found = 0
    for r in range(rows):
        for c in range(cols):
            number[r, c] = -1
            if (
                firm[r, c] > 0.0 or across[r, c, 2] > 0.0 or down[r, c, 2] > 0.0
                or (c > 0 and across[r, c - 1, 2] > 0.0) or (r > 0 and down[r - 1, c, 2] > 0.0)
            ):  # fmt: skip
                number[r, c] = found
                found += 1
    return found


@kernel
def _pin(across, down, firm, at, margin, number, pins, asked):
    """What known heights pull at each numbered cell: by its own height and those to the east, west, south and north, and
    the height asked for times its weight."""
    rows, cols = number.shape
    for r in range(rows):
        for c in range(cols):
            k = number[r, c]
            if k < 0:
                continue
            pins[k, 0] += firm[r, c]
            asked[r, c] += firm[r, c] * at[r, c]
            w = across[r, c, 2]
            if w > 0.0:
                t = across[r, c, 0]
                other = number[r, c + 1]
                pins[k, 0] += w * (1.0 - t) * (1.0 - t)
                pins[k, 1] += w * (1.0 - t) * t
                pins[other, 0] += w * t * t
                pins[other, 2] += w * (1.0 - t) * t
                asked[r, c] += w * (1.0 - t) * across[r, c, 1]
                asked[r, c + 1] += w * t * across[r, c, 1]
            w = down[r, c, 2]
            if w > 0.0:
                t = down[r, c, 0]
                other = number[r + 1, c]
                pins[k, 0] += w * (1.0 - t) * (1.0 - t)
                pins[k, 3] += w * (1.0 - t) * t
                pins[other, 0] += w * t * t
                pins[other, 4] += w * (1.0 - t) * t
                asked[r, c] += w * (1.0 - t) * down[r, c, 1]
                asked[r + 1, c] += w * t * down[r, c, 1]
    for r in range(rows):
        for c in range(cols):
            if r < margin or c < margin or r >= rows - margin or c >= cols - margin:
                asked[r, c] = 0.0


@kernel
def _diagonal(tension, number, pins, share):
    """One over the operator's diagonal."""
    rows, cols = share.shape
    flat = np.zeros((rows, cols))
    for r in range(rows):
        for c in range(cols):
            own = 20.0 + 4.0 * tension
            if r < 2 or c < 2 or r >= rows - 2 or c >= cols - 2:
                own = _edged(flat, r, c, tension, number, pins)[1]
            elif number[r, c] >= 0:
                own += pins[number[r, c], 0]
            share[r, c] = 1.0 / own


@kernel
def _left_over(z, b, margin, tension, number, pins, result):
    """`b` less the operator's image of `z`; nothing in the margin."""
    rows, cols = z.shape
    result[:] = 0.0
    for r in range(margin, rows - margin):
        for c in range(margin, cols - margin):
            if 2 <= r < rows - 2 and 2 <= c < cols - 2:
                value = _plain(z, r, c, tension)
                k = number[r, c]
                if k >= 0:
                    value += pins[k, 0] * z[r, c] + pins[k, 1] * z[r, c + 1] + pins[k, 2] * z[r, c - 1]
                    value += pins[k, 3] * z[r + 1, c] + pins[k, 4] * z[r - 1, c]
            else:
                value = _edged(z, r, c, tension, number, pins)[0]
            result[r, c] = b[r, c] - value


@kernel
def _sweep(z, b, margin, tension, number, pins, share, backward):
    rows, cols = z.shape
    for i in range(margin, rows - margin):
        r = rows - 1 - i if backward else i
        for j in range(margin, cols - margin):
            c = cols - 1 - j if backward else j
            if 2 <= r < rows - 2 and 2 <= c < cols - 2:
                value = _plain(z, r, c, tension)
                k = number[r, c]
                if k >= 0:
                    value += pins[k, 0] * z[r, c] + pins[k, 1] * z[r, c + 1] + pins[k, 2] * z[r, c - 1]
                    value += pins[k, 3] * z[r + 1, c] + pins[k, 4] * z[r - 1, c]
            else:
                value = _edged(z, r, c, tension, number, pins)[0]
            z[r, c] += (b[r, c] - value) * share[r, c]


def _passage(fine: int, coarse: int) -> tuple[npt.NDArray[np.int64], FloatArray]:
    """For each fine cell of a row the four coarse ones it is made of, and their shares: cubic, linear over the ends."""
    places = np.empty((fine, 4), np.int64)
    shares = np.zeros((fine, 4))
    for i in range(fine):
        at = i // 2 - 1 if i % 2 == 0 else i // 2
        weights = (-5.0, 35.0, 105.0, -7.0) if i % 2 == 0 else (-7.0, 105.0, 35.0, -5.0)
        first = min(max(at - 1, 0), max(coarse - 4, 0))
        places[i] = np.minimum(np.arange(first, first + 4), coarse - 1)
        for k, weight in enumerate(weights):
            j = at - 1 + k
            # beyond the ends the row goes on straight
            pairs = ((j, 1.0),)
            if j < 0:
                pairs = ((0, 1.0 - j), (1, float(j))) if coarse > 1 else ((0, 1.0),)  # type: ignore[assignment]
            elif j >= coarse:
                over = float(j - coarse + 1)
                pairs = ((coarse - 1, 1.0 + over), (coarse - 2, -over)) if coarse > 1 else ((0, 1.0),)  # type: ignore[assignment]
            for place, share in pairs:
                shares[i, place - first] += weight / 128.0 * share
    return places, shares


@kernel
def _spread(coarse, row_places, row_shares, col_places, col_shares, margin, result):
    """Add a coarse level's cells, passed down, to a fine one's."""
    rows, cols = result.shape
    held = np.empty(coarse.shape[1])
    for r in range(margin, rows - margin):
        held[:] = 0.0
        for k in range(4):
            share = row_shares[r, k]
            if share != 0.0:
                source = coarse[row_places[r, k]]
                for c in range(held.size):
                    held[c] += share * source[c]
        for c in range(margin, cols - margin):
            value = 0.0
            for k in range(4):
                value += col_shares[c, k] * held[col_places[c, k]]
            result[r, c] += value


@kernel
def _collect(fine, row_places, row_shares, col_places, col_shares, margin, result):
    """The transpose of `_spread`."""
    rows, cols = fine.shape
    result[:] = 0.0
    held = np.empty(result.shape[1])
    for r in range(margin, rows - margin):
        held[:] = 0.0
        for c in range(margin, cols - margin):
            for k in range(4):
                held[col_places[c, k]] += col_shares[c, k] * fine[r, c]
        for k in range(4):
            share = row_shares[r, k]
            if share != 0.0:
                target = result[row_places[r, k]]
                for c in range(held.size):
                    target[c] += share * held[c]


@dataclass(frozen=True)
class Known:
    """What is known of the heights on a grid.

    segments: `(any, 6)` x, y, z of both ends of pieces of lines. cells: `(rows, cols)` heights known of whole cells, NaN
    elsewhere; None where there are none.
    """

    segments: FloatArray
    cells: Cells | None = None


class _Level:
    """The plate on one grid."""

    def __init__(
        self, shape: tuple[int, int], place: tuple[float, float, float, float], known: Known, tension: float,
        weight: float, margin: int,
    ) -> None:  # fmt: skip
        rows, cols = self.shape = shape
        self.margin = margin
        self.tension = max(tension, _FIRM)
        across, down = np.zeros((rows, cols, 3)), np.zeros((rows, cols, 3))
        _cross(known.segments, *place, across, down)
        _settle(across, weight)
        _settle(down, weight)
        firm, at = np.zeros(shape), np.zeros(shape)
        if known.cells is not None:
            given = np.isfinite(known.cells)
            firm[given], at[given] = weight, known.cells[given]
        self.number = np.empty(shape, np.int32)
        self.pins = np.zeros((_count(across, down, firm, self.number), 5))
        self.asked, self.share = np.zeros(shape), np.empty(shape)
        _pin(across, down, firm, at, margin, self.number, self.pins, self.asked)
        _diagonal(self.tension, self.number, self.pins, self.share)
        self._inverse = None
        self.coarser: _Level | None = None
        if min(rows, cols) > _SMALLEST:
            half = ((rows + 1) // 2, (cols + 1) // 2)
            west, north, width, height = place
            cells = None if known.cells is None else _halved(known.cells)
            self.coarser = _Level(
                half,
                (west, north, width * 2, height * 2),
                Known(known.segments, cells),
                tension * 4,
                weight * 4,
                margin,
            )
            self._rows, self._cols = _passage(rows, half[0]), _passage(cols, half[1])

    def left_over(self, z: Cells, b: Cells) -> Cells:
        """What of `b` heights `z` leave unmet."""
        result = np.empty(self.shape)
        _left_over(z, b, self.margin, self.tension, self.number, self.pins, result)
        return result

    def sweep(self, z: Cells, b: Cells, backward: bool) -> None:
        _sweep(z, b, self.margin, self.tension, self.number, self.pins, self.share, backward)

    def passed_down(self, coarse: Cells, margin: int) -> Cells:
        result = np.zeros(self.shape)
        _spread(coarse, *self._rows, *self._cols, margin, result)
        return result

    def cycle(self, b: Cells) -> Cells:
        """One multigrid cycle on `b` from nothing: a symmetric approximation of the inverse."""
        if self.coarser is None:
            return self._at_once(b)
        z = np.zeros(self.shape)
        for _ in range(_SWEEPS):
            self.sweep(z, b, False)
        rest = self.left_over(z, b)
        below = np.empty(self.coarser.shape)
        _collect(rest, *self._rows, *self._cols, self.margin, below)
        # a coarse cell's squared differences stand for four fine ones over twice the width: a quarter of the energy
        z += self.passed_down(self.coarser.cycle(4.0 * below), self.margin)
        for _ in range(_SWEEPS):
            self.sweep(z, b, True)
        return z

    def _at_once(self, b: Cells) -> Cells:
        m, (rows, cols) = self.margin, self.shape
        inner = (slice(m, rows - m), slice(m, cols - m))
        count = max(rows - 2 * m, 0) * max(cols - 2 * m, 0)
        result = np.zeros(self.shape)
        if not count:
            return result
        if self._inverse is None:
            matrix = np.empty((count, count))
            unit = np.zeros(self.shape)
            for i in range(count):
                r, c = divmod(i, cols - 2 * m)
                unit[r + m, c + m] = 1.0
                matrix[i] = -self.left_over(unit, result)[inner].ravel()
                unit[r + m, c + m] = 0.0
            self._inverse = linalg.cho_factor(matrix + np.eye(count) * 1e-12)
        result[inner] = linalg.cho_solve(self._inverse, b[inner].ravel()).reshape(rows - 2 * m, cols - 2 * m)
        return result

    def solve(self, start: Cells, exact: float, most: int) -> tuple[Cells, int]:
        """From a start to where a step moves no cell by more than `exact`; and how many steps that took."""
        z, nothing = start, np.zeros(self.shape)
        rest = self.left_over(z, self.asked)
        towards = self.cycle(rest)
        way = towards.copy()
        gain = float((rest * towards).sum())
        for step in range(1, most + 1):
            go_on()
            if gain <= 0.0:
                return z, step
            image = -self.left_over(way, nothing)
            length = gain / float((way * image).sum())
            z += length * way
            if length * float(np.abs(way).max()) < exact:
                return z, step
            rest -= length * image
            towards = self.cycle(rest)
            next_gain = float((rest * towards).sum())
            way = towards + (next_gain / gain) * way
            gain = next_gain
        return z, most


def _halved(cells: Cells) -> Cells:
    """Known cells of the next level: means of the known ones among 2 x 2."""
    rows, cols = cells.shape
    whole = np.pad(cells, ((0, rows % 2), (0, cols % 2)), constant_values=np.nan)
    four = np.stack([whole[i::2, j::2] for i in (0, 1) for j in (0, 1)])
    count = np.isfinite(four).sum(0)
    with np.errstate(invalid="ignore"):
        result: Cells = np.where(count > 0, np.nansum(four, 0) / np.maximum(count, 1), np.nan)
    return result


def solve_plate(
    shape: tuple[int, int],
    place: tuple[float, float, float, float],
    known: Known,
    tension: float = 0.0,
    weight: float = 8.0,
    start: Cells | None = None,
    held: bool = False,
    exact: float = 1e-3,
) -> Cells:
    """Heights `(rows, cols)` of the plate over a grid.

    place: west, north, width and height of a cell, as in `Grid`. tension, weight: in cell widths, see above. start: heights
    to begin from; made on coarser grids where it is None. held: the outermost two rings of cells stay as `start` has them;
    else the edges are free. exact: in height units; the last step of the solution moves no cell farther.
    """
    middle = float(np.mean(known.segments[:, 2])) if len(known.segments) else 0.0
    lowered = known.segments - np.array([0, 0, middle, 0, 0, middle])
    cells = None if known.cells is None else known.cells - middle
    top = _Level(shape, place, Known(lowered, cells), tension, weight, 2 if held else 0)
    if start is not None:
        return top.solve(start - middle, exact, _MOST_STEPS)[0] + middle
    levels = [top]
    while levels[-1].coarser is not None:
        levels.append(levels[-1].coarser)
    z = levels[-1].cycle(levels[-1].asked)
    for level in reversed(levels[:-1]):
        last = level is top
        z = level.solve(level.passed_down(z, 0), exact, _MOST_STEPS if last else _FEW_STEPS)[0]
    return z + middle
