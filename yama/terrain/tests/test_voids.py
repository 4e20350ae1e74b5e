"""Holes found strip by strip are those a whole-array labelling finds."""

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.voids import HoleFinder


def found(empty, strip):
    finder = HoleFinder(*empty.shape)
    for row in range(0, len(empty), strip):
        finder.add(empty[row : row + strip])
    return finder.result


def plain(empty):
    """Twin: areas and boxes of inner holes, and cells outside, from labels of the whole array."""
    labels, count = ndimage.label(empty)
    rim = set(np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]])) - {0}
    inner = [number for number in range(1, count + 1) if number not in rim]
    boxes = ndimage.find_objects(labels)
    holes = sorted(
        (-(labels == number).sum(), boxes[number - 1][0].start, boxes[number - 1][1].start) for number in inner
    )
    outside = sum((labels == number).sum() for number in rim)
    return [(-area, top, left) for area, top, left in holes], outside


class HolesTest(SimpleTestCase):
    def test_random_masks_at_any_strip_height(self):
        rng = np.random.default_rng(4)
        for share in (0.02, 0.3, 0.55, 0.75):
            empty = rng.random((61, 83)) < share
            empty = ndimage.binary_opening(empty) | (rng.random(empty.shape) < 0.02)
            wanted, outside = plain(empty)
            for strip in (1, 7, 64):
                holes = found(empty, strip)
                self.assertEqual(holes.count, len(wanted))
                self.assertEqual(holes.outside, outside)
                self.assertEqual([(h.cells, h.top, h.left) for h in holes.largest], wanted[: len(holes.largest)])

    def test_a_ring_and_a_comb_are_one_each(self):
        empty = np.zeros((20, 20), np.bool_)
        empty[3:15, 3:15] = True
        empty[6:12, 6:12] = False
        empty[8, 8] = True
        empty[17:19, 2:18:2] = True
        empty[16, 2:17] = True
        holes = found(empty, 4)
        self.assertEqual(holes.count, 3)
        self.assertEqual((holes.largest[0].cells, holes.largest[0].bottom), (108, 14))

    def test_no_holes_and_nothing_but_a_hole(self):
        self.assertEqual(found(np.zeros((9, 9), np.bool_), 2).count, 0)
        every = found(np.ones((9, 9), np.bool_), 2)
        self.assertEqual((every.count, every.outside), (0, 81))
