"""What a file does not say is asked, and nothing is taken in before it is answered."""

import io
import zipfile

import numpy as np
import rasterio
from pyproj import CRS

from yama.service.holdings.models import Holding, upload_path
from yama.service.tests.base import ServiceTest

FEET = CRS.from_proj4(
    "+proj=tmerc +lat_0=-41 +lon_0=62.4 +k=0.9999 +x_0=600000 +y_0=900000 +datum=WGS84 +units=us-ft"
).to_wkt()


class QuestionTest(ServiceTest):
    def made(self, crs):
        path = self.folder / "hill.tif"
        with rasterio.open(
            path, "w", driver="GTiff", width=64, height=64, count=1, dtype="float32", crs=crs,
            transform=rasterio.Affine(2, 0, 448_000, 0, -2, 5_438_000),
        ) as dataset:  # fmt: skip
            dataset.write(np.full((1, 64, 64), 100, np.float32))
        return path.read_bytes()

    def test_in_what_heights_are(self):
        question = self.send(self.made(FEET), "hill.tif", 200)["question"]
        self.assertEqual((question["name"], question["declared"]), ("hill.tif", {}))
        (finding,) = question["findings"]
        self.assertEqual([one["label"] for one in finding["answers"]], ["In US survey feet", "In metres"])
        self.assertEqual(Holding.objects.count(), 0)
        self.assertTrue(upload_path(self.project.pk, question["file_key"]).exists(), "it waits for the answer")
        answer = {"name": "hill.tif", "declared": finding["answers"][0]["set_params"]}
        self.ask("POST", f"/uploads/{question['file_key']}/take", answer, 202)
        held = self.run_jobs()[0].holding
        self.assertAlmostEqual(held.facts["statistics"]["highest"], 30.48006, places=4)

    def test_where_it_lies(self):
        question = self.send(self.made(None), "hill.tif", 200)["question"]
        self.assertEqual(question["findings"][0]["answers"], [{"label": "Use this CRS", "set_params": {"crs": ""}}])
        path = f"/uploads/{question['file_key']}/take"
        self.ask("POST", path, {"name": "hill.tif", "declared": {"crs": "somewhere"}}, 422)
        self.ask("POST", path, {"name": "hill.tif", "declared": {"crs": "EPSG:32741"}}, 202)
        self.assertEqual(self.run_jobs()[0].state, "done")

    def test_one_answer_may_lead_to_the_next_question(self):
        question = self.send(self.made(None), "hill.tif", 200)["question"]
        path = f"/uploads/{question['file_key']}/take"
        self.ask("POST", path, {"name": "hill.tif", "declared": {"crs": FEET}}, 202)
        self.assertEqual(self.run_jobs()[0].state, "failed")
        asked = self.ask("GET", "/jobs")[0]["question"]
        self.assertEqual(asked["declared"], {"crs": FEET})
        answer = {"name": "hill.tif", "declared": {**asked["declared"], "unit": "m"}}
        self.ask("POST", path, answer, 202)
        self.assertEqual(self.run_jobs()[0].state, "done")
        self.assertEqual([job["question"] for job in self.ask("GET", "/jobs")], [None, None], "it is answered")

    def test_members_of_a_zip_are_asked_about_one_by_one(self):
        pack = io.BytesIO()
        with zipfile.ZipFile(pack, "w") as held:
            held.writestr("area/hill.tif", self.made(None))
            held.writestr("area/dale.tif", self.made("EPSG:32741"))
        self.send(pack.getvalue(), "area.zip", 202)
        self.run_jobs()
        self.run_jobs()
        self.assertEqual([one.name for one in Holding.objects.all()], ["dale"])
        (asked,) = (job["question"] for job in self.ask("GET", "/jobs") if job["question"])
        self.assertEqual((asked["name"], asked["zip"]), ("hill.tif", "area.zip"))
        self.ask(
            "POST", f"/uploads/{asked['file_key']}/take", {"name": "hill.tif", "declared": {"crs": "EPSG:32741"}}, 202
        )
        self.run_jobs()
        self.assertEqual({one.name: one.origin for one in Holding.objects.all()}["hill"], {"zip": "area.zip"})

    def test_a_spreadsheet_is_read_whatever_its_bytes_are_called(self):
        from openpyxl import Workbook

        book = Workbook()
        for row in (("x", "y", "z"), (448_010, 5_438_010, 3.5), (448_020, 5_438_015, 4.5), (448_015, 5_438_030, 5.5)):
            book.active.append(row)
        book.save(self.folder / "a.xlsx")
        self.send((self.folder / "a.xlsx").read_bytes(), "points.xlsx")
        job = self.run_jobs()[0]
        self.assertEqual((job.state, job.holding.facts["count"]), ("done", 3), job.message)
