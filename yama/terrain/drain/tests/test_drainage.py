from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.drain.burning import Burning
from yama.terrain.drain.directions import NONE
from yama.terrain.drain.drainage import Conditioning, DrainedSurface, Known, drainage, told
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.kinds import listed
from yama.terrain.drain.sea import sea_of, without_sea
from yama.terrain.drain.stored import keep_drainage, open_drainage
from yama.terrain.drain.tests.made import grid_of
from yama.terrain.drain.working_off import Limits
from yama.terrain.errors import InputError
from yama.terrain.surface import ArraySurface


def island():
    """A cone of 20 m in a sea of 0, with a lagoon of 0 within a rim, and a hollow on its slope."""
    x, y = np.meshgrid(np.arange(-50, 51), np.arange(-50, 51))
    away = np.hypot(x, y)
    cells = np.maximum(20 - away / 2, 0.0)
    cells[np.hypot(x - 20, y) < 4] -= 5.0
    cells[np.hypot(x, y - 25) < 4] = 0.0
    return ArraySurface(cells.astype(np.float32), grid_of(cells.shape))


class SeaTest(SimpleTestCase):
    def test_what_is_as_high_as_the_level_is_sea_however_it_is_held(self):
        cells = np.full((4, 5), 0.1, np.float32)  # a little more than a tenth
        cells[1:3, 2] = 0.2
        self.assertEqual(np.isnan(without_sea(cells, 0.1)).sum(), 18)

    def test_what_reaches_the_rim_is_sea_and_a_lagoon_is_not(self):
        cells = island().read_all()
        left = without_sea(cells, 0.0)
        self.assertTrue(np.isnan(left[0]).all())
        self.assertEqual(left[50 + 25, 50], 0.0)
        self.assertEqual(left[50, 50], 20.0)
        self.assertFalse(np.isnan(cells).any())

    def test_a_sea_is_told_by_its_rim(self):
        self.assertEqual(sea_of(island().read_all()), 0.0)
        rough = island().read_all() + np.random.default_rng(2).uniform(-0.3, 0.3, (101, 101)).astype(np.float32)
        self.assertAlmostEqual(sea_of(rough), 0.3, delta=0.01)
        self.assertIsNone(sea_of(40 * np.random.default_rng(1).random((40, 40)).astype(np.float32)))
        self.assertIsNone(sea_of(np.full((5, 5), np.nan, np.float32)))

    def test_no_stream_crosses_the_sea(self):
        surface = island()
        across, ending = (drainage(surface, Conditioning("fill", sea=sea)) for sea in (None, 0.0))
        lines = [one.channels(400.0).streams(400.0).length.sum() for one in (across, ending)]
        self.assertLess(lines[1], lines[0])
        self.assertEqual(ending.counts[0].max(), 0)
        with self.assertRaisesMessage(InputError, "Choose a lower one"):
            drainage(surface, Conditioning(sea=50.0))


class DrainageTest(SimpleTestCase):
    def test_surfaces_tell_what_drainage_found(self):
        surface = island()
        how = Conditioning("fill", Limits(), 0.0)
        found = drainage(surface, how)
        heights, change, area = (DrainedSurface(surface, how, Known(), tells) for tells in ("heights", "change", "one"))
        cells = surface.read_all()
        self.assertTrue((heights.read_all() >= cells).all())  # the sea stays what it was
        np.testing.assert_array_equal(
            np.nan_to_num(change.read_all()), np.where(np.isnan(found.heights), 0, heights.read_all() - cells)
        )
        drained = np.nansum(np.where(found.to == 8, area.read_all(), 0))
        self.assertAlmostEqual(drained / found.cell_area, (found.counts > 0).sum(), delta=0.01)
        self.assertEqual(
            area.read_exact(area.grid.whole).dtype, np.float64
        )  # counts stay exact where a 32-bit number would round them
        for tells in ("two", "many"):
            spread = DrainedSurface(surface, how, Known(), tells).read_all()
            self.assertAlmostEqual(np.nansum(np.where(found.to == 8, spread, 0)) / drained, 1, delta=1e-5)

    def test_it_is_known_by_what_it_is_made_of(self):
        surface, pond = island(), shapely.Point(0, 0).buffer(1)
        marks = {
            told(surface, how, areas)
            for how in (
                Conditioning(),
                Conditioning("fill"),
                Conditioning(sea=0.0),
                Conditioning(limits=Limits(depth=2.0)),
            )
            for areas in (Known(), Known((pond,)))
        }
        self.assertEqual(len(marks), 8)

    def test_streams_that_are_burned_in_are_followed(self):
        surface = island()
        grid = surface.grid
        way = shapely.LineString(
            [(float(grid.x_of(c)), float(grid.y_of(r))) for r, c in ((54, 54), (60, 80), (100, 90))]
        )
        how = Conditioning("fill", burning=Burning(2.0, 3.0))
        found = drainage(surface, how, Known(streams=(way,)))
        self.assertEqual(len(found.burned), 1)
        plain = drainage(surface, Conditioning("fill"))
        self.assertEqual(plain.burned, ())
        self.assertGreater(found.counts[60, 80], 2 * plain.counts[60, 80])
        with self.assertRaisesMessage(InputError, "no lines to burn in"):
            drainage(surface, how)

    def test_a_hollow_that_holds_a_place_keeps_its_water(self):
        surface = island()
        grid = surface.grid
        pond, slope = ((float(grid.x_of(50 + x)), float(grid.y_of(50))) for x in (20, -20))
        plain = drainage(surface, Conditioning("fill", sea=0.0))
        self.assertEqual((plain.to[40:60, 60:80] == NONE).sum(), 0)
        kept = drainage(surface, Conditioning("fill", sea=0.0), Known(waters=(pond, slope)))
        self.assertEqual(kept.missed, 1)
        self.assertGreater((kept.to[40:60, 60:80] == NONE).sum(), 0)
        np.testing.assert_array_equal(kept.heights[50, 66:75], surface.read_all()[50, 66:75])
        self.assertNotEqual(*(told(surface, Conditioning(), Known(waters=at)) for at in ((pond,), (slope,))))

    def test_what_was_kept_is_what_was_found(self):
        surface = island()
        found = drainage(surface, Conditioning("fill", sea=0.0))
        with TemporaryDirectory() as folder:
            place = Path(folder) / "water"
            with self.assertRaises(FileNotFoundError):
                open_drainage(place)
            keep_drainage(found, place)
            held = open_drainage(place)
        np.testing.assert_array_equal(held.counts, found.counts)
        one, other = (each.streams(1_100.0) for each in (held.channels, found.channels(1_100.0)))
        self.assertEqual(set(one.cells.tolist()), set(other.cells.tolist()))
        self.assertAlmostEqual(one.length.sum(), other.length.sum())
        # along a line across the island only what is not sea is covered
        grid = surface.grid
        across = shapely.LineString([(grid.bounds.west, grid.y_of(50)), (grid.bounds.east, grid.y_of(50))])
        (covered,) = held.covered([across])
        self.assertAlmostEqual(covered.length, 2 * 80, delta=8)
        places, leaves = held.way(float(grid.x_of(60)), float(grid.y_of(60)))
        self.assertTrue(leaves)
        self.assertEqual(held.counts[60, 60] > 0, True)
        self.assertGreater(len(places), 20)
        with self.assertRaisesMessage(InputError, "no height at this place"):
            held.way(float(grid.x_of(0)), float(grid.y_of(0)))

    def test_what_cannot_be_is_refused(self):
        grid = grid_of((4, 4))
        for surface, words in (
            (ArraySurface(np.full((4, 4), np.nan), grid), "is empty"),
            (ArraySurface(np.ones((4, 4)), grid, ""), "has no heights"),
        ):
            with self.assertRaisesMessage(InputError, words):
                drainage(surface, Conditioning())

    def test_one_cell_and_level_ground_drain_out(self):
        for shape in ((1, 1), (7, 9)):
            found = drainage(ArraySurface(np.full(shape, 5.0), grid_of(shape)), Conditioning())
            self.assertEqual(found.counts[found.to == 8].sum(), np.prod(shape))


class KindsTest(SimpleTestCase):
    def kinds(self, cells, **options):
        found = hollows(cells.astype(np.float32), grid_of(cells.shape))
        return listed(found, **options)

    def test_a_pit_of_few_cells_is_an_error(self):
        x, y = np.meshgrid(np.arange(60), np.arange(40))
        cells = 100 - 0.1 * x + 0.2 * np.abs(y - 20.3)
        cells[15, 30:33] -= 61.0
        (pit,) = self.kinds(cells, least_depth=0.5)
        self.assertEqual((pit.kind, pit.cells), ("error", 3))
        self.assertIn("deep over 3 cells", pit.why)
        self.assertAlmostEqual(pit.depth, 60.7, delta=0.01)
        self.assertAlmostEqual(shapely.area(pit.shape), 12, delta=1e-6)

    def test_ground_behind_a_bank_wants_a_culvert(self):
        x, y = np.meshgrid(np.arange(120), np.arange(80))
        cells = 100 - 0.1 * x + 0.2 * np.abs(y - 40.3)
        cells[:, 100:103] += 6
        (behind,) = self.kinds(cells, least_depth=0.5)
        self.assertEqual(behind.kind, "culvert")
        self.assertLess(behind.way, 20)
        self.assertLess(behind.cut, 0.1 * behind.volume)

    def test_water_is_told_by_its_level_and_by_a_lake_drawn_there(self):
        x, y = np.meshgrid(np.arange(120), np.arange(80))
        away = np.hypot(x - 60, y - 40)
        cells = np.where(away < 25, 50.0, 50 + np.minimum(away - 25, 8) - np.maximum(away - 33, 0) * 0.3)
        (pond,) = self.kinds(cells, least_depth=0.5)
        self.assertEqual(pond.kind, "water")
        self.assertIn("is level", pond.why)
        rough = away / 4  # a bowl as wide as the surface: no bank stands anywhere
        (basin,) = self.kinds(rough, least_depth=0.5)
        self.assertEqual(basin.kind, "open")
        grid = grid_of(cells.shape)
        middle = shapely.Point(float(grid.x_of(60)), float(grid.y_of(40))).buffer(72)
        (lake,) = self.kinds(rough, least_depth=0.5, waters=[(middle, "Lantern Water")])
        self.assertEqual((lake.kind, lake.why), ("water", "Lantern Water covers most of it."))

    def test_the_list_begins_with_what_holds_most(self):
        cells = np.random.default_rng(3).normal(0, 1, (90, 90))
        told = self.kinds(cells, count=10)
        self.assertEqual(len(told), 10)
        volumes = [one.volume for one in told]
        self.assertEqual(volumes, sorted(volumes, reverse=True))
        self.assertEqual(self.kinds(cells, least_depth=99.0), [])
