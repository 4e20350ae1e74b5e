"""Orders against the real depots' program on a port of its own: outages, slow lines, damage, lost workers, forgery."""

import json
import threading
import time
from dataclasses import replace
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from django.core.cache import cache
from django.test import override_settings
from django.utils import timezone
from werkzeug.serving import make_server

from yama.depot.app import Depots
from yama.depot.tests.test_depot import stock
from yama.service.delivery.contents import source_of
from yama.service.depots import client
from yama.service.depots.models import Order, Part
from yama.service.depots.products import finest_cell
from yama.service.holdings.models import Holding
from yama.service.jobs.models import Job
from yama.service.jobs.tasks import run_job
from yama.service.jobs.watch import look_after_jobs
from yama.service.tests.base import ServiceTest
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid


class DepotServiceTest(ServiceTest):
    def setUp(self):
        super().setUp()
        held = TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.depots = Depots(stock(Path(held.name) / "stock"), "key", Path(held.name) / "orders")
        server = make_server("127.0.0.1", 0, self.depots, threaded=True)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.shutdown)
        changed = override_settings(DEPOT_URL=f"http://127.0.0.1:{server.port}", DEPOTS=["skerry"])
        changed.enable()
        self.addCleanup(changed.disable)

    def tell(self, **told):
        self.depots.behaviour("skerry").set(told)

    def order(self, tiles=("E448N5438",), status=202):
        return self.ask("POST", "/orders", {"depot": "skerry", "kind": "tiles", "tiles": list(tiles)}, status)

    def run_due(self):
        """Run what waits, as if its time had come."""
        Job.objects.filter(not_before__gt=timezone.now()).update(not_before=timezone.now() - timedelta(seconds=60))
        return self.run_jobs()

    def part(self):
        return Part.objects.latest("pk")


class ProductTest(DepotServiceTest):
    def test_products_are_described_and_remembered_while_their_provider_is_down(self):
        (found,) = self.ask("GET", "/depots")
        self.assertEqual(
            (found["title"], found["resolution"], found["le90"], found["year"]), ("Skerry 5", 5, 0.9, 2024)
        )
        self.assertIsNone(found["down_for"])
        cache.delete("depot:skerry:fresh")
        self.tell(down_seconds=40)
        (found,) = self.ask("GET", "/depots")
        self.assertTrue(35 < found["down_for"] <= 41)
        self.assertEqual((found["resolution"], found["reason"]), (5, "Skerry is down for maintenance."))

    def test_what_covers_an_area_and_what_a_cut_out_costs(self):
        found = self.ask("POST", "/depots/skerry/cover", {"bounds": [448_100, 5_438_100, 448_900, 5_438_900]})
        self.assertEqual([tile["name"] for tile in found["tiles"]], ["E448N5438"])
        self.assertEqual((found["cells"], found["finest"]), (160 * 160, 5))
        tile = found["tiles"][0]
        self.assertIn([448_000.0, 5_438_000.0], tile["ring"])
        self.assertEqual((tile["standing"], tile["cells"]), ("", 160_000))
        wide = self.ask("POST", "/depots/skerry/cover", {"bounds": [448_000, 5_437_000, 451_000, 5_441_000]})
        self.assertEqual((wide["cells"], wide["finest"], wide["max_cells"]), (480_000, 10, 300_000))
        self.ask("POST", "/depots/skerry/cover", {"bounds": [9, 9, 1, 1]}, 422)
        self.ask("POST", "/depots/elsewhere/cover", {"bounds": [0, 0, 1, 1]}, 422)

    def test_the_finest_cell_keeps_within_the_limit_and_is_round(self):
        for width, height, cell, most in ((9000, 7000, 5, 300_000), (100, 100, 5, 300), (50_000, 10, 1, 10**9)):
            size = finest_cell(width, height, cell, most)
            self.assertLessEqual(round(width / size) * round(height / size), most)
            self.assertLessEqual(max(width, height) / size, 4000)
        self.assertEqual(finest_cell(100, 100, 5, 10_000), 5)

    def test_a_quick_look_is_a_surface_to_look_at(self):
        found = self.ask("POST", "/depots/skerry/quick-look")
        probe = self.ask("GET", f"/probe?x=448500&y=5438500&a={found['key']}")
        self.assertTrue(50 < probe["readings"]["a"]["height"] < 90)
        self.ask("GET", "/probe?x=448500&y=5438500&a=quick-plover", status=404)
        self.ask("GET", "/probe?x=448500&y=5438500&a=quick-..", status=404)


class DeliveryTest(DepotServiceTest):
    def test_tiles_arrive_as_holdings_and_are_not_ordered_twice(self):
        made = self.order(["E448N5438", "E450N5438"])
        self.assertEqual([part["standing"] for part in made["parts"]], ["waiting", "waiting"])
        self.run_jobs()
        (order,) = self.ask("GET", "/orders")
        self.assertEqual({part["standing"] for part in order["parts"]}, {"received"})
        holding = Holding.objects.get(name="Skerry 5 E448N5438")
        self.assertEqual(holding.origin["tile"], "E448N5438")
        self.assertEqual((holding.origin["year"], holding.origin["licence"]), (2024, "CC-BY-4.0"))
        self.assertIn("of 2024, licence: CC-BY-4.0, here since", source_of("Skerry 5", [holding])[2])
        # the file does not say what zero means; the provider did when it was ordered
        self.assertEqual(holding.facts["vertical_datum"], "Sundrel mean sea level")
        self.assertEqual(holding.declared, {"vertical_datum": "Sundrel mean sea level"})
        self.assertEqual(
            holding.upload_path.read_bytes(), self.depots.stock.tile_path("skerry", "E448N5438").read_bytes()
        )
        found = self.ask("POST", "/depots/skerry/cover", {"bounds": [448_100, 5_438_100, 448_900, 5_438_900]})
        self.assertEqual((found["tiles"][0]["standing"], found["tiles"][0]["holding_id"]), ("received", holding.pk))
        self.order(["E448N5438"], 200)
        self.assertEqual(Order.objects.count(), 1)
        self.ask("DELETE", f"/holdings/{holding.pk}")
        self.order(["E448N5438"], 202)

    def test_an_outage_is_waited_for(self):
        self.ask("GET", "/depots")
        self.order()
        self.tell(down_seconds=30)
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.tries), ("queued", 0))
        self.assertGreater(job.not_before, timezone.now() + timedelta(seconds=20))
        (order,) = self.ask("GET", "/orders")
        self.assertEqual(order["parts"][0]["note"], "Skerry is down for maintenance.")
        self.assertGreater(order["parts"][0]["try_in"], 20)
        run_job(str(job.pk))  # a stray message does not start it before its time
        self.assertEqual(Job.objects.get(pk=job.pk).state, "queued")
        self.tell(down_seconds=0)
        Job.objects.update(not_before=timezone.now() - timedelta(seconds=1))
        self.woken.reset_mock()
        look_after_jobs()
        self.woken.assert_called_once_with(str(job.pk))
        self.run_due()
        self.assertEqual(self.part().state, "received")

    def test_a_damaged_file_is_found_out_and_fetched_again(self):
        self.tell(flip=["E448N5438"])
        self.order()
        self.run_jobs()
        part = self.part()
        self.assertEqual((part.state, part.tries, part.holding_id), ("waiting", 1, None))
        self.assertIn("checksum", part.note)
        self.assertFalse(part.part_path.exists())
        self.run_due()
        self.assertEqual(self.part().state, "received")

    def test_damage_every_time_ends_with_a_reason(self):
        self.order()
        for _ in range(Part.MAX_TRIES):
            self.tell(flip=["E448N5438"])
            self.run_due()
        (order,) = self.ask("GET", "/orders")
        self.assertEqual(order["parts"][0]["standing"], "failed")
        self.assertIn("arrived damaged 5 times", order["parts"][0]["note"])
        self.assertEqual(Holding.objects.count(), 0)
        self.order(status=202)  # it can be ordered again

    def test_what_broke_off_goes_on_where_it_stopped(self):
        self.tell(cut=["E448N5438"])
        self.order()
        self.run_jobs()
        part = self.part()
        have = part.part_path.stat().st_size
        self.assertTrue(0 < have < part.size)
        asked = []
        real = client.Session.get

        def spy(session, url, **more):
            asked.append(more.get("headers", {}).get("Range"))
            return real(session, url, **more)

        with mock.patch.object(client.Session, "get", spy):
            self.run_due()
        self.assertEqual(asked, [f"bytes={have}-"])
        self.assertEqual(self.part().state, "received")

    def test_a_lost_worker_goes_on_where_it_stopped(self):
        self.order()
        part = self.part()
        whole = self.depots.stock.tile_path("skerry", "E448N5438").read_bytes()
        part.part_path.write_bytes(whole[:300_000])  # what the lost one had written
        Job.objects.update(state="running", worker="gone", tries=1, heard_at=timezone.now() - timedelta(seconds=90))
        look_after_jobs()
        self.run_jobs()
        self.assertEqual(self.part().state, "received")

    def test_a_slow_line_shows_how_far_it_is_and_can_be_cancelled(self):
        self.tell(bytes_per_second=300_000)
        self.order()
        job = Job.objects.get()
        worker = threading.Thread(target=run_job, args=(str(job.pk),))
        worker.start()
        until = time.monotonic() + 20
        while not self.part().received and time.monotonic() < until:
            time.sleep(0.05)
        (order,) = self.ask("GET", "/orders")
        self.assertEqual(order["parts"][0]["standing"], "arriving")
        self.assertTrue(0 < order["parts"][0]["received"] < order["parts"][0]["size"])
        found = self.ask("POST", f"/orders/{order['id']}/cancel")
        worker.join()
        (order,) = self.ask("GET", "/orders")
        self.assertEqual(order["parts"][0]["standing"], "cancelled", found)
        self.assertEqual(Holding.objects.count(), 0)

    def test_a_cut_out_is_ordered_waited_for_and_received(self):
        body = {
            "depot": "skerry",
            "kind": "cut_out",
            "bounds": [449_003, 5_438_503, 450_998, 5_439_500],
            "cell_size": 10,
        }
        made = self.ask("POST", "/orders", body, 202)
        self.assertEqual(made["kind"], "cut_out")
        until = time.monotonic() + 20
        while self.part().state != "received" and time.monotonic() < until:
            self.run_due()
            time.sleep(0.1)
        holding = self.part().holding
        self.assertEqual(holding.facts["grid"]["west"], 449_000)
        self.assertEqual((holding.facts["grid"]["rows"], holding.facts["grid"]["cols"]), (100, 200))
        refused = self.ask("POST", "/orders", {**body, "cell_size": 1}, 422)["detail"]
        self.assertIn("over the limit of 300000", refused)
        self.assertIn("The finest that fits is 5", refused)

    def test_strange_tiles_are_refused_by_name(self):
        self.assertIn("has no tile E1N1", self.order(["E1N1"], 422)["detail"])
        self.assertIn("at least one", self.order([], 422)["detail"])


class FeaturesTest(DepotServiceTest):
    def test_rivers_of_a_kind_and_name_come_as_features(self):
        self.assertEqual(self.ask("GET", "/feature-collections")[0]["kinds"], ["river", "stream"])
        body = {
            "collection": "rivers",
            "kinds": ["river"],
            "names": ["Avell"],
            "bounds": [440_000, 5_430_000, 460_000, 5_450_000],
        }
        self.ask("POST", "/features", body, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message)
        self.assertEqual((job.holding.kind, job.holding.name), ("features", "Rivers river Avell"))
        found = json.loads(self.ask("GET", f"/holdings/{job.holding.pk}/features").content)["features"]
        self.assertEqual({one["properties"]["name"] for one in found}, {"Avell"})
        self.assertTrue(30 < len(found) < 60)  # the others lie further east
        self.ask("POST", "/features", {**body, "names": ["Nobody"]}, 202)
        self.assertIn("no such features here", self.run_jobs()[0].message)
        self.ask("POST", "/features", {**body, "collection": "../skerry/stac"}, 422)
        self.assertEqual(self.ask("GET", "/places", status=503)["detail"][:17], "Waymark refused: ")

    def test_several_spellings_come_at_once_and_are_listed_with_how_many_there_are(self):
        # a frame that the rivers of the stock lie in
        frame = Frame.from_dict(self.project.frame_data)
        wide = replace(frame, grid=Grid("EPSG:32741", 440_000.0, 5_450_000.0, 10.0, 10.0, 2_000, 2_000))
        type(self.project).objects.filter(pk=self.project.pk).update(frame_data=wide.to_dict())
        values = self.ask("GET", "/feature-collections/rivers/values")
        counts = {(one["kind"], one["name"]): one["count"] for one in values}
        self.assertEqual(set(counts), {("river", "Avel"), ("river", "Avell"), ("stream", "Sill beck")})
        kind, first, other, second = "river", "Avell", "stream", "Sill beck"
        self.assertEqual(sorted(counts.values(), reverse=True), [one["count"] for one in values])
        body = {"collection": "rivers", "kinds": sorted({kind, other}), "names": [first, second]}
        self.ask("POST", "/features", body, 202)
        job = self.run_jobs()[0]
        found = json.loads(self.ask("GET", f"/holdings/{job.holding.pk}/features").content)["features"]
        self.assertEqual(len(found), counts[kind, first] + counts[other, second])
        self.assertEqual(job.holding.origin["name"], f"{first}, {second}")
        self.ask("GET", "/feature-collections/..%2Fskerry/values", status=404)
        self.ask("GET", "/feature-collections/Rivers/values", status=422)


class ForgeryTest(ServiceTest):
    """A provider that tries to lead this server elsewhere."""

    def setUp(self):
        super().setUp()
        self.asked = asked = []

        class Elsewhere(BaseHTTPRequestHandler):
            def do_GET(self):
                asked.append(self.path)
                self.send_response(200)
                self.end_headers()

            def log_message(self, *args):
                pass

        self.victim = HTTPServer(("127.0.0.1", 0), Elsewhere)
        threading.Thread(target=self.victim.serve_forever, daemon=True).start()
        self.addCleanup(self.victim.shutdown)
        elsewhere = f"http://127.0.0.1:{self.victim.server_port}/secret"

        class Crook(BaseHTTPRequestHandler):
            def do_GET(self):
                self.send_response(302)
                self.send_header("Location", elsewhere)
                self.end_headers()

            def log_message(self, *args):
                pass

        crook = HTTPServer(("127.0.0.1", 0), Crook)
        threading.Thread(target=crook.serve_forever, daemon=True).start()
        self.addCleanup(crook.shutdown)
        self.provider = client.Provider("crook", "Crook", f"http://127.0.0.1:{crook.server_port}/crook")
        self.elsewhere = elsewhere

    def test_redirects_and_other_hosts_are_not_followed(self):
        session = client.Session(self.provider)
        for url in (
            f"{self.provider.root}/stac", self.elsewhere, self.provider.root.replace("/crook", "/other"),
            f"{self.provider.root}/../other", f"{self.provider.root}evil/x",
        ):  # fmt: skip
            with self.assertRaises(client.DepotError):
                session.get(url)
        with self.assertRaises(client.DepotError):
            client.search(self.provider, "any", [0, 0, 1, 1])
        self.assertEqual(self.asked, [])

    def test_one_that_does_not_answer_is_down_not_a_failure(self):
        nobody = client.Provider("nobody", "Nobody", "http://127.0.0.1:9/nobody")
        with self.assertRaises(client.DepotDownError):
            client.collections(nobody)
        with self.assertRaises(client.DepotDownError):
            client.search(nobody, "any", [0, 0, 1, 1])
