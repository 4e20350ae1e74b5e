"""The depots answer as STAC and OGC API ask, sell what they say, and misbehave only as told."""

import json
import tempfile
import time
from hashlib import sha256
from pathlib import Path

import numpy as np
import rasterio
from django.test import SimpleTestCase
from rasterio.transform import from_origin
from werkzeug.test import Client

from yama.depot.app import Depots
from yama.depot.catalogue import Stock


def stock(folder: Path) -> Stock:
    """Two tiles of one product and a few map features."""
    (folder / "skerry-5").mkdir(parents=True)
    tiles = []
    rng = np.random.default_rng(3)
    for name, west in (("E448N5438", 448_000), ("E450N5438", 450_000)):
        path = folder / "skerry-5" / f"{name}.tif"
        with rasterio.open(path, "w", driver="GTiff", count=1, dtype="float32", height=400, width=400, crs="EPSG:32741",
                           transform=from_origin(west, 5_440_000, 5, 5)) as dataset:  # fmt: skip
            dataset.write(rng.uniform(50, 90, (400, 400)).astype("float32"), 1)
        lon = 62.38 + (west - 448_000) / 84_000
        tiles.append({"name": name, "bounds": [west, 5_438_000, west + 2000, 5_440_000],
                      "bbox": [lon, -41.21, lon + 0.0238, -41.19], "rows": 400, "cols": 400,
                      "bytes": path.stat().st_size, "sha256": sha256(path.read_bytes()).hexdigest()})  # fmt: skip
    product = {"name": "skerry-5", "title": "Skerry 5", "crs": "EPSG:32741", "cell": 5.0, "tile": 2000.0,
               "dtype": "float32", "reference": "bare ground", "resolution": 5, "le90": 0.9, "year": 2024,
               "voids": "none", "canopy": False, "nodata": None, "datum": "Sundrel mean sea level",
               "max_cells": 300_000, "licence": "CC-BY-4.0", "tiles": tiles}  # fmt: skip
    (folder / "catalogue.json").write_text(json.dumps({"products": [product]}))
    features = [
        {"type": "Feature", "properties": {"name": name, "kind": kind},
         "geometry": {"type": "LineString", "coordinates": [[62.38 + 0.001 * i, -41.2], [62.381 + 0.001 * i, -41.199]]}}
        for i, (name, kind) in enumerate([("Avel", "river"), ("Avell", "river"), ("Sill beck", "stream")] * 60)
    ]  # fmt: skip
    (folder / "waymark_rivers.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    return Stock(folder)


class DepotTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.depots = Depots(stock(Path(held.name) / "stock"), "key", Path(held.name) / "orders")
        self.client = Client(self.depots)

    def get(self, path, status=200, **more):
        response = self.client.get(path, **more)
        self.assertEqual(response.status_code, status, response.text[:300])
        return response.json


class StacTest(DepotTest):
    def test_landing_collection_and_items_have_the_shapes_of_the_standard(self):
        page = self.get("/skerry/stac")
        self.assertEqual((page["type"], page["stac_version"]), ("Catalog", "1.0.0"))
        self.assertIn("https://api.stacspec.org/v1.0.0/item-search", page["conformsTo"])
        rels = {link["rel"] for link in page["links"]}
        self.assertLessEqual({"self", "root", "data", "search", "child", "conformance"}, rels)
        (held,) = self.get("/skerry/stac/collections")["collections"]
        for field in ("type", "stac_version", "id", "description", "license", "extent", "links", "summaries"):
            self.assertIn(field, held)
        self.assertEqual(self.get("/skerry/stac/collections/skerry-5"), held)
        found = self.get("/skerry/stac/collections/skerry-5/items")
        self.assertEqual((found["numberMatched"], found["numberReturned"]), (2, 2))
        item = found["features"][0]
        for field in ("type", "stac_version", "id", "geometry", "bbox", "properties", "links", "assets", "collection"):
            self.assertIn(field, item)
        self.assertIn("datetime", item["properties"])
        self.assertEqual(item["geometry"]["coordinates"][0][0], item["geometry"]["coordinates"][0][-1])
        self.assertEqual(self.get("/skerry/stac/collections/skerry-5/items/E448N5438"), item)
        self.get("/skerry/stac/collections/skerry-5/items/none", 404)
        self.get("/nobody/stac", 404)

    def test_a_general_client_reads_it_and_its_items_validate(self):
        import pystac

        for item in self.get("/skerry/stac/search")["features"]:
            read = pystac.Item.from_dict(item)
            self.assertEqual(
                read.assets["data"].extra_fields["file:size"], self.depots.stock.tile("skerry", read.id)["bytes"]
            )
        pystac.Collection.from_dict(self.get("/skerry/stac/collections/skerry-5"))
        pystac.Catalog.from_dict(self.get("/skerry/stac"))

    def test_search_by_box_by_shape_by_name_by_time_and_page_by_page(self):
        def ids(**body):
            found = self.client.post("/skerry/stac/search", json=body).json
            return [item["id"] for item in found["features"]]

        self.assertEqual(ids(bbox=[62.381, -41.205, 62.39, -41.2]), ["E448N5438"])
        self.assertEqual(ids(bbox=[10, 10, 11, 11]), [])
        self.assertEqual(ids(ids=["E450N5438"]), ["E450N5438"])
        self.assertEqual(ids(collections=["other"]), [])
        self.assertEqual(ids(datetime="2020-01-01T00:00:00Z/2021-01-01T00:00:00Z"), [])
        self.assertEqual(len(ids(datetime="2020-01-01T00:00:00Z/..")), 2)
        self.assertEqual(ids(intersects={"type": "Point", "coordinates": [62.385, -41.2]}), ["E448N5438"])
        page = self.get("/skerry/stac/search?limit=1")
        (following,) = [link for link in page["links"] if link["rel"] == "next"]
        path = following["href"].split("localhost")[1]
        self.assertEqual(self.get(path)["features"][0]["id"], "E450N5438")
        self.get("/skerry/stac/search?bbox=1,2,3", 400)


class FileTest(DepotTest):
    def whole(self):
        return self.depots.stock.tile_path("skerry", "E448N5438").read_bytes()

    def test_parts_of_a_file_and_what_it_weighs(self):
        path = "/skerry/assets/E448N5438.tif"
        response = self.client.get(path)
        self.assertEqual(response.data, self.whole())
        part = self.client.get(path, headers={"Range": "bytes=1000-", "If-Range": response.headers["ETag"]})
        self.assertEqual((part.status_code, part.data), (206, self.whole()[1000:]))
        self.assertTrue(part.headers["Content-Range"].startswith("bytes 1000-"))
        other = self.client.get(path, headers={"Range": "bytes=1000-", "If-Range": '"other"'})
        self.assertEqual(other.status_code, 200)
        self.assertEqual(self.client.get(path, headers={"Range": "bytes=99999999-"}).status_code, 416)
        self.assertEqual(self.client.get("/skerry/assets/..%2Fcatalogue.tif").status_code, 404)

    def test_it_misbehaves_as_told_and_only_for_whom_it_trusts(self):
        def tell(key="key", **told):
            return self.client.post("/skerry/control", json=told, headers={"X-Control": key}).status_code

        path = "/skerry/assets/E448N5438.tif"
        self.assertEqual(tell("guess", flip=["E448N5438"]), 403)
        self.assertEqual(tell(flip=["E448N5438"]), 204)
        damaged = self.client.get(path).data
        self.assertEqual(len(damaged), len(self.whole()))
        self.assertEqual(sum(a != b for a, b in zip(damaged, self.whole(), strict=True)), 1)
        self.assertEqual(self.client.get(path).data, self.whole())
        tell(cut=["E448N5438"])
        self.assertLess(len(b"".join(self.depots.behaviour("skerry").deliver(
            self.depots.stock.tile_path("skerry", "E448N5438"), 0, len(self.whole())))), len(self.whole()))  # fmt: skip
        tell(down_seconds=30)
        response = self.client.get("/skerry/stac")
        self.assertEqual(response.status_code, 503)
        self.assertTrue(25 <= int(response.headers["Retry-After"]) <= 31)
        self.assertEqual(self.client.get("/waymark/").status_code, 200)
        tell(down_seconds=0, bytes_per_second=4_000_000)
        started = time.monotonic()
        self.assertEqual(self.client.get(path).data, self.whole())
        self.assertGreater(time.monotonic() - started, 0.8 * len(self.whole()) / 4_000_000)


class CutOutTest(DepotTest):
    def order(self, status=201, **inputs):
        response = self.client.post("/skerry/processes/cut-out/execution", json={"inputs": inputs})
        self.assertEqual(response.status_code, status, response.text)
        return response

    def test_an_order_is_made_while_one_waits_and_spans_tiles(self):
        response = self.order(bounds=[449_000, 5_438_500, 451_000, 5_439_500], cell_size=10)
        self.assertIn(response.json["status"], ("accepted", "running"))
        where = response.headers["Location"].split("localhost")[1]
        until = time.monotonic() + 20
        while (info := self.get(where))["status"] not in ("successful", "failed") and time.monotonic() < until:
            time.sleep(0.02)
        self.assertEqual(info["status"], "successful", info["message"])
        with rasterio.MemoryFile(self.client.get(f"{where}/results").data) as held, held.open() as dataset:
            self.assertEqual((dataset.shape, dataset.res), ((100, 200), (10.0, 10.0)))
            self.assertTrue(np.isfinite(dataset.read(1)).all())
        self.get("/skerry/jobs/none", 404)

    def test_more_than_the_limit_is_refused(self):
        self.assertIn(
            "over the limit", self.order(400, bounds=[448_000, 5_438_000, 452_000, 5_440_000], cell_size=5).text
        )
        self.order(400, bounds=[1, 2, 3], cell_size=5)
        self.order(400, bounds=[448_000, 5_438_000, 449_000, 5_439_000], cell_size=1)


class FeaturesTest(DepotTest):
    def test_collections_and_items_have_the_shapes_of_the_standard(self):
        self.assertLessEqual({"self", "conformance", "data"}, {link["rel"] for link in self.get("/waymark/")["links"]})
        self.assertTrue(self.get("/waymark/conformance")["conformsTo"])
        (held,) = self.get("/waymark/collections")["collections"]
        self.assertEqual((held["id"], held["kinds"]), ("rivers", ["river", "stream"]))
        found = self.get("/waymark/collections/rivers/items")
        self.assertEqual(
            (found["type"], found["numberMatched"], found["numberReturned"]), ("FeatureCollection", 180, 100)
        )
        (following,) = [link for link in found["links"] if link["rel"] == "next"]
        rest = self.get(following["href"].split("localhost")[1])
        self.assertEqual(rest["numberReturned"], 80)
        first = found["features"][0]
        self.assertEqual(
            self.get(f"/waymark/collections/rivers/items/{first['id']}")["properties"], first["properties"]
        )
        self.get("/waymark/collections/moons", 404)
        self.get("/waymark/collections/rivers/items/9999", 404)

    def test_by_kind_by_name_and_by_place(self):
        base = "/waymark/collections/rivers/items?limit=1000"
        self.assertEqual(self.get(f"{base}&kind=river")["numberMatched"], 120)
        self.assertEqual(self.get(f"{base}&name=Sill%20beck")["numberMatched"], 60)
        near = self.get(f"{base}&bbox=62.3805,-41.1995,62.3809,-41.1991")
        self.assertEqual([one["id"] for one in near["features"]], [1])
