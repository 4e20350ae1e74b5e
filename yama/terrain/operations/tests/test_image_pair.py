"""Image pairs as operations: from tie points to heights, with what is asked about and refused on the way."""

import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain import formats, kinds
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import las
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations import Task, find
from yama.terrain.operations.image_pair import ELLIPSOID, models_of, ties_of
from yama.terrain.points import Points
from yama.terrain.stereo.tests import synthetic
from yama.terrain.surface import ArraySurface, sample

GRID = synthetic.grid(160)
FRAME = Frame(GRID, "m", "Sundrel mean sea level")
BETWEEN = {"low": 20, "high": 180}


def geoid(height: float) -> ArraySurface:
    cells = np.full((40, 40), height, np.float32)
    return ArraySurface(cells, Grid(GRID.crs, GRID.west - 900, GRID.north + 900, 50.0, 50.0, 40, 40))


def replaced_west(surface: ArraySurface) -> ArraySurface:
    """The same, a kilometre farther west."""
    return ArraySurface(surface.read_all(), replace(surface.grid, west=surface.grid.west - 1000))


class ImagePairTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        left, right = synthetic.pair(Path(held.name), bias=(2.0, -1.5))
        cls.images = {"left": left, "right": right}
        cls.ties = cls.made("tie_points", {}, count=120, **BETWEEN)["ties"]

    @classmethod
    def task(cls, operation, inputs, frame=FRAME, **params):
        return Task(find(operation), {**cls.images, **inputs}, params, frame)

    @classmethod
    def made(cls, operation, inputs, frame=FRAME, **params):
        return cls.task(operation, inputs, frame, **params).run()

    def codes(self, task):
        return {one.code: one for one in task.findings}

    def control(self, lift=0.0):
        x, y = (values.ravel()[::37] for values in np.meshgrid(*GRID.centres(GRID.whole)))
        z = synthetic.hills(*synthetic.local(GRID)).ravel()[::37] - lift
        return Points(GRID.crs, x, y, {"z": z}, np.full(x.size, "spot"), "z", "m")

    def test_tie_points_are_told_with_figures_and_what_is_wrong_is_not_used(self):
        ties, numbers = ties_of(self.ties)
        self.assertGreater(len(ties), 40)
        self.assertEqual(numbers.tolist(), list(range(1, len(ties) + 1)))
        self.assertLess(self.ties.facts["rms"], 0.15)
        residuals = [(row[7], row[8]) for row in self.ties.rows]
        self.assertTrue(all(used or residual > self.ties.facts["rms"] for residual, used in residuals))

    def test_models_are_adjusted_without_what_was_left_out_and_with_what_was_added(self):
        found = self.made("adjust_models", {"ties": self.ties}, left_out=[2, 5], added=[[120, 150]])
        rows = found["ties"].rows
        self.assertEqual(len(rows), len(self.ties.rows) + 1)
        self.assertEqual([rows[1][8], rows[4][8]], [False, False])
        self.assertEqual(rows[-1][1:3], (120.0, 150.0))
        models = models_of(found["model"])
        self.assertEqual(set(models.shifts), {self.images["left"].told, self.images["right"].told})
        # rays of the synthetic pair lean along rows: only columns can be told, and both share what is missing
        (c0, *_), (d0, *_) = models.shifts.values()
        self.assertAlmostEqual(c0 - d0, 2.0, delta=0.1)
        with self.assertRaisesRegex(InputError, "outside the left image"):
            self.made("adjust_models", {"ties": self.ties}, added=[[-40, 10]])

    def test_control_heights_and_a_geoid_bring_heights_to_the_frames_zero(self):
        inputs = {"control": self.control(12.0), "geoid": geoid(12.0)}
        model = self.made("adjust_models", {"ties": self.ties, **inputs})["model"]
        self.assertEqual(model.facts["datum"], FRAME.vertical_datum)
        self.assertGreater(model.facts["control"]["count"], 30)
        surface = self.made("image_pair", {"model": model, "geoid": geoid(12.0)}).surface("surface")
        error = surface.read_all() + 12.0 - synthetic.hills(*synthetic.local(GRID))
        self.assertLess(abs(np.nanmedian(error)), 0.3)
        self.assertEqual(surface.vertical_datum, FRAME.vertical_datum)
        self.assertIn("uncertainty", surface.companions)
        # the same models without the geoid would be off by its height: refused
        task = self.task("image_pair", {"model": model})
        self.assertEqual(self.codes(task)["geoid"].weight, "stop")
        with self.assertRaisesRegex(InputError, "adjusted with a geoid"):
            task.run()

    def test_without_either_heights_are_the_ellipsoids_and_that_is_said(self):
        task = self.task("image_pair", {}, **BETWEEN)
        self.assertIn("above the ellipsoid", self.codes(task)["zero"].sentence)
        surface = task.run().surface("surface")
        self.assertEqual(surface.vertical_datum, ELLIPSOID)
        self.assertGreater(np.isfinite(surface.read_all()).mean(), 0.9)

    def test_polygons_are_left_empty(self):
        x, y = GRID.middle
        lake = Features(GRID.crs, np.array([shapely.box(x - 30, y - 20, x + 30, y + 20)], object), {"kind": ["water"]})
        cells = self.made("image_pair", {"empty": [lake]}, **BETWEEN)
        for name in ("surface", "uncertainty", "likeness"):
            found = cells.surface(name).read_all()
            self.assertTrue(np.isnan(found[32:48, 28:52]).all(), name)
            self.assertTrue(np.isfinite(found[:20]).any(), name)

    def test_what_does_not_fit_is_said_before_anything_runs(self):
        other = replace(self.images["right"], model=synthetic.model(360, 320, -0.215, aside=0.03))
        with self.subTest("models of other images"):
            model = self.made("adjust_models", {"ties": self.ties})["model"]
            task = Task(find("image_pair"), {"left": self.images["left"], "right": other, "model": model}, {}, FRAME)
            self.assertIn("not those of", self.codes(task)["model"].sentence)
        with self.subTest("a table of something else"):
            self.assertIn(
                "holds no adjusted models", self.codes(self.task("image_pair", {"model": self.ties}))["model"].sentence
            )
            self.assertIn(
                "holds no tie points", self.codes(self.task("adjust_models", {"ties": model}))["ties"].sentence
            )
        with self.subTest("cells too fine"):
            fine = self.codes(self.task("image_pair", {}, cell_size=0.5))["fine"]
            self.assertEqual(fine.fix.set_params, {"cell_size": 2.0})
        with self.subTest("a geoid that is the ground, or lies elsewhere"):
            for wrong, words in ((geoid(480.0), "reaches 480 m"), (replaced_west(geoid(12.0)), "does not cover")):
                task = self.task("adjust_models", {"ties": self.ties, "geoid": wrong})
                self.assertEqual(self.codes(task)["geoid_surface"].weight, "stop")
                self.assertIn(words, self.codes(task)["geoid_surface"].sentence)
        with self.subTest("elsewhere"):
            far = Frame(Grid(GRID.crs, GRID.west + 50_000, GRID.north, 2.0, 2.0, 80, 80), "m", "")
            self.assertEqual(self.codes(self.task("image_pair", {}, far))["outside"].weight, "stop")
        with self.subTest("a corner without tie points"):
            near = [row for row in self.ties.rows if row[1] < 160 and row[2] < 180]
            bare = self.codes(self.task("adjust_models", {"ties": replace(self.ties, rows=near)}))["bare"]
            self.assertRegex(bare.sentence, "of the (south|north)-(east|west) corner")
        with self.subTest("too few to turn"):
            few = replace(self.ties, rows=self.ties.rows[:9])
            self.assertEqual(
                self.codes(self.task("adjust_models", {"ties": few}, correction="affine"))["few"].weight, "stop"
            )

    def test_a_surface_that_is_wrong_makes_the_ground_jump_by_that_much(self):
        model = self.made("adjust_models", {"ties": self.ties, "control": self.control()})["model"]
        truth = synthetic.hills(*synthetic.local(GRID)).astype(np.float32)
        for wrong in (0.0, 6.0):
            surface = ArraySurface(truth + np.float32(wrong), GRID)
            jump = self.made("image_jump", {"model": model, "surface": surface}).surface("surface").read_all()
            self.assertAlmostEqual(float(np.nanmedian(jump)), wrong, delta=0.6)
        ortho = Task(
            find("orthoimage"), {"image": self.images["left"], "surface": surface, "model": model}, {}, FRAME
        ).run()
        self.assertGreater(np.isfinite(ortho.surface("surface").read_all()).mean(), 0.9)

    def test_an_orthoimage_can_be_finer_than_the_surface(self):
        model = self.made("adjust_models", {"ties": self.ties, "control": self.control()})["model"]
        fine = GRID.finer(2)
        plane = [ArraySurface(np.full((one.rows, one.cols), 100.0, np.float32), one) for one in (GRID, fine)]
        both = {"image": self.images["left"], "model": model}
        coarse, twice = (
            Task(find("orthoimage"), {**both, "surface": plane[0]}, {"finer": finer}, FRAME).run().surface("surface")
            for finer in (1, 2)
        )
        exact = Task(find("orthoimage"), {**both, "surface": plane[1]}, {}, FRAME).run().surface("surface")
        self.assertEqual(twice.grid, fine)
        # at its edge a finer surface is as empty as the coarse one
        inner = Window(8, 8, fine.rows - 16, fine.cols - 16)
        np.testing.assert_array_equal(twice.read(inner), exact.read(inner))
        self.assertEqual(coarse.grid, GRID)

    def test_points_are_written_as_a_cloud_that_lies_on_the_surface(self):
        self.assertNotIn("points", self.task("image_pair", {}, **BETWEEN).outputs)
        made = self.made("image_pair", {}, points=True, **BETWEEN)
        path = self.images["left"].path.parent / "points.laz"
        kinds.write(made["points"], path)
        cloud = formats.read(path)
        self.assertEqual((cloud.unit, cloud.crs), ("m", GRID.crs))
        self.assertGreater(cloud.count, 20_000)
        (points,) = las.chunks_of(cloud)
        surface = made.surface("surface")
        apart = np.asarray(points.z) - sample(surface, np.asarray(points.x), np.asarray(points.y))
        self.assertLess(abs(float(np.nanmedian(apart))), 0.1)
        error = np.asarray(points["standard_error"])
        self.assertTrue((error > 0).all() and (np.asarray(points["likeness"]) <= 1).all())

    def test_two_orthoimages_are_one_without_a_step_in_brightness(self):
        model = self.made("adjust_models", {"ties": self.ties, "control": self.control()})["model"]
        truth = synthetic.hills(*synthetic.local(GRID)).astype(np.float32)
        truth[30:50, 40:60] += 40  # a tower, behind which each image sees other ground
        surface = ArraySurface(truth, GRID)
        both = {"surface": surface, "model": model}

        def ortho(**images):
            return Task(find("orthoimage"), {**both, **images}, {}, FRAME).run().surface("surface")

        left, right = ortho(image=self.images["left"]), ortho(image=self.images["right"])
        joined = ortho(image=self.images["left"], second=self.images["right"])
        one, other, found = left.read_all(), right.read_all(), joined.read_all()
        np.testing.assert_array_equal(found[np.isfinite(one)], one[np.isfinite(one)])
        only = np.isnan(one) & np.isfinite(other)
        self.assertTrue(only.any() and np.isfinite(found[only]).all())
        # what was taken from the second is its values by one gain and one offset
        gain, offset = joined.tone()
        np.testing.assert_allclose(found[only], other[only] * gain + offset, rtol=1e-4)
        shared = np.isfinite(one) & np.isfinite(other)
        self.assertLess(abs(np.median(one[shared] - (other[shared] * gain + offset))), 0.02 * np.ptp(one[shared]))
