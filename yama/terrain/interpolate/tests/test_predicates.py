"""The predicates' signs against exact fractions, on the hardest inputs there are."""

from fractions import Fraction

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.interpolate.predicates import in_circle, orient


def _sign(value):
    return (value > 0) - (value < 0)


def _orient_exactly(*numbers):
    ax, ay, bx, by, cx, cy = map(Fraction, numbers)
    return _sign((ax - cx) * (by - cy) - (ay - cy) * (bx - cx))


def _circle_exactly(*numbers):
    ax, ay, bx, by, cx, cy, dx, dy = map(Fraction, numbers)
    rows = [(x - dx, y - dy, (x - dx) ** 2 + (y - dy) ** 2) for x, y in ((ax, ay), (bx, by), (cx, cy))]
    (a, b, c), (d, e, f), (g, h, i) = rows
    return _sign(a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g))


class PredicatesTest(SimpleTestCase):
    def test_orient_near_a_line(self):
        base = 0.5
        step = 2.0**-53
        for i in range(24):
            for j in range(24):
                numbers = (base + i * step, base + j * step, 12.0, 12.0, 24.0, 24.0)
                self.assertEqual(_sign(orient(*numbers)), _orient_exactly(*numbers))

    def test_orient_on_lines_through_large_coordinates(self):
        rng = np.random.default_rng(1)
        for _ in range(400):
            a, d = rng.uniform(4e5, 6e6, 2), rng.uniform(-9, 9, 2)
            b, c = a + d, a + 3 * d
            numbers = (*a, *b, *c)
            self.assertEqual(_sign(orient(*numbers)), _orient_exactly(*numbers))

    def test_in_circle_on_and_beside_circles(self):
        rng = np.random.default_rng(2)
        square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
        for _ in range(300):
            corner, side = rng.uniform(4e5, 6e6, 2), rng.uniform(0.5, 50)
            points = corner + square * side
            if rng.random() < 0.5:
                points[3, 0] = np.nextafter(points[3, 0], rng.choice([-np.inf, np.inf]))
            numbers = tuple(points.ravel())
            self.assertEqual(_sign(in_circle(*numbers)), _circle_exactly(*numbers))

    def test_in_circle_on_a_whole_number_lattice(self):
        for dx in range(-3, 4):
            for dy in range(-3, 4):
                numbers = (5.0, 0.0, 3.0, 4.0, -5.0, 0.0, 3.0 + dx, -4.0 + dy)
                self.assertEqual(_sign(in_circle(*numbers)), _circle_exactly(*numbers))
