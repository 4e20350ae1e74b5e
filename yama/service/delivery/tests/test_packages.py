"""Packages of a project: looked at before, built as a job, taken away, and good in other hands."""

import io
import json
import re
import zipfile
from types import SimpleNamespace
from unittest import mock

import laspy
import numpy as np
import pyogrio
import rasterio
from rasterio import MemoryFile

from yama.service.arrivals.tests.test_uploads import cloud_bytes, lines_bytes
from yama.service.delivery import contents
from yama.service.tests.base import ServiceTest, table
from yama.terrain.errors import InputError
from yama.terrain.ramps import PATCHES


class PackageTest(ServiceTest):
    def setUp(self):
        super().setUp()
        for data, name in ((table(), "survey.csv"), (lines_bytes(), "rivers.geojson"), (cloud_bytes(), "tile.laz")):
            self.send(data, name)
            job = self.run_jobs()[0]
            self.assertEqual(job.state, "done", job.message + job.log)
            setattr(self, name.split(".")[0], job.holding)
        self.ask("POST", "/runs", {"operation": "interpolate_points", "params": {}, "name": "=TIN/../of it",
                                   "inputs": {"points": self.survey.pk}}, 202)  # fmt: skip
        self.tin = self.run_jobs()[0].holding
        self.ask("POST", "/runs", {"operation": "slope", "params": {}, "name": "Steepness", "live": True,
                                   "inputs": {"surface": self.tin.pk}}, 202)  # fmt: skip
        self.slope = self.run_jobs()[0].holding
        self.all = [self.tin.pk, self.slope.pk, self.rivers.pk, self.survey.pk, self.tile.pk]

    def build(self, **change):
        job = self.ask("POST", "/packages", {"name": "First: delivery", "holdings": self.all, **change}, 202)
        ran = self.run_jobs()[0]
        self.assertEqual(ran.state, "done", ran.message + ran.log)
        answer = self.ask("GET", f"/packages/{job['id']}/file")
        return job["id"], answer, zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content)))

    def test_a_package_of_everything(self):
        number, answer, archive = self.build(note="For the bridge.")
        self.assertIn('filename="First_ delivery.zip"', answer.headers["Content-Disposition"])
        names = set(archive.namelist())
        self.assertEqual(names, {
            "surfaces/TIN_.._of it.tif", "surfaces/Steepness.tif", "lines/rivers.gpkg", "points/survey.csv", "clouds/tile.laz",
            "recipes/TIN_.._of it.recipe.json", "recipes/Steepness.recipe.json", "report.html", "report.pdf", "SHA256SUMS.txt",
            "package.json",
        })  # fmt: skip
        with MemoryFile(archive.read("surfaces/TIN_.._of it.tif")) as file, file.open() as dataset:
            with rasterio.open(self.tin.cells_path) as kept:
                np.testing.assert_array_equal(dataset.read(1), kept.read(1))
            self.assertEqual(dataset.tags()["RECIPE"], self.tin.key)
        said = json.loads(archive.read("package.json"))
        self.assertEqual((said["name"], said["project"], said["note"]), ("First: delivery", "Avel", "For the bridge."))
        page = archive.read("report.html").decode()
        self.assertIn("interpolate points, from survey", page)
        self.assertIn("slope, from =TIN/../of it", page)
        self.assertRegex(page, r'class="lead">[^<,]+, \d')  # who had it made, and when
        self.assertIn("Middle of the frame: 41°", page)
        self.assertIn('href="#sheet-2">Steepness', page)
        self.assertTrue(archive.read("report.pdf").startswith(b"%PDF"))
        listed = self.ask("GET", "/packages")
        self.assertEqual([(one["name"], one["report"]) for one in listed], [("First: delivery", True)])
        read = self.ask("GET", f"/packages/{number}/report")
        self.assertIn("default-src 'none'", read.headers["Content-Security-Policy"])
        self.as_role("viewer")
        self.ask("DELETE", f"/packages/{number}", status=403)
        self.as_role("editor")
        self.ask("DELETE", f"/packages/{number}", status=204)
        self.assertEqual(self.ask("GET", "/packages"), [])
        self.ask("GET", f"/packages/{number}/file", status=404)

    def test_the_report_says_what_patches_did(self):
        west, north = self.tin.facts["grid"]["west"], self.tin.facts["grid"]["north"]
        ring = [(west + x, north - y) for x, y in ((100, 100), (160, 100), (160, 160), (100, 160))]
        patches = [
            {"name": "Field, raised", "ring": ring, "operator": {"kind": "raise", "by": 2.0}},
            {"name": "Quiet", "ring": ring, "on": False, "operator": {"kind": "raise", "by": 9.0}},
        ]
        self.ask("POST", "/runs", {"operation": "mend", "params": {"patches": patches}, "name": "Mended",
                                   "inputs": {"surface": self.tin.pk}}, 202)  # fmt: skip
        mended = self.run_jobs()[0].holding
        self.ask("POST", "/runs", {"operation": "slope", "params": {}, "name": "Slope of it",
                                   "inputs": {"surface": mended.pk}}, 202)  # fmt: skip
        slope = self.run_jobs()[0].holding
        page = self.build(holdings=[mended.pk])[2].read("report.html").decode()
        row = re.search(r"<td[^>]*>Field, raised</td>(.*?)</tr>", page, re.S)
        cells = re.findall(r">([^<]*)</td>", row[1])
        filled = mended.facts["grid"]["cell_width"] ** 2 * int(cells[1])
        self.assertAlmostEqual(float(cells[2].replace("\u202f", "")), 2 * filled, delta=0.06)
        self.assertIn("What patches did", page)
        self.assertNotIn(">Quiet<", page)
        # what is made of it says so as well
        further = self.build(holdings=[slope.pk])[2].read("report.html").decode()
        self.assertIn("What patches did: Mended", further)
        # and a surface that cannot be computed any more says that
        with mock.patch("yama.service.surfaces.keys.told_of", side_effect=InputError("An input is gone.")):
            lost = self.build(holdings=[mended.pk])[2].read("report.html").decode()
        self.assertIn("Mended: what was done to it cannot be told. An input is gone.", lost)

    def test_colours_of_sources_are_named_as_they_were_joined(self):
        def held(pk, name, tile=""):
            return SimpleNamespace(pk=pk, name=name, origin={"tile": tile} if tile else {}, step=None)

        by_key = {"a": held(1, "Beacon 30 E1", "E1"), "b": held(2, "Lidar"), "c": held(3, "Beacon 30 E2", "E2")}
        joined = SimpleNamespace(inputs={"surfaces": ["a", "b", "c"]}, params={"groups": [0, 1, 0]})
        by_key["d"] = SimpleNamespace(pk=4, name="Joined, source", origin={}, step=joined)
        cut = SimpleNamespace(step=SimpleNamespace(inputs={"surface": ["d"]}, params={}))
        for holding in (by_key["d"], cut):
            self.assertEqual(
                contents._sources_shown(holding, by_key), [(PATCHES[0], "Beacon 30"), (PATCHES[1], "Lidar")]
            )
        self.assertEqual(contents._sources_shown(held(9, "File"), by_key), [])

    def test_written_otherwise(self):
        wanted = {"cell_type": "int16", "step": 0.1, "features_as": "shp", "points_as": "xlsx"}
        _, _, archive = self.build(wanted=wanted, report=False, holdings=self.all[:4])
        self.assertNotIn("report.html", archive.namelist())
        with MemoryFile(archive.read("surfaces/TIN_.._of it.tif")) as file, file.open() as dataset:
            self.assertEqual((dataset.dtypes[0], dataset.scales[0]), ("int16", 0.1))
            with rasterio.open(self.tin.cells_path) as kept:
                np.testing.assert_allclose(dataset.read(1, masked=True) * 0.1, kept.read(1, masked=True), atol=0.051)
        self.assertTrue({"lines/rivers.shp", "lines/rivers.dbf", "lines/rivers.prj"} <= set(archive.namelist()))
        folder = self.folder / "out"
        archive.extractall(folder)
        self.assertEqual(len(pyogrio.raw.read(folder / "lines/rivers.shp")[2]), self.rivers.features.count())
        _, _, archive = self.build(wanted={"surfaces_as": "asc"}, report=False, holdings=[self.tin.pk])
        self.assertTrue(archive.read("surfaces/TIN_.._of it.asc").startswith(b"ncols"))

    def test_in_pieces_and_as_pictures_dressed_as_on_the_desk(self):
        look = {"stops": [[0, "#000000"], [1, "#FF0000"]], "low": 0, "high": 60, "lit": False}
        asked = {"wanted": {"cut": 256, "pictures": True}, "report": True, "looks": {"height": look}}
        _, _, archive = self.build(holdings=[self.tin.pk, self.slope.pk], **asked)
        names = set(archive.namelist())
        stem = "TIN_.._of it"
        self.assertLessEqual({f"surfaces/{stem} r{r}c{c}.tif" for r in (1, 2) for c in (1, 2)}, names)
        self.assertLessEqual({f"pictures/{stem}.png", f"pictures/{stem}.pgw", "pictures/Steepness.prj"}, names)
        with MemoryFile(archive.read(f"pictures/{stem}.png")) as file, file.open() as dataset:
            self.assertEqual((dataset.count, dataset.read(3).max()), (4, 0))  # red only
        self.assertIn("#FF0000 100.0%", archive.read("report.html").decode())
        body = {"name": "x", "holdings": [self.tin.pk], "wanted": {"cut": 9}}
        self.assertIn("256 or more", self.ask("POST", "/packages", body, 422)["detail"])
        body = {"name": "x", "holdings": [self.tin.pk], "looks": {"height": {**look, "high": -5}}}
        self.assertIn("lower end", self.ask("POST", "/packages", body, 422)["detail"])

    def test_cells_stay_as_they_were_stored(self):
        self.ask("POST", "/runs", {"operation": "cell_type", "params": {"step": 0.5, "nodata": -9999}, "name": "halves",
                                   "inputs": {"surface": self.tin.pk}}, 202)  # fmt: skip
        halves = self.run_jobs()[0].holding
        for wanted, cell_type, nodata in (({}, "int16", "-9999.0"), ({"cell_type": "float32"}, "float32", "nan")):
            archive = self.build(holdings=[halves.pk], report=False, wanted=wanted)[2]
            with MemoryFile(archive.read("surfaces/halves.tif")) as file, file.open() as dataset:
                self.assertEqual((dataset.dtypes[0], str(dataset.nodata)), (cell_type, nodata))
                told = dataset.read(1, masked=True) * dataset.scales[0]
                with rasterio.open(self.tin.cells_path) as kept:
                    np.testing.assert_allclose(told.filled(0), kept.read(1, masked=True).filled(0), atol=0.251)
        with rasterio.open(halves.cells_path) as dataset:
            self.assertEqual((dataset.dtypes[0], dataset.nodata, dataset.scales[0]), ("int16", -9999.0, 0.5))

    def test_what_speaks_against_it_is_said_before(self):
        body = {"name": "x", "holdings": [self.tin.pk], "wanted": {"cell_type": "int16", "step": 0.001}}
        found = self.ask("POST", "/packages/check", body)
        self.assertEqual(found["members"][0]["file"], "surfaces/TIN_.._of it.tif")
        codes = {one["code"]: one for one in found["findings"]}
        self.assertEqual(codes["range"]["weight"], "stop")
        self.assertLessEqual({"datum", "checkpoints"}, set(codes))
        self.assertIn("holds", self.ask("POST", "/packages", body, 422)["detail"])
        mended = codes["range"]["fix"]["set_params"]["step"]
        self.assertEqual(mended, found["members"][0]["step"])
        body["wanted"]["step"] = mended
        self.assertNotIn("range", [one["code"] for one in self.ask("POST", "/packages/check", body)["findings"]])

    def test_of_clouds_the_points_of_chosen_classes(self):
        body = {"holdings": [self.tile.pk], "report": False, "wanted": {"classes": [2]}}
        there = {int(code): count for code, count in self.tile.facts["classes"].items()}
        (told,) = [
            one
            for one in self.ask("POST", "/packages/check", {"name": "x", **body})["findings"]
            if one["code"] == "classes"
        ]
        self.assertEqual(told["weight"], "note")
        self.assertIn(f"{there[2]} of {sum(there.values())} points", told["sentence"].replace("\u202f", ""))
        archive = self.build(**body)[2]
        with laspy.open(io.BytesIO(archive.read("clouds/tile.laz"))) as file:
            kept = file.read()
        whole = laspy.read(self.tile.upload_path)
        ground = np.asarray(whole.classification) == 2
        self.assertEqual(len(kept.points), there[2])
        for name in whole.point_format.dimension_names:
            np.testing.assert_array_equal(kept[name], whole[name][ground], err_msg=name)
        np.testing.assert_array_equal(kept.header.scales, whole.header.scales)
        for none in ([17], []):
            body["wanted"] = {"classes": none}
            told = self.ask("POST", "/packages", {"name": "x", **body}, 422)["detail"]
            self.assertIn("no point of a class that is kept", told)
        self.ask("POST", "/packages", {"name": "x", **body, "wanted": {"classes": [300]}}, 422)

    def test_nonsense_is_refused(self):
        self.ask("POST", "/packages", {"name": "x", "holdings": [9_999]}, 422)
        self.ask("POST", "/packages", {"name": "x", "holdings": []}, 422)
        self.ask("POST", "/packages", {"name": "x", "holdings": self.all, "wanted": {"surfaces_as": "exe"}}, 422)

    def test_something_that_went_meanwhile_fails_it_with_a_sentence(self):
        self.ask("POST", "/packages", {"name": "x", "holdings": [self.rivers.pk, self.slope.pk]}, 202)
        self.slope.delete()
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "failed")
        self.assertIn("no longer in the project", job.message)
        self.assertEqual(self.ask("GET", "/packages"), [])
