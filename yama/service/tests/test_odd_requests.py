"""Requests that nobody sends by accident: each gets a sentence and none of them an error of the server's own."""

import errno
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import rasterio
import shapely
from rasterio.crs import CRS

from yama.service.holdings.models import Holding, project_dir
from yama.service.tests.base import ServiceTest, table
from yama.terrain.features import Features
from yama.terrain.formats import vector

LOCAL = 'ENGCRS["Building site",EDATUM["Corner stone"],CS[Cartesian,2],AXIS["x",east],AXIS["y",north],LENGTHUNIT["metre",1]]'


class OddRequestsTest(ServiceTest):
    def setUp(self):
        super().setUp()
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.made = Path(held.name)

    def raw(self, method, path, body, status):
        response = self.client.generic(method, self.base + path, body, content_type="application/json")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response

    def uploads(self):
        return [path.name for path in project_dir(self.project.pk).iterdir() if path.is_file()]

    def test_json_that_is_none(self):
        for body in (
            b'{"a": NaN}',
            b'{"a": Infinity}',
            b'{"a": "\\ud800"}',
            b'{"a": "x\\u0000y"}',
            b"[" * 100_000,
            b"\xff",
        ):
            self.raw("PUT", "/desk", body, 400)
        self.raw("PUT", "/desk", b'{"a": "\\ud83d\\ude00 \xc2\xb2"}', 204)
        self.assertEqual(self.ask("GET", "/desk"), {"a": "\U0001f600 \xb2"})

    def test_nul_in_names(self):
        for path in ("/uploads?name=a%00b.csv", "/holdings?x=%00"):
            self.raw("POST" if "uploads" in path else "GET", path, b"1,2,3", 400)
        points = self.add_points()
        self.raw("PATCH", f"/holdings/{points.pk}", b'{"name": "a\\u0000b"}', 400)

    def test_frames_beyond_all_measure(self):
        for west, south, east, north, cell in (
            (-1e308, -1e308, 1e308, 1e308, 1.0), (0, 0, 1e308, 1, 1e-300), (0, 0, 1e12, 1e12, 1e9), (0, 0, 10, 10, 1e-320),
        ):  # fmt: skip
            body = {"crs": "EPSG:32741", "west": west, "south": south, "east": east, "north": north, "cell_size": cell}
            answer = self.client.post("/api/projects", {"name": "Far", "frame": body}, content_type="application/json")
            self.assertEqual(answer.status_code, 422, answer.content[:300])
        place = {"name": "x", "crs": "EPSG:32741", "bounds": [-1e308, -1e308, 1e308, 1e308]}
        answer = self.client.post("/api/frames/propose", {"extents": [place]}, content_type="application/json")
        self.assertEqual(answer.status_code, 422, answer.content[:300])

    def test_keys_that_are_none(self):
        self.ask("POST", "/views", {"keys": ["k" * 1_000_000]}, 404)
        self.ask("POST", "/views", {"keys": ["../../secrets"]}, 404)

    def test_lines_with_the_name_of_a_path(self):
        line = np.array([shapely.LineString([(448_000, 5_438_000), (448_100, 5_438_100)])], dtype=object)
        vector.write(Features("EPSG:32741", line, {"kind": ["a"]}), self.made / "lines.gpkg")
        self.send((self.made / "lines.gpkg").read_bytes(), "lines.gpkg")
        held = self.run_jobs()[0].holding
        for name in ("../x", "/etc/passwd", "..", "a/../../b"):
            self.ask("PATCH", f"/holdings/{held.pk}", {"name": name})
            answer = self.ask("GET", f"/holdings/{held.pk}/geopackage")
            self.assertTrue(b"".join(answer.streaming_content).startswith(b"SQLite format 3"))

    def test_ranges_of_thousands_of_digits(self):
        held = self.add_surface()
        address = self.ask("POST", "/shares", {"holding": held.pk, "dress": {"stops": [[0, "#000000"], [1, "#FFFFFF"]], "low": 0, "high": 9, "lit": False}}, 201)["file"]  # fmt: skip
        for said in ("bytes=0-" + "9" * 5000, "bytes=" + "9" * 5000 + "-", "bytes=-" + "9" * 5000):
            answer = self.client.get(address.split("testserver", 1)[-1], headers={"Range": said})
            self.assertIn(answer.status_code, (200, 206, 416))

    def test_a_full_disk_is_said_and_leaves_nothing(self):
        full = OSError(errno.ENOSPC, "No space left on device")
        with mock.patch("yama.service.arrivals.api.put_in_place", side_effect=full):
            said = self.send(table(), status=507)
        self.assertIn("disk is full", said["detail"])
        self.assertEqual(self.uploads(), [])

    def raster_in(self, name, crs):
        with rasterio.open(
            self.made / name, "w", driver="GTiff", width=8, height=8, count=1, dtype="float32", crs=crs,
            transform=rasterio.Affine(2, 0, 448_000, 0, -2, 5_438_000),
        ) as dataset:  # fmt: skip
            dataset.write(np.arange(64, dtype=np.float32).reshape(1, 8, 8))
        return (self.made / name).read_bytes()

    def test_a_crs_that_has_no_place_on_the_earth(self):
        answer = self.client.post("/api/frames/use", {"crs": LOCAL}, content_type="application/json")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("says no place on the earth", answer.json()["detail"])
        said = self.send(self.raster_in("local.tif", CRS.from_wkt(LOCAL)), "local.tif", 422)
        self.assertIn("no place on the earth", said["detail"])
        self.assertEqual(self.uploads(), [])

    def test_a_garbled_name_of_a_crs(self):
        whole = self.raster_in("garbled.tif", CRS.from_proj4("+proj=utm +zone=41 +south +ellps=intl +units=m"))
        at = whole.find(b"unknown|")
        self.assertGreater(at, 0, "the citation is not where it was")
        self.send(whole[:at] + b"\xff\xfe\xd8wn|" + whole[at + 7 :], "garbled.tif", 422)
        self.assertEqual(self.uploads(), [])
        self.assertEqual(Holding.objects.count(), 0)
