"""Surface from contours: what is said of good and bad sheets, and how it comes out on the demo's."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from yama.demo import sheet as demo_sheet
from yama.demo import waymark
from yama.demo.terrain import COVERS, SEED, island
from yama.terrain.errors import InputError
from yama.terrain.features import Features, Value
from yama.terrain.formats import vector
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.interpolate.contour_sheet import Sheet, contour_lines, mislabelled
from yama.terrain.operations import find, parse_params
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

FRAME = Frame(Grid("EPSG:32741", 500_000.0, 5_400_000.0, 5.0, 5.0, 120, 120), "m", "")
OPERATION = find("contour_surface")


def sheet(heights: list[Value], lines: list[FloatArray] | None = None, column: str = "elev") -> Features:
    if lines is None:
        lines = [np.array([[500_050.0, y], [500_550.0, y]]) for y in np.linspace(5_399_950, 5_399_450, len(heights))]
    shapes = np.array([shapely.LineString(line) for line in lines], dtype=object)
    return Features("EPSG:32741", shapes, {column: heights})


def codes(features: Features, **params: Any) -> dict[str, str]:
    found = OPERATION.check({"contours": features}, parse_params(OPERATION, params), FRAME)
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
            OPERATION.run({"contours": sheet([10, 10])}, parse_params(OPERATION, {}), FRAME)

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


class DemoSheetTest(unittest.TestCase):
    """The old sheet of Sundrel against the island it was drawn from."""

    @classmethod
    def setUpClass(cls) -> None:
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        truth = island()
        lines, beside = demo_sheet.make(truth, Path(held.name), SEED + 5)
        reference = waymark.collections(truth, SEED + 30)
        cls.inputs: dict[str, Any] = {
            "contours": vector.look(lines)[1],
            "spots": vector.look(beside, Declared(layer="spots"))[1],
            "streams": [vector.look(beside, Declared(layer="streams"))[1]],
            "lakes": [reference["water"]],
            "coast": reference["coast"],
        }
        cls.frame = Frame(truth.surface.grid.at_level(3), "m", "")
        cls.truth = ArraySurface(truth.heights, truth.surface.grid).read(cls.frame.grid.whole, 3)
        cover = truth.cover[4::8, 4::8]
        qx, qy = truth.places["Dunnock Quarry"]
        x, y = np.meshgrid(*cls.frame.grid.centres(cls.frame.grid.whole))
        land = (cover != COVERS.index("sea")) & (cover != COVERS.index("water"))
        cls.judged = land & (cls.truth > 12) & (np.hypot(x - qx, y - qy) > 300)

    def made(self, **params: Any) -> FloatArray:
        settings = parse_params(OPERATION, {"labels": "as_neighbours", "join_gaps": 250, **params})
        surface = OPERATION.run(self.inputs, settings, self.frame)
        self.assertIsInstance(self.inputs["spots"], Points)
        return np.where(self.judged, surface.read_all(), np.nan).astype(np.float64)

    def judge(self, found: FloatArray) -> tuple[float, float]:
        """RMSE, and the share of cells at the height of a contour as a multiple of the truth's."""
        known = np.isfinite(found)

        def share(cells: FloatArray) -> float:
            return float((np.abs(cells - np.round(cells / 10) * 10) < 0.25).mean())

        errors = (found - self.truth)[known]
        return float(np.sqrt((errors**2).mean())), share(found[known]) / share(self.truth[known])

    def test_faults_are_found(self) -> None:
        found = OPERATION.check(self.inputs, parse_params(OPERATION, {}), self.frame)
        by_code = {finding.code: finding for finding in found}
        lines, heights, _ = contour_lines(self.inputs["contours"].in_crs("EPSG:32741"), "elev")
        wrong = {(float(heights[one.line]), one.height) for one in mislabelled(Sheet(lines, heights))}
        self.assertIn((280.0, 260.0), wrong)
        self.assertEqual(len(by_code["mislabelled"].places), len(wrong))
        gaps = by_code["gaps"]
        self.assertAlmostEqual(len(gaps.places), demo_sheet.FAULTS["broken"], delta=2)

    def test_the_spline_is_near_the_truth_without_terraces(self) -> None:
        rmse, terraces = self.judge(self.made())
        self.assertLess(rmse, 3.6)
        self.assertLess(terraces, 1.5)

    def test_facets_are_near_the_truth_without_terraces(self) -> None:
        rmse, terraces = self.judge(self.made(method="triangulation"))
        self.assertLess(rmse, 3.6)
        self.assertLess(terraces, 1.5)

    def test_what_remains_of_hollows_is_told(self) -> None:
        surface = OPERATION.run(self.inputs, parse_params(OPERATION, {"reach_limit": 200}), self.frame)
        told = {finding.code: finding for finding in OPERATION.found(surface)}
        self.assertEqual(set(told), {"opened", "hollows"})
        self.assertIn("cells of 16 m", told["opened"].sentence)
        self.assertTrue(told["hollows"].places)
        undrained = OPERATION.run(self.inputs, parse_params(OPERATION, {"drained": False}), self.frame)
        self.assertEqual(OPERATION.found(undrained), [])
