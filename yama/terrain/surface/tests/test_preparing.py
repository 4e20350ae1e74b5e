"""What needs the whole grid is made before the first cell, with progress, and can be cancelled then."""

import numpy as np

from yama.terrain.ending import got_to, heard_by
from yama.terrain.errors import CancelledError
from yama.terrain.grid import Grid
from yama.terrain.interpolate.contour_sheet import Sheet
from yama.terrain.interpolate.contours import ContourSpline
from yama.terrain.surface import Accompanied, ArraySurface, LiveSurface, store
from yama.terrain.tests.test_surface import FolderTest

GRID = Grid("EPSG:32741", 0.0, 400.0, 1.0, 1.0, 400, 400)


class Slow(ArraySurface):
    """A surface that takes ten steps before its first cell."""

    steps = 0

    def prepare(self, progress=lambda share: None):
        for step in range(10):
            type(self).steps += 1
            progress((step + 1) / 10)


class PreparingTest(FolderTest):
    def setUp(self):
        super().setUp()
        Slow.steps = 0
        self.slow = Slow(np.ones((400, 400), np.float32), GRID)

    def test_storing_prepares_first_and_goes_on_from_there(self):
        told = []
        through = Accompanied(
            LiveSurface([self.slow, self.slow], lambda held, _: held[0] + held[1], 0, "m", of=("sum",))
        )
        store(through, self.folder / "made.tif", told.append)
        self.assertEqual(Slow.steps, 20)
        self.assertEqual(told, sorted(told))
        self.assertEqual((sum(share <= 0.3 for share in told), told[-1]), (20, 1.0))

    def test_cancelled_while_it_is_prepared_nothing_is_left(self):
        def progress(share):
            if share > 0.1:
                raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            store(self.slow, self.folder / "made.tif", progress)
        self.assertEqual(Slow.steps, 4)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_spline_of_contours_hears_of_it_while_it_is_solved(self):
        ring = 200 + 150 * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]])
        spline = ContourSpline(Sheet([ring, (ring + 200) / 2], np.array([10.0, 20.0]), np.empty((0, 3))), GRID)
        told = []

        def progress(share):
            told.append(share)
            if len(told) == 3:
                raise CancelledError("Cancelled; nothing was kept.")

        with self.assertRaises(CancelledError):
            spline.prepare(progress)
        self.assertEqual(len(told), 3)
        spline.prepare()  # what was given up is begun again
        self.assertTrue(np.isfinite(spline.read(GRID.whole)).any())

    def test_what_is_heard_ends_with_the_work(self):
        told = []
        with heard_by(told.append):
            got_to(0.25)
            with heard_by(lambda share: told.append(share + 10)):
                got_to(0.5)
            got_to(0.75)
        got_to(0.9)  # nobody hears of that
        self.assertEqual(told, [0.25, 10.5, 0.75])
