"""Gridding clouds as an operation: presets of a technician, findings both ways, several clouds, recipe and command line."""

import json
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO

import numpy as np
import shapely

from yama.terrain import operations
from yama.terrain.cli import main
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import vector
from yama.terrain.frame import Frame
from yama.terrain.interpolate.tests.test_binning import GRID, CloudTest
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import StoredSurface
from yama.terrain.tests.test_editing import LINE, features

FRAME = Frame(GRID, "m", "Sundrel mean sea level")


class GridCloudTest(CloudTest):
    def gridded(self, clouds, **params):
        operation = operations.find("grid_cloud")
        taken = {"clouds": clouds}
        parsed = operations.parse_params(operation, params)
        found = {finding.code: finding for finding in task_for(operation.name, taken, FRAME, parsed).findings}
        return operation, parsed, found, lambda: first_of(task_for(operation.name, taken, FRAME, parsed))

    def test_ground_of_several_clouds_on_the_frame(self):
        clouds = [self.cloud("a")[0], self.cloud("b", seed=2, west=448_060.0)[0]]
        operation, params, found, run = self.gridded(clouds, gap=12)
        surface = run()
        self.assertEqual((surface.grid, surface.unit, surface.vertical_datum), (GRID, "m", "Sundrel mean sea level"))
        self.assertEqual((operation.outputs_for(params)["surface"].quantity, found), ("height", {}))
        filled = np.isfinite(surface.read_all())
        self.assertTrue(filled[4:-4, 4:-4].all())
        self.assertGreater(filled.mean(), 0.95)

    def test_a_rectangle_is_the_same_cells_and_no_others(self):
        cloud = self.cloud("a")[0]
        whole = self.gridded([cloud], gap=6)[3]()
        west, south, east, north = GRID.bounds
        box = [west + 11, south + 13, west + 41, south + 33]
        part = self.gridded([cloud], gap=6, bounds=box)[3]()
        row, col = GRID.offset_of(part.grid)
        cells = part.read_all()
        np.testing.assert_array_equal(cells, whole.read_all()[row : row + part.grid.rows, col : col + part.grid.cols])
        self.assertTrue(part.grid.bounds.west <= box[0] < part.grid.bounds.west + part.grid.cell_width)
        found = self.gridded([cloud], gap=6, bounds=[0, 0, 5, 5])[2]
        self.assertIn("outside the frame", found["bounds"].sentence)
        self.assertEqual(self.gridded([cloud], gap=6, bounds=[5, 5, 5, 5])[2]["bounds"].weight, "stop")

    def test_quantities_and_units_follow_the_rule(self):
        cloud = self.cloud("a")[0]
        for rule, quantity, unit in (
            ("count", "count", "points"), ("intensity", "intensity", ""), ("deviation", "spread", "m"), ("median", "height", "m"),
        ):  # fmt: skip
            operation, params, _, run = self.gridded([cloud], rule=rule)
            self.assertEqual((operation.outputs_for(params)["surface"].quantity, run().unit), (quantity, unit))

    def test_findings_both_ways(self):
        near, far = self.cloud("near", count=20_000)[0], self.cloud("far", west=500_000.0)[0]
        thin = self.cloud("thin", count=300)[0]
        for clouds, params, wanted in (
            ([near], {}, set()),
            ([near], {"classes": [2, 7]}, {"noise"}),
            ([near], {"classes": None}, {"noise"}),
            ([near, far], {"gap": 5}, {"beside"}),
            ([far], {}, {"outside"}),
            ([thin], {}, {"sparse"}),
            ([thin], {"cell_size": 20}, set()),
            ([thin], {"rule": "count"}, set()),
            ([near], {"rule": "count", "gap": 4}, {"gap"}),
        ):
            with self.subTest(params=params, wanted=wanted):
                *_, found, run = self.gridded(clouds, **params)
                self.assertEqual(set(found), wanted)
                if any(finding.weight == "stop" for finding in found.values()):
                    with self.assertRaises(InputError):
                        run()
        *_, found, _ = self.gridded([near], classes=[2, 7])
        *_, after, _ = self.gridded([near], **{"classes": [2, 7], **found["noise"].fix.set_params})
        self.assertEqual(after, {})

    def test_impossible_settings_are_named(self):
        for params, words in (
            ({"classes": []}, "at least one class"),
            ({"low": 50, "high": 20}, "below the highest"),
            ({"rule": "guess"}, "rule"),
            ({"gap": -1}, "gap"),
        ):
            with self.subTest(params), self.assertRaisesRegex(InputError, words):
                self.gridded([self.cloud("a", count=50)[0]], **params)

    def test_one_of_a_kind_takes_one(self):
        surface = self.gridded([self.cloud("a")[0]])[3]()
        with self.assertRaisesRegex(InputError, "takes one surface"):
            task_for("slope", {"surface": [surface, surface]}, FRAME)
        with self.assertRaisesRegex(InputError, "needs point clouds"):
            task_for("grid_cloud", {"clouds": []}, FRAME)


class CommandLineTest(CloudTest):
    def run_one(self, *words):
        out, err = StringIO(), StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            status = main([word.replace("@", f"{self.folder}/") for word in words])
        self.assertEqual(status, 0, err.getvalue())

    def test_several_files_for_one_input_and_the_recipe_cooks_them_again(self):
        self.cloud("a"), self.cloud("b", seed=2, west=448_060.0)
        self.run_one("do", "grid_cloud", "--in", "clouds=@a.laz", "--in", "clouds=@b.laz", "--set", "gap=8",
                     "--out", "@ground.tif", "--recipe", "@ground.json")  # fmt: skip
        recipe = json.loads((self.folder / "ground.json").read_text())
        (step,) = recipe["steps"].values()
        self.assertEqual((len(step["inputs"]["clouds"]), len(recipe["files"])), (2, 2))
        self.run_one("cook", "@ground.json", "--out", "@again.tif")
        again, first = StoredSurface(self.folder / "again.tif"), StoredSurface(self.folder / "ground.tif")
        np.testing.assert_array_equal(again.read_all(), first.read_all())
        self.run_one("do", "slope", "--in", "surface=@ground.tif", "--out", "@slope.asc")
        self.assertTrue((self.folder / "slope.asc").read_text().startswith("ncols"))

    def test_edits_are_made_and_cooked_again(self):
        vector.write(features(LINE, LINE, name=["a", "b"]), self.folder / "lines.gpkg")
        edits = json.dumps([{"kind": "remove", "features": [0]}, {"kind": "split", "feature": 1, "vertex": 1}])
        self.run_one("do", "edit_features", "--in", "features=@lines.gpkg", "--set", f"edits={edits}",
                     "--out", "@edited.gpkg", "--recipe", "@edited.json")  # fmt: skip
        self.run_one("cook", "@edited.json", "--out", "@again.geojson")
        for name in ("edited.gpkg", "again.geojson"):
            _, held = vector.look(self.folder / name)
            self.assertEqual(held.attributes["name"], ["b", "b"])


def shapes(made):
    return Features(GRID.crs, np.array(made, dtype=object), {})


class BesideCloudsTest(CloudTest):
    """Breaklines, water and an area, which count more than points."""

    def beside(self, clouds, params, **inputs):
        """Findings by code and the surface, with features beside the clouds."""
        operation = operations.find("grid_cloud")
        taken = {"clouds": clouds, **inputs}
        parsed = operations.parse_params(operation, params)
        return {one.code: one for one in task_for(operation.name, taken, FRAME, parsed).findings}, lambda: first_of(
            task_for(operation.name, taken, FRAME, parsed)
        )

    def test_breaklines_water_and_area_count_more_than_points(self):
        cloud = self.cloud("a", count=20_000)[0]
        line = shapes([shapely.LineString([(448_010, 5_438_051, 99.0), (448_100, 5_438_051, 99.0)])])
        pond = shapes([shapely.box(448_030, 5_438_010, 448_050, 5_438_030)])
        area = shapes([shapely.box(448_000, 5_438_000, 448_080, 5_438_100)])
        found, run = self.beside([cloud], {"gap": 12}, breaklines=[line], water=[pond], area=[area])
        self.assertEqual(found, {})
        cells = run().read_all()
        self.assertTrue(np.isnan(cells[:, 40:]).all() and np.isfinite(cells[5:-5, 5:40]).all())
        row = int(GRID.row_of(5_438_051.0).round())
        np.testing.assert_allclose(cells[row, 6:40], 99.0)
        pond_cells = cells[35:45, 15:25]
        self.assertEqual(np.ptp(pond_cells), 0.0)
        self.assertLess(pond_cells[0, 0], float(np.nanmedian(cells)), "the low part of its rim")

    def test_what_is_beside_is_checked(self):
        cloud = self.cloud("a", count=20_000)[0]
        flat = shapes([shapely.LineString([(448_010, 5_438_051), (448_100, 5_438_051)])])
        away = shapes([shapely.box(0, 0, 9, 9)])
        found, _ = self.beside([cloud], {"gap": 12}, breaklines=[flat], water=[flat], area=[flat])
        self.assertEqual({code: one.weight for code, one in found.items()},
                         {"flat_lines": "caution", "no_water": "caution", "no_area": "stop"})  # fmt: skip
        found, run = self.beside([cloud], {"gap": 12}, area=[away])
        self.assertEqual(set(found), {"area_outside"})
        with self.assertRaisesMessage(InputError, "The area lies outside the frame"):
            run()

    def test_facets_need_a_width(self):
        cloud = self.cloud("a", count=20_000)[0]
        found, run = self.beside([cloud], {"rule": "facets"})
        self.assertEqual(found["facets"].weight, "stop")
        self.assertEqual(found["facets"].fix.set_params, {"gap": 12})
        with self.assertRaises(InputError):
            run()
        self.assertGreater(np.isfinite(self.beside([cloud], {"rule": "facets", "gap": 12})[1]().read_all()).mean(), 0.9)
