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
from yama.terrain.judge.places import Places
from yama.terrain.judge.worst import worst_places
from yama.terrain.mosaic.fusion import Fused
from yama.terrain.surface import ArraySurface, sample

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


class BestOfAllTest(SimpleTestCase):
    """The best of all beats every source at points that were kept back, whatever covers the ground."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        truth = island()
        cells = truth.heights + np.random.default_rng(1).normal(0, 0.15, truth.heights.shape).astype(np.float32)
        lidar = np.full(cells.shape, np.nan, np.float32)
        lidar[1500:3600, 1800:3000] = cells[1500:3600, 1800:3000]
        lidar[2200:2260, 2200:2300] = np.nan
        lidar[truth.heights <= 0] = np.nan
        cls.sources = {
            "lidar": ArraySurface(lidar, FRAME),
            "plover": product("plover-30", "smooth", up=FAULTS["plover_offset"]),
            "beacon": product("beacon-30", "first", 0.5 / 3600, noise=2.4),
            "heron": product("heron-90", "coarse", FAULTS["heron_shift"] / (111_320 * np.cos(0.7195)), noise=1.5),
        }
        for name, made in cls.sources.items():
            made.name = name
            cells = made.read_all()
            cls.sources[name] = ArraySurface(np.where(cells == 0, np.float32(np.nan), cells), made.grid)
        cls.cover = collections(truth, 7)["land_cover"]
        fit, cls.kept = cls.points(200, 3), cls.points(2500, 4)
        cls.fused = Fused(list(cls.sources.values()), FRAME, [cls.cover], "kind", fit)
        x, y = cls.kept.x, cls.kept.y
        cls.errors = {"fused": sample(cls.fused, x, y) - cls.kept.heights}
        cls.doubts = sample(cls.fused.companions["uncertainty"], x, y)
        for name, made in cls.sources.items():
            cls.errors[name] = sample(made, *cls.kept.in_crs(made.grid.crs)) - cls.kept.heights

    @classmethod
    def points(cls, count, seed):
        """Places on land within the products, with the true heights."""
        truth = island().surface
        west, east = (_CORNER[0] + 0.018, _CORNER[0] + _SIDE - 0.018)
        south, north = (_CORNER[1] + 0.018, _CORNER[1] + _SIDE - 0.018)
        lon, lat = np.random.default_rng(seed).uniform((west, south), (east, north), (8 * count, 2)).T
        x, y = Places("EPSG:4326", lon, lat, lon).in_crs(FRAME.crs)
        heights = sample(truth, x, y)
        land = np.flatnonzero(heights > 2)[:count]
        return Places(FRAME.crs, x[land], y[land], heights[land])

    def figures(self, name, where):
        own = self.errors[name][where]
        return float(np.sqrt(np.mean(own**2))), float(1.4826 * np.median(np.abs(own - np.median(own))))

    def test_it_beats_every_source_on_every_cover(self):
        kinds = self.fused._kinds_at(self.kept)
        filled = np.isfinite(self.errors["fused"])
        self.assertGreater(filled.mean(), 0.98)
        compared = 0
        for kind in (None, *range(len(self.fused._names))):
            for name in self.sources:
                both = filled & np.isfinite(self.errors[name]) & (True if kind is None else kinds == kind)
                if both.sum() < 60:
                    continue
                fused, alone = self.figures("fused", both), self.figures(name, both)
                # of the lidar, where it is, it takes what it finds: no better, and no worse
                more = 1.06 if name == "lidar" else 1.0
                self.assertLess(fused[0], more * alone[0], (name, kind))
                self.assertLess(fused[1], more * alone[1], (name, kind))
                compared += 1
        self.assertGreater(compared, 10)
        everywhere = [
            self.figures(name, filled & np.isfinite(self.errors[name]))[0] for name in ("plover", "beacon", "heron")
        ]
        self.assertLess(self.figures("fused", filled)[0], 0.75 * min(everywhere))

    def test_its_uncertainty_is_honest(self):
        filled = np.isfinite(self.errors["fused"])
        held = np.abs(self.errors["fused"]) < 1.6449 * self.doubts
        self.assertTrue(0.85 <= float(held[filled].mean()) <= 0.95, held[filled].mean())

    def test_the_sources_have_their_right_order(self):
        names = list(self.sources)
        self.assertEqual([names[number] for number in self.fused.known.order], ["lidar", "plover", "beacon", "heron"])
        beacon = self.fused.known.sources[names.index("beacon")].model
        bias = dict(zip((*beacon.names, ""), beacon.bias, strict=True))
        self.assertGreater(bias["wood"], bias["grass"] + 3)
