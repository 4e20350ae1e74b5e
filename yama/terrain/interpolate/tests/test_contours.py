"""Contours to a surface: forms whose truth is known, streams, lakes, hollows, parts and their seams."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import contourpy
import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.interpolate import contours as module
from yama.terrain.interpolate.contour_sheet import Sheet
from yama.terrain.interpolate.contour_tin import contour_facets
from yama.terrain.interpolate.contours import ContourSpline
from yama.terrain.interpolate.stream_lines import falling
from yama.terrain.surface import StoredSurface, store

GRID = Grid("EPSG:32741", 500_000.0, 5_400_000.0, 2.0, 2.0, 300, 320)


def places() -> tuple[FloatArray, FloatArray]:
    """x and y of all cells."""
    x, y = np.meshgrid(GRID.x_of(np.arange(GRID.cols)), GRID.y_of(np.arange(GRID.rows)))
    return x, y


def lines_of(heights: FloatArray, interval: float) -> tuple[list[FloatArray], FloatArray]:
    """Contours of cells as a map would draw them."""
    generator: Any = contourpy.contour_generator(z=heights)
    lines, levels = [], []
    for level in np.arange(np.ceil(heights.min() / interval) * interval, heights.max(), interval):
        for line in generator.lines(float(level)):
            if len(line) > 3:
                lines.append(np.column_stack([GRID.x_of(line[:, 0]), GRID.y_of(line[:, 1])]))
                levels.append(float(level))
    return lines, np.array(levels)


def valley() -> FloatArray:
    """A valley that falls to the south between two spurs: contours bend round it in a V."""
    x, y = places()
    return 60 + (y - 5_399_700) * 0.1 + np.abs(x - 500_320) * 0.2


class ContourSplineTest(unittest.TestCase):
    def test_meets_a_slope_exactly(self) -> None:
        x, y = places()
        truth = 100 + (x - 500_000) * 0.2 - (y - 5_400_000) * 0.1
        found = ContourSpline(Sheet(*lines_of(truth, 10.0)), GRID, tension=0.0).read_all()
        np.testing.assert_allclose(found, truth, atol=0.02)

    def test_follows_a_dome_and_rises_over_its_highest_contour(self) -> None:
        x, y = places()
        truth = 94 - ((x - 500_320) ** 2 + (y - 5_399_700) ** 2) / 4_000
        found = ContourSpline(Sheet(*lines_of(truth, 10.0)), GRID, tension=0.05).read_all()
        inside = truth > 40
        self.assertLess(np.abs(found - truth)[inside].max(), 0.8)
        self.assertGreater(found.max(), 93.0)

    def test_makes_no_terraces(self) -> None:
        truth = valley()
        found = ContourSpline(Sheet(*lines_of(truth, 10.0)), GRID).read_all()

        def on_lines(cells: FloatArray) -> float:
            return float((np.abs(cells / 10 - np.round(cells / 10)) < 0.02).mean())

        self.assertLess(on_lines(found), 1.5 * on_lines(truth))

    def test_honours_spot_heights_off_the_middle_of_cells(self) -> None:
        truth = valley()
        spots = np.array([[500_101.7, 5_399_803.4, 0.0], [500_500.2, 5_399_655.9, 0.0]])
        spots[:, 2] = 60 + (spots[:, 1] - 5_399_700) * 0.1 + np.abs(spots[:, 0] - 500_320) * 0.2 + 1.5
        surface = ContourSpline(Sheet(*lines_of(truth, 10.0), spots=spots), GRID)
        row, col = int(round(float(GRID.row_of(spots[0, 1])))), int(round(float(GRID.col_of(spots[0, 0]))))
        moved = spots[0, 2] - (spots[0, 1] - GRID.y_of(row)) * 0.1 + (spots[0, 0] - GRID.x_of(col)) * 0.2
        self.assertAlmostEqual(float(surface.read_all()[row, col]), float(moved), delta=0.35)

    def test_a_stream_cuts_to_the_bottom_of_its_valley(self) -> None:
        truth = valley()
        sheet = Sheet(*lines_of(truth, 10.0))
        stream = np.array([[500_320.0, y] for y in np.arange(5_399_430.0, 5_399_980.0, 30.0)])  # drawn uphill
        bare = ContourSpline(sheet, GRID, drained=False).read_all()
        cut = ContourSpline(Sheet(sheet.contours, sheet.heights, streams=[stream]), GRID, drained=False).read_all()
        col = int(np.argmin(truth[150]))
        bed, before, bottom = (cells[40:-40, col] for cells in (cut, bare, truth))
        self.assertLess(np.abs(bed - bottom).mean(), 0.6 * np.abs(before - bottom).mean())
        self.assertTrue((np.diff(bed) <= 0.02).all(), "it falls from north to south")

    def test_a_lake_is_level_at_its_rim(self) -> None:
        truth = valley()
        lake = shapely.Point(500_320, 5_399_600).buffer(60)
        found = ContourSpline(Sheet(*lines_of(truth, 10.0), lakes=[lake]).clear(), GRID).read_all()
        inside = shapely.contains_xy(lake, *places())
        self.assertEqual(np.unique(found[inside]).size, 1)
        self.assertLess(abs(float(found[inside][0]) - 50), 6)

    def test_opens_hollows_no_contour_asks_for_and_names_the_others(self) -> None:
        truth = valley() + 6 * np.exp(-(((places()[1] - 5_399_700) / 25) ** 2))  # a dam within one interval
        sheet = Sheet(*lines_of(truth, 20.0))
        bare = ContourSpline(sheet, GRID, drained=False)
        open_ = ContourSpline(sheet, GRID, drained=True)
        self.assertEqual((bare.opened, bare.left), (0, []))
        self.assertEqual(open_.left, [])
        x, y = places()
        bowl = np.hypot(x - 500_320, y - 5_399_700) * 0.2 + 5
        kept = ContourSpline(Sheet(*lines_of(bowl, 10.0)), GRID, drained=True)
        self.assertEqual(len(kept.left), 1)
        self.assertLess(np.hypot(kept.left[0].x - 500_320, kept.left[0].y - 5_399_700), 20)
        self.assertGreater(kept.left[0].depth, 20)

    def test_the_sea_is_level_where_a_coast_is_given(self) -> None:
        x, _ = places()
        truth = (x - 500_200) * 0.15
        lines, heights = lines_of(truth, 10.0)
        coast = np.array([[500_200.0, 5_399_300.0], [500_200.0, 5_400_100.0]])
        kept = heights > 0
        sheet = Sheet([line for line, keep in zip(lines, kept, strict=True) if keep], heights[kept], coast=[coast])
        found = ContourSpline(sheet, GRID).read_all()
        self.assertEqual(float(found[:, :60].max()), 0.0)
        np.testing.assert_allclose(found[:, 120:280], truth[:, 120:280], atol=0.3)

    def test_cells_out_of_reach_are_empty(self) -> None:
        line = np.array([[500_200.0, 5_399_500.0], [500_400.0, 5_399_500.0]])
        upper = line.copy()
        upper[:, 1] += 40
        sheet = Sheet([line, upper], np.array([10.0, 20.0]))
        found = ContourSpline(sheet, GRID, reach=50.0).read_all()
        x, y = places()
        away = shapely.distance(shapely.multilinestrings([shapely.linestrings(line), shapely.linestrings(upper)]),
                                shapely.points(x, y))  # fmt: skip
        self.assertTrue(np.isfinite(found[away < 46]).all())
        self.assertTrue(np.isnan(found[away > 54]).all())

    def test_smoothing_takes_out_small_bends(self) -> None:
        x = np.arange(500_000.0, 500_640.0, 4.0)
        lines = [np.column_stack([x, y + 6 * np.sin((x - 500_000) / 5)]) for y in (5_399_500.0, 5_399_700.0)]
        sheet = Sheet(lines, np.array([10.0, 20.0]))
        row = int(round(float(GRID.row_of(5_399_500.0))))
        rough = ContourSpline(sheet, GRID, drained=False).read_all()[row, 40:-40]
        fine = ContourSpline(sheet, GRID, smoothing=30.0, drained=False).read_all()[row, 40:-40]
        bends = [float(np.abs(np.diff(cells.astype(np.float64), 2)).mean()) for cells in (fine, rough)]
        self.assertLess(bends[0], 0.2 * bends[1])

    def test_says_what_is_missing(self) -> None:
        far = Sheet([np.array([[0.0, 0.0], [10.0, 10.0]]), np.array([[0.0, 5.0], [9.0, 10.0]])], np.array([10.0, 20.0]))
        with self.assertRaisesRegex(InputError, "No contour lies within the frame"):
            ContourSpline(far, GRID).read_all()


class PartsTest(unittest.TestCase):
    """The grid is solved whole on coarse cells and in parts on fine ones."""

    def setUp(self) -> None:
        for name, value in (("_WHOLE_CELLS", 8_000), ("_PART", 100), ("_HALO", 32)):
            patch = mock.patch.object(module, name, value)
            patch.start()
            self.addCleanup(patch.stop)
        x, y = places()
        self.truth = 80 + 30 * np.sin((x - 500_000) / 90) * np.cos((y - 5_400_000) / 70) + (x - 500_000) * 0.05
        self.sheet = Sheet(*lines_of(self.truth, 10.0))

    def test_parts_meet_without_a_step(self) -> None:
        found = ContourSpline(self.sheet, GRID).read_all().astype(np.float64)
        self.assertEqual(found.shape, (300, 320))
        bend = np.abs(np.diff(found, 3, axis=1))
        at = [99, 199]  # third differences over the seams begin three cells before them
        seam = max(float(np.percentile(bend[:, c - 2 : c + 1], 99)) for c in at)
        self.assertLess(seam, 0.01 * self.sheet.interval)
        self.assertLess(float(np.abs(found - self.truth)[20:-20, 20:-20].mean()), 1.0)

    def test_stored_is_what_is_live_however_it_is_read(self) -> None:
        surface = ContourSpline(self.sheet, GRID, reach=60.0)
        with tempfile.TemporaryDirectory() as folder:
            store(surface, Path(folder) / "kept.tif")
            stored = StoredSurface(Path(folder) / "kept.tif").read_all()
        np.testing.assert_array_equal(stored, surface.read_all())
        piece = ContourSpline(self.sheet, GRID, reach=60.0).read(Window(70, 90, 60, 130))
        np.testing.assert_array_equal(piece, stored[70:130, 90:220])

    def test_coarser_levels_are_close_to_the_cells_below(self) -> None:
        surface = ContourSpline(self.sheet, GRID)
        whole = surface.read_all()
        for level in (1, 2, 3, 4):
            step = 2**level
            grid = GRID.at_level(level)
            rows, cols = GRID.rows // step, GRID.cols // step
            means = whole[: rows * step, : cols * step].reshape(rows, step, cols, step).mean((1, 3))
            found = surface.read(grid.whole, level)[:rows, :cols]
            self.assertLess(float(np.abs(found - means)[2:-2, 2:-2].mean()), 0.8, level)


class StreamLinesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.contours = [np.array([[x, -50.0], [x, 50.0]]) for x in (10.0, 20.0, 30.0, 40.0)]

    def _fall(self, streams: list[FloatArray], heights: list[float]) -> list[FloatArray]:
        return falling(streams, self.contours, np.array(heights), lambda x, y: 60 - x, 1.0)

    def test_runs_through_every_crossing_and_never_climbs(self) -> None:
        (made,) = self._fall([np.array([[0.0, 0.0], [25.0, 3.0], [50.0, 0.0]])], [50, 40, 30, 20])
        self.assertTrue((np.diff(made[:, 2]) <= 0).all())
        for x, height in ((10.0, 50), (20.0, 40), (30.0, 30), (40.0, 20)):
            self.assertAlmostEqual(float(made[np.argmin(np.abs(made[:, 0] - x)), 2]), height)

    def test_a_stream_drawn_uphill_is_turned(self) -> None:
        (made,) = self._fall([np.array([[50.0, 0.0], [0.0, 0.0]])], [50, 40, 30, 20])
        self.assertLess(made[0, 0], made[-1, 0])

    def test_a_contour_that_does_not_fit_is_passed_over(self) -> None:
        (made,) = self._fall([np.array([[0.0, 0.0], [50.0, 0.0]])], [50, 40, 90, 20])
        self.assertTrue((np.diff(made[:, 2]) <= 0).all())
        self.assertAlmostEqual(float(made[np.argmin(np.abs(made[:, 0] - 20)), 2]), 40)
        self.assertLess(float(made[:, 2].max()), 65)

    def test_a_tributary_meets_the_stream_it_joins(self) -> None:
        main, side = np.array([[0.0, 0.0], [25.0, 0.0], [50.0, 0.0]]), np.array([[5.0, 30.0], [25.0, 0.3]])
        made = self._fall([side, main], [50, 40, 30, 20])
        at = made[1][np.argmin(np.abs(made[1][:, 0] - 25)), 2]
        self.assertAlmostEqual(float(made[0][-1, 2]), float(at))

    def test_streams_in_a_ring_end(self) -> None:
        ring = [np.array([[0.0, 0.0], [25.0, 20.0]]), np.array([[25.0, 20.0], [0.0, 0.0]])]
        self.assertEqual(len(self._fall(ring, [50, 40, 30, 20])), 2)

    def test_a_stream_off_the_surface_is_left_out(self) -> None:
        stream = np.array([[0.0, 0.0], [50.0, 0.0]])
        self.assertEqual(
            falling([stream], self.contours, np.arange(4.0), lambda x, y: np.full(len(x), np.nan), 1.0), []
        )


class ContourFacetsTest(unittest.TestCase):
    def flat(self, cells: FloatArray) -> float:
        steep = np.hypot(*np.gradient(cells))
        return float((steep[20:-20, 20:-20] < 1e-6).mean())

    def test_no_facet_is_flat_in_a_valley(self) -> None:
        truth = valley()
        sheet = Sheet(*lines_of(truth, 10.0))
        found = contour_facets(sheet, GRID).read_all().astype(np.float64)
        known = np.isfinite(found)
        self.assertLess(self.flat(np.where(known, found, truth)), 0.01)
        col = int(np.argmin(truth[150]))
        bed = found[60:-60, col]
        self.assertTrue((np.diff(bed) < 0.05).all(), "its bottom falls all the way")
        self.assertLess(float(np.abs(bed - truth[60:-60, col]).max()), 2.5)

    def test_a_summit_rises_and_a_hollow_sinks_by_less_than_an_interval(self) -> None:
        x, y = places()
        cone = 93 - np.hypot(x - 500_320, y - 5_399_700) * 0.3
        top = contour_facets(Sheet(*lines_of(cone, 10.0)), GRID).read_all()
        self.assertTrue(90.5 < np.nanmax(top) < 95)
        bowl = contour_facets(Sheet(*lines_of(-cone, 10.0)), GRID).read_all()
        self.assertTrue(-95 < np.nanmin(bowl) < -90.5)

    def test_a_lake_stays_flat(self) -> None:
        truth = valley()
        lake = shapely.Point(500_320, 5_399_600).buffer(50)
        found = contour_facets(Sheet(*lines_of(truth, 10.0), lakes=[lake]).clear(), GRID).read_all()
        inside = shapely.contains_xy(lake.buffer(-25), *places())
        self.assertLess(float(np.ptp(found[inside])), 1e-3)

    def test_heights_stay_between_contours(self) -> None:
        truth = valley()
        lines, heights = lines_of(truth, 10.0)
        found = contour_facets(Sheet(lines, heights), GRID).read_all()
        known = np.isfinite(found)
        self.assertLess(float(np.abs(found - truth)[known].max()), 10.0)

    def test_without_contours_it_says_so(self) -> None:
        with self.assertRaisesRegex(InputError, "no contours"):
            contour_facets(Sheet([], np.empty(0)), GRID)
