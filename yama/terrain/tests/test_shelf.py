"""What is dear to make is made once for all processes."""

import os
import subprocess
import sys
from unittest import mock

from yama.terrain import shelf
from yama.terrain.kept import Kept
from yama.terrain.surface import StoredSurface, store
from yama.terrain.tests.test_surface import FolderTest, rough

_MAKE = """
import sys, time
from yama.terrain.shelf import shared
def make():
    print("made")
    time.sleep(0.5)
    return [1, 2, 3]
assert shared(("numbers", 3), make) == [1, 2, 3]
"""


class ShelfTest(FolderTest):
    def setUp(self):
        super().setUp()
        place = mock.patch.dict(os.environ, {shelf.FOLDER: str(self.folder)})
        place.start()
        self.addCleanup(place.stop)

    def anew(self):
        """As another process would see it."""
        return mock.patch("yama.terrain.shelf._here", Kept(4))

    def test_two_processes_make_it_once(self):
        running = [subprocess.Popen([sys.executable, "-c", _MAKE], stdout=subprocess.PIPE, text=True) for _ in range(2)]
        said = [one.communicate()[0] for one in running]
        self.assertEqual([one.returncode for one in running], [0, 0])
        self.assertEqual(sorted(said), ["", "made\n"])

    def test_other_things_have_other_results(self):
        for number in (1, 2, 1):
            with self.anew():
                self.assertEqual(shelf.shared(("n", number), lambda number=number: number * 10), number * 10)

    def test_what_fails_is_made_again(self):
        with self.anew():
            with self.assertRaises(ZeroDivisionError):
                shelf.shared(("x",), lambda: 1 / 0)
            self.assertEqual(shelf.shared(("x",), lambda: 4), 4)

    def test_the_oldest_leaves_where_there_is_too_much(self):
        with mock.patch("yama.terrain.shelf._MOST_BYTES", 2_500), self.anew():
            for number in range(4):
                shelf.shared(("bytes", number), lambda number=number: bytes([number]) * 1_000)
                for path in self.folder.glob("*.pickle"):
                    os.utime(path, (path.stat().st_mtime - 10, path.stat().st_mtime - 10))
        self.assertEqual(len(list(self.folder.glob("*.pickle"))), 2)

    def test_a_stored_surface_is_another_when_its_file_changes(self):
        path = self.folder / "s.tif"
        store(rough(40, 50), path)
        before = StoredSurface(path).fingerprint
        self.assertEqual(StoredSurface(path).fingerprint, before)
        self.assertNotEqual(StoredSurface(path, empty=0.0).fingerprint, before)
        os.utime(path, (1, 1))
        self.assertNotEqual(StoredSurface(path).fingerprint, before)
