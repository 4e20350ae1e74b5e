"""Holes found strip by strip are those a whole-array labelling finds."""

from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface
from yama.terrain.voids import HoleFinder, holes_of, outlines


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


class OutlinesTest(SimpleTestCase):
    """Holes as polygons: their area is that of their cells, and exactly those cells lie within."""

    def surface(self, empty):
        grid = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, *empty.shape)
        return ArraySurface(np.where(empty, np.nan, 7.0), grid)

    def test_every_cell_of_a_hole_lies_in_its_polygon_and_no_other(self):
        rng = np.random.default_rng(8)
        empty = ndimage.binary_opening(rng.random((70, 90)) < 0.6)
        empty[[0, -1], :] = empty[:, [0, -1]] = False
        labels, count = ndimage.label(empty)
        holes = found(empty, 16)
        shapes = outlines(self.surface(empty), holes.largest)
        self.assertEqual(len(shapes), count)
        grid = self.surface(empty).grid
        xs, ys = grid.centres(grid.whole)
        centres = shapely.points(*np.meshgrid(xs, ys))
        seen = set()
        for shape, hole in zip(shapes, holes.largest, strict=True):
            inside = shapely.contains(shape.polygon, centres)
            self.assertEqual(int(inside.sum()), hole.cells)
            (label,) = set(labels[inside])
            self.assertNotIn(label, seen)
            seen.add(label)
            self.assertAlmostEqual(shape.polygon.area, hole.cells * 4.0)
            self.assertEqual(shape.area, hole.cells * 4.0)
            self.assertTrue(shape.exact)

    def test_data_within_a_hole_is_no_part_of_it(self):
        empty = np.zeros((20, 20), bool)
        empty[4:15, 4:15] = True
        empty[8:11, 8:11] = False
        (shape,) = outlines(self.surface(empty), found(empty, 7).largest)
        self.assertEqual(len(shape.polygon.interiors), 1)
        self.assertEqual(shape.polygon.area, (121 - 9) * 4)

    def test_a_hole_too_wide_is_traced_on_larger_cells(self):
        empty = np.zeros((200, 200), bool)
        empty[20:180, 20:180] = True
        with mock.patch("yama.terrain.voids._TRACED", 2_000):
            (shape,) = outlines(self.surface(empty), found(empty, 64).largest)
        self.assertFalse(shape.exact)
        self.assertEqual(shape.area, 160 * 160 * 4)
        self.assertAlmostEqual(shape.polygon.area, shape.area, delta=0.15 * shape.area)

    def test_a_surface_is_searched_strip_by_strip(self):
        heights = np.ones((40, 30), np.float32)
        heights[5:9, 4:9] = heights[38:, :3] = np.nan
        found = holes_of(ArraySurface(heights, Grid("EPSG:32741", 0.0, 80.0, 2.0, 2.0, 40, 30)))
        self.assertEqual((found.count, found.cells, found.outside), (1, 20, 6))
        self.assertEqual((found.largest[0].top, found.largest[0].right), (5, 8))
