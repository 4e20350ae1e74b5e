"""Clip and mask: which cells stay, against shapely; margins, touch, trimmed grids; live is stored."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic.tests.test_mosaic import GRID, ground
from yama.terrain.operations import find
from yama.terrain.operations.tests.running import first_of, task_for
from yama.terrain.surface import ArraySurface, StoredSurface, store

FRAME = Frame(GRID, "m", "")
OPERATION = find("clip")
LAKE = shapely.Polygon([(1_030.3, 2_990.7), (1_120.1, 2_960.2), (1_080.9, 2_900.4), (1_025.2, 2_930.6)])
POND = shapely.box(1_140.5, 2_860.5, 1_160.5, 2_880.5)
AREAS = Features(GRID.crs, np.array([LAKE, POND], dtype=object), {"kind": ["lake", "pond"], "number": [1, 2]})


def inputs(area: Features | None = AREAS) -> dict:
    return {"surface": ArraySurface(ground(GRID), GRID), **({"area": area} if area else {})}


def clipped(area: Features | None = AREAS, **params):
    return first_of(task_for(OPERATION.name, inputs(area), FRAME, params))


def found(area: Features | None = AREAS, **params) -> dict:
    return {one.code: one for one in task_for(OPERATION.name, inputs(area), FRAME, params).findings}


def within(shape) -> np.ndarray:
    x, y = np.meshgrid(GRID.x_of(np.arange(GRID.cols)), GRID.y_of(np.arange(GRID.rows)))
    return shapely.contains_xy(shape, x, y)


class ClipTest(SimpleTestCase):
    def test_which_cells_stay(self) -> None:
        both = shapely.union(LAKE, POND)
        for params, shape, inverse in (
            ({}, both, False),
            ({"keep": "outside"}, both, True),
            ({"margin": 10}, shapely.buffer(both, 10, join_style="mitre"), False),
            ({"margin": -6}, shapely.buffer(both, -6, join_style="mitre"), False),
            ({"where": "kind = pond"}, POND, False),
            ({"where": "number = 1"}, LAKE, False),
            ({"bounds": (1_020, 2_900, 1_100, 2_950)}, shapely.box(1_020, 2_900, 1_100, 2_950), False),
        ):
            heights = clipped(trim=False, **params).read_all()
            np.testing.assert_array_equal(~np.isnan(heights), within(shape) != inverse, str(params))
            np.testing.assert_array_equal(
                heights[~np.isnan(heights)], ground(GRID).astype(np.float32)[~np.isnan(heights)]
            )

    def test_touched_cells_count_where_asked(self) -> None:
        kept = ~np.isnan(clipped(trim=False, touched=True).read_all())
        cells = shapely.box(*np.meshgrid(GRID.west + 2 * np.arange(90), GRID.north - 2 - 2 * np.arange(80)),
                            *np.meshgrid(GRID.west + 2 + 2 * np.arange(90), GRID.north - 2 * np.arange(80)))  # fmt: skip
        overlap = shapely.area(shapely.intersection(cells, shapely.union(LAKE, POND)))
        self.assertTrue(kept[overlap > 1.0].all())  # a corner that is hardly cut may be missed
        self.assertFalse(kept[overlap == 0].any())
        self.assertGreater(kept.sum(), within(shapely.union(LAKE, POND)).sum())

    def test_trimmed_grids_keep_their_cells_in_place(self) -> None:
        for params in ({"where": "kind = lake"}, {"keep": "rectangle", "where": "kind = lake"},
                       {"bounds": (1_020, 2_900, 1_101, 2_951)}):  # fmt: skip
            part, whole = clipped(**params), clipped(trim=False, **params)
            self.assertTrue(part.grid.is_in_step_with(GRID))
            self.assertLess(part.grid.cell_count, GRID.cell_count / 2)
            row, col = GRID.offset_of(part.grid)
            heights = part.read_all()
            np.testing.assert_array_equal(heights, whole.read(Window(row, col, part.grid.rows, part.grid.cols)))
            self.assertEqual(np.count_nonzero(~np.isnan(heights)), np.count_nonzero(~np.isnan(whole.read_all())))
            with tempfile.TemporaryDirectory() as folder:
                store(part, Path(folder) / "p.tif")
                np.testing.assert_array_equal(StoredSurface(Path(folder) / "p.tif").read_all(), heights)
            for level in (1, 2):
                at = part.grid.at_level(level)
                coarse = part.read(at.whole, level)
                self.assertEqual(coarse.shape, (at.rows, at.cols))
                self.assertTrue(np.isnan(part.read(Window(at.rows, 0, 3, 3), level)).all())

    def test_a_rectangle_keeps_what_the_mask_empties(self) -> None:
        rectangle = clipped(keep="rectangle", where="kind = lake").read_all()
        mask = clipped(where="kind = lake").read_all()
        self.assertFalse(np.isnan(rectangle).any())
        self.assertEqual(rectangle.shape, mask.shape)
        self.assertTrue(np.isnan(mask).any())

    def test_findings(self) -> None:
        self.assertEqual(found(), {})
        self.assertEqual(found(keep="rectangle")["together"].weight, "note")
        away = Features(GRID.crs, np.array([shapely.box(0, 0, 5, 5)], dtype=object), {})
        lines = Features(GRID.crs, np.array([shapely.LineString([(1_000, 2_900), (1_100, 2_950)])], dtype=object), {})
        crossed = shapely.Polygon([(1_010, 2_900), (1_060, 2_950), (1_060, 2_900), (1_010, 2_950)])
        self.assertEqual(found(None)["none"].weight, "stop")
        self.assertEqual(found(away)["outside"].weight, "stop")
        self.assertEqual(found(lines)["no_area"].weight, "stop")
        self.assertEqual(found(where="kind = sea")["no_area"].weight, "stop")
        self.assertIn("There is no column nothing", found(where="nothing = sea")["where"].sentence)
        self.assertEqual(found(margin=-500)["margin"].fix.set_params, {"margin": 0})
        self.assertEqual(found(None, bounds=(5, 5, 5, 9))["bounds"].weight, "stop")
        self.assertEqual(found(None, bounds=(0, 0, 5, 9))["outside"].weight, "stop")
        bow = clipped(Features(GRID.crs, np.array([crossed], dtype=object), {}), trim=False).read_all()
        self.assertAlmostEqual(np.count_nonzero(~np.isnan(bow)) * 4, 1_250, delta=60)
        with self.assertRaisesMessage(InputError, "outside the surface"):
            clipped(away)

    def test_polygons_in_another_crs(self) -> None:
        degrees = AREAS.in_crs("EPSG:4326")
        there = clipped(degrees, trim=False).read_all()
        np.testing.assert_array_equal(np.isnan(there), np.isnan(clipped(trim=False).read_all()))
        far = ArraySurface(ground(GRID), Grid("EPSG:32741", 0.0, 9_000.0, 2.0, 2.0, 80, 90))
        self.assertEqual(
            task_for(OPERATION.name, {"surface": far, "area": [AREAS]}, FRAME, {}).findings[0].code, "outside"
        )

    def test_a_column_and_its_value_are_read_as_a_condition(self) -> None:
        clip = find("clip")
        upgraded = [clip.upgraded({"column": column, "value": value, "margin": 2.0})[0]
                    for column, value in (("kind", "lake"), ("number", "1"), ("kind", 'the "old" one'))]  # fmt: skip
        self.assertEqual(upgraded[0], {"where": '"kind" = "lake"', "margin": 2.0})
        self.assertEqual(upgraded[1]["where"], '"number" = 1')
        for params in upgraded[:2]:
            self.assertEqual(found(where=params["where"]), {})
        self.assertEqual(upgraded[2]["where"], '"kind" = \'the "old" one\'')
