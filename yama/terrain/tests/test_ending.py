"""Cancelling is heard inside a part that takes long, not only between parts."""

import threading
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.ending import go_on, until
from yama.terrain.errors import CancelledError
from yama.terrain.grid import Grid
from yama.terrain.interpolate import kriging, spline
from yama.terrain.interpolate.kriging import Variogram, kriged
from yama.terrain.interpolate.spline import tension_spline
from yama.terrain.surface import EvaluatedSurface, read_block, store
from yama.terrain.tests.test_surface import FolderTest

GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 300, 300)


class EndingTest(SimpleTestCase):
    def test_work_gives_up_when_it_is_no_longer_wanted(self):
        ended = threading.Event()
        self.assertEqual(until(ended, lambda value: (go_on(), value)[1])(7), 7)
        ended.set()
        with self.assertRaises(CancelledError):
            until(ended, lambda: 7)()
        go_on()  # outside such work there is nothing to hear


class CancelledPartTest(FolderTest):
    def test_a_part_without_end_is_ended(self):
        inside = threading.Event()

        def evaluate(part: Grid) -> np.ndarray:
            inside.set()
            waits = threading.Event()
            for _ in range(6_000):  # a minute, should nobody be heard
                go_on()
                waits.wait(0.01)
            raise AssertionError("the end was not heard")

        def progress(_share: float) -> None:
            if inside.is_set():
                raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            store(EvaluatedSurface(GRID, evaluate), self.folder / "part.tif", progress)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_the_slow_methods_listen(self):
        x, y = np.random.default_rng(2).uniform((448_000, 5_437_400), (448_600, 5_438_000), (400, 2)).T
        smooth = kriged(x, y, x * 0.1, GRID, Variogram("exponential", 1.0, 50.0, 100.0), 16)
        for module, surface in ((kriging, smooth), (spline, tension_spline(x, y, x * 0.1, GRID))):
            with mock.patch.object(module, "go_on", side_effect=CancelledError("now")) as asked:
                with self.assertRaises(CancelledError):
                    read_block(surface, GRID.whole)
                self.assertEqual(asked.call_count, 1)
            self.assertEqual(np.isnan(read_block(surface, GRID.whole)).sum(), 0)
