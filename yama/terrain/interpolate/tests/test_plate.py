"""The plate over cells: against the same energy minimised outright, closed forms, and its passage between levels."""

from __future__ import annotations

import unittest

import numpy as np

from yama.terrain.interpolate.plate import Known, _Level, _passage, solve_plate


def _crossings(segments: np.ndarray, rows: int, cols: int) -> list[tuple[int, int, int, int, float, float]]:
    """Where segments cross from cell to cell, each found by walking over all pairs of neighbours."""
    found = []
    for r in range(rows):
        for c in range(cols):
            for i, j in ((r, c + 1), (r + 1, c)):
                if i >= rows or j >= cols:
                    continue
                for x0, y0, z0, x1, y1, z1 in segments:
                    u0, v0, u1, v1 = x0 - 0.5, rows - y0 - 0.5, x1 - 0.5, rows - y1 - 0.5
                    a, b, at = (v0, v1, r) if i == r else (u0, u1, c)
                    if not min(a, b) < at <= max(a, b):
                        continue
                    s = (at - a) / (b - a)
                    t = u0 + s * (u1 - u0) - c if i == r else v0 + s * (v1 - v0) - r
                    if 0 <= t < 1:
                        found.append((r, c, i, j, t, z0 + s * (z1 - z0)))
    return found


def _outright(segments: np.ndarray, rows: int, cols: int, tension: float, weight: float) -> np.ndarray:
    """The plate as one least-squares system, term by term."""
    terms: list[tuple[dict[tuple[int, int], float], float, float]] = []
    for r in range(rows):
        for c in range(cols):
            if 0 < c < cols - 1:
                terms.append(({(r, c - 1): 1, (r, c): -2, (r, c + 1): 1}, 0, 1))
            if 0 < r < rows - 1:
                terms.append(({(r - 1, c): 1, (r, c): -2, (r + 1, c): 1}, 0, 1))
            if r < rows - 1 and c < cols - 1:
                terms.append(({(r, c): 1, (r, c + 1): -1, (r + 1, c): -1, (r + 1, c + 1): 1}, 0, 2))
            if c < cols - 1:
                terms.append(({(r, c): 1, (r, c + 1): -1}, 0, tension))
            if r < rows - 1:
                terms.append(({(r, c): 1, (r + 1, c): -1}, 0, tension))
    edges: dict[tuple[int, int, int, int], list[tuple[float, float]]] = {}
    for r, c, i, j, t, z in _crossings(segments, rows, cols):
        edges.setdefault((r, c, i, j), []).append((t, z))
    for (r, c, i, j), each in edges.items():
        t, z = np.mean(each, axis=0)
        terms.append(({(r, c): 1 - t, (i, j): t}, z, weight))
    matrix, side = np.zeros((len(terms), rows * cols)), np.zeros(len(terms))
    for k, (parts, wanted, strength) in enumerate(terms):
        for (r, c), factor in parts.items():
            matrix[k, r * cols + c] = factor * np.sqrt(strength)
        side[k] = wanted * np.sqrt(strength)
    return np.linalg.lstsq(matrix, side, rcond=None)[0].reshape(rows, cols)


def _wiggly(rng: np.random.Generator, size: int) -> np.ndarray:
    lines = []
    for height, base in ((10.0, 0.25), (20.0, 0.5), (30.0, 0.8)):
        x = np.linspace(-1, size + 1, 14)
        y = base * size + np.cumsum(rng.normal(0, 0.4, 14))
        z = np.full(14, height)
        whole = np.column_stack([x, y, z])
        lines.append(np.column_stack([whole[:-1], whole[1:]]))
    return np.concatenate(lines)


class PlateTest(unittest.TestCase):
    def test_is_the_minimum_of_its_energy(self) -> None:
        segments = _wiggly(np.random.default_rng(3), 26)
        for tension, weight in ((0.0, 8.0), (0.3, 2.0)):
            found = solve_plate((26, 26), (0, 26, 1, 1), Known(segments), tension, weight, exact=1e-9)
            np.testing.assert_allclose(found, _outright(segments, 26, 26, max(tension, 1e-9), weight), atol=1e-5)

    def test_a_slope_comes_out_as_a_slope(self) -> None:
        rows, cols = 61, 90
        # lines of x + 2 y = height, aslant through the cells
        segments = [[-200.0, (h + 200) / 2, h, 200.0, (h - 200) / 2, h] for h in range(0, 100, 10)]
        found = solve_plate((rows, cols), (0, rows, 1, 1), Known(np.array(segments)), exact=1e-7)
        x, y = np.arange(cols) + 0.5, rows - np.arange(rows)[:, None] - 0.5
        np.testing.assert_allclose(found, x + 2 * y, atol=1e-3)

    def test_the_rim_stays_where_it_is_held(self) -> None:
        rng = np.random.default_rng(5)
        start = rng.normal(0, 5, (40, 33))
        cells = np.full((40, 33), np.nan)
        cells[20, 16] = 12.0
        found = solve_plate((40, 33), (0, 40, 1, 1), Known(np.empty((0, 6)), cells), start=start, held=True)
        rim = np.ones(start.shape, np.bool_)
        rim[2:-2, 2:-2] = False
        np.testing.assert_array_equal(found[rim], start[rim])
        self.assertGreater(found[20, 16], 9.0)

    def test_begun_elsewhere_it_ends_in_the_same_place(self) -> None:
        segments = _wiggly(np.random.default_rng(4), 50)
        one = solve_plate((50, 50), (0, 50, 1, 1), Known(segments), 0.05, exact=1e-8)
        other = solve_plate((50, 50), (0, 50, 1, 1), Known(segments), 0.05, start=np.full((50, 50), 77.0), exact=1e-8)
        np.testing.assert_allclose(one, other, atol=1e-5)

    def test_the_cycle_is_symmetric(self) -> None:
        """Conjugate gradients need that."""
        level = _Level((37, 41), (0, 37, 1, 1), Known(_wiggly(np.random.default_rng(8), 37)), 0.01, 8.0, 0)
        rng = np.random.default_rng(9)
        a, b = rng.normal(size=(2, 37, 41))
        self.assertAlmostEqual(float((a * level.cycle(b)).sum()), float((b * level.cycle(a)).sum()), places=9)
        self.assertGreater(float((a * level.cycle(a)).sum()), 0.0)

    def test_the_passage_keeps_cubics_inside_and_slopes_everywhere(self) -> None:
        for fine in (13, 24, 25, 40):
            coarse = (fine + 1) // 2
            places, shares = _passage(fine, coarse)
            at, centres = 2 * np.arange(coarse) + 0.5, np.arange(fine)
            np.testing.assert_allclose((shares * (3 * at - 2)[places]).sum(1), 3 * centres - 2, atol=1e-12)
            cubic = (shares * (at**3 - at**2)[places]).sum(1)[4:-4]
            np.testing.assert_allclose(cubic, (centres**3 - centres**2)[4:-4], rtol=1e-12)
