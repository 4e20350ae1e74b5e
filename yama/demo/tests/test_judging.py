"""Judging on the island: what was done to each source is found, and told with the right name."""

from dataclasses import replace
from functools import cache

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from yama.demo.files import canopy_of
from yama.demo.products import FAULTS, PRODUCTS, _cells
from yama.demo.terrain import FRAME, island
from yama.demo.waymark import collections
from yama.terrain.grid import Grid
from yama.terrain.judge.coregistration import coregistration
from yama.terrain.judge.worst import worst_places
from yama.terrain.surface import ArraySurface

_CORNER, _SIDE = (62.33, -41.27), 0.08


@cache
def grounds():
    """What products are made from: land with and without what stands on it, as smooth as each has it."""
    truth = island()
    land = np.maximum(truth.heights, 0)
    first = np.where(truth.heights > 0, truth.heights + canopy_of(truth), 0).astype(np.float32)
    return {
        "smooth": ndimage.uniform_filter(ndimage.uniform_filter(land, 27), 27),
        "coarse": ndimage.uniform_filter(first, 45),
        "first": ndimage.uniform_filter(first, 14),
    }


def product(name, ground, shift=0.0, up=0.0, noise=0.0):
    """A part of a product, 0 where there is no land, as it is delivered."""
    made = replace(next(one for one in PRODUCTS if one.name == name), tile=_SIDE)
    cells = _cells(made, grounds()[ground], *_CORNER, shift)
    rough = ndimage.gaussian_filter(np.random.default_rng(5).standard_normal(cells.shape), 0.8)
    cells = np.where(cells > 0.5, cells + up + noise * rough / rough.std(), 0.0)
    grid = Grid(made.crs, _CORNER[0], _CORNER[1] + made.tile, made.cell, made.cell, *cells.shape)
    return ArraySurface(cells.astype(np.float32), grid)


class ShiftsTest(SimpleTestCase):
    def on(self, surface):
        """Cells of the frame about as large as the surface's."""
        return FRAME.with_cells(max(surface.grid.metres_per_cell()))

    def test_heron_90_lies_forty_metres_to_the_east(self):
        heron = product("heron-90", "coarse", FAULTS["heron_shift"] / (111_320 * np.cos(0.7195)), noise=1.5)
        found = coregistration(heron, island().surface, on=self.on(heron))
        self.assertAlmostEqual(found.east, FAULTS["heron_shift"], delta=5)
        self.assertAlmostEqual(found.north, 0, delta=5)
        self.assertLess(found.after.rmse, found.before.rmse)

    def test_plover_30_stands_higher_and_nowhere_else(self):
        plover = product("plover-30", "smooth", up=FAULTS["plover_offset"])
        found = coregistration(plover, island().surface, on=self.on(plover))
        self.assertAlmostEqual(found.up, FAULTS["plover_offset"], delta=0.25)
        self.assertLess(found.distance, 2.0)

    def test_beacon_30_lies_half_a_cell_to_the_east(self):
        beacon = product("beacon-30", "first", 0.5 / 3600, noise=2.4)
        found = coregistration(beacon, island().surface, on=self.on(beacon))
        wide, high = beacon.grid.metres_per_cell()
        self.assertAlmostEqual(found.east, 0.5 * wide, delta=0.12 * wide)
        self.assertAlmostEqual(found.north, 0, delta=0.12 * high)


class WorstPlacesTest(SimpleTestCase):
    """Where a product differs most from the truth, each place with the right cause."""

    def causes(self, made):
        around = collections(island(), 7)
        found = worst_places(
            made, island().surface, FRAME, 10, [around["land_cover"]], "kind", [around["places"]]
        ).places
        return found, [(one.cause, one.which) for one in found]

    def test_heron_90_is_out_of_place(self):
        _, causes = self.causes(
            product("heron-90", "coarse", FAULTS["heron_shift"] / (111_320 * np.cos(0.7195)), noise=1.5)
        )
        self.assertGreaterEqual(causes.count(("shift", "both")), 9)

    def test_beacon_30_has_trees(self):
        found, causes = self.causes(product("beacon-30", "first", 0.5 / 3600, noise=2.4))
        self.assertEqual(causes[0], ("trees", "first"))
        self.assertTrue(found[0].near.startswith("Hallow Wood"))
        self.assertGreaterEqual(causes.count(("trees", "first")), 6)
        self.assertTrue(all(one.mean > 5 for one in found if one.cause == "trees"))

    def test_plover_30_is_smoothed(self):
        _, causes = self.causes(product("plover-30", "smooth", up=FAULTS["plover_offset"]))
        self.assertGreaterEqual(causes.count(("smoothed", "first")), 7)
        self.assertNotIn("shift", [cause for cause, _ in causes])
