"""Images with coefficients in their tags or in a text, and what is wrong with them."""

import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import rasterio
from django.test import SimpleTestCase

from yama.terrain import formats, kinds
from yama.terrain.errors import InputError
from yama.terrain.formats import image, rpc
from yama.terrain.formats.declared import Declared
from yama.terrain.images import Image
from yama.terrain.tests.test_rational import model


class ImageTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def cells(self):
        cells = np.random.default_rng(1).integers(90, 3200, (2000, 2400)).astype(np.uint16)
        cells[:, :240] = 0
        return cells

    def tif(self, cells=None, name="left.tif", **change):
        path = self.folder / name
        image.write(self.cells() if cells is None else cells, replace(model(), **change), path)
        return path

    def codes(self, path, declared=None):
        return [finding.code for finding in image.inspect(path, declared or Declared()).findings]

    def test_what_is_written_is_read_again(self):
        held = formats.read(self.tif())
        self.assertIsInstance(held, Image)
        self.assertEqual((held.rows, held.cols), (2000, 2400))
        col, row = held.model.image_of(62.41, -41.205, 250.0)
        wanted = model().image_of(62.41, -41.205, 250.0)
        np.testing.assert_allclose((col, row), wanted, rtol=0, atol=1e-6)
        with rasterio.open(held.path) as dataset:
            np.testing.assert_array_equal(dataset.read(1), self.cells())

    def test_text_of_coefficients_round_trips_exactly(self):
        path = self.folder / "left_RPC.TXT"
        rpc.write(model(curve=0.01), path)
        self.assertEqual(rpc.read(path), model(curve=0.01))

    def test_a_plain_image_with_its_text_is_an_image(self):
        path = self.folder / "plain.tif"
        with rasterio.open(path, "w", driver="GTiff", dtype="uint16", count=1, height=2000, width=2400) as dataset:
            dataset.write(self.cells(), 1)
        declared = Declared(rpc=rpc.text_of(model()))
        self.assertEqual(formats.family_of(path, declared=declared), "image")
        self.assertEqual(formats.inspect(path, declared).to_dict()["kind"], "image")
        with self.assertRaisesRegex(InputError, "together with the text of its coefficients"):
            formats.read(path)

    def test_facts_are_of_all_cells_and_the_footprint_lies_on_the_ground(self):
        facts = image.inspect(self.tif())
        self.assertEqual((facts.bits, facts.lowest, facts.highest), (12, 90.0, float(self.cells().max())))
        self.assertAlmostEqual(facts.empty, 0.1)
        west, south, east, north = facts.bounds
        self.assertAlmostEqual(west, 62.4 - 0.03, delta=1e-4)
        self.assertAlmostEqual(north, -41.2 + 0.02, delta=1e-4)
        self.assertTrue(east - west > 0.0599 and north - south > 0.0399)
        # 0.06 degrees of longitude over 2400 cells, 0.04 of latitude over 2000
        self.assertAlmostEqual(facts.ground_size, (0.06 / 2400 * 83_900 * 0.04 / 2000 * 111_070) ** 0.5, delta=0.01)
        self.assertEqual(facts.heights, (-100.0, 700.0))
        self.assertEqual(facts.findings, [])

    def test_findings_both_ways(self):
        bright = self.cells()
        bright[:100] = 4095
        self.assertEqual(self.codes(self.tif(bright)), ["saturated"])
        self.assertEqual(self.codes(self.tif((self.cells() // 16).astype(np.uint8))), ["few_grey"])
        self.assertEqual(self.codes(self.tif(row_scale=200.0, row_offset=100.0)), ["model_reach"])

    def test_unusable_files_get_a_sentence(self):
        whole = self.tif().read_bytes()
        cut = self.folder / "cut.tif"
        cut.write_bytes(whole[: len(whole) // 2])
        text = rpc.text_of(model())
        for name, content, words in (
            ("cut_RPC.TXT", text[: text.index("SAMP_NUM_COEFF_5:")], "lacks SAMP_NUM_COEFF_5 and 35 more"),
            ("odd_RPC.TXT", text.replace("LINE_OFF: 999.5", "LINE_OFF: north"), "is not a number"),
            ("nan_RPC.TXT", text.replace("LINE_OFF: 999.5", "LINE_OFF: nan"), "is not a number"),
            ("zero_RPC.TXT", text.replace("LINE_SCALE: 1000.0", "LINE_SCALE: 0"), "scales above zero"),
            ("junk_RPC.TXT", "LINE_OFF: 2\nhello there\n", "Line 2 of junk_RPC.TXT"),
        ):
            path = self.folder / name
            path.write_text(content)
            with self.subTest(name), self.assertRaisesRegex(InputError, words):
                rpc.read(path)
        with self.assertRaisesRegex(InputError, "Choose it together with the image"):
            formats.family_of(path)
        with self.assertRaisesRegex(InputError, "cut.tif"):
            formats.inspect(cut)
        with self.assertRaisesRegex(InputError, "Every cell of left.tif is empty"):
            image.inspect(self.tif(np.zeros((20, 20), np.uint16)))
        with self.assertRaisesRegex(InputError, "do not lead"):
            image.inspect(self.tif(col_numerator=(0.0,) * 20))
        with self.assertRaisesRegex(InputError, "taken away as it came"):
            kinds.write(formats.read(self.tif()), self.folder / "out.tif")

    def test_names_that_belong_together(self):
        for text in ("a/left_RPC.TXT", "a/left_rpc.txt", "a/left.rpc", "a/left.tif.rpc"):
            self.assertTrue(rpc.is_beside("a/left.tif", text), text)
        for text in ("a/right_RPC.TXT", "b/left_RPC.TXT", "a/left.txt"):
            self.assertFalse(rpc.is_beside("a/left.tif", text), text)
