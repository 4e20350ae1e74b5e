"""Edits of features: made, undone, done again, kept beside the untouched ones."""

import json
import threading

from django.db import connection
from django.test import Client

from yama.service.holdings.models import Draft, Holding
from yama.service.tests.base import ServiceTest
from yama.terrain.formats import vector

_RIVERS = {
    "type": "FeatureCollection",
    "features": [
        {"type": "Feature", "properties": {"name": name, "width": width},
         "geometry": {"type": "LineString", "coordinates": places}}
        for name, width, places in (
            ("Avel", 4.0, [[62.384, -41.21], [62.385, -41.21]]),
            ("Avell", 3.0, [[62.3852, -41.21], [62.386, -41.21], [62.387, -41.211]]),
            ("Harrow", 2.0, [[62.384, -41.212], [62.387, -41.2125]]),
        )
    ],
}  # fmt: skip


class DraftsTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.send(json.dumps(_RIVERS).encode(), "rivers.geojson")
        (job,) = self.run_jobs()
        self.assertEqual(job.state, "done", job.message + job.log)
        self.rivers = job.holding
        self.path = f"/holdings/{self.rivers.pk}/edits"

    def edit(self, status=200, snap=0.0, **edit):
        return self.ask("POST", self.path, {"edit": edit, "snap": snap}, status)

    def places(self, number):
        held = self.ask("GET", f"/holdings/{self.rivers.pk}/features")
        return json.loads(held.content)["features"][number]["geometry"]["coordinates"]

    def test_edits_are_undone_and_done_again(self):
        made = self.edit(kind="join", features=[0, 1], gap=50)
        self.assertEqual((made["titles"], made["done"], made["gone"]), (["Join 2 lines over 50 m"], 1, [0]))
        self.assertEqual([one["id"] for one in made["changed"]["features"]], [1])
        self.assertEqual(made["said"], ["A gap of 16.8 m was closed."])
        back = self.ask("POST", f"{self.path}/undo")
        self.assertEqual((back["done"], back["gone"]), (0, []))
        self.assertEqual([one["id"] for one in back["changed"]["features"]], [0, 1])
        self.assertEqual(self.ask("POST", f"{self.path}/undo")["done"], 0)
        again = self.ask("POST", f"{self.path}/redo")
        self.assertEqual((again["gone"], again["changed"]), (made["gone"], made["changed"]))
        self.assertEqual(self.ask("GET", self.path)["gone"], [0])

    def test_a_new_edit_forgets_what_was_undone(self):
        self.edit(kind="remove", features=[2])
        self.ask("POST", f"{self.path}/undo")
        self.assertEqual(self.edit(kind="remove", features=[0])["titles"], ["Delete 1 feature"])
        self.assertEqual(self.ask("POST", f"{self.path}/redo")["gone"], [])

    def test_a_vertex_snaps_to_another_feature_exactly(self):
        """Places come in the frame's CRS and are kept in the holding's, so only snapping makes them equal."""
        [target, *_] = self.places(1)
        near = {"x": target[0] + 1.5, "y": target[1] - 1}
        made = self.edit(kind="move_vertex", feature=0, vertex=1, snap=3, **near)
        self.assertEqual(made["changed"]["features"][0]["geometry"]["coordinates"][1], target)
        draft = Draft.objects.get()
        self.assertEqual((draft.edits[0]["x"], draft.edits[0]["y"]), (62.3852, -41.21))
        self.edit(kind="move_vertex", feature=0, vertex=1, snap=1, **near)
        draft.refresh_from_db()
        self.assertNotEqual(draft.edits[1]["x"], 62.3852)

    def test_a_drawn_line_begins_exactly_where_it_was_snapped_to(self):
        [target, *_] = self.places(1)
        near = [target[0] + 0.01, target[1] - 0.01]
        free = [target[0] + 5, target[1] + 40]
        self.edit(kind="draw", shape="line", places=[near, free], snap=0.05)
        (drawn,) = Draft.objects.get().edits
        self.assertEqual(drawn["places"][0], [62.3852, -41.21])
        self.assertNotIn(drawn["places"][1], ([62.3852, -41.21], [62.385, -41.21]))

    def test_nonsense_is_refused_and_nothing_is_lost(self):
        self.edit(kind="remove", features=[0])
        for edit, words in (
            ({"kind": "remove", "features": [0]}, "no feature no. 1"),
            ({"kind": "join", "features": [1, 2], "gap": 1}, "wider gap"),
            ({"kind": "melt"}, "is no edit"),
            ({"kind": "move_vertex", "feature": 1, "vertex": 0, "x": "far", "y": 1}, "is no edit"),
            ({"kind": "set_value", "features": [1], "column": "width", "value": "wide"}, "holds numbers"),
        ):
            with self.subTest(edit):
                self.assertIn(words, self.edit(422, **edit)["detail"])
        self.assertEqual(self.ask("GET", self.path)["titles"], ["Delete 1 feature"])

    def test_keeping_makes_a_holding_beside_the_untouched_one(self):
        self.assertIn("Nothing", self.ask("POST", f"{self.path}/keep", {}, 409)["detail"])
        self.edit(kind="join", features=[0, 1], gap=50)
        self.edit(kind="remove", features=[2])
        self.ask("POST", f"{self.path}/undo")
        self.ask("POST", f"{self.path}/keep", {"name": "Avel joined"}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        made = job.holding
        self.assertEqual((made.name, made.facts["counts"]), ("Avel joined", {"lines": 2}))
        self.assertEqual(self.rivers.features.count(), 3)
        self.assertFalse(Draft.objects.exists())
        listed = next(one for one in self.ask("GET", "/holdings") if one["id"] == made.pk)
        self.assertEqual(listed["recipe"]["inputs"], {"features": "rivers"})
        self.assertEqual(len(self.ask("GET", f"/holdings/{made.pk}/recipe")["steps"]), 1)
        # the same edits again are the same holding
        self.edit(kind="join", features=[0, 1], gap=50)
        self.assertEqual(self.ask("POST", f"{self.path}/keep", {})["holding_id"], made.pk)

    def test_edits_made_while_others_are_kept_stay(self):
        self.edit(kind="remove", features=[0])
        self.ask("POST", f"{self.path}/keep", {}, 202)
        self.edit(kind="remove", features=[1])
        made = self.run_jobs()[0].holding
        self.assertEqual(made.facts["counts"], {"lines": 2})
        self.assertEqual(len(self.ask("GET", self.path)["titles"]), 2)

    def test_a_draft_is_one_persons(self):
        self.edit(kind="remove", features=[0])
        self.as_role("owner")
        self.assertEqual(self.ask("GET", self.path)["titles"], [])
        self.as_role("editor")
        self.ask("DELETE", self.path, status=204)
        self.assertEqual(self.ask("GET", self.path)["titles"], [])

    def test_features_are_taken_away_as_a_geopackage(self):
        answer = self.ask("GET", f"/holdings/{self.rivers.pk}/geopackage")
        path = self.folder / "out.gpkg"
        path.write_bytes(b"".join(answer.streaming_content))
        _, held = vector.look(path)
        self.assertEqual(held.attributes["name"], ["Avel", "Avell", "Harrow"])
        self.assertEqual(Holding.objects.count(), 1)

    def test_edits_made_while_keeping_waits_are_not_lost(self):
        self.edit(kind="remove", features=[2])
        self.ask("POST", f"{self.path}/keep", {"name": "Two rivers"}, 202)
        self.ask("POST", f"{self.path}/undo")
        self.edit(kind="remove", features=[0])  # as many edits as were kept, and others
        self.run_jobs()
        self.assertEqual(Holding.objects.get(name="Two rivers").facts["counts"], {"lines": 2})
        self.assertEqual(self.ask("GET", self.path)["gone"], [0])
        self.ask("POST", f"{self.path}/keep", {"name": "Others"}, 202)
        self.run_jobs()
        self.assertEqual(Draft.objects.count(), 0, "what is kept as it is ends")

    def test_first_edits_made_at_once_are_all_there(self):
        """Twelve of a person's first edits, each on a thread with a connection of its own."""
        clients = [Client() for _ in range(12)]
        for client in clients:
            client.force_login(self.people["editor"])
        gate = threading.Barrier(len(clients))
        answers = []

        def edit(number):
            gate.wait()
            try:
                body = {"edit": {"kind": "set_value", "features": [number % 3], "column": "width", "value": number}}
                answers.append(clients[number].post(self.base + self.path, body, content_type="application/json"))
            finally:
                connection.close()

        threads = [threading.Thread(target=edit, args=(number,)) for number in range(len(clients))]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        self.assertEqual([one.status_code for one in answers], [200] * len(clients), [one.content for one in answers])
        self.assertEqual(self.ask("GET", self.path)["done"], len(clients))

    def test_a_hundred_thousand_corners_are_snapped(self):
        places = [[448_000 + 0.01 * i, 5_438_000 + (i % 7)] for i in range(100_000)]
        made = self.edit(kind="draw", shape="line", places=places, snap=5)
        self.assertEqual(made["done"], 1)
        self.assertEqual(len(made["changed"]["features"][0]["geometry"]["coordinates"]), 100_000)
