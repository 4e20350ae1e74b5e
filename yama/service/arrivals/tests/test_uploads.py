"""Files of every kind come in, are declared anew in one press, and nothing else is touched."""

import io
import json
import tempfile
import zipfile
from dataclasses import replace
from pathlib import Path

import laspy
import numpy as np
import shapely

from yama.service.holdings.models import Feature, Holding
from yama.service.tests.base import GRID, ServiceTest, table
from yama.terrain.features import Features
from yama.terrain.formats import rpc, vector
from yama.terrain.grid import Grid
from yama.terrain.overview import RECORD
from yama.terrain.tests.test_rational import model


def cloud_bytes(count=5000, seed=1, compressed=True) -> bytes:
    """A LAZ of ground and high vegetation over GRID."""
    rng = np.random.default_rng(seed)
    header = laspy.LasHeader(version="1.4", point_format=6)
    header.scales, header.offsets = np.full(3, 0.01), np.array([448_000.0, 5_438_000.0, 0.0])
    header.add_crs(__import__("pyproj").CRS.from_user_input("EPSG:32741"))
    cloud = laspy.LasData(header)
    cloud.x, cloud.y = 448_000 + 600 * rng.random(count), 5_438_000 + 600 * rng.random(count)
    cloud.z = 100 + rng.random(count)
    cloud.classification = np.where(np.arange(count) % 4 == 0, 5, 2).astype(np.uint8)
    cloud.return_number = np.ones(count, np.uint8)
    cloud.number_of_returns = np.ones(count, np.uint8)
    held = io.BytesIO()
    cloud.write(held, do_compress=compressed)
    return held.getvalue()


def zipped(**members: bytes) -> bytes:
    """A zip of these."""
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as pack:
        for name, data in members.items():
            pack.writestr(name, data)
    return held.getvalue()


def lines_bytes(suffix=".gpkg") -> bytes:
    """Two rivers and a wood."""
    shapes = [shapely.LineString([(448_010, 5_438_010), (448_200, 5_438_300), (448_300, 5_438_310)]),
              shapely.LineString([(448_400, 5_438_010), (448_420, 5_438_200)]),
              shapely.box(448_100, 5_438_400, 448_200, 5_438_500)]  # fmt: skip
    held = Features("EPSG:32741", np.array(shapes, dtype=object),
                    {"name": ["Avel", "Sill", None], "width": [12.5, 3, None]})  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"made{suffix}"
        vector.write(held, path, "made")
        return path.read_bytes()


class ArrivalTest(ServiceTest):
    def take(self, data, name, **more):
        self.send(data, name, **more)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def listed(self, holding):
        return next(one for one in self.ask("GET", "/holdings") if one["id"] == holding.pk)

    def test_a_cloud_is_inspected_and_its_overview_holds_every_point(self):
        holding = self.take(cloud_bytes(), "tile.laz")
        facts = self.listed(holding)["cloud"]
        self.assertEqual((facts["count"], facts["classes"]), (5000, {"2": 3750, "5": 1250}))
        self.assertEqual(facts["class_names"]["5"], "high vegetation")
        index = self.ask("GET", f"/holdings/{holding.pk}/cloud")
        self.assertEqual(index["count"], 5000)
        points = np.concatenate([
            np.frombuffer(self.ask("GET", f"/holdings/{holding.pk}/cloud/{i}").content, RECORD)
            for i in range(len(index["nodes"]))
        ])  # fmt: skip
        self.assertEqual(len(points), 5000)
        self.assertEqual(int((points["class"] == 5).sum()), 1250)
        self.assertTrue((points["x"] + index["west"] >= 447_999).all())
        self.ask("GET", f"/holdings/{holding.pk}/cloud/999", status=422)
        self.ask("GET", f"/holdings/{holding.pk}/points", status=422)

    def test_lines_and_polygons_go_into_the_database_and_back_onto_the_map(self):
        holding = self.take(lines_bytes(), "rivers.gpkg")
        facts = self.listed(holding)["features"]
        self.assertEqual(facts["counts"], {"lines": 2, "polygons": 1})
        self.assertEqual(facts["attributes"], {"name": "text", "width": "number"})
        self.assertEqual(Feature.objects.filter(holding=holding).count(), 3)
        found = json.loads(self.ask("GET", f"/holdings/{holding.pk}/features").content)["features"]
        self.assertEqual([one["properties"]["name"] for one in found], ["Avel", "Sill", None])
        self.assertEqual(found[0]["geometry"]["coordinates"][1], [448_200.0, 5_438_300.0])
        degrees = self.take(lines_bytes(".geojson"), "rivers.geojson")
        again = json.loads(self.ask("GET", f"/holdings/{degrees.pk}/features").content)["features"]
        np.testing.assert_allclose(again[0]["geometry"]["coordinates"], found[0]["geometry"]["coordinates"], atol=0.03)

    def test_a_zip_gives_a_holding_for_each_file_and_names_what_it_left(self):
        pack = zipped(**{"a/points.csv": table(), "b/lines.gpkg": lines_bytes(), "read me.doc": b"\0\1\2binary\0"})
        self.send(pack, "everything.zip")
        outer = self.run_jobs()[-1]
        self.assertEqual((outer.state, outer.findings[0]["code"]), ("done", "left_out"))
        self.assertIn("read me.doc", outer.findings[0]["why"])
        self.run_jobs()
        self.assertEqual({one.kind for one in Holding.objects.all()}, {"points", "features"})
        self.assertEqual(Holding.objects.first().origin, {"zip": "everything.zip"})

    def test_zips_that_mean_harm_are_refused_and_leave_nothing(self):
        bomb = zipped(**{"zeros.csv": bytes(80_000_000)})
        self.assertIn("would unpack to 80 MB", self.send(bomb, "bomb.zip", 422)["detail"])
        held = io.BytesIO()
        with zipfile.ZipFile(held, "w") as pack:
            pack.writestr("../../evil.csv", table())
        self.assertIn("leads out of its folder", self.send(held.getvalue(), "evil.zip", 422)["detail"])
        self.assertEqual(list((self.folder / "store").rglob("*.upload")), [])

    def test_a_mend_makes_a_new_holding_and_leaves_the_old_one(self):
        rows = table(200).decode().splitlines()
        x, y, z, code = rows[50].split(",")
        rows[50] = ",".join([y, x, z, code])
        holding = self.take("\n".join(rows).encode(), "turned.csv")
        (finding,) = [one for one in self.listed(holding)["findings"] if one["code"] == "swapped"]
        change = finding["fix"]["set_params"]
        self.ask("POST", f"/holdings/{holding.pk}/declare", {"declared": change}, 202)
        mended = self.run_jobs()[0].holding
        self.assertNotEqual(mended.pk, holding.pk)
        self.assertEqual(mended.name, "turned, exchanged")
        self.assertEqual((mended.file_key, mended.declared), (holding.file_key, {"swap": "suspected"}))
        self.assertEqual(self.listed(mended)["findings"], [])
        self.assertEqual(
            self.ask("POST", f"/holdings/{holding.pk}/declare", {"declared": change})["holding_id"], mended.pk
        )
        self.ask("DELETE", f"/holdings/{holding.pk}")
        self.assertTrue(mended.upload_path.exists())  # the other holding is of the same upload
        self.ask("POST", f"/holdings/{mended.pk}/declare", {"declared": {"colour": 3}}, 422)

    def test_voids_and_feet_are_found_beside_what_is_there(self):
        reference = self.add_surface(60.0)
        self.assertEqual(self.listed(reference)["findings"], [])
        import rasterio

        with rasterio.open(reference.upload_path) as dataset:
            profile, cells = dataset.profile, dataset.read(1)
        cells = cells / 0.3048
        cells[100:110, 100:120] = -9999
        profile.update(nodata=None, driver="GTiff")
        with rasterio.open(self.folder / "feet.tif", "w", **profile) as dataset:
            dataset.write(cells, 1)
        holding = self.take((self.folder / "feet.tif").read_bytes(), "feet.tif")
        found = {one["code"]: one for one in self.listed(holding)["findings"]}
        self.assertEqual(set(found), {"void_value", "feet", "holes"})
        self.ask("POST", f"/holdings/{holding.pk}/declare", {"declared": found["void_value"]["fix"]["set_params"]}, 202)
        emptied = self.run_jobs()[0].holding
        self.assertEqual(emptied.facts["statistics"]["empty"], 200)
        self.assertEqual(self.listed(emptied)["holes"], {"count": 1, "cells": 200, "outside": 0})
        (hole,) = json.loads(self.ask("GET", f"/holdings/{emptied.pk}/holes").content)["features"]
        self.assertEqual(hole["properties"], {"cells": 200, "area": 800.0, "exact": True})
        rim = shapely.geometry.shape(hole["geometry"])
        self.assertEqual(rim.bounds, (448_200.0, 5_438_380.0, 448_240.0, 5_438_400.0))
        self.assertEqual(json.loads(self.ask("GET", f"/holdings/{reference.pk}/holes").content)["features"], [])
        self.ask("POST", f"/holdings/{emptied.pk}/declare", {"declared": {"unit": "ft"}}, 202)
        metres = self.run_jobs()[0].holding
        self.assertEqual(metres.name, "feet, -9999 empty, from feet")
        self.assertAlmostEqual(
            metres.facts["statistics"]["highest"], reference.facts["statistics"]["highest"], places=2
        )
        self.assertEqual(self.listed(metres)["findings"][0]["code"], "holes")

    def test_an_image_comes_with_its_coefficients_in_a_zip(self):
        cells = np.random.default_rng(1).integers(90, 3200, (200, 240)).astype(np.uint16)
        small = replace(model(), row_offset=99.5, col_offset=119.5, row_scale=100.0, col_scale=120.0)
        import rasterio

        with rasterio.open(
            self.folder / "left.tif", "w", driver="GTiff", dtype="uint16", count=1, height=200, width=240
        ) as dataset:
            dataset.write(cells, 1)
        pack = io.BytesIO()
        with zipfile.ZipFile(pack, "w") as file:
            file.write(self.folder / "left.tif", "pair/left.tif")
            file.writestr("pair/left_RPC.TXT", rpc.text_of(small))
        self.send(pack.getvalue(), "pair.zip")
        self.run_jobs()
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        listed = self.listed(job.holding)
        self.assertEqual((listed["kind"], listed["name"], listed["origin"]), ("image", "left", {"zip": "pair.zip"}))
        self.assertEqual((listed["image"]["rows"], listed["image"]["bits"]), (200, 12))
        west, south, east, north = listed["bounds"]
        self.assertTrue(4000 < east - west < 5300 and 4000 < north - south < 5000)
        self.assertEqual(listed["image"]["footprint"][0], listed["image"]["footprint"][-1])
        self.assertIn("coefficients", self.send(rpc.text_of(small).encode(), "left_RPC.TXT", 422)["detail"])
        self.ask("GET", "/frame/proposal")
        original = b"".join(self.ask("GET", f"/holdings/{job.holding.pk}/original").streaming_content)
        self.assertEqual(original, (self.folder / "left.tif").read_bytes())

    def test_a_table_can_be_looked_at_and_its_columns_chosen_before_it_is_taken_in(self):
        text = "a,b,c,d\n" + "\n".join(f"{i},{448_000 + 7 * i},{5_438_000 + i * i % 97},{i * 0.5}" for i in range(60))
        response = self.client.post(f"{self.base}/uploads?name=odd.csv&look=true", text.encode(),
                                    content_type="application/octet-stream").json()  # fmt: skip
        seen = response["table"]
        self.assertEqual((seen["rows"], seen["layout"]["columns"]), (60, ["a", "b", "c", "d"]))
        self.assertEqual([seen["layout"][role] for role in "xyz"], [1, 2, 3])
        self.assertLess(seen["layout"]["confidence"]["x"], 0.6)
        self.assertEqual(len(seen["dots"]), 60)
        layout = {**seen["layout"], "z": 0}
        body = {"name": "odd.csv", "declared": {"layout": layout}}
        again = self.ask("POST", f"/uploads/{seen['file_key']}/look", body)
        self.assertEqual(again["layout"]["z"], 0)
        self.ask("POST", f"/uploads/{seen['file_key']}/take", body, 202)
        holding = self.run_jobs()[0].holding
        self.assertEqual(holding.facts["height_field"], "a")
        bad = {"name": "odd.csv", "declared": {"layout": {**layout, "z": 9}}}
        self.assertIn("does not have", self.ask("POST", f"/uploads/{seen['file_key']}/look", bad, 422)["detail"])
        self.ask("POST", f"/uploads/{'f' * 32}/look", body, 404)
        self.ask("POST", "/uploads/..%2F..%2Fsecrets/look", body, 404)

    def test_a_grid_written_out_as_text_becomes_a_surface_in_one_press(self):
        grid = Grid("EPSG:32741", 448_000.0, 5_438_600.0, 20.0, 20.0, 12, 15)
        xs, ys = grid.centres(grid.whole)
        rows = [f"{x} {y} {0.1 * (x - 448_000):.3f}" for y in ys for x in xs]
        holding = self.take("\n".join(rows).encode(), "cells.xyz")
        (finding,) = self.listed(holding)["findings"]
        self.assertEqual(finding["code"], "lattice")
        self.ask("POST", f"/holdings/{holding.pk}/declare", {"declared": finding["fix"]["set_params"]}, 202)
        surface = self.run_jobs()[0].holding
        self.assertEqual(surface.kind, "surface")
        self.assertEqual(surface.facts["grid"], grid.to_dict())

    def test_one_damaged_file_does_not_keep_others_from_coming_in(self):
        whole = cloud_bytes(seed=2)
        self.send(whole[: len(whole) // 2], "half.laz")
        self.send(table(seed=3), "good.csv")
        states = {job.title: (job.state, job.message) for job in self.run_jobs()}
        self.assertEqual(states["Take in good.csv"][0], "done")
        self.assertEqual(states["Take in half.laz"][0], "failed")
        self.assertIn("half.laz cannot be read as LAS or LAZ", states["Take in half.laz"][1])
        self.assertEqual(len(list((self.folder / "store").rglob("*.cloud*"))), 0)


class FrameReferenceTest(ServiceTest):
    def test_cells_off_the_frames_are_noted(self):
        shifted = Grid(GRID.crs, GRID.west + 1.0, GRID.north, 2.0, 2.0, 40, 40)
        holding = self.add_surface(0.0, shifted)
        self.assertEqual([one["code"] for one in holding.facts["findings"]], ["phase"])
