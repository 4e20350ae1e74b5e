"""What a contour map says, and what cannot be right about it."""

from __future__ import annotations

import unittest

import numpy as np
import shapely

from yama.terrain.features import Features
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.contour_sheet import (
    Sheet,
    contour_lines,
    crossings,
    gaps,
    height_fields,
    joined,
    likely_height_field,
    mislabelled,
    with_heights,
)


def rings(*radii: float, step: float = 2.0) -> list[FloatArray]:
    made = []
    for radius in radii:
        turn = np.linspace(0, 2 * np.pi, max(int(2 * np.pi * radius / step), 12))
        made.append(np.column_stack([radius * np.cos(turn), radius * np.sin(turn)]))
        made[-1][-1] = made[-1][0]
    return made


SHEET = Sheet(rings(200, 160, 120, 80, 40), np.array([10.0, 20, 30, 40, 50]))


class ReadingTest(unittest.TestCase):
    def test_spacing_and_interval(self) -> None:
        self.assertEqual(SHEET.interval, 10.0)
        self.assertAlmostEqual(SHEET.spacing, 40, delta=16)
        self.assertEqual(Sheet(SHEET.contours, np.full(5, 10.0)).interval, 0.0)

    def test_height_fields_by_name_and_by_kind(self) -> None:
        shapes = np.array([shapely.LineString([(0, 0), (1, 1)])], dtype=object)
        many = Features("EPSG:32741", shapes, {"id": [4], "ELEV_M": [10.0], "note": ["x"]})
        self.assertEqual(height_fields(many), ["id", "ELEV_M"])
        self.assertEqual(likely_height_field(many), "ELEV_M")
        self.assertEqual(likely_height_field(Features("EPSG:32741", shapes, {"c": [10.0]})), "c")
        self.assertIsNone(likely_height_field(Features("EPSG:32741", shapes, {"c": [10.0], "d": [1.0]})))
        high = Features("EPSG:32741", shapely.force_3d(shapes, 7.0), {})
        self.assertEqual(likely_height_field(high), "z")
        self.assertEqual(contour_lines(high, "z")[1].tolist(), [7.0])

    def test_lines_without_height_and_repeated_vertices(self) -> None:
        shapes = np.array([
            shapely.MultiLineString([[(0, 0), (0, 0), (4, 0)], [(9, 9), (9, 9)]]),
            shapely.Polygon([(0, 0), (5, 0), (5, 5)]), shapely.Point(1, 1), shapely.LineString([(1, 1), (2, 2)]),
        ], dtype=object)  # fmt: skip
        lines, heights, without = contour_lines(Features("EPSG:32741", shapes, {"z": [10.0, 20.0, 30.0, None]}), "z")
        self.assertEqual([len(line) for line in lines], [2, 4])
        self.assertEqual(heights.tolist(), [10.0, 20.0])
        self.assertEqual(without, 1)


class FaultsTest(unittest.TestCase):
    def test_a_wrong_label_is_found_with_the_height_that_fits(self) -> None:
        for wrong in (2, 3):
            heights = SHEET.heights.copy()
            heights[wrong] += 20
            (found,) = mislabelled(Sheet(SHEET.contours, heights))
            self.assertEqual((found.line, found.height), (wrong, SHEET.heights[wrong]))
            np.testing.assert_array_equal(with_heights(Sheet(SHEET.contours, heights), [found]), SHEET.heights)

    def test_right_labels_are_not_suspected(self) -> None:
        self.assertEqual(mislabelled(SHEET), [])
        self.assertEqual(mislabelled(Sheet(SHEET.contours, np.full(5, 3.0))), [])

    def test_a_gap_is_found_and_joined(self) -> None:
        broken = [*SHEET.contours]
        ring = broken[1]
        broken[1] = ring[30:]
        broken.append(ring[:18])
        sheet = Sheet(broken, np.append(SHEET.heights, 20.0))
        found, loose = gaps(sheet)
        self.assertEqual(len(found), 1, "where a ring was cut into two pieces that touch is no gap")
        self.assertEqual(len(loose), 0)
        self.assertAlmostEqual(found[0].width, float(np.hypot(*(ring[30] - ring[17]))), places=6)
        ((piece, height),) = joined(sheet, 40)
        self.assertEqual(height, 20.0)
        self.assertCountEqual(piece.tolist(), [ring[30].tolist(), ring[17].tolist()])
        self.assertEqual(joined(sheet, 5), [])

    def test_a_loose_end_that_faces_nothing(self) -> None:
        alone = np.array([[-100.0, 3.0], [-60.0, 3.0]])
        found, loose = gaps(Sheet([*SHEET.contours, alone], np.append(SHEET.heights, 25.0)))
        self.assertEqual(found, [])
        self.assertEqual(len(loose), 2)

    def test_ends_at_the_edge_of_the_sheet_are_no_fault(self) -> None:
        lines = [np.array([[0.0, y], [100.0, y]]) for y in (0.0, 50.0, 100.0)]
        found, loose = gaps(Sheet(lines, np.array([10.0, 20, 30])))
        self.assertEqual((found, len(loose)), ([], 0))

    def test_crossing_lines_of_different_heights(self) -> None:
        across = np.array([[-250.0, 1.0], [250.0, 1.0]])
        self.assertEqual(len(crossings(Sheet([SHEET.contours[0], across], np.array([10.0, 20])))), 2)
        self.assertEqual(crossings(Sheet([SHEET.contours[0], across], np.array([10.0, 10]))), [])
        self.assertEqual(crossings(SHEET), [])
