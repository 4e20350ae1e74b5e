import numpy as np
from django.test import SimpleTestCase

from yama.terrain.grid import Grid
from yama.terrain.mosaic.fusion import Fused
from yama.terrain.mosaic.influence import influences
from yama.terrain.mosaic.joined import Joined, Joining
from yama.terrain.surface import ArraySurface
from yama.terrain.units import in_unit

GRID = Grid("EPSG:32741", 448_000.0, 5_438_400.0, 2.0, 2.0, 200, 200)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
GROUND = 50 + 6 * np.sin(X / 40) + 5 * np.cos(Y / 35)


def surface(up=0.0, noise=0.0, seed=1, empty=None):
    cells = GROUND + up + np.random.default_rng(seed).normal(0, noise, X.shape)
    if empty is not None:
        cells[empty] = np.nan
    return ArraySurface(cells.astype(np.float32), GRID)


def of(joined, x, y):
    return {one.source: one.weight for one in influences(joined, x, y)}


class InfluenceTest(SimpleTestCase):
    def test_a_blend_is_made_of_shares_that_sum_to_one_and_make_its_height(self):
        one = surface(empty=X > 448_280)
        other = surface(3.0, empty=X < 448_120)
        joined = Joined([one, other], GRID, how=Joining("feather", feather=80.0))
        for x in (448_150.0, 448_201.0, 448_260.0):
            found = influences(joined, x, 5_438_201.0)
            self.assertAlmostEqual(sum(part.weight for part in found), 1, delta=0.01)
            row, col = round(float(GRID.row_of(5_438_201.0))), round(float(GRID.col_of(x)))
            made = float(joined.read_all()[row, col])
            self.assertAlmostEqual(sum(part.weight * part.height for part in found), made, delta=0.05)
        self.assertGreater(of(joined, 448_150.0, 5_438_201.0)[0], of(joined, 448_260.0, 5_438_201.0)[0])
        self.assertEqual(list(of(joined, 448_050.0, 5_438_201.0)), [0])

    def test_where_one_source_alone_counts_it_has_all(self):
        one, other = surface(empty=X > 448_200), surface(3.0)
        first = Joined([one, other], GRID, how=Joining("priority"))
        self.assertAlmostEqual(of(first, 448_100.0, 5_438_201.0)[0], 1, delta=0.01)
        self.assertAlmostEqual(of(first, 448_300.0, 5_438_201.0)[1], 1, delta=0.01)
        highest = Joined([one, other], GRID, how=Joining("highest"))
        self.assertEqual(list(of(highest, 448_100.0, 5_438_201.0)), [1])

    def test_the_best_of_all_is_weighed_by_what_is_known_of_its_sources(self):
        fused = Fused([surface(noise=0.2), surface(noise=2.0, seed=2)], GRID)
        before = fused.read_all().copy()
        found = of(fused, 448_201.0, 5_438_201.0)
        self.assertAlmostEqual(sum(found.values()), 1, delta=0.02)
        self.assertGreater(found[0], 0.6)
        np.testing.assert_array_equal(before, fused.read_all())  # asking changes nothing

    def test_what_stands_over_a_mosaic_is_seen_through_and_others_tell_nothing(self):
        joined = Joined([surface(), surface(1.0, seed=2)], GRID, how=Joining("mean"))
        self.assertEqual(set(of(in_unit(joined, "ft"), 448_201.0, 5_438_201.0)), {0, 1})
        self.assertEqual(influences(surface(), 448_201.0, 5_438_201.0), [])
        self.assertEqual(influences(joined, 449_201.0, 5_438_201.0), [])
