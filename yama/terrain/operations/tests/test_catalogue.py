"""What holds for every operation there is, and for one that is added."""

from __future__ import annotations

import json
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path
from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain import formats, kinds, operations, recipe
from yama.terrain.cli import main
from yama.terrain.cog import halve
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.findings import Finding
from yama.terrain.formats import image, las
from yama.terrain.frame import Frame
from yama.terrain.grid import Window
from yama.terrain.operations import Inputs, Operation, Output, Results, Role, Task, View, findings_of
from yama.terrain.operations.parameters import NoParams
from yama.terrain.operations.register import _REGISTER
from yama.terrain.operations.tests.example import ChangeAlongLines
from yama.terrain.operations.tests.examples import FRAME, GRID, examples
from yama.terrain.progress import Progress
from yama.terrain.surface import ArraySurface, StoredSurface, Surface, store
from yama.terrain.table import Column, Table
from yama.terrain.tests.test_rational import model

SUFFIX = {"surface": ".tif", "features": ".gpkg", "cloud": ".laz", "table": ".json", "points": ".csv"}


class CatalogueTest(SimpleTestCase):
    """Each test is one loop over the catalogue."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.examples = examples(cls.folder)

    def tasks(self):
        """Every operation with something to run it on."""
        self.assertEqual(set(self.examples), set(operations.catalogue()))
        for name, (given, settings, outputs) in self.examples.items():
            yield name, Task(operations.find(name), given, settings, FRAME), outputs

    def test_what_stops_it_is_refused_before_anything_is_computed(self):
        stop = Finding("stop", "stop", "Nothing of this can be.", "Choose other things.")
        for _, task, _ in self.tasks():
            kind = type(task.operation)
            with (
                mock.patch.object(kind, "check", return_value=[stop]),
                mock.patch.object(kind, "run", side_effect=AssertionError("it was run")),
                mock.patch.object(kind, "preview", side_effect=AssertionError("it was looked at")),
            ):
                self.assertTrue(task.is_stopped)
                with self.assertRaisesMessage(InputError, "Nothing of this can be. Choose other things."):
                    task.run()
                if task.operation.previews == "rough":
                    with self.assertRaises(InputError):
                        task.preview(View(GRID.bounds, 0))

    def test_it_gives_the_outputs_it_says_of_the_kinds_it_says(self):
        for _, task, outputs in self.tasks():
            results = task.run()
            self.assertLessEqual(set(task.chosen(outputs)), set(results))
            for name in task.chosen(outputs):
                made = results[name]
                said = task.outputs[name]
                self.assertEqual((said.kind == "surface", said.quantity is not None), (isinstance(made, Surface),) * 2)
                if said.kind in ("features", "table"):
                    self.assertIsInstance(made, {"features": Features, "table": Table}[said.kind])
                self.assertIsInstance(findings_of(made), list)

    def test_live_is_stored_and_a_level_is_what_it_says(self):
        rng = np.random.default_rng(6)
        looked_at = 0
        for operation, task, outputs in self.tasks():
            results = task.run()
            for name in task.chosen(outputs):
                if task.outputs[name].kind != "surface":
                    continue
                live = results.surface(name)
                store(live, self.folder / f"{operation}-{name}.tif")
                stored = StoredSurface(self.folder / f"{operation}-{name}.tif")
                rows, cols = live.grid.rows, live.grid.cols
                for _ in range(8):
                    row, col = int(rng.integers(-10, rows)), int(rng.integers(-10, cols))
                    window = Window(row, col, int(rng.integers(1, 70)), int(rng.integers(1, 70)))
                    np.testing.assert_array_equal(live.read(window), stored.read(window))
                self.assertEqual(stored.levels, "means")
                self.assertEqual(stored.categories, live.categories)
                below, level = live.read_all(), live.grid.at_level(1)
                if live.levels == "means":
                    np.testing.assert_array_equal(live.read(level.whole, 1), halve(below, bool(live.categories)))
                else:  # the same computation on coarser cells, the same whatever window it is asked in
                    window = Window(3, 4, 20, 17)
                    whole = live.read(level.whole, 1)
                    np.testing.assert_array_equal(live.read(window, 1), whole[3:23, 4:21])
                looked_at += 1
        self.assertGreater(looked_at, 18)

    def test_a_fingerprint_tells_what_it_is(self):
        for _, task, outputs in self.tasks():
            again = Task(task.operation, self.examples[task.operation.name][0], task.params, FRAME).run()
            results = task.run()
            for name in task.chosen(outputs):
                if task.outputs[name].kind == "surface":
                    self.assertEqual(results.surface(name).fingerprint, again.surface(name).fingerprint)
        slopes = {
            Task(operations.find("slope"), {"surface": surface}, settings, FRAME).run().surface("surface").fingerprint
            for surface in self.examples["mosaic"][0]["surfaces"]
            for settings in ({}, {"method": "zevenbergen_thorne"})
        }
        self.assertEqual(len(slopes), 4)

    def test_the_command_line_runs_it_and_its_recipe_is_cooked_to_the_same(self):
        (self.folder / "frame.json").write_text(json.dumps(FRAME.to_dict()))
        for operation, task, outputs in self.tasks():
            words = ["do", operation, "--frame", str(self.folder / "frame.json")]
            for role, given in self.examples[operation][0].items():
                for number, one in enumerate(given if isinstance(given, list) else [given]):
                    words += ["--in", f"{role}={self._file(operation, role, number, one)}"]
            for name, value in self.examples[operation][1].items():
                words += ["--set", f"{name}={value if isinstance(value, str) else json.dumps(value)}"]
            files = {
                name: self.folder / f"{operation}.{name}{SUFFIX[task.outputs[name].kind]}"
                for name in task.chosen(outputs)
            }
            first, *others = files
            words += [
                "--crs",
                GRID.crs,
                "--out",
                str(files[first]),
                "--recipe",
                str(self.folder / f"{operation}.recipe.json"),
            ]
            for name in others:
                words += ["--also", f"{name}={files[name]}"]
            self._run(words)
            told = json.loads((self.folder / f"{operation}.recipe.json").read_text())
            for name, path in files.items():
                told["result"] = recipe.part_key(recipe.parted(told["result"])[0], name, first)
                (self.folder / "asked.json").write_text(json.dumps(told))
                cooked = self.folder / f"cooked {path.name}"
                self._run(["cook", str(self.folder / "asked.json"), "--files", str(self.folder), "--out", str(cooked)])
                self._compare(path, cooked, task.outputs[name].kind)

    def _file(self, operation, role, number, held) -> Path:
        if hasattr(held, "path"):
            return held.path
        path = self.folder / f"{operation} {role} {number}{SUFFIX[kinds.kind_of(held).name]}"
        kinds.write(held, path)
        return path

    def _run(self, words):
        with redirect_stdout(StringIO()), redirect_stderr(StringIO()) as said:
            self.assertEqual(main(words), 0, said.getvalue())

    def _compare(self, one: Path, other: Path, kind: str) -> None:
        if kind == "surface":
            np.testing.assert_array_equal(StoredSurface(one).read_all(), StoredSurface(other).read_all())
        elif kind == "features":
            first, second = formats.read(one), formats.read(other)
            self.assertTrue(shapely.equals_exact(first.geometries, second.geometries, 0.0).all())
            self.assertEqual(first.attributes, second.attributes)
        elif kind == "cloud":
            classes = [
                np.concatenate([np.asarray(chunk.classification) for chunk in las.chunks(path)])
                for path in (one, other)
            ]
            np.testing.assert_array_equal(*classes)
        else:
            timed = ("seconds",)
            tables = [formats.read(path) for path in (one, other)]
            for column in tables[0].columns:
                if column.name not in timed:
                    self.assertEqual(*(table.column(column.name) for table in tables))


class OneFileTest(SimpleTestCase):
    """An operation that takes two surfaces and lines and gives a surface, lines and a table is one file."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        added = mock.patch.dict(_REGISTER, {ChangeAlongLines.name: ChangeAlongLines()})
        added.start()
        self.addCleanup(added.stop)
        shown = examples(self.folder)
        one, _ = shown["mosaic"][0]["surfaces"]
        self.given = {"before": one, "after": one, "lines": shown["contour_surface"][0]["contours"]}

    def test_it_is_run_by_a_task_like_any_other(self):
        task = Task(operations.find("change_along_lines"), self.given, {}, FRAME)
        self.assertEqual(task.chosen(), ["change", "lines"])
        self.assertEqual(task.chosen(["figures"]), ["change", "lines", "figures"])
        results = task.run()
        self.assertEqual(float(np.nanmax(np.abs(results.surface("change").read_all()))), 0.0)
        self.assertEqual(results["figures"].column("change"), [0.0] * 15)
        self.assertEqual(set(results["lines"].attributes), {"elev", "change"})
        told = operations.describe(task.operation)
        self.assertEqual(told["params"]["properties"]["step"]["unit"], "m")
        self.assertEqual([one["kind"] for one in told["outputs"].values()], ["surface", "features", "table"])

    def test_the_command_line_writes_each_output_and_cooks_it(self):
        for name, held in (("before.tif", "before"), ("lines.gpkg", "lines")):
            kinds.write(self.given[held], self.folder / name)
        place = f"{self.folder}/"
        with redirect_stdout(StringIO()), redirect_stderr(StringIO()) as said:
            self.assertEqual(main(["do", "change_along_lines", "--in", f"before={place}before.tif", "--in", f"after={place}before.tif",
                                   "--in", f"lines={place}lines.gpkg", "--out", f"{place}change.tif", "--also", f"lines={place}made.gpkg",
                                   "--also", f"figures={place}made.csv", "--recipe", f"{place}made.json"]), 0, said.getvalue())  # fmt: skip
        self.assertEqual((self.folder / "made.csv").read_text().splitlines()[0], "Length (m),Mean change (m)")
        self.assertEqual(len(formats.read(self.folder / "made.gpkg")), 15)
        told = json.loads((self.folder / "made.json").read_text())
        (self.folder / "table.json").write_text(json.dumps({**told, "result": f"{told['result']}:figures"}))
        with redirect_stdout(StringIO()), redirect_stderr(StringIO()) as said:
            self.assertEqual(main(["cook", f"{place}table.json", "--out", f"{place}again.csv"]), 0, said.getvalue())
        self.assertEqual((self.folder / "again.csv").read_bytes(), (self.folder / "made.csv").read_bytes())


class _ImageSize(Operation[NoParams]):
    name = "image_size"
    title = "Image size"
    stage = "Gather"
    summary = "How large an image is."
    inputs = {"image": Role("image", "Image")}
    outputs = {"size": Output("table", "Size")}

    def run(self, inputs: Inputs, params: NoParams, frame: Frame, progress: Progress) -> Results:
        given = inputs.image("image")
        return Results(size=Table((Column("rows", "Rows", type="whole"), Column("cols", "Columns", type="whole")),
                                  [(given.rows, given.cols)]))  # fmt: skip


class ImagesTest(SimpleTestCase):
    """Images are inputs like anything else."""

    def test_an_operation_takes_an_image_from_its_file_and_nothing_else_for_one(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        folder = Path(held.name)
        (folder / "frame.json").write_text(json.dumps(FRAME.to_dict()))
        image.write(np.full((200, 240), 900, np.uint16), model(), folder / "left.tif")
        with mock.patch.dict(_REGISTER, {_ImageSize.name: _ImageSize()}):
            with redirect_stdout(StringIO()), redirect_stderr(StringIO()) as said:
                words = [
                    "do",
                    "image_size",
                    "--in",
                    f"image={folder}/left.tif",
                    "--out",
                    f"{folder}/size.csv",
                    "--frame",
                    f"{folder}/frame.json",
                ]
                self.assertEqual(main(words), 0, said.getvalue())
            self.assertEqual((folder / "size.csv").read_text().split(), ["Rows,Columns", "200,240"])
            with self.assertRaisesMessage(InputError, "input 'image' must be image"):
                Task(operations.find("image_size"), {"image": ArraySurface(np.zeros((100, 90)), GRID)}, {}, FRAME)
