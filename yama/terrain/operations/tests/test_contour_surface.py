"""Surface from contours: what is said of good and bad sheets."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.operations import find
from yama.terrain.operations.tests.running import first_of, task_for

FRAME = Frame(Grid("EPSG:32741", 500_000.0, 5_400_000.0, 5.0, 5.0, 120, 120), "m", "")
OPERATION = find("contour_surface")


def sheet(heights: list[Value], lines: list[FloatArray] | None = None, column: str = "elev") -> Features:
    if lines is None:
        lines = [np.array([[500_050.0, y], [500_550.0, y]]) for y in np.linspace(5_399_950, 5_399_450, len(heights))]
    shapes = np.array([shapely.LineString(line) for line in lines], dtype=object)
    return Features("EPSG:32741", shapes, {column: heights})


def codes(features: Features, **params: Any) -> dict[str, str]:
    found = task_for(OPERATION.name, {"contours": features}, FRAME, params).findings
    return {finding.code: finding.weight for finding in found}


class FindingsTest(unittest.TestCase):
    def test_a_good_sheet_has_nothing_against_it(self) -> None:
        self.assertEqual(codes(sheet([10, 20, 30, 40, 50])), {"fine": "note"})
        self.assertEqual(codes(sheet([10, 20, 30, 40, 50]), cell_size=25), {})

    def test_cells_that_hold_several_contours(self) -> None:
        self.assertEqual(codes(sheet([10, 20, 30, 40, 50]), cell_size=100), {"coarse": "caution"})

    def test_stops(self) -> None:
        self.assertEqual(codes(sheet([10, 20], column="name_x1")), {"fine": "note"}, "the only numbers there are")
        self.assertEqual(codes(sheet(["a", "b"])), {"no_height": "stop"})
        self.assertEqual(codes(sheet([10, 20]), height_field="nothing"), {"no_height": "stop"})
        self.assertEqual(codes(sheet([10, 10, 10])), {"one_height": "stop"})
        points = Features("EPSG:32741", np.array([shapely.Point(1, 1)], dtype=object), {"elev": [3.0]})
        self.assertEqual(codes(points), {"no_lines": "stop"})
        far = [line - 400_000 for line in (np.array([[0.0, 0], [9, 9]]), np.array([[0.0, 3], [9, 12]]))]
        self.assertEqual(codes(sheet([10, 20], far)), {"outside": "stop"})
        with self.assertRaisesRegex(InputError, "All contours have the height 10 m"):
            first_of(task_for(OPERATION.name, {"contours": sheet([10, 10])}, FRAME, {}))

    def test_lakes_over_every_contour(self) -> None:
        lake = Features("EPSG:32741", np.array([shapely.box(500_000, 5_399_400, 500_600, 5_400_000)], dtype=object), {})
        with self.assertRaisesRegex(InputError, "Every contour runs through a lake"):
            first_of(task_for(OPERATION.name, {"contours": sheet([10, 20]), "lakes": [lake]}, FRAME, {}))

    def test_lines_without_height_are_counted(self) -> None:
        self.assertEqual(codes(sheet([10, 20, None, 40, 50]))["without"], "caution")

    def test_crossing_and_broken_contours(self) -> None:
        lines = [np.array([[500_050.0, y], [500_550.0, y]]) for y in (5_399_900.0, 5_399_700, 5_399_500)]
        across = np.array([[500_200.0, 5_399_950.0], [500_210.0, 5_399_600.0]])
        self.assertEqual(codes(sheet([10, 20, 30, 40], [*lines, across]))["crossings"], "caution")
        broken = [*lines[:1], lines[1] - [[0, 0], [300, 0]], lines[1] + [[300, 0], [0, 0]], lines[2]]
        found = codes(sheet([10, 20, 20, 30], broken))
        self.assertEqual(found["gaps"], "caution")
        self.assertNotIn("gaps", codes(sheet([10, 20, 20, 30], broken), join_gaps=120))
