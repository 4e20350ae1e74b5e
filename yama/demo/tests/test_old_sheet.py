"""A surface made of the old sheet of Sundrel, against the island it was drawn from."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from yama.demo import sheet as demo_sheet
from yama.demo import waymark
from yama.demo.terrain import COVERS, SEED, island
from yama.terrain.formats import vector
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import FloatArray
from yama.terrain.interpolate.contour_sheet import Sheet, contour_lines, mislabelled
from yama.terrain.operations import find, parse_params
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

OPERATION = find("contour_surface")


class DemoSheetTest(unittest.TestCase):
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
        surface = first_of(task_for(OPERATION.name, self.inputs, self.frame, settings))
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
        found = task_for(OPERATION.name, self.inputs, self.frame, {}).findings
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
        surface = first_of(task_for(OPERATION.name, self.inputs, self.frame, {"reach_limit": 200}))
        told = {finding.code: finding for finding in surface.findings}
        self.assertEqual(set(told), {"opened", "hollows"})
        self.assertIn("cells of 16 m", told["opened"].sentence)
        self.assertTrue(told["hollows"].places)
        undrained = first_of(task_for(OPERATION.name, self.inputs, self.frame, {"drained": False}))
        self.assertEqual(undrained.findings, [])
