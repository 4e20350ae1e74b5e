import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.judge.worst import _median_of_nine, worst_places
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_600.0, 2.0, 2.0, 300, 300)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
EAST, NORTH = X - 448_000, Y - 5_438_000


def hills(x=EAST, y=NORTH):
    return 100 + 25 * np.sin(x / 45) + 20 * np.cos(y / 38)


def surface(cells, noise=0.1, seed=1, grid=GRID):
    made = cells + np.random.default_rng(seed).normal(0, noise, cells.shape)
    return ArraySurface(made.astype(np.float32), grid)


def square(east, north, side):
    return (np.abs(EAST - east) < side / 2) & (np.abs(NORTH - north) < side / 2)


class WorstTest(SimpleTestCase):
    def causes(self, first, second, **more):
        return [(one.cause, one.which) for one in worst_places(first, second, GRID, **more).places]

    def test_places_have_the_volume_and_area_that_were_planted(self):
        raised, sunk = square(200, 300, 60), square(450, 150, 40)
        first = hills() + np.where(raised, 3.0, 0) - np.where(sunk, 5.0, 0)
        found = worst_places(surface(first), surface(hills(), seed=2), GRID)
        one, other = found.places[:2]
        self.assertAlmostEqual(one.volume, raised.sum() * 4 * 3.0, delta=0.03 * raised.sum() * 12)
        self.assertAlmostEqual(one.area, raised.sum() * 4, delta=0.05 * raised.sum() * 4)
        self.assertAlmostEqual(one.mean, 3.0, delta=0.05)
        self.assertAlmostEqual(other.volume, -sunk.sum() * 4 * 5.0, delta=0.05 * sunk.sum() * 20)
        self.assertTrue(shapely.Polygon(one.ring).contains(shapely.Point(448_200, 5_438_300)))
        self.assertEqual(found.count, 2)
        self.assertAlmostEqual(found.volume, abs(one.volume) + abs(other.volume))

    def test_an_offset_and_single_cells_make_no_place(self):
        cells = hills() + 1.7
        cells[50, 60] += 40
        cells[200, 90] -= 60
        found = worst_places(surface(cells), surface(hills(), seed=2), GRID)
        self.assertEqual(found.places, [])
        self.assertAlmostEqual(found.median, 1.7, places=2)

    def test_swapping_both_turns_the_signs_only(self):
        first, second = surface(hills() + np.where(square(200, 300, 60), 3.0, 0)), surface(hills(), seed=2)
        one, other = (worst_places(a, b, GRID).places[0] for a, b in ((first, second), (second, first)))
        self.assertAlmostEqual(one.volume, -other.volume, places=3)
        self.assertEqual((one.x, one.y, one.area), (other.x, other.y, other.area))

    def test_a_shift_is_named_by_what_it_leaves(self):
        beside = surface(hills(EAST - 9, NORTH + 5))
        causes = self.causes(beside, surface(hills(), seed=2))
        self.assertTrue(causes)
        self.assertEqual(set(causes), {("shift", "both")})

    def test_trees_and_buildings_are_named_by_what_covers_the_ground(self):
        stand, town = square(150, 450, 80), square(420, 420, 50)
        crowns = np.random.default_rng(3).normal(0, 1.5, stand.shape)
        first = hills() + np.where(stand, 14 + crowns, 0) + np.where(town, 7.0, 0)
        boxes = [
            shapely.box(448_100, 5_438_400, 448_200, 5_438_500),
            shapely.box(448_380, 5_438_380, 448_460, 5_438_460),
        ]
        cover = Features(CRS, np.array(boxes, object), {"kind": ["wood", "town"]})
        named = Features(CRS, np.array([shapely.Point(448_150, 5_438_120)], object), {"name": ["Mossgate"]})
        found = worst_places(
            surface(first), surface(hills(), seed=2), GRID, cover=[cover], column="kind", named=[named]
        ).places[:2]
        self.assertEqual([(one.cause, one.which, one.cover) for one in found],
                         [("trees", "first", "wood"), ("buildings", "first", "town")])  # fmt: skip
        self.assertEqual(found[0].near, "Mossgate, north")

    def test_water_and_a_filled_void_are_told_from_a_change(self):
        lake, void, pit = square(150, 150, 90), square(450, 450, 90), square(450, 120, 60)
        first = hills() + np.random.default_rng(5).normal(0, 0.1, lake.shape)
        second = hills() + np.random.default_rng(6).normal(0, 0.1, lake.shape)
        second[lake] = 120.0
        first[void] = (hills() + 8 + 0.1 * (EAST - 450))[void]  # without the noise of its surroundings
        first[pit] -= 12
        found = worst_places(surface(first, 0), surface(second, 0), GRID).places
        by_place = {}
        for one in found:
            for name, where in (("lake", lake), ("void", void), ("pit", pit)):
                row, col = int(GRID.row_of(one.y)), int(GRID.col_of(one.x))
                if where[row, col]:
                    by_place.setdefault(name, (one.cause, one.which))
        self.assertEqual(
            by_place, {"lake": ("water", "second"), "void": ("filled", "first"), "pit": ("change", "both")}
        )

    def test_smoothed_ground_is_named(self):
        ridges = 100 + 14 * np.abs(((EAST + 0.3 * NORTH) / 50) % 2 - 1)
        wide = np.stack([ridges[:, np.clip(np.arange(300) + by, 0, 299)] for by in range(-15, 16)]).mean(axis=0)
        causes = self.causes(surface(ridges), surface(wide, seed=2))
        self.assertIn(("smoothed", "second"), causes)

    def test_surfaces_that_cannot_be_compared_are_said(self):
        away = Grid(CRS, 470_000.0, 5_438_600.0, 2.0, 2.0, 30, 30)
        with self.assertRaisesRegex(InputError, "no filled cell in common"):
            worst_places(surface(hills()), ArraySurface(np.ones((30, 30), np.float32), away), GRID)
        with self.assertRaisesRegex(InputError, "equal all over"):
            worst_places(surface(hills()), surface(hills()), GRID)

    def test_large_surfaces_are_looked_at_on_coarser_cells(self):
        grid = Grid(CRS, 448_000.0, 5_438_600.0, 0.2, 0.2, 3000, 3000)
        fine = np.repeat(np.repeat(hills(), 10, 0), 10, 1)
        raised = np.repeat(np.repeat(square(200, 300, 60), 10, 0), 10, 1)
        found = worst_places(
            ArraySurface((fine + np.where(raised, 3.0, 0)).astype(np.float32), grid),
            ArraySurface(fine.astype(np.float32), grid), grid,
        )  # fmt: skip
        self.assertGreater(found.cell, 0.2)
        self.assertAlmostEqual(found.places[0].volume, 900 * 4 * 3.0, delta=200)

    def test_median_of_nine_is_that_of_the_filled_cells(self):
        rng = np.random.default_rng(8)
        cells = rng.normal(0, 1, (20, 17)).astype(np.float32)
        cells[rng.random(cells.shape) < 0.2] = np.nan
        out = np.empty_like(cells)
        _median_of_nine(cells, out)
        padded = np.pad(cells, 1, constant_values=np.nan)
        for r in range(20):
            for c in range(17):
                expected = np.nan if np.isnan(cells[r, c]) else np.nanmedian(padded[r : r + 3, c : c + 3])
                np.testing.assert_allclose(out[r, c], expected, rtol=1e-6)
