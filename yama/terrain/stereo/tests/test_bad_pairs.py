"""Pairs that are not as they should be: each gives a sentence, or heights all the same."""

import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import rasterio
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.errors import InputError
from yama.terrain.formats import image
from yama.terrain.frame import Frame
from yama.terrain.operations import Task, find
from yama.terrain.points import Points
from yama.terrain.stereo.pair import PRESETS, Pair, heights_on
from yama.terrain.stereo.tests import synthetic
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import ArraySurface

GRID = synthetic.grid(160)
FRAME = Frame(GRID, "m", "")


class CancelledError(Exception):
    """What somebody who ends a job raises."""


FLAT = np.full((40, 40), 100, np.float32)


class BadPairTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        cls.left, cls.right = synthetic.pair(cls.folder)

    def rewritten(self, name, cells, model):
        """An image of `(bands, rows, cols)` with a model."""
        path = self.folder / name
        image.write(cells[0], model, path)
        if len(cells) > 1:
            one = rasterio.open(path)
            tags = one.rpcs
            one.close()
            with rasterio.open(path, "w", driver="GTiff", dtype=cells.dtype, count=len(cells), height=cells.shape[1],
                               width=cells.shape[2], rpcs=tags) as dataset:  # fmt: skip
                dataset.write(cells)
        return image.read(path)

    def refused(self, words, operation="image_pair", params=None, **images):
        given = {"left": self.left, "right": self.right, **images}
        with self.assertRaisesRegex(InputError, words):
            Task(find(operation), given, {"low": 20, "high": 180} if params is None else params, FRAME).run()

    def test_one_image_is_no_pair(self):
        with self.assertRaisesRegex(InputError, "right"):
            Task(find("image_pair"), {"left": self.left}, {}, FRAME)
        self.refused("same image twice", right=self.left)

    def test_images_of_unlike_size_bits_and_bands_give_heights(self):
        cells = self.right.read()
        part = cells[20:340, 10:300]
        model = self.right.model
        moved = replace(model, row_offset=model.row_offset - 20, col_offset=model.col_offset - 10)
        grey = np.clip((part - 300) / 5, 1, 255).astype(np.uint8)
        right = self.rewritten("small.tif", np.stack([grey, grey // 2, grey]), moved)
        made = heights_on(Pair.of(self.left, right), GRID, ZeroLevel(None), (20.0, 180.0), PRESETS["hilly"])
        error = made.height - synthetic.hills(*synthetic.local(GRID))
        self.assertGreater(np.isfinite(error).mean(), 0.8)
        self.assertLess(abs(float(np.nanmedian(error))), 0.3)

    def test_a_coarser_second_image_gives_heights(self):
        cells = ndimage.uniform_filter(self.right.read(), 2, origin=-1)[::2, ::2]
        model = self.right.model
        half = replace(model, row_offset=(model.row_offset - 0.5) / 2, col_offset=(model.col_offset - 0.5) / 2,
                       row_scale=model.row_scale / 2, col_scale=model.col_scale / 2)  # fmt: skip
        right = self.rewritten("coarse.tif", np.rint(cells)[None].astype(np.uint16), half)
        grid = synthetic.grid(160, 4.0)
        made = heights_on(Pair.of(self.left, right), grid, ZeroLevel(None), (20.0, 180.0), PRESETS["hilly"])
        error = made.height - synthetic.hills(*synthetic.local(grid))
        self.assertGreater(np.isfinite(error).mean(), 0.7)
        self.assertLess(abs(float(np.nanmedian(error))), 0.6)

    def test_nothing_but_water_or_cloud_gives_a_sentence_and_no_heights(self):
        rng = np.random.default_rng(4)
        for name, level, noise in (("water", 120, 3), ("cloud", 3900, 8)):
            both = {
                side: self.rewritten(
                    f"{name}_{side}.tif", np.rint(rng.normal(level, noise, (1, 360, 320))).astype(np.uint16), one.model
                )
                for side, one in (("left", self.left), ("right", self.right))
            }
            with self.subTest(name):
                self.refused("look alike", operation="tie_points", **both)
                self.refused("look alike", **both)
                made = heights_on(Pair.of(*both.values()), GRID, ZeroLevel(None), (20.0, 180.0), PRESETS["hilly"])
                self.assertLess(np.isfinite(made.height).mean(), 0.02)

    def test_a_model_of_another_image_is_told_by_where_it_leads(self):
        away = replace(self.right.model, longitude_offset=self.right.model.longitude_offset + 0.2)
        other = self.rewritten("away.tif", self.right.read()[None].astype(np.uint16), away)
        self.refused("hardly any ground in common", right=other)
        absurd = replace(self.right.model, row_denominator=(0.0,) * 20)
        with self.assertRaisesRegex(InputError, "do not lead"):
            image.read(self.rewritten("absurd.tif", self.right.read()[None].astype(np.uint16), absurd).path)
        with self.assertRaisesRegex(InputError, "scales above zero"):
            replace(self.right.model, col_scale=0.0)

    def test_a_surface_beside_the_pair_gets_no_orthoimage(self):
        beside = ArraySurface(FLAT, replace(GRID, west=GRID.west + 9000, rows=40, cols=40))
        for operation, given in (
            ("orthoimage", {"image": self.left}),
            ("image_jump", {"left": self.left, "right": self.right}),
        ):
            with self.subTest(operation), self.assertRaisesRegex(InputError, "shows no ground of the surface"):
                Task(find(operation), {**given, "surface": beside}, {}, FRAME).run()

    def test_a_tie_point_outside_of_the_image_is_refused(self):
        pair = Pair.of(self.left, self.right)
        for place in ((-5.0, 40.0), (40.0, 4000.0)):
            with self.assertRaisesRegex(InputError, "outside|edge"):
                pair.tie_at(place, (20.0, 180.0))

    def test_cancel_is_heard_in_every_part(self):
        def cancelled(share):
            raise CancelledError

        ties = Task(find("tie_points"), {"left": self.left, "right": self.right}, {"low": 20, "high": 180}, FRAME)
        x, y = (values.ravel()[::37] for values in np.meshgrid(*GRID.centres(GRID.whole)))
        z = synthetic.hills(*synthetic.local(GRID)).ravel()[::37]
        control = Points(GRID.crs, x, y, {"z": z}, np.full(x.size, "spot"), "z", "m")
        pair = {"left": self.left, "right": self.right}
        for name, given, params in (
            ("tie_points", pair, {"low": 20, "high": 180}),
            ("adjust_models", {**pair, "ties": ties.run()["ties"], "control": control}, {}),
            ("image_pair", pair, {"low": 20, "high": 180}),
        ):
            with self.subTest(name), self.assertRaises(CancelledError):
                Task(find(name), given, params, FRAME).run(cancelled)
