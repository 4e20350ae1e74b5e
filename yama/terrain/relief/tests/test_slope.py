"""Slope, aspect and hillshade against closed forms and a slow twin."""

import math

import numpy as np
import rasterio
from django.test import SimpleTestCase

from yama.terrain.grid import Grid
from yama.terrain.ramps import RAMPS, colours
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import picture
from yama.terrain.relief.slope import Light, aspect, aspect_of, gradients_of, hillshade, hillshade_of, slope, slope_of
from yama.terrain.surface import ArraySurface
from yama.terrain.tests.places import LOCAL

GRID = Grid(LOCAL, 0, 100, 2.0, 2.0, 50, 60)


def plane(east: float, north: float) -> ArraySurface:
    """A plane that rises by these per metre."""
    xs, ys = GRID.centres(GRID.whole)
    return ArraySurface(xs[None, :] * east + ys[:, None] * north, GRID)


class PlaneTest(SimpleTestCase):
    def test_slope_and_aspect_of_planes(self):
        for east, north, direction in ((0.5, 0, 270), (-0.5, 0, 90), (0, 0.3, 180), (0, -2.0, 0), (1, 1, 225)):
            surface = plane(east, north)
            inner = (slice(1, -1), slice(1, -1))
            expected = math.degrees(math.atan(math.hypot(east, north)))
            np.testing.assert_allclose(slope(surface).read_all()[inner], expected, atol=5e-3)
            turn = (aspect(surface).read_all()[inner] - direction + 180) % 360 - 180
            np.testing.assert_allclose(turn, 0, atol=5e-2)

    def test_light_along_the_normal_is_full(self):
        surface = plane(-1.0, 0.0)  # falls towards the east at 45 degrees
        shade = hillshade(surface, Light(90, 45)).read_all()[1:-1, 1:-1]
        np.testing.assert_allclose(shade, 1.0, atol=1e-4)
        away = hillshade(surface, Light(270, 30)).read_all()[1:-1, 1:-1]
        np.testing.assert_array_equal(away, 0.0)

    def test_level_ground_has_no_aspect(self):
        self.assertTrue(np.isnan(aspect(plane(0, 0)).read_all()).all())


class TwinTest(SimpleTestCase):
    def test_equal_to_horns_formula_written_out(self):
        rng = np.random.default_rng(4)
        z = rng.normal(0, 3, (40, 30)).astype(np.float32)
        z[rng.random(z.shape) < 0.08] = np.nan
        steep, falls = slope_of(z, GRID), aspect_of(z, GRID)
        shade = hillshade_of(z, GRID, Light(300, 40))
        east, north = gradients_of(z, GRID)
        for r in range(1, 39):
            for c in range(1, 29):
                here = z[r, c]
                if np.isnan(here):
                    self.assertTrue(np.isnan(steep[r - 1, c - 1]))
                    continue
                n = np.where(np.isnan(z[r - 1 : r + 2, c - 1 : c + 2]), here, z[r - 1 : r + 2, c - 1 : c + 2]).astype(
                    float
                )
                p = ((n[0, 2] + 2 * n[1, 2] + n[2, 2]) - (n[0, 0] + 2 * n[1, 0] + n[2, 0])) / 16
                q = ((n[0, 0] + 2 * n[0, 1] + n[0, 2]) - (n[2, 0] + 2 * n[2, 1] + n[2, 2])) / 16
                self.assertAlmostEqual(east[r - 1, c - 1], p, places=4)
                self.assertAlmostEqual(north[r - 1, c - 1], q, places=4)
                self.assertAlmostEqual(steep[r - 1, c - 1], math.degrees(math.atan(math.hypot(p, q))), places=2)
                turn = (falls[r - 1, c - 1] - math.degrees(math.atan2(-p, -q)) + 180) % 360 - 180
                self.assertAlmostEqual(turn, 0, places=1)
                sun = np.array([math.sin(math.radians(300)), math.cos(math.radians(300))]) * math.cos(math.radians(40))
                light = (math.sin(math.radians(40)) - sun[0] * p - sun[1] * q) / math.sqrt(1 + p * p + q * q)
                self.assertAlmostEqual(shade[r - 1, c - 1], max(light, 0), places=4)


class PictureTest(SimpleTestCase):
    def test_a_picture_shows_heights_and_hatches_what_is_empty(self):
        heights = plane(0.4, 0.1).read_all()
        heights[:, : GRID.cols // 4] = np.nan
        png = picture(ArraySurface(heights, GRID), GRID, Dress.usual("height"), 64)
        with rasterio.MemoryFile(png) as file, file.open() as dataset:
            pixels = dataset.read().reshape(3, -1).T
        rows, cols = np.divmod(np.arange(64 * 64), 64)
        hatch, ground = [0xC9, 0xC4, 0xB6], [0xE6, 0xE2, 0xD6]
        hatched = np.where(((rows + cols) % 8 == 0)[:, None], hatch, ground)
        np.testing.assert_array_equal(pixels[cols < 15], hatched[cols < 15])
        heights_there = pixels[(cols > 17) & (cols < 62) & (rows > 8) & (rows < 55)]
        self.assertFalse((heights_there == hatch).all(1).any() or (heights_there == ground).all(1).any())

    def test_what_fills_little_of_the_frame_fills_the_picture(self):
        wide = Grid(LOCAL, 0, 2000, 2.0, 2.0, 1000, 1000)
        heights = np.full((1000, 1000), np.nan, np.float32)
        heights[700:730, 200:260] = 5.0
        red = Dress(((0.0, "#FF0000"), (1.0, "#FF0000")), 0, 10)
        with rasterio.MemoryFile(picture(ArraySurface(heights, wide), wide, red, 100)) as file, file.open() as dataset:
            filled = (dataset.read(2) == 0) & (dataset.read(1) == 255)
        rows, cols = np.flatnonzero(filled.any(1)), np.flatnonzero(filled.any(0))
        self.assertAlmostEqual(len(cols), 92, delta=4)  # with a margin on either side
        self.assertAlmostEqual(len(rows), 46, delta=4)
        self.assertAlmostEqual((rows[0] + rows[-1]) / 2, 49.5, delta=2)
        self.assertGreater(len(picture(ArraySurface(np.full_like(heights, np.nan), wide), wide, red, 100)), 0)

    def test_ramps_run_from_end_to_end(self):
        for name, stops in RAMPS.items():
            places = [place for place, _ in stops]
            self.assertEqual((places[0], places[-1]), (0.0, 1.0))
            self.assertEqual(places, sorted(places))
            first = "#" + "".join(f"{round(v):02X}" for v in colours(RAMPS[name], np.array([0.0]))[0])
            self.assertEqual(first, stops[0][1])
