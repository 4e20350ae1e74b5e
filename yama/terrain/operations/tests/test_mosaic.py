"""Mosaic and overlaps as operations: findings both ways, levelling, sources and an area."""

from __future__ import annotations

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.mosaic.mosaic import sheet
from yama.terrain.mosaic.overlap import FEET
from yama.terrain.mosaic.tests.test_mosaic import GRID, ground, tile, tiles
from yama.terrain.operations import find
from yama.terrain.operations.tests.running import first_of, quantity_of, task_for
from yama.terrain.surface import ArraySurface
from yama.terrain.table import Table

FRAME = Frame(GRID, "m", "Sundrel mean sea level")
MOSAIC, OVERLAPS = find("mosaic"), find("overlaps")


def run(operation, surfaces, area=None, **params):
    inputs = {"surfaces": surfaces, **({"area": [area]} if area else {})}
    made = first_of(task_for(operation.name, inputs, FRAME, params))
    return made.facts if isinstance(made, Table) else made


def found(surfaces, **params):
    taken = {"surfaces": surfaces}
    return {one.code: one for one in task_for(MOSAIC.name, taken, FRAME, params).findings}


class MosaicTest(SimpleTestCase):
    def test_a_levelled_mosaic_is_nearer_the_ground(self) -> None:
        errors = {}
        for levelling in ("none", "offset", "tilt"):
            surface = run(MOSAIC, tiles(), rule="first", levelling=levelling)
            errors[levelling] = np.nanstd(surface.read_all() - ground(GRID))
            findings = surface.findings
            self.assertEqual([one.code for one in findings], [] if levelling == "none" else ["levelled"])
        self.assertGreater(errors["none"], 0.8)
        self.assertLess(max(errors["offset"], errors["tilt"]), 0.32)
        self.assertIn("2 by \u22121.5", run(MOSAIC, tiles(), levelling="offset").findings[0].sentence)

    def test_an_area_and_the_sources(self) -> None:
        box = Features(GRID.crs, np.array([shapely.box(1_020, 2_900, 1_120, 2_980)], dtype=object), {})
        live = (
            task_for("mosaic", {"surfaces": tiles(), "area": [box]}, FRAME, {"rule": "first"}).run().surface("source")
        )
        sources = live.read_all()
        self.assertEqual(set(np.unique(sources[~np.isnan(sources)])), {1, 2, 3})
        self.assertEqual(np.count_nonzero(~np.isnan(sources)), np.count_nonzero(~np.isnan(sources[10:50, 10:60])))
        self.assertEqual([one.inputs for one in live.categories], [(0,), (1,), (2,), (3,)])
        self.assertEqual(quantity_of("mosaic", {"rule": "count"}), "count")
        self.assertEqual(live.findings, [])

    def test_what_fits_needs_nothing(self) -> None:
        self.assertEqual(found(tiles()), {})

    def test_findings(self) -> None:
        feet = ArraySurface(np.ones((4, 4)), GRID.part(GRID.whole._replace(rows=4, cols=4)), "points")
        away = ArraySurface(np.ones((4, 4)), Grid(GRID.crs, 90_000.0, 3_000.0, 2.0, 2.0, 4, 4))
        degrees = ArraySurface(np.ones((4, 4)), Grid("EPSG:4326", 62.0, -41.0, 0.01, 0.01, 4, 4))
        half = ArraySurface(np.ones((4, 4)), Grid(GRID.crs, 1_001.0, 3_000.0, 2.0, 2.0, 4, 4))
        other = ArraySurface(np.ones((4, 4)), half.grid, "m", "ellipsoid")
        datum = ArraySurface(np.ones((4, 4)), GRID.part(GRID.whole._replace(rows=4, cols=4)), "m", "mean sea level")
        one = tiles()[0]
        for surfaces, code, weight, says in (
            ([one, feet], "unit", "stop", "Surface 2 is in points"),
            ([one, away], "outside", "caution", "Surface 2 lies outside"),
            ([away, away], "outside", "stop", "None of the surfaces"),
            ([one, half, half], "phase", "note", "Surfaces 2 and 3 are not on the frame's cells"),
            ([other, datum], "datum", "caution", "ellipsoid, mean sea level"),
            ([one], "single", "note", "Only one"),
        ):
            finding = found(surfaces)[code]
            self.assertEqual(finding.weight, weight)
            self.assertIn(says, finding.sentence)
        self.assertIn("outside", found([one, degrees]))
        self.assertEqual(found(tiles(), levelling="offset", held=4)["held"].fix.set_params, {"held": 0})
        self.assertEqual(found([one] * 64, rule="seam")["many"].weight, "stop")
        self.assertEqual(found(tiles(), rule="first")["steps"].weight, "note")
        for surfaces, params in (([one, feet], {}), ([away, away], {}), (tiles(), {"levelling": "tilt", "held": 9})):
            with self.assertRaises(InputError):
                run(MOSAIC, surfaces, **params)

    def test_cells_may_be_those_of_a_source(self) -> None:
        usual, wide = run(MOSAIC, tiles()), run(MOSAIC, tiles(), cell_size=6.0)
        self.assertEqual(wide.grid.cell_width, 6.0)
        self.assertLess(wide.grid.cell_count, usual.grid.cell_count / 8)
        inner = wide.read_all()
        self.assertAlmostEqual(float(np.nanmean(inner)), float(np.nanmean(usual.read_all())), delta=1.5)

    def test_surfaces_that_are_empty_or_of_one_cell(self) -> None:
        empty = ArraySurface(np.full((6, 6), np.nan), GRID.part(GRID.whole._replace(rows=6, cols=6)))
        single = ArraySurface([[77.0]], Grid(GRID.crs, 1_100.0, 2_950.0, 2.0, 2.0, 1, 1))
        for rule in ("priority", "feather", "seam", "mean", "nearest"):
            live = run(MOSAIC, [empty, single], rule=rule, levelling="tilt")
            self.assertEqual(np.count_nonzero(~np.isnan(live.read_all())), 1)
            self.assertEqual(float(np.nanmax(live.read_all())), 77.0)
        figures = run(OVERLAPS, [empty, single])
        self.assertEqual((figures["pairs"], figures["shares"]), ([], [0.0, 1.0]))


class OverlapsTest(SimpleTestCase):
    def test_before_and_after_levelling_with_shares(self) -> None:
        before = run(OVERLAPS, tiles())
        after = run(OVERLAPS, tiles(), levelling="offset")
        self.assertEqual([(one["first"], one["second"]) for one in before["pairs"]],
                         [(0, 1), (0, 2), (0, 3), (1, 2), (1, 3)])  # fmt: skip
        self.assertGreater(max(abs(one["after"]) for one in before["pairs"]), 1.4)
        self.assertLess(max(abs(one["after"]) for one in after["pairs"]), 0.06)
        self.assertAlmostEqual(after["planes"][2]["offset"], 2.0, delta=0.06)
        self.assertAlmostEqual(sum(before["shares"]), 1.0)
        self.assertEqual(before["cell"], 2.0)
        self.assertEqual({one["phase"]["kind"] for one in before["pairs"]}, {"aligned"})
        self.assertTrue(run(OVERLAPS, tiles(), rule="seam")["seams"])
        with self.assertRaisesMessage(InputError, "None of the surfaces"):
            run(OVERLAPS, [ArraySurface(np.ones((4, 4)), Grid(GRID.crs, 90_000.0, 3_000.0, 2.0, 2.0, 4, 4))])

    def test_feet_wait_until_they_are_converted(self) -> None:
        feet = ArraySurface(tile(5, 30, 55, 60, 2).read_all() * FEET, tile(5, 30, 55, 60, 2).grid)
        figures = run(OVERLAPS, [tile(0, 0, 50, 55, 1), feet], levelling="offset")
        self.assertAlmostEqual(figures["pairs"][0]["unit_factor"], 1 / FEET)
        self.assertEqual([one["offset"] for one in figures["planes"]], [0.0, 0.0])
        self.assertEqual(figures["alone"], [1])

    def test_grids_that_differ_are_told(self) -> None:
        half = ArraySurface(ground(GRID), Grid(GRID.crs, GRID.west + 1, GRID.north, 2.0, 2.0, GRID.rows, GRID.cols))
        wide = Grid(GRID.crs, 1_000.0, 3_000.0, 5.0, 5.0, 30, 30)
        figures = run(OVERLAPS, [ArraySurface(ground(GRID), GRID), half, ArraySurface(ground(wide), wide)])
        self.assertEqual([one["phase"] for one in figures["pairs"]],
                         [{"kind": "off", "off": 0.5}, {"kind": "size", "off": 0.0}, {"kind": "size", "off": 0.0}])  # fmt: skip


class SheetTest(SimpleTestCase):
    """A source that comes in tiles."""

    coarse = Grid(GRID.crs, 1_000.0, 3_000.0, 5.0, 5.0, 32, 36)

    def parts(self) -> list[ArraySurface]:
        heights = ground(self.coarse)
        return [
            ArraySurface(heights[r : r + 16, c : c + 12], self.coarse.part(self.coarse.whole._replace(row=r, col=c, rows=16, cols=12)))
            for r in (0, 16) for c in (0, 12, 24)
        ]  # fmt: skip

    def test_nothing_is_lost_between_tiles(self) -> None:
        whole = run(MOSAIC, [ArraySurface(ground(self.coarse), self.coarse)], rule="first").read_all()
        tiled = run(MOSAIC, self.parts(), rule="first", groups=[0] * 6)
        np.testing.assert_array_equal(tiled.read_all(), whole)
        apart = run(MOSAIC, self.parts(), rule="first").read_all()
        self.assertGreater(np.isnan(apart).sum(), np.isnan(whole).sum())
        np.testing.assert_array_equal(np.isnan(sheet(self.parts()).read(self.coarse.at_level(1).whole, 1)), False)

    def test_a_source_is_levelled_and_counted_as_one(self) -> None:
        figures = run(OVERLAPS, [tile(0, 0, 80, 90, 1, -2.0), *self.parts()], groups=[0] + [1] * 6, levelling="offset")
        (pair,) = figures["pairs"]
        self.assertAlmostEqual(figures["planes"][1]["offset"], -2.0, delta=0.05)
        self.assertAlmostEqual(pair["after"], 0, places=6)
        self.assertEqual(len(figures["shares"]), 2)

    def test_tiles_that_do_not_fit_together_are_refused(self) -> None:
        parts = self.parts()
        off = Grid(GRID.crs, 1_001.0, 3_000.0, 5.0, 5.0, 4, 4)
        stray = ArraySurface(np.ones((4, 4)), off)
        feet = ArraySurface(parts[1].read_all(), parts[1].grid, "points")
        for other, code in ((stray, "lattice"), (feet, "unit")):
            self.assertEqual(found([parts[0], other], groups=[0, 0])[code].weight, "stop")
        for groups in ([0], [0, 2], [1, 1], [0, 10**15], [-1, 0]):
            with self.assertRaisesMessage(InputError, "without a gap"):
                run(MOSAIC, parts[:2], groups=groups)
        with self.assertRaisesMessage(InputError, "do not lie on one lattice"):
            sheet([parts[0], stray])
