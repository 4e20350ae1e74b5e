"""Joining the providers' tiles: levelled they are nearer to the truth, and no step is left that one could see."""

import numpy as np
from django.test import SimpleTestCase

from yama.demo import products
from yama.demo.terrain import FRAME, island
from yama.demo.tests import made
from yama.terrain.formats import raster
from yama.terrain.mosaic.joined import Joined, Joining
from yama.terrain.mosaic.mosaic import sheet

_MUCH = 10_000  # cells of land at 8 m, of 62 500, with which a tile counts


class JoinedTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        folder = made()["contours"].parent / "depot"
        unlike = {products.FAULTS[name] for name in ("skerry_feet", "skerry_void")}
        skerry = [path for path in sorted((folder / "skerry-5").glob("*.tif")) if path.stem not in unlike]
        cls.tiles = [raster.read(path) for path in skerry]
        cls.plover = sheet([raster.read(path) for path in sorted((folder / "plover-30").glob("*.tif"))])
        cls.grid = FRAME.at_level(2)
        cls.truth = island().surface.read(cls.grid.whole, 2)

    def errors(self, **params):
        """Errors on land, and the tile each came from."""
        joined = Joined([*self.tiles, self.plover], FRAME, how=Joining("first", **params))
        heights, sources = joined.read(self.grid.whole, 2), joined.sources(self.grid.whole, 2)
        usable = (self.truth > 1) & ~np.isnan(heights)
        return (heights - self.truth)[usable], sources[usable]

    def test_the_error_falls_by_levelling(self):
        before, after = self.errors()[0], self.errors(levelling="offset")[0]
        self.assertLess(np.sqrt(np.mean(after**2)), 0.95 * np.sqrt(np.mean(before**2)))

    def test_steps_between_tiles_sink_below_the_noise(self):
        def steps(error, source):
            """Between the medians of each two tiles that lie side by side and hold much land."""
            usual = {i: np.median(error[source == i]) for i in range(len(self.tiles)) if (source == i).sum() > _MUCH}
            corner = {i: (self.tiles[i].grid.west, self.tiles[i].grid.north) for i in usual}
            apart = {(i, j): np.abs(np.subtract(corner[i], corner[j])).sum() for i in usual for j in usual if i < j}
            return np.array([abs(usual[i] - usual[j]) for (i, j), far in apart.items() if far < 2_100])

        before, after = steps(*self.errors()), steps(*self.errors(levelling="offset"))
        self.assertGreater(before.size, 10)
        error, source = self.errors(levelling="offset")
        inner = error[source < len(self.tiles)]
        # of a difference of two cells
        noise = 2**0.5 * 1.4826 * np.median(np.abs(inner - np.median(inner)))
        self.assertGreater(before.max(), 2 * noise)
        self.assertLess(after.max(), noise)
        self.assertLess(np.median(after), 0.6 * np.median(before))
