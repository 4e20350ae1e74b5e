"""How far along an area its cells lie: against a slow twin and a closed form."""

import numpy as np
from django.test import SimpleTestCase
from scipy.sparse import coo_array
from scipy.sparse.csgraph import dijkstra

from yama.terrain.errors import InputError
from yama.terrain.mend.ribbon import _STEPS, _walked, along


def slow(inside, row, col, wide, high):
    """Shortest ways as a graph of all steps, by SciPy."""
    number = np.full(inside.shape, -1)
    number[inside] = np.arange(inside.sum())
    padded = np.pad(number, 2, constant_values=-1)
    begins, ends, lengths = [], [], []
    for down, right in _STEPS:
        for r, c in np.argwhere(inside):
            to = padded[r + 2 + down, c + 2 + right]
            half = int(down / 2), int(right / 2)
            through = padded[r + 2 + half[0], c + 2 + half[1]], padded[r + 2 + down - half[0], c + 2 + right - half[1]]
            if to >= 0 and (abs(down) + abs(right) < 3 or min(through) >= 0):
                begins.append(number[r, c])
                ends.append(to)
                lengths.append(np.hypot(right * wide, down * high))
    graph = coo_array((lengths, (begins, ends)), shape=(inside.sum(),) * 2).tocsr()
    found = np.full(inside.shape, np.inf)
    found[inside] = dijkstra(graph, indices=number[row, col])
    return found


class RibbonTest(SimpleTestCase):
    def test_ways_are_those_of_the_graph(self):
        rng = np.random.default_rng(1)
        inside = rng.uniform(size=(30, 24)) > 0.25
        inside[4, 5] = True
        found = np.zeros(inside.shape)
        _walked(inside, 4, 5, 2.0, 3.0, _STEPS, found)
        np.testing.assert_allclose(found, slow(inside, 4, 5, 2.0, 3.0))

    def test_a_straight_band_is_measured_by_its_length_and_a_bent_one_by_its_middle(self):
        band = np.zeros((9, 200), np.bool_)
        band[2:7, 5:195] = True
        at, step = along(band, 2.0, 2.0)
        self.assertEqual(step, 2.0)
        middle = at[4, 5:195]
        middle = middle if middle[0] < middle[-1] else middle[::-1]
        np.testing.assert_allclose(middle - middle[0], 2.0 * np.arange(190), atol=8)
        self.assertTrue(np.isnan(at[~band]).all())
        # three sides of a square: twice round a corner
        bent = np.zeros((120, 120), np.bool_)
        bent[10:16, 10:110] = bent[10:110, 10:16] = bent[104:110, 10:110] = True
        at, _ = along(bent, 1.0, 1.0)
        ends = sorted((at[12, 108], at[106, 108]))
        self.assertLess(ends[0], 12)
        self.assertGreater(ends[1], 270)
        self.assertAlmostEqual(float(at[60, 12]), (ends[0] + ends[1]) / 2, delta=3)

    def test_what_is_no_river_is_refused(self):
        with self.assertRaisesRegex(InputError, "nearly as wide as it is long"):
            along(np.ones((40, 40), np.bool_), 2.0, 2.0)
        apart = np.zeros((9, 100), np.bool_)
        apart[3:6, :40] = apart[3:6, 50:] = True
        with self.assertRaisesRegex(InputError, "narrower than a cell"):
            along(apart, 2.0, 2.0)

    def test_a_very_large_one_is_walked_in_coarser_steps(self):
        band = np.zeros((210, 5000), np.bool_)
        band[5:205] = True
        at, step = along(band, 2.0, 2.0)
        self.assertEqual(step, 4.0)
        self.assertTrue(np.isfinite(at[band]).all())
        self.assertAlmostEqual(float(abs(at[100, 4999] - at[100, 0])), 10_000, delta=200)
