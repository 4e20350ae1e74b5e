"""The stack: any window is the whole's, keep-outs hold to the bit, and only what a change touches is computed anew."""

import random
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from yama.terrain.errors import CancelledError, InputError
from yama.terrain.frame import Frame
from yama.terrain.grid import Window
from yama.terrain.mend import mended as module
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.patches import KeepOut
from yama.terrain.mend.tests.test_operators import BOX, EAST, GRID, INSIDE, NORTH, PLANE, mended, patch, places
from yama.terrain.operations import Task, find
from yama.terrain.surface import ArraySurface, StoredSurface, store

ROUGH = (PLANE + np.random.default_rng(8).normal(0, 2, PLANE.shape)).astype(np.float32)
STACK = (
    patch({"kind": "smooth", "how": "median", "radius": 9}, name="smooth"),
    patch({"kind": "plane", "through": "rim"}, [(30, 30), (110, 40), (90, 120), (40, 100)], name="lake", feather=6),
    patch({"kind": "raise", "by": 3}, [(150, 20), (260, 20), (260, 130), (150, 130)], name="raise", strength=0.5),
    patch({"kind": "clear"}, [(90, 90), (240, 90), (240, 220), (90, 220)], name="clear", times=2),
    patch({"kind": "falling", "turned": True}, line=[(10, 200), (120, 170), (270, 130)], width=14, name="river"),
)


class MendedTest(SimpleTestCase):
    def surface(self, *patches, keep=()):
        return MendedSurface(ArraySurface(ROUGH, GRID), patches or STACK, [KeepOut(ring=places(one)) for one in keep])

    def test_any_window_is_the_same_as_the_whole(self):
        whole = self.surface().read_all()
        rng = np.random.default_rng(1)
        for _ in range(12):
            row, col = rng.integers(-10, 110, 2)
            window = Window(int(row), int(col), int(rng.integers(1, 50)), int(rng.integers(1, 60)))
            found = self.surface().read(window)
            bottom, right = max(window.row + window.rows, 0), max(window.col + window.cols, 0)
            inner = whole[max(window.row, 0) : bottom, max(window.col, 0) : right]
            put = found[max(-window.row, 0) :, max(-window.col, 0) :][: inner.shape[0], : inner.shape[1]]
            np.testing.assert_array_equal(put, inner)

    def test_each_patch_tells_what_it_does_to_a_cell(self):
        surface = self.surface()
        cells = surface.read_all()
        for row, col in ((60, 60), (20, 100), (65, 80), (5, 5)):
            found = surface.touched(Window(row, col, 1, 1))
            start = ROUGH[row, col]
            for one in found:
                self.assertAlmostEqual(one.before, start, places=4)
                start = one.after
            np.testing.assert_allclose(start, cells[row, col], atol=1e-4)
        self.assertEqual(surface.touched(Window(500, 5, 1, 1)), [])

    def test_coarser_levels_are_means_where_patches_lie(self):
        surface = self.surface(STACK[0])
        coarse = surface.read(Window(0, 0, 30, 35), 2)
        means = surface.read_all().astype(float).reshape(30, 4, 35, 4).mean((1, 3))
        np.testing.assert_allclose(coarse[9:22, 9:24], means[9:22, 9:24], atol=1e-4)

    def test_outside_of_patches_and_in_keep_outs_nothing_changes(self):
        keep = [(100, 80), (150, 80), (150, 120), (100, 120)]
        found = self.surface(patch({"kind": "height", "height": 0}, feather=8), keep=[keep]).read_all()
        kept = (EAST > 100) & (EAST < 150) & (NORTH > 80) & (NORTH < 120)
        np.testing.assert_array_equal(found[~INSIDE | kept], ROUGH[~INSIDE | kept])
        self.assertLess(found[INSIDE & ~kept].mean(), 15)
        over = self.surface(patch({"kind": "height", "height": 0}, over_keep_outs=True), keep=[keep]).read_all()
        self.assertTrue((over[INSIDE] == 0).all())

    def test_a_feather_leaves_no_step_at_the_border_and_strength_is_a_share(self):
        found = mended(PLANE, patch({"kind": "raise", "by": 10}, feather=20))
        change = found - PLANE
        self.assertLess(np.abs(np.diff(change, axis=1)).max(), 1.8)
        self.assertLess(change[INSIDE].min(), 0.2)
        self.assertAlmostEqual(change[60, 65], 10, places=3)
        half = mended(PLANE, patch({"kind": "raise", "by": 10}, strength=0.25))
        np.testing.assert_allclose((half - PLANE)[INSIDE], 2.5, atol=1e-4)
        twice = mended(PLANE, patch({"kind": "raise", "by": 10}, times=3))
        np.testing.assert_allclose((twice - PLANE)[INSIDE], 30, atol=1e-4)

    def test_what_is_off_does_not_count_and_names_change_nothing(self):
        without = self.surface(*[one for one in STACK if one.name != "lake"])
        off = self.surface(*[one.model_copy(update={"on": one.name != "lake"}) for one in STACK])
        np.testing.assert_array_equal(off.read_all(), without.read_all())
        self.assertEqual(off.fingerprint, without.fingerprint)
        renamed = self.surface(*[one.model_copy(update={"name": "x", "note": "why"}) for one in STACK])
        self.assertEqual(renamed.fingerprint, self.surface().fingerprint)

    def test_only_what_a_change_touches_is_computed_anew(self):
        far = patch({"kind": "raise", "by": 1}, [(5, 5), (20, 5), (20, 20), (5, 20)])
        made = []

        class Counted(MendedSurface):
            def _make(self, number):
                made.append(self.patches[number].name)
                return super()._make(number)

        base = ArraySurface(ROUGH + np.float32(0.5), GRID)
        Counted(base, STACK).read_all()
        self.assertEqual(sorted(made), sorted(one.name for one in STACK))
        made.clear()
        Counted(base, [*STACK, far]).read_all()
        self.assertEqual(made, [""])
        made.clear()
        changed = [one.model_copy(update={"strength": 0.5}) if one.name == "lake" else one for one in STACK]
        Counted(base, changed).read_all()
        self.assertNotIn("smooth", made)
        self.assertIn("lake", made)
        self.assertNotIn("raise", made)

    def test_any_order_of_changes_gives_what_building_it_straight_gives(self):
        base = ArraySurface(ROUGH, GRID)
        for seed in range(25):
            chance = random.Random(seed)
            stack, log = list(STACK), []
            for _ in range(chance.randrange(9)):
                change = chance.choice(["move", "off", "on", "undo"])
                if change == "undo":
                    stack = log.pop() if log else stack
                    continue
                log.append(list(stack))
                at = chance.randrange(len(stack))
                if change == "move":
                    stack.insert(chance.randrange(len(stack)), stack.pop(at))
                else:
                    stack[at] = stack[at].model_copy(update={"on": change == "on"})
            straight = MendedSurface(base, [one for one in stack if one.on])
            with self.subTest(seed=seed):
                np.testing.assert_array_equal(MendedSurface(base, stack).read_all(), straight.read_all())

    def test_figures_are_what_moved(self):
        surface = self.surface(patch({"kind": "raise", "by": -2}))
        did = surface.did(0)
        self.assertEqual(did.cells, int(INSIDE.sum()))
        self.assertAlmostEqual(did.lowered, INSIDE.sum() * 8.0, delta=1)
        self.assertEqual((did.raised, round(did.largest, 3)), (0.0, 2.0))

    def test_outlines_that_are_none_get_a_sentence(self):
        for ring, words in (
            ([(60, 60), (200, 180), (200, 60), (60, 180)], "crosses itself"),
            ([(60, 60), (200, 60)], "has 2 vertices"),
            ([(60, 60), (100, 60), (140, 60)], "covers nothing|crosses itself"),
            ([(900, 900), (950, 900), (950, 950)], "lies outside of the surface"),
        ):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                mended(PLANE, patch({"kind": "height", "height": 1}, ring))
        with self.assertRaisesRegex(InputError, "at least two different places"):
            mended(PLANE, patch({"kind": "falling"}, line=[(60, 60), (60, 60)]))
        with mock.patch.object(module, "_LARGEST", 100), self.assertRaisesRegex(InputError, "million cells"):
            mended(PLANE, patch({"kind": "height", "height": 1}))
        both = {"ring": places(BOX), "line": places(BOX)}
        with self.assertRaisesRegex(InputError, "a ring or a line"):
            MendedSurface(ArraySurface(ROUGH, GRID), [STACK[0].model_copy(update=both)])
        # many vertices are no matter
        turn = np.linspace(0, 2 * np.pi, 20_000, endpoint=False)
        round_ring = list(zip(130 + 60 * np.cos(turn), 120 + 50 * np.sin(turn), strict=True))
        self.assertEqual(mended(PLANE, patch({"kind": "height", "height": 1}, round_ring))[60, 65], 1)

    def test_work_that_is_not_wanted_any_more_ends_and_leaves_nothing(self):
        rings = [[(30 + k, 30), (60 + k, 30), (60 + k, 60), (30 + k, 60)] for k in range(60)]
        surface = self.surface(*(patch({"kind": "smooth", "radius": 6}, ring) for ring in rings))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "mended.tif"

            def ends(share):
                if share > 0.2:
                    raise CancelledError("Cancelled; nothing was kept.")

            with self.assertRaises(CancelledError):
                store(surface, path, ends)
            self.assertEqual(list(Path(folder).iterdir()), [])
            # what was begun goes on from where it was, and is the same
            whole = surface.read_all()
            store(surface, path)
            np.testing.assert_array_equal(StoredSurface(path).read_all(), whole)

    def test_stacks_that_differ_in_a_patch_hold_the_others_together(self):
        one, other = self.surface(), self.surface(*STACK[:-1], STACK[-1].model_copy(update={"strength": 0.5}))
        one.read_all(), other.read_all()
        self.assertIs(one._made(0), other._made(0))
        self.assertIsNot(one._made(len(STACK) - 1), other._made(len(STACK) - 1))

    def test_keep_outs_that_cover_all_leave_all(self):
        found = self.surface(patch({"kind": "height", "height": 0}), keep=[[(0, 0), (280, 0), (280, 240), (0, 240)]])
        np.testing.assert_array_equal(found.read_all(), ROUGH)

    def test_the_operation_makes_it_with_what_patches_did(self):
        frame = Frame(GRID, "m", "")
        params = {"patches": [one.model_dump(mode="json") for one in STACK]}
        task = Task(find("mend"), {"surface": ArraySurface(ROUGH, GRID)}, params, frame)
        results = task.run()
        np.testing.assert_array_equal(results.surface("surface").read_all(), self.surface().read_all())
        table = results["patches"]
        self.assertEqual([row[1] for row in table.rows], [one.name for one in STACK])
        self.assertGreater(table.facts["raised"], 0)
        crossed = {**params["patches"][0], "ring": places([(60, 60), (200, 180), (200, 60), (60, 180)])}
        stopped = Task(find("mend"), {"surface": ArraySurface(ROUGH, GRID)}, {"patches": [crossed]}, frame)
        self.assertIn("crosses itself", stopped.findings[0].sentence)
        replaced = {**params["patches"][0], "operator": {"kind": "replace"}}
        stopped = Task(find("mend"), {"surface": ArraySurface(ROUGH, GRID)}, {"patches": [replaced]}, frame)
        self.assertIn("none is given", stopped.findings[0].sentence)

    def test_patches_are_in_metres_in_a_frame_of_feet_too(self):
        params = {"patches": [patch({"kind": "height", "height": 3.0}).model_dump(mode="json")]}
        results = Task(find("mend"), {"surface": ArraySurface(ROUGH, GRID)}, params, Frame(GRID, "ft", "")).run()
        found = results.surface("surface")
        self.assertEqual(found.unit, "ft")
        np.testing.assert_allclose(found.read_all()[INSIDE], 3.0 / 0.3048, rtol=1e-6)

    def test_many_small_patches_each_count(self):
        rng = np.random.default_rng(3)
        many = [
            patch({"kind": "height", "height": float(k)}, [(e, n), (e + 4, n), (e + 4, n + 4), (e, n + 4)])
            for k, (e, n) in enumerate(2.0 * rng.integers((5, 5), (130, 110), (600, 2)))
        ]
        found = self.surface(*many).read_all()
        last = {}
        for k, one in enumerate(many):
            west, south = one.ring[0]
            row, col = int((GRID.north - south) / 2) - 1, int((west - GRID.west) / 2)
            last |= {(row - i, col + j): k for i in (0, 1) for j in (0, 1)}
        self.assertTrue(all(found[at] == k for at, k in last.items()))

    def test_a_chain_of_patches_is_as_long_as_it_likes(self):
        chain = [
            patch({"kind": "raise", "by": 1.0}, [(e, 100), (e + 6, 100), (e + 6, 104), (e, 104)])
            for e in np.tile(np.arange(20, 260, 2.0), 5)
        ]
        surface = self.surface(*chain)
        end = surface.read(Window(68, 129, 1, 1))  # the chain leads there from the other end of the surface
        np.testing.assert_array_equal(end, self.surface(*chain).read_all()[68:69, 129:130])
        self.assertGreater(float(end[0, 0]) - ROUGH[68, 129], 4)
