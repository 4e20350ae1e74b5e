"""Every endpoint of a project, for every kind of person. A path added to the API must be added here."""

import json
from uuid import uuid4

from yama.service.api import api
from yama.service.tests.base import ServiceTest

VIEW, EDIT, OWN = "viewer", "editor", "owner"
_FRAME = {"crs": "EPSG:32741", "cell_size": 2, "west": 0, "south": 0, "east": 10, "north": 10}
_DRESS = {"stops": [[0, "#000000"], [1, "#FFFFFF"]], "low": 0, "high": 9}
_RUN = {"operation": "slope", "params": {}, "inputs": {"surface": 1}}


def endpoints(holding, key):
    """(method, path under /projects/ID, body, least role)."""
    one = f"/holdings/{holding}"
    job = f"/jobs/{uuid4()}"
    package = f"/packages/{uuid4()}"
    return [
        ("GET", "", None, VIEW),
        ("PUT", "/frame", _FRAME, OWN),
        ("GET", "/frame/proposal", None, VIEW),
        ("PUT", "/checkpoints", {"holding_id": None}, EDIT),
        ("GET", "/members", None, VIEW),
        ("PUT", "/members", {"name": "nobody", "role": "viewer"}, OWN),
        ("DELETE", "/members/nobody", None, OWN),
        ("GET", "/invitations", None, OWN),
        ("POST", "/invitations", {"role": "viewer"}, OWN),
        ("DELETE", "/invitations/1", None, OWN),
        ("GET", "/desk", None, VIEW),
        ("PUT", "/desk", {"mode": "alone"}, VIEW),
        ("GET", "/holdings", None, VIEW),
        ("POST", "/uploads?name=a.csv", None, EDIT),
        ("POST", f"/uploads/{'0' * 32}/look", {"name": "a.csv"}, EDIT),
        ("POST", f"/uploads/{'0' * 32}/take", {"name": "a.csv"}, EDIT),
        ("POST", f"{one}/declare", {"declared": {"nodata": 7}}, EDIT),
        ("POST", "/runs", _RUN, EDIT),
        ("POST", f"{one}/store", None, EDIT),
        ("POST", f"{one}/remake", {"instead": holding}, EDIT),
        ("PATCH", one, {"name": "other"}, EDIT),
        ("GET", f"{one}/uses", None, EDIT),
        ("GET", "/deleted", None, VIEW),
        ("POST", f"/deleted/{holding}/restore", None, EDIT),
        ("DELETE", one, None, EDIT),
        ("GET", f"{one}/picture", None, VIEW),
        ("GET", f"{one}/geotiff", None, VIEW),
        ("GET", f"{one}/original", None, VIEW),
        ("GET", f"{one}/recipe", None, VIEW),
        ("GET", f"{one}/points", None, VIEW),
        ("GET", f"{one}/features", None, VIEW),
        ("GET", f"{one}/geopackage", None, VIEW),
        ("GET", f"{one}/table", None, VIEW),
        ("GET", f"{one}/csv", None, VIEW),
        ("GET", f"{one}/holes", None, VIEW),
        ("GET", f"{one}/edits", None, EDIT),
        ("POST", f"{one}/edits", {"edit": {"kind": "remove", "features": [0]}}, EDIT),
        ("POST", f"{one}/edits/undo", None, EDIT),
        ("POST", f"{one}/edits/redo", None, EDIT),
        ("DELETE", f"{one}/edits", None, EDIT),
        ("POST", f"{one}/edits/keep", {}, EDIT),
        ("GET", f"{one}/patches", None, VIEW),
        ("POST", f"{one}/patches", {"says": [{"name": "a", "gone": True}]}, EDIT),
        ("POST", f"{one}/patches/undo", None, EDIT),
        ("POST", f"{one}/patches/redo", None, EDIT),
        ("PUT", f"{one}/patches/other", {"other": None}, EDIT),
        ("POST", f"{one}/patches/kept", {"kept": 0}, EDIT),
        ("POST", f"{one}/patches/shape", {"how": "square"}, VIEW),
        ("POST", f"{one}/suspects", {"bounds": [0, 0, 1, 1]}, VIEW),
        ("POST", "/jumps", {"inputs": {}, "keys": ["a"], "ring": [[0, 0], [1, 0], [1, 1]]}, EDIT),
        ("GET", f"{one}/values?column=a", None, VIEW),
        ("GET", f"{one}/cloud", None, VIEW),
        ("GET", f"{one}/cloud/0", None, VIEW),
        ("GET", "/depots", None, VIEW),
        ("POST", "/depots/skerry/cover", {"bounds": [0, 0, 1, 1]}, VIEW),
        ("POST", "/depots/skerry/quick-look", None, VIEW),
        ("GET", "/orders", None, VIEW),
        ("POST", "/orders", {"depot": "skerry", "kind": "tiles", "tiles": ["a"]}, EDIT),
        ("POST", "/orders/1/cancel", None, EDIT),
        ("GET", "/places", None, VIEW),
        ("GET", "/feature-collections", None, VIEW),
        ("GET", "/feature-collections/rivers/values", None, VIEW),
        ("POST", "/features", {"collection": "rivers"}, EDIT),
        ("POST", "/packages/check", {"name": "a", "holdings": [1]}, VIEW),
        ("POST", "/packages", {"name": "a", "holdings": [1]}, EDIT),
        ("GET", "/packages", None, VIEW),
        ("GET", f"{package}/file", None, VIEW),
        ("GET", f"{package}/report", None, VIEW),
        ("DELETE", package, None, EDIT),
        ("POST", "/scorecard", {"surfaces": [1], "points": 1}, VIEW),
        ("POST", "/scorecard/slopes", {"surfaces": [1], "points": 1}, VIEW),
        ("POST", "/scorecard/judge", {"surfaces": [1], "points": 1}, EDIT),
        ("GET", "/brief", None, VIEW),
        ("PUT", "/brief", {"version": 0, "demands": []}, EDIT),
        ("GET", f"/brief/{holding}", None, VIEW),
        ("POST", f"/brief/{holding}", None, EDIT),
        ("GET", f"/lakes/{holding}", None, VIEW),
        ("POST", "/drainage", {"surface": holding}, EDIT),
        ("POST", "/drainage/streams", {"surface": holding}, VIEW),
        ("POST", "/drainage/catchments", {"surface": holding, "outlets": [{"x": 1, "y": 1}]}, VIEW),
        ("POST", "/drainage/likeness", {"surface": holding, "reference": holding}, VIEW),
        ("POST", "/drainage/way", {"surface": holding, "x": 1, "y": 1}, VIEW),
        ("GET", "/drainage/networks", None, VIEW),
        ("POST", "/drainage/networks", {"surface": holding}, EDIT),
        ("DELETE", "/drainage/networks/1", None, EDIT),
        ("POST", "/drainage/figures", {"surface": holding}, VIEW),
        ("POST", "/drainage/hollows", {"surface": holding}, EDIT),
        ("POST", "/drainage/hollows/list", {"surface": holding}, VIEW),
        ("GET", "/drainage/hollows/said", None, VIEW),
        ("PUT", "/drainage/hollows/said", {"x": 1, "y": 1, "kind": "water"}, EDIT),
        ("POST", "/water", {"surfaces": [holding], "features": holding}, VIEW),
        ("POST", f"{one}/explain", {"x": 1, "y": 1}, EDIT),
        ("GET", f"/explained/{uuid4()}", None, VIEW),
        ("POST", "/worst-places", {"a": "x", "b": "y"}, VIEW),
        ("POST", "/scorecard/places", {"surfaces": [1], "points": 1, "surface": 1}, VIEW),
        ("GET", "/jobs", None, VIEW),
        ("GET", job, None, VIEW),
        ("POST", f"{job}/cancel", None, EDIT),
        ("POST", f"{job}/seen", None, EDIT),
        ("GET", f"/tiles/{key}/0/0/0", None, VIEW),
        ("GET", f"/images/{holding}/tiles/0/0/0", None, VIEW),
        ("GET", f"/pictures/{holding}/tiles/0/0/0", None, VIEW),
        ("GET", f"/pairs/{holding}/{holding}/left/0/0/0", None, VIEW),
        ("GET", f"/images/{holding}/outline?surface=x", None, VIEW),
        ("POST", "/pairs/look", {"left": holding, "right": holding}, VIEW),
        ("POST", "/pairs/try", {"left": holding, "right": holding, "col": 5, "row": 5}, VIEW),
        ("POST", "/previews", _RUN, VIEW),
        ("POST", "/profiles", {"keys": [key], "line": [[0, 0], [1, 1]]}, VIEW),
        ("GET", "/shares", None, EDIT),
        ("POST", "/shares", {"holding": holding, "dress": _DRESS}, EDIT),
        ("DELETE", "/shares/1", None, EDIT),
        ("POST", "/heights", {"a": key}, VIEW),
        ("POST", "/lines", {"run": _RUN, "bounds": [0, 0, 1, 1]}, EDIT),
        ("POST", "/pictures", {"runs": [_RUN], "bounds": [0, 0, 1, 1], "width": 20, "height": 20}, EDIT),
        ("GET", f"/facets/{key}?west=0&south=0&east=1&north=1", None, VIEW),
        ("GET", "/graticule?kind=degrees&west=448100&south=5438000&east=448200&north=5438100", None, VIEW),
        ("GET", "/probe?x=1&y=1", None, VIEW),
        ("GET", "/position?text=448100%205438100", None, VIEW),
        ("POST", "/views", {"keys": []}, VIEW),
    ]


class PermissionsTest(ServiceTest):
    def status(self, method, path, body):
        return self.client.generic(method, self.base + path, b"" if body is None else json.dumps(body),
                                   content_type="application/json").status_code  # fmt: skip

    def test_every_endpoint_for_everybody(self):
        holding = self.add_surface()
        order = [VIEW, EDIT, OWN]
        listed = sorted(endpoints(holding.pk, holding.key), key=lambda entry: entry[0] == "DELETE")
        for method, path, body, least in listed:
            with self.subTest(f"{method} {path}"):
                self.as_role(None)
                self.assertEqual(self.status(method, path, body), 401)
                self.as_role("outsider")
                self.assertEqual(self.status(method, path, body), 404)
                for role in order:
                    self.as_role(role)
                    found = self.status(method, path, body)
                    if order.index(role) < order.index(least):
                        self.assertEqual(found, 403)
                    else:
                        self.assertNotIn(found, (401, 403, 405))
                        self.assertTrue(found < 500 or found == 503)  # 503: no provider answers here
                        if method == "DELETE":
                            break  # it is gone now

    def test_the_list_above_is_complete(self):
        known = {(method, path.split("?")[0]) for method, path, *_ in endpoints("{id}", "{key}")}
        count = 0
        for prefix, router in api._routers:
            if prefix != "/projects":
                continue
            for path, view in router.path_operations.items():
                if "project_id" in path:
                    count += sum(len(operation.methods) for operation in view.operations)
        self.assertEqual(count, len(known))

    def test_another_projects_holding_is_not_found_through_ones_own(self):
        holding = self.add_surface()
        self.as_role("outsider")
        made = self.client.post(
            "/api/projects", {"name": "Own", "frame": _FRAME}, content_type="application/json"
        ).json()
        own = f"/api/projects/{made['id']}"
        for path in (
            f"/holdings/{holding.pk}/geotiff",
            f"/tiles/{holding.key}/0/0/0",
            f"/facets/{holding.key}?west=0&south=0&east=1&north=1",
            f"/holdings/{holding.pk}/recipe",
        ):
            self.assertEqual(self.client.get(own + path).status_code, 404)
        found = self.client.get(f"{own}/probe?x=1&y=1&a={holding.key}")
        self.assertEqual(found.status_code, 404)


class ProjectTest(ServiceTest):
    def test_only_ones_own_projects_are_listed(self):
        self.assertEqual([one["role"] for one in self.client.get("/api/projects").json()], ["editor"])
        self.as_role("outsider")
        self.assertEqual(self.client.get("/api/projects").json(), [])

    def test_impossible_frames_get_a_sentence(self):
        for change, words in (
            ({"cell_size": 0}, "greater than 0"),
            ({"cell_size": 1e-6, "east": 1e6, "north": 1e6}, "Choose a larger cell size"),
            ({"crs": "EPSG:1"}, "is not known"),
            ({"east": -5}, "not a rectangle"),
        ):
            body = {"name": "Odd", "frame": {**_FRAME, **change}}
            response = self.client.post("/api/projects", body, content_type="application/json")
            self.assertEqual(response.status_code, 422)
            self.assertIn(words, response.json()["detail"])

    def test_a_frame_that_something_was_built_on_stays(self):
        points = self.add_points()
        self.as_role("owner")
        self.ask("PUT", "/frame", {**_FRAME, "west": 448_000, "south": 5_438_000, "east": 448_600, "north": 5_438_600})
        self.ask("POST", "/runs", {"operation": "interpolate_points", "inputs": {"points": points.pk}}, 202)
        self.run_jobs()
        self.assertIn("made on this frame", self.ask("PUT", "/frame", _FRAME, 409)["detail"])

    def test_a_project_keeps_an_owner(self):
        self.as_role("owner")
        self.assertIn("needs an owner", self.ask("PUT", "/members", {"name": "owner", "role": "viewer"}, 409)["detail"])
        self.ask("DELETE", "/members/owner", status=409)
        self.ask("PUT", "/members", {"name": "outsider", "role": "owner"})
        self.ask("DELETE", "/members/owner", status=204)
        self.ask("GET", "", status=404)
        self.ask("PUT", "/members", {"name": "no such person", "role": "viewer"}, 404)

    def test_the_desk_is_kept_for_each_person(self):
        self.ask("PUT", "/desk", {"mode": "curtain"}, 204)
        self.assertEqual(self.ask("GET", "/desk"), {"mode": "curtain"})
        self.as_role("viewer")
        self.assertEqual(self.ask("GET", "/desk"), {})
        self.ask("PUT", "/desk", {"pile": "x" * 300_000}, 422)
