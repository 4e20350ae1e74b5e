"""The demo's image pair: as its sensors saw the island, with what is wrong with it, and what can be got from it."""

import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase
from pyproj import Transformer
from scipy import ndimage

from yama.demo import files, orbit, scene
from yama.demo import pair as demo
from yama.demo.products import geoid_at
from yama.demo.terrain import COVERS, FRAME, island
from yama.demo.tests import images
from yama.terrain.formats import image
from yama.terrain.grid import Window
from yama.terrain.stereo.ortho import JumpSurface, OrthoSurface
from yama.terrain.stereo.pair import PRESETS, Pair, heights_on, offset_at
from yama.terrain.stereo.rays import Sensor
from yama.terrain.stereo.zero import ZeroLevel


class Geoid(ZeroLevel):
    """The island's own."""

    def at(self, lon, lat):
        return geoid_at(lon, lat)


def spread(error):
    return 1.4826 * float(np.median(np.abs(error - np.median(error))))


class ImagesTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.left, cls.right = (image.read(path) for path in images())
        cls.truth = island()

    def test_files_are_of_twelve_bits_and_small(self):
        for path in images():
            facts = image.inspect(path)
            self.assertEqual((facts.cell_type, facts.bands), ("uint16", 1))
            self.assertLessEqual(facts.bits, 12)
            self.assertAlmostEqual(facts.ground_size, 1.0, delta=0.05)
        self.assertLess(sum(path.stat().st_size for path in images()), 60e6)

    def test_polynomials_fit_the_sensors_to_a_hundredth_and_are_delivered_off(self):
        to_degrees = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True)
        rng = np.random.default_rng(1)
        col, row, z = rng.uniform(0, orbit.COLS, 2000), rng.uniform(0, orbit.ROWS, 2000), rng.uniform(-30, 640, 2000)
        for number, sensor in enumerate((orbit.LEFT, orbit.RIGHT)):
            place = sensor.ground(col, row, z)
            lon, lat = to_degrees.transform(place[:, 0], place[:, 1])
            c, r = orbit.fitted(sensor).image_of(lon, lat, z + geoid_at(lon, lat))
            self.assertLess(max(np.abs(c - col).max(), np.abs(r - row).max()), 0.01)
            c, r = (self.left, self.right)[number].model.image_of(lon, lat, z + geoid_at(lon, lat))
            across, down = demo.BIAS[number]
            np.testing.assert_allclose([(c - col).mean(), (r - row).mean()], [across, down], atol=0.01)

    def test_the_viaduct_stands_on_its_shoulders(self):
        deck = self.truth.viaduct
        along = np.linspace(-30, deck.length + 30, 60)
        x = deck.start[0] + (deck.end[0] - deck.start[0]) * along / deck.length
        y = deck.start[1] + (deck.end[1] - deck.start[1]) * along / deck.length
        ground = ndimage.map_coordinates(self.truth.heights, [FRAME.row_of(y), FRAME.col_of(x)], order=1)
        beyond = (along < -4) | (along > deck.length + 4)
        self.assertLess(np.abs(ground[beyond] - deck.height).max(), 1.5)
        inner = (along > 15) & (along < deck.length - 15)
        self.assertLess(ground[inner].max(), deck.height - 4)
        self.assertGreater(deck.height - ground.min(), 50)

    def test_heights_of_a_part_of_it_are_as_good_as_such_images_allow(self):
        pair = Pair.of(self.left, self.right)
        ties = pair.tie_points(200)
        pair, found = pair.adjusted(ties.cells)
        self.assertLess(found.rms, 0.15)
        heights = pair.search_range(found.met.height[found.used])
        rng = np.random.default_rng(3)
        x, y = rng.uniform((447_900, 5_436_000), (449_800, 5_439_000), (1500, 2)).T
        row, col = FRAME.row_of(y), FRAME.col_of(x)
        open_ground = ~np.isin(self.truth.cover[np.rint(row).astype(int), np.rint(col).astype(int)],
                               [COVERS.index(name) for name in ("wood", "water", "town")])  # fmt: skip
        z = ndimage.map_coordinates(self.truth.heights, [row, col], output=float, order=1)
        known = x[open_ground], y[open_ground], z[open_ground]
        for _ in range(2):
            by = offset_at(pair, FRAME, Geoid(), heights, PRESETS["hilly"], *known)
            pair = pair.moved(by)
        self.assertTrue(by.placed)
        window = Window(2900, 2350, 620, 700)  # Mossgate, the gorge and the viaduct
        grid = FRAME.part(window)
        made = heights_on(pair, grid, Geoid(), (0.0, 300.0), PRESETS["hilly"])
        place = (slice(window.row, window.row + window.rows), slice(window.col, window.col + window.cols))
        truth, cover = self.truth.heights[place], self.truth.cover[place]
        seen = np.isfinite(made.height)
        error = made.height - truth
        level = ndimage.minimum_filter(np.isin(cover, [COVERS.index("grass"), COVERS.index("rock")]), 7) & seen
        one_cell = pair.geometry().height_of_cell
        self.assertLess(spread(error[level]), 0.25 * one_cell)
        self.assertLess(abs(np.median(error[level])), 0.1 * one_cell)
        self.assertLess((np.abs(error[level]) > 3 * one_cell).mean(), 0.01)
        within = (np.abs(error[level] - np.median(error[level])) <= made.uncertainty[level]).mean()
        self.assertTrue(0.6 <= within <= 0.76, within)
        self.assertGreater(
            np.median(error[seen & (cover == COVERS.index("wood"))]), 5
        )  # trees are seen, not the ground
        # both orthoimages agree on open ground, and jump where the deck stands above it
        surface = self.truth.surface
        jump = JumpSurface(
            *(
                OrthoSurface(surface, one, sensor, Geoid())
                for one, sensor in zip((self.left, self.right), pair.sensors, strict=True)
            )
        )
        found = jump.read(window)
        self.assertLess(abs(np.nanmedian(found[level])), 0.5)
        self.assertLess(np.nanmedian(found[cover == COVERS.index("wood")]), -5)


class LeftEmptyTest(SimpleTestCase):
    """With models that are not off, so that only what is seen counts."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        left, right = (image.read(path) for path in images())
        cls.sensors = orbit.LEFT, orbit.RIGHT
        cls.pair = Pair(left, right, tuple(Sensor(orbit.fitted(one)) for one in cls.sensors))

    def heights(self, window, between):
        made = heights_on(self.pair, FRAME.part(window), Geoid(), between, PRESETS["hilly"])
        place = (slice(window.row, window.row + window.rows), slice(window.col, window.col + window.cols))
        return np.isfinite(made.height), place

    def test_open_ground_that_both_images_show_is_filled(self):
        truth = island()
        window = Window(1600, 2700, 280, 280)
        seen, place = self.heights(window, (60.0, 460.0))
        x, y = np.meshgrid(*FRAME.part(window).centres(FRAME.part(window).whole))
        shown = np.isin(truth.cover[place], [COVERS.index("grass"), COVERS.index("rock")])
        cast = scene.scene_of(truth, files.canopy_of(truth))
        for sensor in self.sensors:
            shown &= scene.seen(cast, sensor, x, y, truth.heights[place].astype(float))
        self.assertGreater(shown.sum(), 10_000)
        self.assertGreater(seen[shown].mean(), 0.95)

    def test_the_speckled_twin_is_matched_to_a_cell_and_says_how_sure_it_is(self):
        with tempfile.TemporaryDirectory() as folder:
            radar = []
            for number, one in enumerate((self.pair.left, self.pair.right)):
                path = Path(folder) / demo.NAMES[number]
                cells = demo.speckled(one.read().astype(np.uint16), 7 + number)
                image.write(cells, self.pair.sensors[number].model, path)
                radar.append(image.read(path))
            window = Window(1600, 2700, 280, 280)
            made = heights_on(Pair.of(*radar), FRAME.part(window), Geoid(), (60.0, 460.0), PRESETS["speckled"])
        place = (slice(1600, 1880), slice(2700, 2980))
        truth = island()
        error = made.height - truth.heights[place]
        known = np.isin(truth.cover[place], [COVERS.index("grass"), COVERS.index("rock")]) & np.isfinite(error)
        self.assertGreater(known.sum(), 10_000)
        one_cell = self.pair.geometry().height_of_cell
        self.assertLess(spread(error[known]), 1.2 * one_cell)
        within = (np.abs(error[known] - np.median(error[known])) <= made.uncertainty[known]).mean()
        self.assertTrue(0.5 < within < 0.85, within)

    def test_still_water_stays_empty(self):
        lake = island().cover == COVERS.index("water")
        rows, cols = np.nonzero(lake)
        window = Window(int(rows.min()), int(cols.min()), int(np.ptp(rows)) + 1, int(np.ptp(cols)) + 1)
        seen, place = self.heights(window, (60.0, 320.0))
        self.assertLess(seen[ndimage.binary_erosion(lake, iterations=6)[place]].mean(), 0.02)
        self.assertGreater(seen[~lake[place]].mean(), 0.8)

    def test_ground_under_the_cloud_stays_empty(self):
        x, y, high, radius = scene.CLOUD
        row, col = int(FRAME.row_of(y)), int(FRAME.col_of(x))
        window = Window(row - 350, col - 230, 700, 460)
        seen, place = self.heights(window, (0.0, 450.0))
        east, north = np.meshgrid(*FRAME.part(window).centres(FRAME.part(window).whole))
        z = island().heights[place].astype(float)
        lon, lat = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True).transform(east, north)
        covered = np.zeros(z.shape, bool)
        for sensor, known in zip(self.sensors, self.pair.sensors, strict=True):
            slope = sensor.slopes(*known.image_of(lon, lat, z + geoid_at(lon, lat)))
            at = east + slope[..., 0] * (high - z), north + slope[..., 1] * (high - z)
            covered |= np.vectorize(scene.cloud_depth)(*at, x, y, radius) > 3
        self.assertGreater(covered.mean(), 0.05)
        self.assertLess(seen[covered].mean(), 0.02)
