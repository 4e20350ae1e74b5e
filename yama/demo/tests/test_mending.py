"""Mending on the island, whose truth is known: what is repaired comes nearer to it, and what belongs there is no
error."""

import numpy as np
from django.test import SimpleTestCase

from yama.demo.terrain import FRAME, island
from yama.terrain.grid import Window
from yama.terrain.mend.suspects import suspects
from yama.terrain.surface import ArraySurface


class SuspectsOfTheGroundTest(SimpleTestCase):
    def test_the_ground_of_the_island_has_no_spikes_and_no_pits(self):
        """Cliffs, a gorge, peaks and stream beds are no errors."""
        surface = ArraySurface(island().heights.astype(np.float32), FRAME)
        window = Window(0, 0, FRAME.rows, 2400)
        kinds = [one.kind for one in suspects(surface, window)]
        self.assertEqual([one for one in kinds if one in ("spike", "pit")], [])
