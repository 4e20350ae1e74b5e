import io
import zipfile

import numpy as np
import shapely

from yama.service.draining.tests.valley import CRS, ValleyTest
from yama.service.holdings.features import keep_features
from yama.service.holdings.models import Holding
from yama.terrain.features import Features


class ReportTest(ValleyTest):
    def report(self, *holdings):
        job = self.ask("POST", "/packages", {"name": "Water", "holdings": [one.pk for one in holdings]}, 202)
        ran = self.run_jobs()[0]
        self.assertEqual(ran.state, "done", ran.message + ran.log)
        answer = self.ask("GET", f"/packages/{job['id']}/file")
        archive = zipfile.ZipFile(io.BytesIO(b"".join(answer.streaming_content)))
        self.assertTrue(archive.read("report.pdf").startswith(b"%PDF"))
        return archive.read("report.html").decode()

    def made(self, operation, params, **inputs):
        body = {"operation": operation, "params": params, "inputs": {"surface": self.valley.pk, **inputs}}
        self.ask("POST", "/runs", {**body, "name": f"Made by {operation}"}, 202)
        job = self.run_jobs()[0]
        self.assertEqual(job.state, "done", job.message + job.log)
        return job.holding

    def test_a_report_tells_of_streams_crossings_and_networks(self):
        line = Holding(project=self.project, name="Line", key="line")
        way = shapely.LineString([(448_250, 5_438_010), (448_250, 5_438_190)])
        keep_features(line, Features(CRS, np.array([way], object), {"name": ["Railway"]}), {}, [])
        streams = self.made("streams", {"begins_at": 0.5})
        crossed = self.made("crossings", {"begins_at": 0.5}, lines=line.pk)
        page = self.report(streams, crossed)
        self.assertNotIn("Networks beside each other", page)
        self.assertIn("streams, from valley", page)
        self.assertIn("Streams by order", page)
        self.assertIn('<th class="r">along, m</th>', page)
        # what is kept beside each other, with what it was held against, though nobody worked it out
        against = {
            "reference": line.pk,
            "within": 10,
            "outlet": {"x": 448_319.0, "y": 5_438_101.0, "name": "Mouth"},
            "snap": 5,
        }
        self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 0.5, "against": against})
        gone = self.ask("POST", "/drainage/networks", {**self.body, "begins_at": 0.7, "against": {"reference": 99}})
        page = self.report(streams)
        said = (
            "Networks beside each other. Catchment at Mouth. One is left out: its surface or its rivers are gone. "
            "Reference: Line, found within 10 m."
        )
        self.assertIn(said, page)
        told = self.ask("POST", "/drainage/figures", {**self.body, "begins_at": 0.5, **against})
        self.assertIn(f'<td class="r">{told["catchment"]:.2f}</td>', page)
        self.assertEqual(page.count("<td>filled</td>"), 1)  # rivers of the other one are gone
        self.assertEqual(len(self.ask("GET", "/drainage/networks")), 2)
        self.assertNotEqual(gone["id"], None)
