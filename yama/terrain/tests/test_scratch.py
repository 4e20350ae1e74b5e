import gc
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import TestCase

from yama.terrain.scratch import Scratch

_KILLED = """
import os, sys
from pathlib import Path
from yama.terrain.scratch import Scratch
held = Scratch("water-", Path(sys.argv[1]))
(held.path / "cells").write_bytes(bytes(1000))
os.kill(os.getpid(), 9)
"""


class ScratchTest(TestCase):
    """A folder for temporary files goes with what it was made for."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.parent = Path(held.name)

    def test_removed_with_its_owner(self):
        held = Scratch("water-", self.parent)
        (held.path / "cells").write_bytes(b"1")
        self.assertEqual(len(list(self.parent.iterdir())), 1)
        del held
        gc.collect()
        self.assertEqual(list(self.parent.iterdir()), [])

    def test_removed_at_the_end_of_a_block(self):
        with Scratch("water-", self.parent) as folder:
            (folder / "cells").write_bytes(b"1")
        self.assertFalse(folder.exists())

    def test_what_a_killed_process_left_goes_with_the_next(self):
        ended = subprocess.run([sys.executable, "-c", _KILLED, str(self.parent)], check=False)
        self.assertEqual(ended.returncode, -9)
        (left,) = self.parent.iterdir()
        alive = Scratch("water-", self.parent)
        self.assertFalse(left.exists())
        Scratch("water-", self.parent).remove()
        self.assertTrue(alive.path.exists(), "that of a process that lives stays")

    def test_other_folders_stay(self):
        other = self.parent / "water-of-somebody"
        other.mkdir()
        (other / "lock").write_text("")
        Scratch("water-", self.parent).remove()
        self.assertTrue(other.exists())
