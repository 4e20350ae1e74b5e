"""Operators: each leaves alone what it must, and does what a closed form or a slow twin says."""

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.operators import falling
from yama.terrain.mend.patches import KeepOut, Patch
from yama.terrain.surface import ArraySurface

GRID = Grid("EPSG:32741", 447_000.0, 5_438_000.0, 2.0, 2.0, 120, 140)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
EAST, NORTH = X - GRID.west, Y - (GRID.north - 240)
PLANE = 50 + 0.1 * EAST - 0.06 * NORTH
BOX = [(60, 60), (200, 60), (200, 180), (60, 180)]


def places(local):
    """Places of the CRS from metres east and north of the grid's south-west corner."""
    return [(GRID.west + east, GRID.north - 240 + north) for east, north in local]


def patch(operator, ring=BOX, line=None, **more):
    drawn = {"line": places(line)} if line else {"ring": places(ring)}
    return Patch.model_validate({**drawn, "operator": operator, **more})


def mended(cells, *patches, keep=(), other=None):
    surface = ArraySurface(np.asarray(cells, np.float32), GRID)
    other = None if other is None else ArraySurface(np.asarray(other, np.float32), GRID)
    keep_outs = [KeepOut(ring=places(one)) for one in keep]
    return MendedSurface(surface, patches, keep_outs, other).read_all().astype(float)


INSIDE = (EAST > 60) & (EAST < 200) & (NORTH > 60) & (NORTH < 180)

RAMP_KEEPERS = (
    {"kind": "along", "window": 40},
    {"kind": "smooth", "how": "median", "radius": 9},
    {"kind": "smooth", "how": "mean", "radius": 9},
    {"kind": "smooth", "how": "gaussian", "radius": 5},
    {"kind": "clear"},
    {"kind": "smooth", "how": "edges", "radius": 8},
    {"kind": "plane"},
    {"kind": "plane", "shape": "quadric", "through": "rim"},
    {"kind": "across", "how": "facets"},
    {"kind": "across", "how": "plate"},
    {"kind": "spikes"},
    {"kind": "raise"},
)


class EdgesTest(SimpleTestCase):
    def test_a_smeared_step_is_sharp_again_along_its_line_and_the_ground_beside_it_stays(self):
        slope = 50 + 0.05 * EAST - 0.02 * NORTH
        sharp = slope + np.where(EAST > 140, 8.0, 0.0)
        smeared = slope + 8 * np.clip((EAST - 132) / 16, 0, 1)
        edge = patch({"kind": "sharpen"}, line=[(140, 40), (140, 200)], width=22)
        found = mended(smeared, edge)
        band = (np.abs(EAST - 140) < 11) & (NORTH > 42) & (NORTH < 198)
        self.assertLess(np.abs(found - sharp)[band].max(), 0.05)
        np.testing.assert_array_equal(
            found[np.abs(EAST - 140) > 12], smeared.astype(np.float32)[np.abs(EAST - 140) > 12]
        )

    def test_a_plane_stays_a_plane_along_a_bent_breakline(self):
        found = mended(PLANE, patch({"kind": "sharpen"}, line=[(60, 60), (120, 150), (200, 170)], width=16))
        self.assertLess(np.abs(found - PLANE).max(), 0.02)
        with self.assertRaisesRegex(InputError, "drawn as a line along the edge"):
            mended(PLANE, patch({"kind": "sharpen"}))

    def test_noise_goes_and_a_step_stays(self):
        rng = np.random.default_rng(4)
        step = PLANE + np.where(EAST > 140, 6.0, 0.0)
        noisy = step + rng.normal(0, 0.3, step.shape)
        found = mended(noisy, patch({"kind": "smooth", "how": "edges", "radius": 10, "edge": 1.5}))
        inner = (EAST > 70) & (EAST < 190) & (NORTH > 70) & (NORTH < 170)
        self.assertLess(np.std((found - step)[inner]), 0.12)
        blurred = mended(noisy, patch({"kind": "smooth", "how": "gaussian", "radius": 5}))
        near = inner & (np.abs(EAST - 140) < 4)
        self.assertLess(np.abs(found - step)[near].mean(), 0.2 * np.abs(blurred - step)[near].mean())


class OperatorTest(SimpleTestCase):
    def test_a_plane_stays_a_plane(self):
        for operator in RAMP_KEEPERS:
            plane = PLANE if operator["kind"] != "along" else 50 + 0.1 * EAST
            with self.subTest(**operator):
                found = mended(plane, patch(operator))
                self.assertLess(np.abs(found - plane).max(), 0.02)
                np.testing.assert_array_equal(found[~INSIDE], plane.astype(np.float32)[~INSIDE])

    def test_a_deck_is_smooth_along_and_level_across_and_ramps_keep_their_slope(self):
        rng = np.random.default_rng(2)
        turn = np.deg2rad(25)
        along = (EAST - 140) * np.cos(turn) + (NORTH - 120) * np.sin(turn)
        across = -(EAST - 140) * np.sin(turn) + (NORTH - 120) * np.cos(turn)
        deck = 80 + 0.05 * along
        on_deck = (np.abs(along) < 90) & (np.abs(across) < 6)
        wrong = PLANE.copy()
        wrong[on_deck] = deck[on_deck] + rng.normal(0, 0.8, int(on_deck.sum()))
        wrong[on_deck & (rng.uniform(size=wrong.shape) < 0.15)] += 6  # cars and lamps
        corners = [(-90, -6), (90, -6), (90, 6), (-90, 6)]
        ring = [
            (140 + a * np.cos(turn) - b * np.sin(turn), 120 + a * np.sin(turn) + b * np.cos(turn)) for a, b in corners
        ]
        found = mended(wrong, patch({"kind": "along", "window": 50}, ring))
        error = (found - deck)[on_deck & (np.abs(across) < 5)]
        self.assertLess(np.sqrt((error**2).mean()), 0.35)
        slope = np.polyfit(along[on_deck], found[on_deck], 1)[0]
        self.assertAlmostEqual(slope, 0.05, delta=0.003)
        with self.assertRaisesRegex(InputError, "square corners.*Square its corners"):
            mended(wrong, patch({"kind": "along"}, [(60, 60), (200, 60), (130, 180)]))

    def test_smoothing_is_the_slow_ones(self):
        rng = np.random.default_rng(3)
        cells = rng.normal(0, 5, PLANE.shape).astype(np.float32)
        disc = np.hypot(*np.mgrid[-4:5, -4:5]) <= 4.5
        for operator, slow in (
            ({"kind": "smooth", "how": "median", "radius": 9}, lambda z: ndimage.median_filter(z, footprint=disc)),
            ({"kind": "smooth", "how": "mean", "radius": 9}, lambda z: ndimage.uniform_filter(z, 9)),
            (
                {"kind": "smooth", "how": "gaussian", "radius": 5},
                lambda z: ndimage.gaussian_filter(z, 2.5, truncate=3.0),
            ),
        ):
            with self.subTest(**operator):
                found = mended(cells, patch(operator))
                np.testing.assert_allclose(found[INSIDE], slow(cells.astype(float))[INSIDE], atol=1e-4)

    def test_trees_and_walls_go_and_the_ground_stays(self):
        rng = np.random.default_rng(4)
        ground = PLANE + 4 * np.sin(EAST / 40)
        cells = ground.copy()
        for east, north in rng.uniform((70, 70), (190, 170), (25, 2)):
            cells[np.hypot(EAST - east, NORTH - north) < 5] += 9
        cells[(np.abs(NORTH - 100) < 2.5) & INSIDE] += 3
        found = mended(cells, patch({"kind": "clear", "terrain": "rolling", "widest": 24}))
        before, after = (np.sqrt(((one - ground)[INSIDE] ** 2).mean()) for one in (cells, found))
        self.assertLess(after, 0.35 * before)
        untouched = INSIDE & (cells == ground)
        self.assertLess(np.abs((found - ground)[untouched]).max(), 0.9)

    def test_spikes_and_pits_go_and_a_hill_stays(self):
        hill = PLANE + 30 * np.exp(-((EAST - 130) ** 2 + (NORTH - 120) ** 2) / 2 / 25**2)
        cells = hill.copy()
        cells[60, 60], cells[70, 50], cells[50, 80] = 130, 0, 90
        found = mended(cells, patch({"kind": "spikes", "radius": 8}))
        self.assertLess(max(abs(found - hill)[at] for at in ((60, 60), (70, 50), (50, 80))), 1.5)
        kept = np.ones(hill.shape, bool)
        kept[60, 60] = kept[70, 50] = kept[50, 80] = False
        np.testing.assert_array_equal(found[kept], hill.astype(np.float32)[kept])
        only = mended(cells, patch({"kind": "spikes", "which": "pits"}))
        self.assertEqual(only[60, 60], 130)
        self.assertNotEqual(only[70, 50], 0)

    def test_water_is_as_high_as_its_rim_says(self):
        banks = 50 + 0.05 * (PLANE - 50)
        cells = banks.copy()
        cells[INSIDE] = np.random.default_rng(5).normal(40, 3, int(INSIDE.sum()))
        rim = ndimage.binary_dilation(INSIDE, np.ones((3, 3))) & ~INSIDE
        for percentile in (0, 10, 50):
            found = mended(cells, patch({"kind": "level", "percentile": percentile}))
            self.assertEqual(np.ptp(found[INSIDE]), 0)
            self.assertAlmostEqual(found[INSIDE][0], np.percentile(banks.astype(np.float32)[rim], percentile), places=3)
        self.assertTrue((mended(cells, patch({"kind": "height", "height": 61.5}))[INSIDE] == 61.5).all())
        with self.assertRaisesRegex(InputError, r"on a slope that rises by 14\.\d m"):
            mended(0.1 * EAST, patch({"kind": "level"}))
        empty = np.full(PLANE.shape, np.nan)
        with self.assertRaisesRegex(InputError, "Lantern Water: No heights lie along"):
            mended(empty, patch({"kind": "level"}, name="Lantern Water"))

    def test_a_river_falls_and_keeps_its_cross_section(self):
        rng = np.random.default_rng(6)
        valley = 60 - 0.08 * EAST + 0.3 * np.abs(NORTH - 120)
        bumps = np.repeat(rng.normal(0, 1.2, 140), 1)[None, :]
        line = [(40, 120), (240, 120)]
        found = mended(valley + bumps, patch({"kind": "falling"}, line=line, width=30))
        middle = found[60, 21:119]
        self.assertTrue((np.diff(middle) <= 1e-4).all())
        profile = found[54:67, 70] - found[60, 70]
        np.testing.assert_allclose(profile, (valley + bumps)[54:67, 70] - (valley + bumps)[60, 70], atol=1e-3)
        with self.assertRaisesRegex(InputError, "would have to rise"):
            mended(valley, patch({"kind": "falling", "turned": True}, line=line, width=30))
        z = rng.normal(0, 1, 60)
        level = mended(valley + bumps, patch({"kind": "falling", "level": True}, line=line, width=30))
        self.assertEqual(np.ptp(level[54:67, 70]), 0)
        fallen = falling(z)
        self.assertTrue((np.diff(fallen) <= 0).all())
        self.assertAlmostEqual(fallen.mean(), z.mean())
        np.testing.assert_allclose(falling(fallen), fallen)

    def test_a_river_between_banks_falls_from_its_higher_end_round_every_bend(self):
        turn = np.linspace(0, np.pi, 25)
        bank = lambda radius: [(130 + radius * np.cos(one), 90 + radius * np.sin(one)) for one in turn]  # noqa: E731
        ring = [*bank(100), *bank(80)[::-1]]
        round_it = np.arctan2(NORTH - 90, EAST - 130)
        bed = 60 - 4 * round_it
        rng = np.random.default_rng(3)
        noisy = bed + rng.uniform(0, 1.5, PLANE.shape)
        found = mended(noisy, patch({"kind": "falling", "level": True}, ring=ring))
        away = np.hypot(EAST - 130, NORTH - 90)
        water = (away > 82) & (away < 98) & (round_it > 0.15) & (round_it < np.pi - 0.15)
        order = np.argsort(round_it[water])
        self.assertLess(float(np.abs(found - bed)[water].max()), 1.6)
        # the water stands level across the bend: cells at one angle differ by no more than the bed over a few cells
        by_angle = np.array_split(found[water][order], 40)
        self.assertLess(max(float(np.ptp(one)) for one in by_angle), 0.8)
        self.assertTrue((np.diff([one.mean() for one in by_angle]) < 0).all())
        np.testing.assert_array_equal(found[away > 104], noisy.astype(np.float32)[away > 104])
        # drawn the other way round, it is the same river
        np.testing.assert_allclose(mended(noisy, patch({"kind": "falling", "level": True}, ring=ring[::-1])), found)
        with self.assertRaisesRegex(InputError, r"ends \d+\.\d+ m higher than it begins"):
            mended(bed, patch({"kind": "falling", "turned": True}, ring=ring))
        with self.assertRaisesRegex(InputError, "nearly as wide as it is long"):
            mended(bed, patch({"kind": "falling"}))

    def test_a_lake_says_where_its_bank_is_lower_than_its_water(self):
        shore = ~INSIDE & (EAST > 50) & (EAST < 210) & (NORTH > 50) & (NORTH < 190)
        cells = np.where(shore & (EAST < 100) & (NORTH > 180), 58.0, np.where(INSIDE, 55.0, 60.0))
        lake = [patch({"kind": "level", "percentile": 50}, name="Lantern Water")]
        surface = MendedSurface(ArraySurface(cells.astype(np.float32), GRID), lake)
        (remark,) = surface.remarks().values()
        self.assertRegex(
            remark, r"^Lantern Water: Along 4\d m the bank is lower than the water, .* 60\.00 m, by up to 2\.00 m"
        )
        lowest = [patch({"kind": "level", "percentile": 0})]
        self.assertEqual(MendedSurface(ArraySurface(cells.astype(np.float32), GRID), lowest).remarks(), {})

    def test_a_culvert_opens_the_embankment_and_nothing_beside_it(self):
        cells = PLANE.copy()
        cells[(EAST > 120) & (EAST < 150)] += 8
        line = [(110, 121), (160, 121)]
        found = mended(cells, patch({"kind": "breach"}, line=line, width=4))
        along = found[59, 55:80]
        ends = max(PLANE[59, 55], PLANE[59, 79])
        self.assertLessEqual(along.max(), ends + 0.3)
        self.assertTrue((found <= cells.astype(np.float32) + 1e-5).all())
        np.testing.assert_array_equal(found[:50], cells.astype(np.float32)[:50])

    def test_holes_are_crossed_from_their_rim_and_other_surfaces_are_lifted_to_it(self):
        truth = PLANE + 3 * np.sin(EAST / 50) * np.cos(NORTH / 45)
        holed = truth.copy()
        holed[INSIDE & (NORTH < 120)] = np.nan
        other = truth - 7.5 + 0.01 * EAST
        for operator, off in (({"kind": "across"}, 4.0), ({"kind": "replace"}, 0.06)):
            with self.subTest(**operator):
                found = mended(holed, patch(operator), other=other)
                self.assertTrue(np.isfinite(found).all())
                self.assertLess(np.abs(found - truth)[INSIDE].max(), off)
                step = np.abs(np.diff(found, axis=1) - np.diff(truth, axis=1))
                self.assertLess(step.max(), 0.25)
        with self.assertRaisesRegex(InputError, "needs that surface"):
            mended(holed, patch({"kind": "replace"}))
        with self.assertRaisesRegex(InputError, "empty within the outline"):
            mended(holed, patch({"kind": "replace"}), other=np.full(truth.shape, np.nan))
