"""Files made to do harm are answered with a sentence, and an honest one beside them is read."""

import json
import tempfile
from pathlib import Path

from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.apart import readers
from yama.terrain.apart.tests import hostile
from yama.terrain.errors import InputError
from yama.terrain.formats.declared import NOTHING
from yama.terrain.kinds.surface import CELLS

SAID = {
    hostile.endless_view: "endless.gpkg was given up",
    hostile.many_records: "records.las claims 4294967295 records",
    hostile.wide_row: "Row 1 of wide.csv is longer than",
    hostile.sparse_raster: "sparse.tif claims 100000 x 100000 cells in",
    hostile.full_sparse_raster: "same.tif claims 40000 x 40000 cells in",
}


class HostileTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def take(self, path):
        out = self.folder / "out"
        out.mkdir(exist_ok=True)
        return readers.take(path, NOTHING, path.name, hostile.CRS, hostile.CRS, out)

    def test_each_is_refused_with_a_sentence_and_leaves_nothing(self):
        self.assertEqual(set(SAID) | {hostile.large_circle, hostile.blank_lines}, set(hostile.EVERY))
        for make, sentence in SAID.items():
            path = make(self.folder)
            with self.subTest(path.name):
                with self.assertRaisesMessage(InputError, sentence):
                    self.take(path)
                self.assertFalse((self.folder / "out" / CELLS).exists())

    def test_what_is_only_odd_is_read(self):
        circle = self.take(hostile.large_circle(self.folder))
        self.assertEqual(circle.facts["counts"], {"lines": 1})
        self.assertLess(circle.facts["vertices"], 5000)
        points = self.take(hostile.blank_lines(self.folder, 20_000_000))
        self.assertEqual(points.facts["count"], 3)

    def test_a_file_that_points_to_another_reads_nothing_of_it(self):
        secret = self.folder / "secret.geojson"
        feature = {
            "type": "Feature",
            "properties": {"name": "hidden"},
            "geometry": {"type": "Point", "coordinates": [1, 2]},
        }
        secret.write_text(json.dumps({"type": "FeatureCollection", "features": [feature]}))
        path = hostile.pointing_kml(self.folder, secret)
        for read in (self.take, formats.read, readers.glance, readers.extent):
            with self.assertRaises(InputError) as caught:
                read(path)
            self.assertNotIn("hidden", str(caught.exception))
        # nor where its first element has the name
        path.write_text(path.read_text().replace("-->", "--><kml/>"))
        with self.assertRaises(InputError):
            self.take(path)
