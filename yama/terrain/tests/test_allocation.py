"""Freed memory kept for the next arrays."""

import subprocess
import sys

from django.test import SimpleTestCase

_COUNT = """
import resource
from yama.terrain.allocation import keep_freed_memory
import numpy as np
kept = {kept} and keep_freed_memory()
def faults():
    return resource.getrusage(resource.RUSAGE_SELF).ru_minflt
for round in range(51):
    if round == 1:
        before = faults()
    some = [np.ones(750_000, np.float32) for _ in range(5)]
    del some
print(faults() - before)
"""


class KeptMemoryTest(SimpleTestCase):
    def test_the_next_arrays_are_not_asked_of_the_system_again(self):
        """Counted in pages the system had to bring: fifty times 15 MB are 180 000 of them."""

        def pages(kept: bool) -> int:
            done = subprocess.run(
                [sys.executable, "-c", _COUNT.format(kept=kept)], capture_output=True, text=True, check=True
            )
            return int(done.stdout)

        self.assertLess(pages(True), pages(False) / 20)
