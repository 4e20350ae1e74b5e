"""Results with names: made when they are asked for, once, whoever asks."""

import threading
import time

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.grid import Grid
from yama.terrain.operations import Results
from yama.terrain.surface import ArraySurface
from yama.terrain.table import Column, Table

GRID = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 3, 4)


class ResultsTest(SimpleTestCase):
    def test_what_nobody_asks_for_is_not_made(self):
        made = []
        results = Results(
            table=Table((Column("a", "A"),), []), surface=lambda: made.append(1) or ArraySurface(np.zeros((3, 4)), GRID)
        )
        self.assertEqual((list(results), "surface" in results, len(results["table"])), (["table", "surface"], True, 0))
        self.assertEqual(made, [])
        self.assertIs(results["surface"], results.surface("surface"))
        self.assertEqual(made, [1])
        with self.assertRaisesMessage(TypeError, "The output table is no surface."):
            results.surface("table")

    def test_many_threads_that_ask_at_once_get_one_thing_made_once(self):
        made, got = [], []

        def make():
            made.append(1)
            time.sleep(0.1)
            return ArraySurface(np.zeros((3, 4)), GRID)

        results = Results(surface=make).changed(lambda name, surface: surface)
        threads = [threading.Thread(target=lambda: got.append(results["surface"])) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual((len(made), len(got), len({id(one) for one in got})), (1, 8, 1))

    def test_what_failed_is_tried_again(self):
        tries = []

        def make():
            tries.append(1)
            if len(tries) == 1:
                raise MemoryError
            return ArraySurface(np.zeros((3, 4)), GRID)

        results = Results(surface=make)
        with self.assertRaises(MemoryError):
            results.surface("surface")
        self.assertEqual(results.surface("surface").grid, GRID)
