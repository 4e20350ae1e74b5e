"""Masks, level polygons and burned lines against obvious twins, live and stored."""

from __future__ import annotations

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.features import Features
from yama.terrain.fit.clip import Burned, Flattened, Masked, Rounded, inside, polygons_of, rim_levels
from yama.terrain.grid import Grid, Window
from yama.terrain.surface import ArraySurface, StoredSurface, Surface, store

GRID = Grid("EPSG:32741", 1_000.0, 2_000.0, 2.0, 2.0, 60, 70)
RING = shapely.Polygon([(1_020.3, 1_990.7), (1_110.1, 1_960.2), (1_070.9, 1_900.4), (1_015.2, 1_930.6)], [
    [(1_050.1, 1_960.3), (1_070.7, 1_955.2), (1_060.4, 1_940.8)]
])  # fmt: skip


def tilted() -> ArraySurface:
    x, y = np.meshgrid(GRID.x_of(np.arange(GRID.cols)), GRID.y_of(np.arange(GRID.rows)))
    return ArraySurface(0.1 * (x - 1_000) + 0.05 * (y - 2_000) + 20, GRID, "m", "Sundrel mean sea level")


def within() -> np.ndarray:
    x, y = np.meshgrid(GRID.x_of(np.arange(GRID.cols)), GRID.y_of(np.arange(GRID.rows)))
    return shapely.contains_xy(RING, x, y)


class ClipTest(SimpleTestCase):
    def same_stored(self, surface: Surface) -> None:
        """Live is stored, and any window reads the same cells."""
        whole = surface.read_all()
        with tempfile.TemporaryDirectory() as folder:
            store(surface, Path(folder) / "kept.tif")
            np.testing.assert_array_equal(StoredSurface(Path(folder) / "kept.tif").read_all(), whole)
        rng = np.random.default_rng(1)
        for _ in range(8):
            window = Window(int(rng.integers(-4, 50)), int(rng.integers(-4, 60)), 14, 12)
            part = surface.read(window)
            for (r, c), value in np.ndenumerate(part):
                row, col = window.row + r, window.col + c
                held = 0 <= row < GRID.rows and 0 <= col < GRID.cols
                np.testing.assert_equal(value, whole[row, col] if held else np.float32(np.nan))

    def test_cells_whose_centre_lies_within(self) -> None:
        np.testing.assert_array_equal(inside([RING], GRID) > 0, within())
        both = inside([RING, shapely.box(1_060, 1_900, 1_200, 1_950)], GRID)
        self.assertEqual(set(np.unique(both).tolist()), {0, 1, 2})
        self.assertFalse(inside([], GRID).any())
        self.assertFalse(inside([shapely.box(0, 0, 5, 5)], GRID).any())

    def test_a_centre_on_an_edge_is_on_one_side_only(self) -> None:
        west, east = shapely.box(1_001, 1_881, 1_051, 1_999), shapely.box(1_051, 1_881, 1_139, 1_999)
        left, right = (inside([one], GRID) > 0 for one in (west, east))
        self.assertFalse((left & right).any())
        self.assertEqual(int((left | right).sum()), 59 * 69)

    def test_polygons_of_all_kinds(self) -> None:
        bow = shapely.Polygon([(0, 0), (4, 4), (4, 0), (0, 4)])
        shapes = [
            shapely.MultiPolygon([RING, shapely.box(0, 0, 1, 1)]),
            bow,
            shapely.Point(1, 1),
            shapely.LineString([(0, 0), (1, 1)]),
        ]
        found = polygons_of([Features("EPSG:32741", np.array(shapes, dtype=object), {})], "EPSG:32741")
        self.assertEqual(len(found), 4, "a bow is two triangles")
        self.assertTrue(all(shape.is_valid for shape in found))

    def test_a_mask_empties_what_lies_outside(self) -> None:
        surface = Masked(tilted(), [RING])
        np.testing.assert_array_equal(np.isfinite(surface.read_all()), within())
        np.testing.assert_array_equal(surface.read_all()[within()], tilted().read_all()[within()])
        self.assertEqual((surface.unit, surface.vertical_datum), ("m", "Sundrel mean sea level"))
        self.same_stored(surface)

    def test_nothing_is_made_outside_a_mask(self) -> None:
        held = tilted()
        with mock.patch.object(held, "read", side_effect=AssertionError("read")):
            self.assertTrue(np.isnan(Masked(held, [RING]).read(Window(50, 0, 10, 10))).all())

    def test_a_level_polygon(self) -> None:
        surface = Flattened(tilted(), [RING], lambda: [33.5])
        expected = np.where(within(), np.float32(33.5), tilted().read_all())
        np.testing.assert_array_equal(surface.read_all(), expected)
        self.same_stored(surface)
        unknown = Flattened(tilted(), [RING], lambda: [np.nan])
        np.testing.assert_array_equal(unknown.read_all(), tilted().read_all())

    def test_levels_are_asked_for_once_and_only_where_needed(self) -> None:
        asked = mock.Mock(return_value=[1.0])
        surface = Flattened(tilted(), [RING], asked)
        surface.read(Window(50, 0, 5, 5))
        asked.assert_not_called()
        surface.read_all()
        surface.read_all()
        asked.assert_called_once()

    def test_the_level_of_a_rim(self) -> None:
        lake = shapely.box(1_040, 1_920, 1_080, 1_960)
        (level,) = rim_levels(tilted(), [lake])
        x, y = shapely.get_coordinates(shapely.segmentize(lake.exterior, 0.5)).T
        self.assertAlmostEqual(level, float(np.percentile(0.1 * (x - 1_000) + 0.05 * (y - 2_000) + 20, 10)), delta=0.1)
        self.assertTrue(np.isnan(rim_levels(tilted(), [shapely.box(0, 0, 9, 9)])[0]))

    def test_lines_are_burned_in(self) -> None:
        pieces = np.array(
            [[1_010.0, 1_985.4, 50.0, 1_100.0, 1_985.4, 59.0], [990.0, 1_950.4, 1.0, 1_005.0, 1_950.4, 1.0]]
        )
        surface = Burned(tilted(), pieces)
        found, before = surface.read_all(), tilted().read_all()
        row = int(GRID.row_of(1_985.4).round())
        cols = slice(6, 49)
        np.testing.assert_allclose(found[row, cols], 50 + 0.1 * (GRID.x_of(np.arange(70))[cols] - 1_010), atol=0.06)
        changed = found != before
        self.assertEqual(set(np.flatnonzero(changed.any(1)).tolist()), {row, int(GRID.row_of(1_950.4).round())})
        self.same_stored(surface)
        means = found.reshape(30, 2, 35, 2).mean((1, 3))
        np.testing.assert_allclose(surface.read(Window(0, 0, 30, 35), 1), means, rtol=1e-6)

    def test_whole_numbers(self) -> None:
        surface = Rounded(Masked(tilted(), [RING]))
        np.testing.assert_array_equal(surface.read_all()[within()], np.rint(tilted().read_all())[within()])
        self.same_stored(surface)
