"""The command line, as scripts use it: results, messages, exit status."""

import contextlib
import io
import json
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import laspy
import numpy as np
from django.test import SimpleTestCase

from yama.terrain import operations, recipe, table
from yama.terrain.cli import main
from yama.terrain.formats import text_grid
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, StoredSurface, store


class CommandLineTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        rng = np.random.default_rng(1)
        x, y = rng.uniform(448_000, 448_200, 60), rng.uniform(5_438_000, 5_438_200, 60)
        rows = [f"{a:.2f},{b:.2f},{0.1 * (a - 448_000):.3f},ground" for a, b in zip(x, y, strict=True)]
        (self.folder / "points.csv").write_text("x,y,z,code\n" + "\n".join(rows) + "\n")
        grid = Grid("EPSG:32741", 448_000, 5_438_200, 4, 4, 50, 50)
        (self.folder / "frame.json").write_text(json.dumps({"grid": grid.to_dict(), "unit": "m", "vertical_datum": ""}))

    def run_one(self, *words):
        """Exit status, standard output and standard error; @name stands for a file in the folder."""
        out, err = io.StringIO(), io.StringIO()
        arguments = [word.replace("@", f"{self.folder}/") for word in words]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                status = main(arguments)
            except SystemExit as stopped:
                status = stopped.code
        return status, out.getvalue(), err.getvalue()

    def build(self, name="tin.tif", *more):
        return self.run_one(
            "do", "interpolate_points", "--in", "points=@points.csv", "--crs", "EPSG:32741", "--frame", "@frame.json",
            "--set", "reach_limit=40", "--out", f"@{name}", *more,
        )  # fmt: skip

    def test_ops_lists_every_operation_with_its_schema(self):
        status, out, _ = self.run_one("ops", "--json")
        self.assertEqual(status, 0)
        names = {entry["name"] for entry in json.loads(out)}
        self.assertTrue({"interpolate_points", "difference", "slope", "aspect", "hillshade", "scorecard"} <= names)
        self.assertIn("--set power=2.0", self.run_one("ops")[1])

    def test_inspect(self):
        status, out, _ = self.run_one("inspect", "@points.csv", "--json", "--crs", "EPSG:32741")
        self.assertEqual((status, json.loads(out)["rows"]), (0, 60))
        (self.folder / "bad.csv").write_text("x,y\n1,2\n3,4\n5,6\n")
        status, out, err = self.run_one("inspect", "@bad.csv", "--crs", "EPSG:32741")
        self.assertEqual(status, 1)
        self.assertIn("no height column", out)

    def test_do_then_judge_then_subtract(self):
        status, _, err = self.build()
        self.assertEqual(status, 0, err)
        surface = StoredSurface(self.folder / "tin.tif")
        self.assertEqual(surface.grid.cell_width, 4)
        status, *_ = self.run_one("do", "scorecard", "--in", "surfaces=@tin.tif", "--in", "checkpoints=@points.csv",
                                  "--crs", "EPSG:32741", "--out", "@figures.json")  # fmt: skip
        self.assertEqual(status, 0)
        figures = table.read(self.folder / "figures.json")
        self.assertLess(figures.column("rmse")[0], 0.05)
        status, *_ = self.run_one(
            "do", "difference", "--in", "first=@tin.tif", "--in", "second=@tin.tif", "--out", "@d.tif"
        )
        self.assertEqual(status, 0)
        self.assertEqual(np.nanmax(np.abs(StoredSurface(self.folder / "d.tif").read_all())), 0)

    def test_nothing_is_overwritten(self):
        self.build()
        before = (self.folder / "tin.tif").read_bytes()
        status, _, err = self.build()
        self.assertEqual(status, 1)
        self.assertIn("not overwritten", err)
        self.assertEqual((self.folder / "tin.tif").read_bytes(), before)

    def test_a_recipe_cooks_the_same_cells_again(self):
        self.build("tin.tif", "--recipe", "@tin.json")
        status, _, err = self.run_one("cook", "@tin.json", "--out", "@again.tif")
        self.assertEqual(status, 0, err)
        np.testing.assert_array_equal(
            StoredSurface(self.folder / "tin.tif").read_all(), StoredSurface(self.folder / "again.tif").read_all()
        )

    def test_a_recipe_knows_its_files_and_its_own_hand(self):
        self.build("tin.tif", "--recipe", "@tin.json")
        recipe = json.loads((self.folder / "tin.json").read_text())
        (key,) = recipe["steps"]
        recipe["steps"][key]["params"]["reach_limit"] = 10
        (self.folder / "forged.json").write_text(json.dumps(recipe))
        self.assertIn("no longer matches", self.run_one("cook", "@forged.json", "--out", "@x.tif")[2])
        with (self.folder / "points.csv").open("a") as file:
            file.write("448001,5438001,1,ground\n")
        self.assertIn("its contents differ", self.run_one("cook", "@tin.json", "--out", "@x.tif")[2])
        (self.folder / "points.csv").unlink()
        status, _, err = self.run_one("cook", "@tin.json", "--out", "@x.tif")
        self.assertEqual(status, 1)
        self.assertIn("The recipe needs points.csv", err)
        self.assertFalse((self.folder / "x.tif").exists())

    def test_wrong_words_and_missing_files(self):
        self.assertEqual(self.run_one("do")[0], 2)
        self.assertEqual(self.run_one("do", "slope", "--in", "nonsense", "--out", "@x.tif")[0], 2)
        status, _, err = self.run_one("do", "slope", "--in", "surface=@missing.tif", "--out", "@x.tif")
        self.assertEqual(status, 1)
        self.assertIn("missing.tif", err)
        status, _, err = self.build("x.tif", "--set", "power=-1")
        self.assertEqual(status, 1)
        self.assertIn("power", err)

    def test_a_mosaic_without_a_frame_covers_every_input(self):
        for name, west in (("a", 448_000), ("b", 448_160)):
            grid = Grid("EPSG:32741", west, 5_438_200, 4, 4, 50, 50)
            store(ArraySurface(np.full((50, 50), 7.0), grid), self.folder / f"{name}.tif")
        status, _, err = self.run_one(
            "do", "mosaic", "--in", "surfaces=@a.tif", "--in", "surfaces=@b.tif", "--out", "@all.tif"
        )
        self.assertEqual(status, 0, err)
        self.assertIn("over all 2 of them", err)
        made = StoredSurface(self.folder / "all.tif")
        self.assertEqual((made.grid.cols, made.grid.rows, made.grid.west), (90, 50, 448_000))
        self.assertEqual(float(np.isnan(made.read_all()).sum()), 0)

    def test_findings_of_the_files_are_said_and_questions_name_their_answers(self):
        with (self.folder / "points.csv").open("a") as file:
            file.write("448100,5438100,-9999,ground\n")
        status, _, err = self.build("void.tif")
        self.assertEqual(status, 0)
        self.assertIn("has the height -9999", err)
        self.assertIn("(--declare nodata=-9999.0)", err)
        self.assertEqual(self.build("mended.tif", "--declare", "nodata=-9999")[0], 0)
        self.assertGreater(float(np.nanmin(StoredSurface(self.folder / "mended.tif").read_all())), -1)
        grid = Grid("EPSG:32741", 448_000, 5_438_200, 4, 4, 50, 50)
        text_grid.write_ascii(ArraySurface(np.full((50, 50), 7.0), grid), self.folder / "a.asc")
        (self.folder / "a.prj").unlink(missing_ok=True)
        status, out, err = self.run_one("inspect", "@a.asc")
        self.assertEqual(status, 1)
        self.assertIn("--declare crs=EPSG:CODE", err)

    def test_ops_of_one_operation_says_what_each_parameter_may_be(self):
        status, out, _ = self.run_one("ops", "interpolate_points")
        self.assertIn("--out FILE (surface) --also uncertainty=FILE (surface)", out)
        self.assertIn("--set power=2.0  number above 0 to 20; with method inverse_distance only", out)
        self.assertEqual(status, 0)
        self.assertIn("triangulation | natural_neighbour | inverse_distance", out)
        self.assertIn("number above 0 to 20", out)
        self.assertRegex(out, r"--set reach_limit=null  number above 0, in m")
        self.assertNotIn("contour_surface", out)
        self.assertEqual(self.run_one("ops", "magic")[0], 1)

    def test_inputs_that_are_missing_or_unknown_are_named(self):
        for words, said in (
            (("--in", "wrong=@points.csv"), "takes no input 'wrong'; it takes points"), ((), "needs points (input 'points')"),
        ):  # fmt: skip
            status, _, err = self.run_one("do", "interpolate_points", *words, "--crs", "EPSG:32741", "--out", "@x.tif")
            self.assertEqual(status, 1)
            self.assertIn(said, err)

    def test_what_stops_is_said_once(self):
        (self.folder / "flat.csv").write_text("x,y\n448000,5438000\n448100,5438000\n448000,5438100\n")
        status, _, err = self.run_one(
            "do", "interpolate_points", "--in", "points=@flat.csv", "--crs", "EPSG:32741", "--out", "@x.tif"
        )
        self.assertEqual((status, err.count("has no height column")), (1, 1), err)

    def test_what_is_declared_as_text_stays_text(self):
        status, _, err = self.run_one("inspect", "@points.csv", "--crs", "EPSG:32741", "--declare", "layer=3")
        self.assertEqual((status, err), (0, ""))
        status, _, err = self.run_one("inspect", "@points.csv", "--crs", "EPSG:32741", "--declare", "nodata=low")
        self.assertIn("must be a number", err)

    def test_what_is_printed_is_plain(self):
        for name in ("points.csv",):
            _, out, _ = self.run_one("inspect", f"@{name}", "--crs", "EPSG:32741")
            self.assertNotIn("np.", out)
            self.assertIn('"separator": ","', out)

    def test_a_frame_is_proposed_or_made(self):
        status, out, err = self.run_one("frame", "@points.csv", "--crs", "EPSG:32741", "--unit", "ft", "--zero", "quay")
        self.assertEqual(status, 0, err)
        frame = json.loads(out)
        self.assertEqual((frame["unit"], frame["vertical_datum"], frame["grid"]["crs"]), ("ft", "quay", "EPSG:32741"))
        self.assertIn("cell: About half the points' mean spacing", err)
        status, _, err = self.run_one("frame", "--frame-crs", "EPSG:32741", "--cell", "5", "--bounds",
                                      "448000,5438000,448100,5438050", "--out", "@made.json")  # fmt: skip
        self.assertEqual(status, 0, err)
        made = json.loads((self.folder / "made.json").read_text())["grid"]
        self.assertEqual((made["cols"], made["rows"], made["west"], made["north"]), (20, 10, 448_000, 5_438_050))
        self.assertEqual(self.run_one("frame", "--frame-crs", "EPSG:32741", "--cell", "5", "--bounds",
                                      "448000,5438000,448100,5438050", "--out", "@made.json")[0], 1)  # fmt: skip
        status, _, err = self.run_one("do", "interpolate_points", "--in", "points=@points.csv", "--crs", "EPSG:32741",
                                      "--frame", "@made.json", "--out", "@small.tif")  # fmt: skip
        self.assertEqual(StoredSurface(self.folder / "small.tif").grid.cols, 20)

    def test_a_frame_within_a_polygon_and_in_a_crs_of_ones_own(self):
        ring = [[60.0, -41.2], [60.01, -41.2], [60.01, -41.19], [60.0, -41.19], [60.0, -41.2]]
        area = {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
        (self.folder / "area.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [area]}))
        status, out, err = self.run_one(
            "frame", "--within", "@area.geojson", "--cell", "10", "--frame-crs", "EPSG:32741"
        )
        self.assertEqual(status, 0, err)
        grid = Grid.from_dict(json.loads(out)["grid"])
        self.assertEqual((grid.crs, grid.cell_width), ("EPSG:32741", 10))
        self.assertTrue(800 < grid.bounds.east - grid.bounds.west < 1_100)
        status, _, err = self.run_one("frame", "--within", "@points.csv", "--crs", "EPSG:32741")
        self.assertEqual(status, 0)  # points say an area too
        self.assertEqual(self.run_one("frame")[0], 1)
        self.assertEqual(self.run_one("frame", "--bounds", "4,3,2,1")[0], 2)

    def test_a_profile_along_a_line(self):
        self.build()
        line = "448020,5438100 448171,5438100"
        status, out, err = self.run_one("profile", "@tin.tif", "--line", line, "--step", "10")
        self.assertEqual(status, 0, err)
        rows = [row.split(",") for row in out.strip().splitlines()]
        self.assertEqual(rows[0], ["distance_m", "x", "y", "tin_m"])
        self.assertEqual([float(row[0]) for row in rows[1:]], [*range(0, 160, 10), 151.0])
        for _, x, _, height in rows[1:]:
            self.assertAlmostEqual(float(height), 0.1 * (float(x) - 448_000), delta=0.05)
        self.assertIn("15.1 up and 0.0 down", err)
        status, *_ = self.run_one("profile", "@tin.tif", "@tin.tif", "--line", line, "--out", "@p.json")
        told = json.loads((self.folder / "p.json").read_text())
        self.assertEqual((status, told["step"], set(told["surfaces"])), (0, 4.0, {"tin_1", "tin_2"}))
        for words, code in (
            ((), 2),
            (("--line", "1,2"), 2),
            (("--line", line, "--step", "-1"), 1),
            (("--along", "@points.csv"), 1),
        ):
            self.assertEqual(self.run_one("profile", "@tin.tif", *words, "--crs", "EPSG:32741")[0], code, words)
        self.assertEqual(self.run_one("profile", "@points.csv", "--line", line, "--crs", "EPSG:32741")[0], 1)

    def test_a_command_of_its_own_reads_within_limits_and_loads_little(self):
        command = [sys.executable, "-m", "yama.terrain.cli"]
        (self.folder / "long.csv").write_text("x,y,z\n1,2," + "3," * 10_000_000)
        ran = subprocess.run([*command, "inspect", str(self.folder / "long.csv"), "--crs", "EPSG:32741"],
                             capture_output=True, text=True, timeout=60)  # fmt: skip
        self.assertEqual(ran.returncode, 1)
        self.assertRegex(ran.stderr, "^yama: Row 2 of long.csv")
        ran = subprocess.run([*command, "inspect", str(self.folder / "points.csv"), "--crs", "EPSG:32741"],
                             capture_output=True, text=True, timeout=60)  # fmt: skip
        self.assertEqual((ran.returncode, ran.stderr), (0, ""))
        probe = "import sys, yama.terrain.cli as c; c.main(['ops']); print(sorted({'numba', 'scipy', 'rasterio', 'laspy'} & set(sys.modules)))"
        ran = subprocess.run([sys.executable, "-c", probe], capture_output=True, text=True, timeout=60)
        self.assertEqual(ran.stdout.strip().splitlines()[-1], "[]")

    def test_patches_come_from_a_file_and_the_recipe_makes_them_again(self):
        self.build()
        ring = [[448_040, 5_438_040], [448_120, 5_438_040], [448_120, 5_438_120], [448_040, 5_438_120]]
        patches = [{"name": "pond", "ring": ring, "operator": {"kind": "height", "height": 3.25}}]
        (self.folder / "patches.json").write_text(json.dumps(patches))
        status, _, err = self.run_one(
            "do", "mend", "--in", "surface=@tin.tif", "--frame", "@frame.json", "--set", "patches=@patches.json",
            "--out", "@mended.tif", "--recipe", "@mended.json",
        )  # fmt: skip
        self.assertEqual(status, 0, err)
        cells = StoredSurface(self.folder / "mended.tif").read_all()
        self.assertTrue((cells[20:40, 10:30] == 3.25).all())
        status, _, err = self.run_one("cook", "@mended.json", "--out", "@again.tif")
        self.assertEqual(status, 0, err)
        np.testing.assert_array_equal(StoredSurface(self.folder / "again.tif").read_all(), cells)
        (self.folder / "patches.json").write_text("[{")
        self.assertIn("is no JSON", self.run_one(
            "do", "mend", "--in", "surface=@tin.tif", "--set", "patches=@patches.json", "--out", "@x.tif")[2])  # fmt: skip

    def test_one_value_is_a_list_where_a_list_is_asked_for(self):
        self.build()
        for said, heights in (("levels=12", {12.0}), ("levels=5,10,15", {5.0, 10.0, 15.0})):
            status, _, err = self.run_one(
                "do", "contours", "--in", "surface=@tin.tif", "--set", said, "--out", f"@{said[7:9]}.geojson"
            )
            self.assertEqual(status, 0, err)
            made = json.loads((self.folder / f"{said[7:9]}.geojson").read_text())["features"]
            self.assertEqual({one["properties"]["height"] for one in made}, heights)
        status, _, err = self.build("coded.tif", "--set", "codes=ground,spot")
        self.assertEqual(status, 0, err)
        self.assertIn("points are left", self.build("none.tif", "--set", "codes=spot")[2])

    def chain(self, *changes):
        """A recipe of ground found in a cloud and gridded then, as a project gives it away; with some of its values
        changed."""
        rng = np.random.default_rng(5)
        made = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        made.header.scales = (0.01, 0.01, 0.01)
        made.x, made.y = rng.uniform(448_000, 448_200, 9_000), rng.uniform(5_438_000, 5_438_200, 9_000)
        made.z = 20 + 0.05 * (np.asarray(made.x) - 448_000)
        made.return_number = made.number_of_returns = np.ones(9_000, np.uint8)
        made.write(str(self.folder / "bare.las"))
        frame = Frame.from_dict(json.loads((self.folder / "frame.json").read_text()))
        declared = {"crs": "EPSG:32741"}
        file = recipe.file_key(self.folder / "bare.las")
        key = Declared.from_dict(declared).key(file)
        ground, grid = operations.find("find_ground"), operations.find("grid_cloud")
        first = operations.make_step(ground, operations.parse_params(ground, {}), {"cloud": key}, frame)
        second = operations.make_step(
            grid, operations.parse_params(grid, {"classes": [2], "gap": 20}), {"clouds": [first.key]}, frame
        )
        first = replace(first, **dict(changes))
        last = replace(second, inputs={"clouds": [first.key]})
        told = recipe.export(
            last.key, {first.key: first, last.key: last}, {key: recipe.source("bare.las", file, declared, "")}
        )
        (self.folder / "chain.json").write_text(json.dumps(told))

    def test_a_cloud_on_the_way_is_cooked_too(self):
        self.chain()
        status, _, err = self.run_one("cook", "@chain.json", "--out", "@ground.tif")
        self.assertEqual(status, 0, err)
        heights = StoredSurface(self.folder / "ground.tif").read_all()
        self.assertGreater(float(np.isfinite(heights).mean()), 0.9)
        self.assertAlmostEqual(float(np.nanmax(heights)), 30.0, delta=0.5)

    def test_every_step_must_be_computed_as_when_it_was_written(self):
        self.chain(("version", 99))
        status, _, err = self.run_one("cook", "@chain.json", "--out", "@ground.tif")
        self.assertEqual(status, 1)
        self.assertIn("asks for find_ground version 99", err)
        self.assertFalse((self.folder / "ground.tif").exists())
