"""Blocks computed by the workers of a scheduler are the same bytes as those computed here."""

import os
import pickle
from unittest import mock

import cloudpickle
import numpy as np
import shapely
from distributed import LocalCluster

from yama.terrain.cluster import ADDRESS
from yama.terrain.errors import InputError
from yama.terrain.fit.clip import Masked
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Grid
from yama.terrain.kept import Kept
from yama.terrain.mosaic.fill import Filled
from yama.terrain.mosaic.joined import Joined, Joining
from yama.terrain.surface import EvaluatedSurface, StoredSurface, store
from yama.terrain.tests.test_surface import FolderTest, rough


class ClusterTest(FolderTest):
    def chain(self):
        """A levelled mosaic of stored tiles, filled, set half a cell aside and masked."""
        tiles = []
        for i, part in enumerate(((0, 0), (0, 600), (500, 0), (500, 600))):
            whole = rough(1100, 1300, seed=i, holes=False)
            path = self.folder / f"tile{i}.tif"
            grid = whole.grid
            moved = Grid(grid.crs, grid.west + 2 * part[1], grid.north - 2 * part[0], 2, 2, 600, 700)
            heights = whole.read_all()[:600, :700] / 40 + 3 * i
            heights[100:106, 150:155] = np.nan
            store(EvaluatedSurface(moved, lambda asked, held=heights: held[: asked.rows, : asked.cols]), path)
            tiles.append(StoredSurface(path))
        grid = Grid("EPSG:32741", 443_520, 5_442_560, 2, 2, 1100, 1300)
        joined = Joined(tiles, grid, how=Joining("seam", levelling="offset"))
        aside = Grid("EPSG:32741", 443_521, 5_442_559, 2, 2, 1090, 1290)
        return Masked(fitted(Filled(joined, "plate", 20.0), aside), [shapely.Point(444_700, 5_441_500).buffer(1_000)])

    def test_the_same_bytes(self):
        surface = self.chain()
        here = store(surface, self.folder / "here.tif")
        with (
            LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster,
            mock.patch.dict(os.environ, {ADDRESS: cluster.scheduler_address}),
        ):
            there = store(surface, self.folder / "there.tif")
        self.assertEqual(here, there)
        self.assertLess(here.empty, here.cells / 2)
        self.assertEqual((self.folder / "here.tif").read_bytes(), (self.folder / "there.tif").read_bytes())

    def test_a_scheduler_that_does_not_answer_is_named(self):
        with (
            mock.patch.dict(os.environ, {ADDRESS: "tcp://127.0.0.1:9"}),
            mock.patch("yama.terrain.cluster._PATIENCE", 1),
            self.assertRaisesRegex(InputError, "tcp://127.0.0.1:9, and no scheduler answers"),
        ):
            store(rough(), self.folder / "s.tif")
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_surface_arrives_without_what_belongs_to_one_process(self):
        surface = self.chain()
        before = surface.read_all()
        again = pickle.loads(cloudpickle.dumps(surface))
        np.testing.assert_array_equal(again.read_all(), before)


class KeptTest(FolderTest):
    def test_made_once_and_the_oldest_goes(self):
        made = []
        kept = Kept(2)
        for key in (1, 2, 1, 3, 1, 2):
            self.assertEqual(kept.get(key, lambda key=key: made.append(key) or key), key)
        self.assertEqual(made, [1, 2, 3, 2])

    def test_what_fails_is_not_kept(self):
        kept = Kept(2)
        with self.assertRaises(ZeroDivisionError):
            kept.get(1, lambda: 1 / 0)
        self.assertEqual(kept.get(1, lambda: 5), 5)
