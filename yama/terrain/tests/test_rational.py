"""Rational polynomials: in the standard's order, and back from the image to the ground."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.rational import RationalModel


def model(tilt=0.02, curve=0.0) -> RationalModel:
    """A camera above Sundrel: columns run east, rows south, and height leans the view to the east."""

    def polynomial(**terms: float) -> tuple[float, ...]:
        names = ["one", "x", "y", "z", "xy", "xz", "yz", "xx", "yy", "zz"]
        return tuple(terms.get(name, 0.0) for name in names) + (0.0,) * 10

    return RationalModel(
        999.5, 1199.5, -41.2, 62.4, 300.0, 1000.0, 1200.0, 0.02, 0.03, 400.0,
        polynomial(y=-1.0, xx=curve), polynomial(one=1.0, x=curve / 3),
        polynomial(x=1.0, z=tilt, xy=curve / 2), polynomial(one=1.0, y=curve / 4),
    )  # fmt: skip


class RationalModelTest(SimpleTestCase):
    def test_terms_stand_in_the_standards_order(self):
        """1 L P H LP LH PH L2 P2 H2 PLH L3 LP2 LH2 L2P P3 PH2 L2H P2H H3."""
        powers = [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 0), (1, 0, 1), (0, 1, 1), (2, 0, 0), (0, 2, 0),
                  (0, 0, 2), (1, 1, 1), (3, 0, 0), (1, 2, 0), (1, 0, 2), (2, 1, 0), (0, 3, 0), (0, 1, 2), (2, 0, 1),
                  (0, 2, 1), (0, 0, 3)]  # fmt: skip
        lon, lat, high = 62.413, -41.209, 420.0
        east, north, up = (lon - 62.4) / 0.03, (lat + 41.2) / 0.02, (high - 300) / 400
        one = (1.0,) + (0.0,) * 19
        for i, (a, b, c) in enumerate(powers):
            only = tuple(1.0 if j == i else 0.0 for j in range(20))
            col, _ = replace(model(), col_numerator=only, col_denominator=one).image_of(lon, lat, high)
            self.assertAlmostEqual(float(col), 1199.5 + 1200 * east**a * north**b * up**c, places=9)

    def test_the_ground_of_a_cell_is_seen_by_that_cell(self):
        rng = np.random.default_rng(6)
        for curve in (0.0, 0.03):
            col, row, high = rng.uniform(0, 2400, 200), rng.uniform(0, 2000, 200), rng.uniform(0, 600, 200)
            lon, lat = model(curve=curve).ground_of(col, row, high)
            again_col, again_row = model(curve=curve).image_of(lon, lat, high)
            np.testing.assert_allclose(again_col, col, rtol=0, atol=1e-5)
            np.testing.assert_allclose(again_row, row, rtol=0, atol=1e-5)

    def test_height_moves_the_place_as_the_view_leans(self):
        _, lat_low = model().ground_of(1000, 900, 100)
        lon_high, lat_high = model().ground_of(1000, 900, 500)
        lon_low, _ = model().ground_of(1000, 900, 100)
        self.assertAlmostEqual(float(lat_low), float(lat_high), places=12)
        self.assertAlmostEqual(float(lon_low - lon_high), 0.02 * (400 / 400) * 0.03, places=9)

    def test_what_leads_nowhere_is_empty(self):
        flat = replace(model(), col_numerator=(0.0,) * 20)
        lon, lat = flat.ground_of([10.0], [10.0], [0.0])
        self.assertTrue(np.isnan(lon).all() and np.isnan(lat).all())

    def test_impossible_coefficients_are_refused(self):
        for change in ({"row_scale": 0.0}, {"col_numerator": (1.0,)}, {"row_numerator": (float("nan"),) * 20}):
            with self.subTest(change), self.assertRaises(InputError):
                replace(model(), **change)
