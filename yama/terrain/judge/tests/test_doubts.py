import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.features import Features
from yama.terrain.grid import Grid, Window
from yama.terrain.judge.doubts import SLOPES, Cover, curve, doubts_of, model_at, spreads_by_slope
from yama.terrain.judge.places import Places, judged_at
from yama.terrain.surface import ArraySurface
from yama.terrain.units import in_unit

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_800.0, 4.0, 4.0, 200, 200)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
WOOD = shapely.box(448_000, 5_438_000, 448_400, 5_438_800)
COVER = Features(CRS, np.array([WOOD], dtype=object), {"kind": ["wood"]})


def ground(x, y):
    return 80 + 40 * np.sin((x - 448_000) / 60) * np.cos((y - 5_438_000) / 70)


SURFACE = ArraySurface(ground(X, Y).astype(np.float32), GRID)


def places(count=4000, seed=2):
    """Places whose heights the surface misses by 0.3 m and 1 m more for each metre of rise, by three times as much in
    wood."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(448_010, 448_790, count), rng.uniform(5_438_010, 5_438_790, count)
    heights = judged_at(SURFACE, Places(CRS, x, y, np.zeros(count)))
    rise = np.hypot(*heights.rises)
    spread = np.hypot(0.3, 1.0 * rise) * np.where(x < 448_400, 3.0, 1.0)
    return Places(CRS, x, y, heights.errors - rng.normal(0, 1, count) * spread)


class ModelTest(SimpleTestCase):
    def test_the_curve_is_that_of_the_errors_that_were_planted(self):
        at = places()
        judged = judged_at(SURFACE, at)
        open_ground = at.x >= 448_400
        errors = type(judged)(np.where(open_ground, judged.errors, np.nan), judged.rises)
        model = model_at(errors, None, ())
        np.testing.assert_allclose(curve(model)[:17], np.hypot(0.3, np.tan(np.radians(SLOPES[:17]))), rtol=0.15)
        for slope, spread, count in spreads_by_slope(judged, open_ground):
            self.assertAlmostEqual(spread / np.hypot(0.3, np.tan(np.radians(slope))), 1, delta=0.25)
            self.assertGreater(count, 100)

    def test_few_places_make_no_curve_of_what_was_seen(self):
        judged = judged_at(SURFACE, places(9))
        self.assertEqual(spreads_by_slope(judged), [])
        self.assertEqual(len(spreads_by_slope(judged_at(SURFACE, places(25)))), 2)


class SurfaceTest(SimpleTestCase):
    def setUp(self):
        at, self.cover = places(), Cover([COVER], "kind", CRS)
        self.model = model_at(judged_at(SURFACE, at), self.cover.at(at), self.cover.names)
        self.doubts = doubts_of(SURFACE, self.model, self.cover)

    def test_cells_say_what_new_errors_do(self):
        new = places(3000, seed=9)
        judged = judged_at(SURFACE, new)
        rows, cols = (np.rint(one).astype(int) for one in (GRID.row_of(new.y), GRID.col_of(new.x)))
        sigma = self.doubts.read_all()[rows, cols]
        for chosen in (new.x < 448_400, new.x >= 448_400):
            within = (np.abs(judged.errors[chosen]) <= 1.645 * sigma[chosen]).mean()
            self.assertTrue(0.85 < within < 0.95, within)

    def test_any_window_is_the_whole_and_what_is_empty_stays_so(self):
        whole = self.doubts.read_all()
        np.testing.assert_array_equal(self.doubts.read(Window(40, 70, 33, 21)), whole[40:73, 70:91])
        cells = SURFACE.read_all().copy()
        cells[10:20, 10:20] = np.nan
        holed = doubts_of(ArraySurface(cells, GRID), self.model, self.cover).read_all()
        self.assertTrue(np.isnan(holed[10:20, 10:20]).all())
        self.assertFalse(np.isnan(holed[21:, 21:]).any())

    def test_a_surface_in_feet_is_told_in_feet(self):
        feet = doubts_of(in_unit(SURFACE, "ft"), self.model, self.cover).read_all()
        np.testing.assert_allclose(feet * 0.3048, self.doubts.read_all(), rtol=1e-4)

    def test_other_classes_are_other_surfaces(self):
        plain = doubts_of(SURFACE, self.model)
        self.assertNotEqual(plain.fingerprint, self.doubts.fingerprint)
        self.assertEqual(self.doubts.fingerprint, doubts_of(SURFACE, self.model, self.cover).fingerprint)
