"""What is built on a live surface has the very cells of what is built on its stored copy, whatever comes after it: so
a recipe that is cooked gives what the desk made."""

import tempfile
from pathlib import Path

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.features import Features
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations import Task, catalogue, find
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface, StoredSurface, Surface, store

FRAME = Frame(Grid("EPSG:32741", 448_000, 5_440_000, 2, 2, 560, 620), "m")
AREA = Features(
    "EPSG:32741",
    np.array([shapely.Polygon([(448_101, 5_439_901), (449_199, 5_439_803), (449_003, 5_438_955), (448_207, 5_438_937)])], dtype=object),
    {"kind": ["a"]},
)  # fmt: skip
SETTINGS = {
    "uncertainty": {}, "clip": {}, "slope": {}, "aspect": {}, "hillshade": {}, "curvature": {}, "sky": {}, "local_contrast": {},
    "change_heights": {"offset": 1.7}, "cell_type": {"step": 0.1}, "calculate": {"expression": "a * 2 + mean_around(a, 9)"},
    "fill_voids": {"across": 60, "across_in": "m"}, "fit_to_frame": {"resampling": "cubic", "cell_size": 3}, "difference": {}, "height_above_ground": {}, "mosaic": {"rule": "mean"},
    "best_of_all": {}, "move": {"east": 12.5, "north": -7.25, "up": 1.0, "tilt_east": 3.0},
    "condition": {"method": "lesser"}, "upslope_area": {"method": "fill", "flow": "many"},
    "mend": {"patches": [{"ring": [(448_200, 5_439_300), (448_600, 5_439_300), (448_600, 5_439_700), (448_200, 5_439_700)],
                          "operator": {"kind": "smooth", "radius": 25}}]},
}  # fmt: skip


def tile(crs, west, north, cell, rows, cols, seed):
    grid = Grid(crs, west, north, cell, cell, rows, cols)
    rng = np.random.default_rng(seed)
    x, y = grid.centres(grid.whole)
    heights = 200 + 30 * np.sin(x / (70 * cell / 4))[None, :] * np.cos(y / (50 * cell / 4))[:, None]
    heights = heights + rng.normal(0, 1, (rows, cols))
    heights[rows // 2 : rows // 2 + 4, cols // 2 : cols // 2 + 5] = np.nan
    return ArraySurface(heights, grid)


class ThreeDeepTest(SimpleTestCase):
    def run_on(self, name, surface, **settings):
        operation = find(name)
        inputs = {}
        for role, asked in operation.inputs.items():
            if asked.kind == "surface" and not asked.optional and role not in inputs:
                inputs[role] = [surface] if asked.many else surface
        if name == "clip":
            inputs["area"] = [AREA]
        if name == "uncertainty":
            rng = np.random.default_rng(4)
            x, y = rng.uniform(448_050, 448_750, 90), rng.uniform(5_439_000, 5_439_950, 90)
            inputs["points"] = Points("EPSG:32741", x, y, {"z": 200 + rng.normal(0, 20, 90)})
        if name == "best_of_all":
            inputs["surfaces"] = [surface, tile("EPSG:32741", 448_000.0, 5_440_000.0, 8.0, 250, 250, 9)]
        if name in ("difference", "height_above_ground"):
            inputs["second" if name == "difference" else "ground"] = tile(
                "EPSG:32741", 447_900, 5_440_100, 7, 200, 220, 9
            )
        return first_of(Task(operation, inputs, settings, FRAME))

    def test_every_operation_on_a_live_mosaic_and_on_its_stored_copy(self):
        sources = [
            tile("EPSG:32741", 448_000, 5_440_000, 5, 210, 160, 1), tile("EPSG:32741", 448_600, 5_440_001, 3, 300, 220, 2),
            tile("EPSG:4326", 62.38, -41.19, 5e-5, 240, 260, 3),
        ]  # fmt: skip
        live = first_of(task_for("mosaic", {"surfaces": sources}, FRAME, {"rule": "feather"}))
        makers = {
            name
            for name, one in catalogue().items()
            if any(role.kind == "surface" and not role.optional for role in one.inputs.values())
            and not any(role.kind == "image" for role in one.inputs.values())  # in stereo/tests
        }
        with tempfile.TemporaryDirectory() as folder:
            store(live, Path(folder) / "mosaic.tif")
            stored = StoredSurface(Path(folder) / "mosaic.tif")
            tried = 0
            for name, settings in SETTINGS.items():
                self.assertIn(name, makers)
                with self.subTest(name):
                    first, second = (self.run_on(name, one, **settings) for one in (live, stored))
                    assert isinstance(first, Surface)
                    self.assertEqual(first.grid, second.grid)
                    store(first, Path(folder) / f"{name}.tif")  # block by block, as a job does
                    cells = StoredSurface(Path(folder) / f"{name}.tif").read_all()
                    self.assertGreater(float(np.isfinite(cells).mean()), 0.2)
                    np.testing.assert_array_equal(cells, second.read_all())
                    tried += 1
            self.assertEqual(tried, len(SETTINGS))
            of_surfaces = {
                name for name in makers if catalogue()[name].outputs[catalogue()[name].first].kind == "surface"
            }
            self.assertEqual(of_surfaces, set(SETTINGS))
            lines = [self.run_on("contours", one, interval=5.0) for one in (live, stored)]
            self.assertTrue(shapely.equals_exact(lines[0].geometries, lines[1].geometries, 0.0).all())
