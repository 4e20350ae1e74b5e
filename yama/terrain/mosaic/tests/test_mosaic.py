"""Rules, weights, overlaps, levelling and seams against obvious twins; and that live is stored."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import get_args

import numpy as np
import shapely
from django.test import SimpleTestCase
from scipy import ndimage

from yama.terrain.errors import InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic.levelling import Plane, level
from yama.terrain.mosaic.mosaic import Mosaic, place
from yama.terrain.mosaic.overlap import FEET, overlaps
from yama.terrain.mosaic.rules import RuleName, edge_weights
from yama.terrain.mosaic.seams import Seams
from yama.terrain.operations.tests.running import task_for
from yama.terrain.surface import ArraySurface, StoredSurface, store
from yama.terrain.tests.places import LOCAL

GRID = Grid(LOCAL, 1_000.0, 3_000.0, 2.0, 2.0, 80, 90)


def ground(grid: Grid) -> np.ndarray:
    x, y = np.meshgrid(grid.x_of(np.arange(grid.cols)), grid.y_of(np.arange(grid.rows)))
    return 60 + 20 * np.sin(x / 25) * np.cos(y / 30) + 0.1 * (x - 1_000)


def tile(row: int, col: int, rows: int, cols: int, seed: int, change: float = 0.0, holes: int = 3) -> ArraySurface:
    """A part of the ground with its own noise and holes."""
    grid = GRID.part(Window(row, col, rows, cols))
    rng = np.random.default_rng(seed)
    heights = ground(grid) + rng.normal(0, 0.3, (rows, cols)) + change
    for _ in range(holes):
        r, c = rng.integers(0, rows - 5), rng.integers(0, cols - 5)
        heights[r : r + 4, c : c + 5] = np.nan
    return ArraySurface(heights, grid)


def tiles() -> list[ArraySurface]:
    return [tile(0, 0, 50, 55, 1), tile(5, 30, 55, 60, 2, 1.5), tile(40, 10, 40, 70, 3, -2.0), tile(20, 20, 20, 20, 4)]


def stack(surfaces: list[ArraySurface]) -> np.ndarray:
    """All surfaces on the whole grid: `(surfaces, rows, cols)`."""
    found = np.full((len(surfaces), GRID.rows, GRID.cols), np.nan, np.float32)
    for layer, surface in zip(found, surfaces, strict=True):
        row, col = GRID.offset_of(surface.grid)
        layer[row : row + surface.grid.rows, col : col + surface.grid.cols] = surface.read_all()
    return found


def weights_twin(heights: np.ndarray, width: float) -> np.ndarray:
    """Distance to the nearest empty cell, the land going on beyond the grid, as its weight."""
    around = int(np.ceil(width)) + 1
    padded = np.pad(heights, around, mode="edge")
    apart = ndimage.distance_transform_edt(~np.isnan(padded))[around:-around, around:-around]
    share = np.minimum(apart / width, 1)
    return share**2 * (3 - 2 * share)


def twin(rule: str, layers: np.ndarray, width: float) -> np.ndarray:
    with np.errstate(invalid="ignore", divide="ignore"):
        filled = ~np.isnan(layers)
        none = ~filled.any(axis=0)
        if rule in ("first", "last"):
            order = layers if rule == "first" else layers[::-1]
            found = np.take_along_axis(order, (~np.isnan(order)).argmax(axis=0)[None], 0)[0]
        elif rule in ("lowest", "highest"):
            sign = -1 if rule == "lowest" else 1
            found = sign * np.where(filled, sign * layers, -np.inf).max(axis=0)
        elif rule == "count":
            found = filled.sum(axis=0).astype(float)
        elif rule == "spread":
            apart = np.nanmax(np.where(filled, layers, -np.inf), axis=0) - np.nanmin(
                np.where(filled, layers, np.inf), axis=0
            )
            found = np.where(filled.sum(axis=0) > 1, apart, np.nan)
        elif rule in ("sum", "mean"):
            found = np.nansum(layers.astype(float), axis=0)
            found = found / filled.sum(axis=0) if rule == "mean" else found
        elif rule == "feather":
            weights = np.array([weights_twin(layer, width) for layer in layers])
            found = np.nansum(weights * layers, axis=0) / weights.sum(axis=0)
        elif rule == "priority":
            left, sums, shares = np.ones(none.shape), np.zeros(none.shape), np.zeros(none.shape)
            for layer in layers:
                share = left * weights_twin(layer, width)
                sums, shares, left = sums + share * np.nan_to_num(layer), shares + share, left - share
            found = sums / shares
        else:
            middles = [one.grid.bounds for one in tiles()]
            x, y = np.meshgrid(GRID.x_of(np.arange(GRID.cols)), GRID.y_of(np.arange(GRID.rows)))
            apart = np.array([
                (x - (box.west + box.east) / 2) ** 2 + (y - (box.south + box.north) / 2) ** 2 for box in middles
            ])  # fmt: skip
            near = np.where(filled, apart, np.inf)
            best = np.where(near == near.min(axis=0), layers, np.inf).argmin(axis=0)
            found = np.take_along_axis(layers, best[None], 0)[0]
        found[none] = np.nan
        return found


def mosaic(rule: RuleName, surfaces: list[ArraySurface] | None = None, feather: float = 12.0) -> Mosaic:
    placed = place(surfaces or tiles(), GRID)
    seams = Seams(placed, GRID, feather) if rule == "seam" else None
    return Mosaic(placed, GRID, rule, feather, seams)


class RulesTest(SimpleTestCase):
    def test_every_rule_against_its_twin(self) -> None:
        layers = stack(tiles())
        for rule in get_args(RuleName):
            if rule != "seam":
                found = mosaic(rule).read_all()
                np.testing.assert_allclose(found, twin(rule, layers, 6.0), atol=2e-5, err_msg=rule)

    def test_any_window_and_the_stored_file_have_the_same_cells(self) -> None:
        rng = np.random.default_rng(7)
        for rule in get_args(RuleName):
            live = mosaic(rule)
            whole = live.read_all()
            with tempfile.TemporaryDirectory() as folder:
                store(live, Path(folder) / "m.tif")
                np.testing.assert_array_equal(StoredSurface(Path(folder) / "m.tif").read_all(), whole, rule)
            for _ in range(6):
                window = Window(int(rng.integers(-9, 70)), int(rng.integers(-9, 80)), 23, 19)
                inside = window.clipped(GRID.rows, GRID.cols)
                part = live.read(window)[
                    inside.row - window.row : inside.row - window.row + inside.rows,
                    inside.col - window.col : inside.col - window.col + inside.cols,
                ]
                wanted = whole[inside.row : inside.row + inside.rows, inside.col : inside.col + inside.cols]
                np.testing.assert_array_equal(part, wanted, rule)

    def test_order_does_not_matter_where_the_rule_says_so(self) -> None:
        for rule in ("lowest", "highest", "mean", "sum", "count", "spread", "feather", "nearest"):
            forth, back = mosaic(rule).read_all(), mosaic(rule, tiles()[::-1]).read_all()
            np.testing.assert_allclose(forth, back, atol=1e-5, err_msg=rule)

    def test_sources_tell_where_each_cell_came_from(self) -> None:
        layers = stack(tiles())
        for rule in ("first", "last", "lowest", "highest", "nearest", "seam"):
            live = mosaic(rule)
            sources = live.companions["source"].read_all()
            heights = live.read_all()
            np.testing.assert_array_equal(np.isnan(sources), np.isnan(heights))
            filled = ~np.isnan(sources)
            picked = np.take_along_axis(layers, np.nan_to_num(sources - 1).astype(int)[None], 0)[0]
            np.testing.assert_array_equal(picked[filled], heights[filled], rule)

    def test_one_surface_is_itself_under_every_rule(self) -> None:
        alone = tile(0, 0, GRID.rows, GRID.cols, 5)
        for rule in get_args(RuleName):
            if rule not in ("count", "spread"):
                np.testing.assert_allclose(mosaic(rule, [alone]).read_all(), alone.read_all(), atol=1e-5, err_msg=rule)

    def test_a_feather_leaves_no_step(self) -> None:
        smooth = [ArraySurface(np.full((80, width), height), GRID.part(Window(0, start, 80, width)))
                  for start, width, height in ((0, 60, 10.0), (30, 60, 14.0))]  # fmt: skip
        step = {rule: np.abs(np.diff(mosaic(rule, smooth, 40.0).read_all(), axis=1)).max()
                for rule in ("first", "mean", "feather", "priority")}  # fmt: skip
        self.assertEqual(step["first"], 4)
        self.assertLess(max(step["feather"], step["priority"]), 0.4)

    def test_nothing_in_the_frame_is_refused(self) -> None:
        away = ArraySurface(np.ones((4, 4)), Grid(LOCAL, 90_000.0, 3_000.0, 2.0, 2.0, 4, 4))
        with self.assertRaisesMessage(InputError, "None of the surfaces lies within the frame"):
            place([away], GRID)
        self.assertEqual([one.number for one in place([away, *tiles()[:1]], GRID)], [1])

    def test_other_grids_and_systems_are_fitted(self) -> None:
        coarse = Grid(LOCAL, 990.0, 3_005.0, 7.0, 7.0, 30, 30)
        live = mosaic("priority", [*tiles()[:1], ArraySurface(ground(coarse), coarse)])
        apart = live.read_all() - ground(GRID)
        self.assertLess(np.nanquantile(np.abs(apart), 0.99), 1.5)
        self.assertFalse(np.isnan(apart).any())


class WeightsTest(SimpleTestCase):
    def test_exact_distances(self) -> None:
        rng = np.random.default_rng(2)
        for share in (0.0, 0.002, 0.05, 0.6, 1.0):
            heights = np.where(rng.random((50, 60)) < share, np.nan, 1.0).astype(np.float32)
            apart = ndimage.distance_transform_edt(~np.isnan(heights)) if share else np.full(heights.shape, 99.0)
            for width in (1.0, 3.5, 9.0):
                halo = 9
                share_of = np.minimum(apart / width, 1)[halo:-halo, halo:-halo]
                np.testing.assert_allclose(
                    edge_weights(heights, halo, width), share_of**2 * (3 - 2 * share_of), atol=1e-12
                )
        with self.assertRaisesMessage(InputError, "needs as many around"):
            edge_weights(heights, 2, 5.0)


class OverlapTest(SimpleTestCase):
    def test_figures_are_those_of_the_shared_cells(self) -> None:
        layers = stack(tiles())
        found = {(one.first, one.second): one for one in overlaps(place(tiles(), GRID), GRID)}
        for i in range(4):
            for j in range(i + 1, 4):
                d = (layers[i].astype(float) - layers[j])[~np.isnan(layers[i]) & ~np.isnan(layers[j])]
                if not d.size:
                    self.assertNotIn((i, j), found)
                    continue
                one = found[i, j]
                self.assertEqual(one.cells, d.size)
                np.testing.assert_allclose(
                    [one.mean, one.deviation, one.lowest, one.highest, one.median],
                    [d.mean(), d.std(), d.min(), d.max(), np.median(d)], atol=1e-6,
                )  # fmt: skip
                np.testing.assert_allclose(one.nmad, 1.4826 * np.median(np.abs(d - np.median(d))), atol=1e-6)

    def test_a_sea_of_zeros_is_no_measurement(self) -> None:
        land = ground(GRID)
        sea = np.arange(GRID.cols) < 60
        first, second = (ArraySurface(np.where(sea, 0, land + change), GRID) for change in (0.0, 1.7))
        (one,) = overlaps(place([first, second], GRID), GRID)
        self.assertEqual(one.cells, GRID.rows * 30)
        self.assertAlmostEqual(one.median, -1.7, places=4)

    def test_a_tilt_is_told_with_its_direction(self) -> None:
        flat = np.zeros((GRID.rows, GRID.cols))
        x = GRID.x_of(np.arange(GRID.cols))
        rising = flat + 0.004 * (x - x.mean())  # 4 m a kilometre, falling to the west
        (one,) = overlaps(place([ArraySurface(rising, GRID), ArraySurface(flat, GRID)], GRID), GRID)
        self.assertAlmostEqual(one.tilt, 4.0, places=4)
        self.assertAlmostEqual(one.direction, 270.0, places=3)

    def test_feet_are_suspected_and_metres_are_not(self) -> None:
        metres = tile(0, 0, 50, 55, 1)
        feet = ArraySurface(tile(5, 30, 55, 60, 2).read_all() * FEET, tile(5, 30, 55, 60, 2).grid)
        (one,) = overlaps(place([metres, feet], GRID), GRID)
        self.assertAlmostEqual(one.unit_factor, 1 / FEET)
        self.assertEqual({one.unit_factor for one in overlaps(place(tiles(), GRID), GRID)}, {0.0})

    def test_wider_cells_have_the_same_mean(self) -> None:
        placed = place([tile(0, 0, 80, 90, 1, holes=0), tile(0, 0, 80, 90, 2, 1.5, holes=0)], GRID)
        (fine,), (wide,) = overlaps(placed, GRID), overlaps(placed, GRID, 2)
        self.assertAlmostEqual(fine.mean, wide.mean, places=2)
        self.assertLess(wide.nmad, fine.nmad)


class LevellingTest(SimpleTestCase):
    def test_offsets_are_taken_out_and_the_held_one_stays(self) -> None:
        found = overlaps(place(tiles(), GRID), GRID)
        solved = level(found, 4, "offset", 0)
        np.testing.assert_allclose([plane.offset for plane in solved.planes], [0, -1.5, 2.0, 0], atol=0.05)
        self.assertTrue(solved.planes[0].is_zero)
        self.assertLess(max(map(abs, solved.after)), 0.05)
        self.assertEqual(solved.alone, [])
        self.assertTrue(all(plane.is_zero for plane in level(found, 4, "none", 0).planes))

    def test_a_tilt_is_taken_out(self) -> None:
        plane = Plane(1.0, 0.003, -0.002, 1_090.0, 2_920.0)
        xs, ys = GRID.centres(GRID.whole)
        leaning = ArraySurface(ground(GRID) + plane.at(xs, ys), GRID)
        placed = place([ArraySurface(ground(GRID), GRID), leaning], GRID)
        solved = level(overlaps(placed, GRID), 2, "tilt", 0)
        live = Mosaic(place([leaning], GRID, [solved.planes[1]]), GRID, "first")
        np.testing.assert_allclose(live.read_all(), ground(GRID), atol=1e-3)
        self.assertAlmostEqual(solved.after[0], 0.0, places=6)

    def test_undeclared_voids_do_not_count(self) -> None:
        spoilt = tile(5, 30, 55, 60, 2, 1.5)
        heights = spoilt.read_all()
        heights[10:14, 3:20] = -9999
        found = overlaps(place([tiles()[0], ArraySurface(heights, spoilt.grid)], GRID), GRID)
        self.assertGreater(found[0].mean, 100)
        apart = np.abs(stack([tiles()[0], ArraySurface(heights, spoilt.grid)]).astype(float)).max(axis=0)
        self.assertEqual(found[0].blunders, np.count_nonzero((apart == 9999) & ~np.isnan(stack(tiles()[:1])[0])))
        solved = level(found, 2, "tilt", 0)
        self.assertAlmostEqual(solved.planes[1].at(np.array([1_090.0]), np.array([2_940.0]))[0, 0], -1.5, delta=0.1)
        self.assertAlmostEqual(solved.after[0], 0, places=6)

    def test_a_close_overlap_counts_for_more_than_a_rough_one(self) -> None:
        # the third contradicts: over much more ground, but roughly
        close = [tile(0, 0, 40, 60, 1, holes=0), tile(0, 40, 40, 50, 2, 1.0, holes=0)]
        rng = np.random.default_rng(3)
        bent = 6 * (GRID.x_of(np.arange(90)) > 1_110)
        rough = ArraySurface(ground(GRID) + rng.normal(0, 9, (GRID.rows, GRID.cols)) + bent, GRID)
        solved = level(overlaps(place([*close, rough], GRID), GRID), 3, "offset", 0)
        self.assertAlmostEqual(solved.planes[1].offset, -1.0, delta=0.05)

    def test_who_overlaps_nobody_stays_and_is_named(self) -> None:
        apart = [
            tile(0, 0, 20, 20, 1),
            tile(0, 10, 20, 20, 2, 3.0),
            tile(50, 50, 20, 20, 3),
            tile(55, 55, 20, 20, 4, 1.0),
        ]
        solved = level(overlaps(place(apart, GRID), GRID), 4, "offset", 0)
        self.assertEqual(solved.alone, [2, 3])
        np.testing.assert_allclose([plane.offset for plane in solved.planes], [0, -3, 0, -1], atol=0.1)


class PairTest(SimpleTestCase):
    def test_a_pair_s_difference_is_that_of_the_levelled_surfaces_where_both_are(self) -> None:
        heights = ground(GRID)
        left = ArraySurface(heights[:, :65], GRID.part(Window(0, 0, 80, 65)))
        right = ArraySurface(heights[:, 25:] + 2.5, GRID.part(Window(0, 25, 80, 65)))
        given = {"surfaces": [left, right]}
        for levelling, wanted in (("none", -2.5), ("offset", 0.0)):
            task = task_for("mosaic", given, Frame(GRID), {"rule": "first", "pair": [0, 1], "levelling": levelling})
            self.assertEqual(task.outputs["difference"].quantity, "difference")
            found = task.run().surface("difference").read_all()
            self.assertTrue(np.isnan(found[:, :25]).all() and np.isnan(found[:, 65:]).all())
            np.testing.assert_allclose(found[:, 25:65], wanted, atol=1e-4)
        without = task_for("mosaic", given, Frame(GRID))
        self.assertNotIn("difference", without.outputs)
        with self.assertRaisesMessage(InputError, "gives no difference of a pair with these settings"):
            without.chosen(["difference"])
        for pair in ([0], [0, 0], [0, 2], [-1, 0]):
            findings = task_for("mosaic", given, Frame(GRID), {"pair": pair}).findings
            self.assertIn("pair", [one.code for one in findings])


class SeamsTest(SimpleTestCase):
    def test_a_seam_runs_where_both_agree(self) -> None:
        heights = ground(GRID)
        wrong = heights.copy()
        x = GRID.x_of(np.arange(GRID.cols))[None, :]
        y = GRID.y_of(np.arange(GRID.rows))[:, None]
        valley = 1_090 + 12 * np.sin(y / 20)  # along it both agree
        wrong += 0.2 * np.abs(x - valley)
        left = ArraySurface(heights[:, :65], GRID.part(Window(0, 0, 80, 65)))
        right = ArraySurface(wrong[:, 25:], GRID.part(Window(0, 25, 80, 65)))
        placed = place([left, right], GRID)
        seams = Seams(placed, GRID, 500.0)
        live = Mosaic(placed, GRID, "seam", 0.0, seams)
        sources = live.sources(GRID.whole)
        for r, row in enumerate(sources):
            change = np.flatnonzero(np.diff(row))
            self.assertEqual(change.size, 1)
            self.assertLess(abs(GRID.x_of(change[0] + 0.5) - valley[r, 0]), 3.0)
        (line,) = seams.lines()
        self.assertGreater(np.ptp(line[:, 1]), 155)
        worst = np.abs(np.diff(live.read_all() - heights, axis=1)).max()
        self.assertLess(worst, 1.0)

    def test_the_better_one_holds_what_lies_deep_within_it(self) -> None:
        inner = tile(20, 20, 40, 40, 1, 5.0, holes=0)
        placed = place([inner, tile(0, 0, 80, 90, 2, holes=0)], GRID)
        owners = Seams(placed, GRID, 16.0).owners(GRID.whole, 0)
        self.assertTrue((owners[28:52, 28:52] == 0).all())
        self.assertTrue((owners[:20] == 1).all())
        self.assertEqual(set(np.unique(owners).tolist()), {0, 1})

    def test_an_area_given_to_a_surface_is_its_wherever_it_has_a_height(self) -> None:
        heights = ground(GRID)
        left = ArraySurface(heights[:, :65], GRID.part(Window(0, 0, 80, 65)))
        right = ArraySurface(heights[:, 25:] + 1, GRID.part(Window(0, 25, 80, 65)))
        placed = place([left, right], GRID)
        box = GRID.window_bounds(Window(30, 50, 20, 40))  # half of it beyond the left one
        area = shapely.box(*box)
        usual = Seams(placed, GRID, 500.0).owners(GRID.whole, 0)
        mine = Seams(placed, GRID, 500.0, [(0, area)]).owners(GRID.whole, 0)
        self.assertTrue((usual[30:50, 60:65] == 1).any())
        self.assertTrue((mine[30:50, 50:65] == 0).all())
        self.assertTrue((mine[30:50, 65:] == 1).all())
        later = Seams(placed, GRID, 500.0, [(0, area), (1, area)]).owners(GRID.whole, 0)
        self.assertTrue((later[30:50, 50:] == 1).all())
        deep = Seams(placed, GRID, 6.0, [(1, area)]).owners(GRID.whole, 0)  # where the better one has no rival
        self.assertTrue((deep[30:50, 50:] == 1).all())
        np.testing.assert_array_equal(Seams(placed, GRID, 500.0, [(7, area)]).owners(GRID.whole, 0), usual)

    def test_found_on_wider_cells_it_is_the_same_for_every_window(self) -> None:
        placed = place(tiles(), GRID)
        seams = Seams(placed, GRID, 30.0, most=2_000)
        self.assertEqual(seams.level, 1)
        whole = seams.owners(GRID.whole, 0)
        np.testing.assert_array_equal(seams.owners(Window(11, 17, 20, 30), 0), whole[11:31, 17:47])
        # wider cells end a little short of the surfaces; what they leave goes to whoever has a height
        empty = np.isnan(Mosaic(placed, GRID, "seam", 0.0, seams).read_all())
        np.testing.assert_array_equal(empty, np.isnan(stack(tiles())).all(axis=0))
