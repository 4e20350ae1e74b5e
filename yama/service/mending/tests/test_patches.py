"""Patches that several people put over a surface, through the API."""

from unittest import mock

from pyproj import Transformer

from yama.service.mending import log
from yama.service.mending.models import Stack, StackChange
from yama.service.tests.base import ServiceTest
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid

_RING = [[448_100.0, 5_438_100.0], [448_160.0, 5_438_100.0], [448_160.0, 5_438_160.0], [448_100.0, 5_438_160.0]]


def patch(name="Field", height=50.0, **more):
    return {"name": name, "ring": _RING, "operator": {"kind": "height", "height": height}} | more


class PatchesTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.surface = self.add_surface()
        self.path = f"/holdings/{self.surface.pk}/patches"

    def say(self, *says, status=200):
        return self.ask("POST", self.path, {"says": list(says)}, status)

    def look(self):
        return self.ask("GET", self.path)

    def names(self):
        return [one["content"]["name"] for one in self.look()["entries"]]

    def entry(self, name):
        return next(one for one in self.look()["entries"] if one["name"] == name)

    def test_looking_leaves_nothing_behind(self):
        self.as_role("viewer")
        self.assertEqual(self.look()["entries"], [])
        self.assertFalse(Stack.objects.exists())

    def test_patches_are_added_ordered_changed_and_removed(self):
        for name in ("a", "b", "c"):
            self.say({"name": name, "content": patch(name)})
        self.say({"name": "c", "before": "a"})
        self.assertEqual(self.names(), ["c", "a", "b"])
        self.say({"name": "a", "content": patch("a", height=7.0), "seen": self.entry("a")["last"]})
        self.assertEqual(self.entry("a")["content"]["operator"]["height"], 7.0)
        self.say({"name": "c", "gone": True, "seen": self.entry("c")["last"]})
        self.assertEqual(self.names(), ["a", "b"])
        self.assertEqual(self.entry("a")["by"], "editor")
        self.assertRegex(self.entry("a")["at"], r"^\d{4}-\d\d-\d\dT")

    def test_a_keep_out_keeps_the_surface_as_it_is_when_it_is_drawn(self):
        far = [[x + 3000, y] for x, y in _RING]
        self.say({"name": "deck", "content": patch("Deck")}, {"name": "far", "content": patch("Far", ring=far)})
        keep = {"name": "Deck, kept", "ring": _RING}
        told = self.say({"name": "k", "kind": "keep_out", "content": keep})
        self.assertEqual(told["said"], ["Deck was there before the keep-out, and goes on changing it."])
        over = {one["name"]: one["content"].get("over_keep_outs") for one in self.look()["entries"]}
        self.assertEqual(over, {"deck": True, "far": False, "k": None})
        self.say({"name": "trees", "content": patch("Trees")})
        self.assertFalse(self.entry("trees")["content"]["over_keep_outs"])
        self.ask("POST", f"{self.path}/undo")
        self.ask("POST", f"{self.path}/undo")
        self.assertFalse(self.entry("deck")["content"]["over_keep_outs"])
        # an outline that is none is in nobody's way
        bow = [_RING[0], _RING[2], _RING[1], _RING[3]]
        self.say({"name": "bow", "content": patch("Bow", ring=bow)})
        self.assertEqual(len(self.say({"name": "l", "kind": "keep_out", "content": keep})["said"]), 1)
        self.ask("POST", f"{self.path}/undo")
        # what is real stays as it is below all patches
        self.say({"name": "r", "kind": "keep_out", "content": keep | {"real": True}})
        self.assertFalse(self.entry("deck")["content"]["over_keep_outs"])

    def test_several_drawn_at_once_stand_in_their_order(self):
        self.say({"name": "z", "content": patch("z")})
        self.say(*({"name": name, "content": patch(name), "before": "z"} for name in ("q", "b", "m")))
        self.say(*({"name": name, "content": patch(name)} for name in ("y", "c")))
        self.assertEqual(self.names(), ["q", "b", "m", "z", "y", "c"])

    def test_patches_are_taken_back_as_they_were_when_the_surface_was_kept(self):
        other = self.add_surface(70.0)
        patches = [patch(f"Field {i}", height=float(i)) for i in range(3)]
        keep = {"name": "Gauge house", "ring": _RING}
        run = {"operation": "mend", "params": {"patches": patches, "keep_outs": [keep]}, "name": "Mended",
               "inputs": {"surface": self.surface.pk, "other": other.pk}}  # fmt: skip
        self.ask("POST", "/runs", run, 202)
        kept = self.run_jobs()[0].holding
        self.say({"name": "later", "content": patch("Later")})
        taken = self.ask("POST", f"{self.path}/kept", {"kept": kept.pk})
        self.assertEqual(self.names(), ["Field 0", "Field 1", "Field 2", "Gauge house"])
        self.assertEqual((taken["undo"], taken["other"]), ("take back the patches of Mended", other.pk))
        self.ask("POST", f"{self.path}/undo")
        self.assertEqual(self.names(), ["Later"])
        refused = self.ask("POST", f"{self.path}/kept", {"kept": other.pk}, 422)
        self.assertIn("was not made by mending", refused["detail"])
        # in another CRS the places are turned
        self.project.frame_data = Frame(Grid("EPSG:4326", 62.3, -41.2, 1e-5, 1e-5, 900, 900), "m", "").to_dict()
        self.project.save()
        self.ask("POST", f"{self.path}/kept", {"kept": kept.pk})
        ring = next(one["content"]["ring"] for one in self.look()["entries"] if one["content"]["name"] == "Field 1")
        x, y = Transformer.from_crs("EPSG:32741", "EPSG:4326", always_xy=True).transform(*_RING[0])
        self.assertAlmostEqual(ring[0][0], x, places=7)
        self.assertAlmostEqual(ring[0][1], y, places=7)

    def test_undo_and_redo_survive_closing_the_browser_and_are_named(self):
        self.say({"name": "a", "content": patch("Deck")})
        off = self.say({"name": "a", "content": patch("Deck", on=False), "seen": self.entry("a")["last"]})
        self.assertEqual(off["undo"], "switch Deck off")
        self.client.logout()
        self.as_role("editor")
        back = self.ask("POST", f"{self.path}/undo")
        self.assertTrue(back["entries"][0]["content"]["on"])
        self.assertEqual((back["undo"], back["redo"]), ("draw Deck", "switch Deck off"))
        self.assertEqual(self.ask("POST", f"{self.path}/undo")["entries"], [])
        self.assertEqual(self.ask("POST", f"{self.path}/undo")["entries"], [])
        self.ask("POST", f"{self.path}/redo")
        again = self.ask("POST", f"{self.path}/redo")
        self.assertFalse(again["entries"][0]["content"]["on"])
        self.assertEqual(again["redo"], "")

    def test_several_patches_are_one_change(self):
        told = self.say(*({"name": f"p{i}", "content": patch(f"Spike {i}")} for i in range(12)))
        self.assertEqual(told["undo"], "draw Spike 0 and 11 more")
        self.assertEqual(self.ask("POST", f"{self.path}/undo")["entries"], [])

    def test_a_version_that_is_known_is_not_sent_again(self):
        version = self.say({"name": "a", "content": patch()})["version"]
        self.assertIsNone(self.ask("GET", f"{self.path}?since={version}")["entries"])
        self.ask("POST", f"{self.path}/undo")
        self.assertEqual(self.ask("GET", f"{self.path}?since={version}")["entries"], [])

    def test_what_two_people_change_at_once_is_kept_of_both_and_said(self):
        self.say({"name": "a", "content": patch("Deck")})
        seen = self.entry("a")["last"]
        self.as_role("owner")
        self.say({"name": "a", "content": patch("Deck", height=20.0), "seen": seen})
        self.as_role("editor")
        told = self.say({"name": "a", "content": patch("Deck", height=30.0), "seen": seen})
        self.assertEqual(
            told["said"],
            [
                "owner changed Deck meanwhile. Both are kept: yours stands after it as Deck, second version, "
                "switched off."
            ],
        )
        held = [(one["content"]["operator"]["height"], one["content"]["on"]) for one in told["entries"]]
        self.assertEqual(held, [(20.0, True), (30.0, False)])

    def test_two_tabs_of_one_person_lose_nothing_either(self):
        self.say({"name": "a", "content": patch("Deck")})
        seen = self.entry("a")["last"]
        self.say({"name": "a", "content": patch("Deck", height=20.0), "seen": seen})
        told = self.say({"name": "a", "content": patch("Deck", height=30.0), "seen": seen})
        self.assertEqual(len(told["entries"]), 2)

    def test_what_was_changed_or_removed_meanwhile_is_neither_removed_nor_lost(self):
        self.say({"name": "a", "content": patch("Deck")})
        seen = self.entry("a")["last"]
        self.as_role("owner")
        self.say({"name": "a", "content": patch("Deck", height=20.0), "seen": seen})
        self.as_role("editor")
        refused = self.say({"name": "a", "gone": True, "seen": seen}, status=409)
        self.assertIn("owner changed Deck since you looked", refused["detail"])
        self.as_role("owner")
        self.say({"name": "a", "gone": True, "seen": self.entry("a")["last"]})
        self.as_role("editor")
        told = self.say({"name": "a", "content": patch("Deck", height=30.0), "seen": seen})
        self.assertIn("was removed meanwhile", told["said"][0])
        self.assertEqual(told["entries"][0]["content"]["operator"]["height"], 30.0)
        self.assertIn("removed meanwhile", self.say({"name": "a", "gone": True}, status=409)["detail"])

    def test_undo_does_not_take_what_others_built_on(self):
        self.say({"name": "a", "content": patch("Deck")})
        self.as_role("owner")
        self.say({"name": "a", "content": patch("Deck", height=20.0), "seen": self.entry("a")["last"]})
        self.as_role("editor")
        refused = self.ask("POST", f"{self.path}/undo", status=409)
        self.assertIn("owner has changed Deck since", refused["detail"])
        self.assertEqual(self.entry("a")["content"]["operator"]["height"], 20.0)

    def test_a_long_log_is_shortened_and_the_patches_stay(self):
        with mock.patch.object(log, "_LONGEST", 12), mock.patch.object(log, "_PUT_TOGETHER", 6):
            for i in range(30):
                self.say({"name": f"p{i % 7}", "content": patch(f"Patch {i % 7}", height=float(i))})
        heights = [one["content"]["operator"]["height"] for one in self.look()["entries"]]
        self.assertEqual(sorted(heights), [float(i) for i in range(23, 30)])
        self.assertLessEqual(StackChange.objects.count(), 13)
        self.assertEqual(len(self.ask("POST", f"{self.path}/undo")["entries"]), 7)

    def test_no_patch_is_refused_with_a_sentence(self):
        bad = self.say({"name": "a", "content": patch("Deck", times=0)}, status=422)
        self.assertIn("Deck cannot be taken: times", bad["detail"])
        self.assertIn("needs its outline", self.say({"name": "a"}, status=422)["detail"])
        points = self.add_points()
        refused = self.ask("GET", f"/holdings/{points.pk}/patches", status=422)
        self.assertIn(points.name, refused["detail"])

    def test_when_the_frame_is_changed_patches_stay_where_they_are_on_the_ground(self):
        self.say({"name": "a", "content": patch("Deck")})
        crs = "EPSG:32742"
        self.project.frame_data = Frame(Grid(crs, 0.0, 10.0, 2.0, 2.0, 5, 5), "m", "").to_dict()
        self.project.save()
        x, y = self.entry("a")["content"]["ring"][0]
        back = Transformer.from_crs(crs, "EPSG:32741", always_xy=True).transform(x, y)
        self.assertGreater(abs(x - _RING[0][0]), 100_000)
        self.assertAlmostEqual(back[0], _RING[0][0], delta=0.01)
        self.assertAlmostEqual(back[1], _RING[0][1], delta=0.01)

    def test_the_other_surface_is_of_the_project(self):
        other = self.add_surface(3.0)
        self.assertEqual(self.ask("PUT", f"{self.path}/other", {"other": other.pk})["other"], other.pk)
        self.ask("PUT", f"{self.path}/other", {"other": 999_999}, status=404)
        self.assertIsNone(self.ask("PUT", f"{self.path}/other", {"other": None})["other"])

    def test_what_is_kept_is_the_stack(self):
        self.say({"name": "a", "content": patch("Field", height=50.0)})
        entries = self.look()["entries"]
        body = {
            "operation": "mend",
            "inputs": {"surface": self.surface.pk},
            "params": {"patches": [one["content"] for one in entries], "keep_outs": []},
        }
        self.ask("POST", "/runs", body | {"name": "Mended", "live": True}, status=202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        at = f"/probe?x=448130&y=5438130&a={job.holding.key}&b={self.surface.key}"
        values = {slot: one["height"] for slot, one in self.ask("GET", at)["readings"].items()}
        self.assertEqual(values["a"], 50.0)
        self.assertNotEqual(values["b"], 50.0)
