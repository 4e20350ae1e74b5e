"""Mending on the island, whose truth is known: what is repaired comes nearer to it, and what belongs there is no
error."""

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.demo.terrain import COVERS, FRAME, island
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Window
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.outlines import grown, offset
from yama.terrain.mend.patches import Patch
from yama.terrain.mend.suspects import suspects
from yama.terrain.surface import ArraySurface


class SuspectsOfTheGroundTest(SimpleTestCase):
    def test_the_ground_of_the_island_has_no_spikes_and_no_pits(self):
        """Cliffs, a gorge, peaks and stream beds are no errors."""
        surface = ArraySurface(island().heights.astype(np.float32), FRAME)
        window = Window(0, 0, FRAME.rows, 2400)
        kinds = [one.kind for one in suspects(surface, window)]
        self.assertEqual([one for one in kinds if one in ("spike", "pit")], [])


class RepairsTest(SimpleTestCase):
    """What images get wrong on the island is put in, mended and compared with the truth."""

    def around(self, x, y, side):
        """The truth in a square around a place: its window, grid and heights."""
        row, col = round(float(FRAME.row_of(y))) - side // 2, round(float(FRAME.col_of(x))) - side // 2
        window = Window(max(row, 0), max(col, 0), side, side)
        cells = island().heights[window.row : window.row + side, window.col : window.col + side]
        return window, FRAME.part(window), cells.astype(np.float64)

    def mended(self, cells, grid, patch, other=None):
        other = None if other is None else ArraySurface(other.astype(np.float32), grid)
        stack = [Patch.model_validate(patch)]
        return MendedSurface(ArraySurface(cells.astype(np.float32), grid), stack, [], other).read_all()

    def error(self, cells, truth, where):
        return float(np.sqrt(np.nanmean((cells - truth)[where] ** 2)))

    def test_lantern_water_is_level_at_its_rim_where_the_images_left_it_empty(self):
        truth = island()
        x, y = truth.places["Lantern Water"]
        ring = offset(grown(truth.surface, x, y, 0.3, 10), 2.0, FRAME)
        middle = shapely.Polygon(ring).centroid
        window, grid, cells = self.around(middle.x, middle.y, 1100)
        area = inside([shapely.Polygon(ring)], grid) > 0
        rng = np.random.default_rng(6)
        seen = cells + rng.normal(0, 0.4, cells.shape)
        seen[area] = np.where(rng.uniform(size=area.sum()) < 0.9, np.nan, seen[area] + 5)
        found = self.mended(seen, grid, {"ring": ring, "operator": {"kind": "level"}})
        cover = truth.cover[window.row : window.row + 1100, window.col : window.col + 1100]
        water = area & (cover == COVERS.index("water"))
        self.assertGreater(water.sum(), 10_000)
        self.assertEqual(np.ptp(found[water]), 0)
        self.assertLess(abs(float(found[water][0]) - truth.lake_level), 1.0)
        np.testing.assert_array_equal(found[~area], seen[~area].astype(np.float32))

    def test_the_quarry_is_taken_from_a_newer_survey_without_a_step(self):
        x, y = island().places["Dunnock Quarry"]
        _, grid, cells = self.around(x, y, 420)
        away = np.hypot(*np.meshgrid(*grid.centres(grid.whole)) - np.array([x, y])[:, None, None])
        filled = cells + np.where(away < 205, 30 * np.cos(away / 205 * np.pi / 2), 0)
        rng = np.random.default_rng(5)
        newer = cells + 1.7 + rng.normal(0, 0.1, cells.shape)
        ring = [tuple(one) for one in shapely.Point(x, y).buffer(230, 24).exterior.coords[:-1]]
        found = self.mended(filled, grid, {"ring": ring, "feather": 10, "operator": {"kind": "replace"}}, newer)
        pit = away < 200
        self.assertGreater(self.error(filled, cells, pit), 10)
        self.assertLess(self.error(found, cells, pit), 0.4)
        step = np.abs(np.diff(found - cells, axis=1))[np.abs(away - 230)[:, 1:] < 6]
        self.assertLess(float(np.quantile(step, 0.99)), 0.5)  # and not the 1.7 m between both

    def test_the_avel_falls_between_its_banks_where_trees_hide_it(self):
        truth = island()
        course = truth.river[(truth.river[:, 1] < 5_437_600) & (truth.river[:, 1] > 5_436_600)]
        x, y = course.mean(axis=0)
        _, grid, cells = self.around(x, y, 700)
        banks = shapely.LineString(course).buffer(7, cap_style="flat")
        area = inside([banks], grid) > 0
        rng = np.random.default_rng(7)
        seen = cells + rng.normal(0, 0.3, cells.shape)
        east, north = np.meshgrid(*grid.centres(grid.whole))
        for at in course[rng.integers(0, len(course), 25)]:  # trees over it
            seen[np.hypot(east - at[0], north - at[1]) < 9] += rng.uniform(4, 12)
        ring = [tuple(map(float, one)) for one in banks.exterior.coords[:-1]]
        found = self.mended(seen, grid, {"ring": ring, "operator": {"kind": "falling", "level": True}})
        before, after = (self.error(one, cells, area) for one in (seen, found))
        self.assertLess(after, 0.6 * before)
        down = [float(found[round(float(grid.row_of(q))), round(float(grid.col_of(p)))]) for p, q in course]
        inner = np.array(down[4:-4])
        inner = inner if inner[0] > inner[-1] else inner[::-1]
        self.assertTrue((np.diff(inner) <= 0.02).all())
