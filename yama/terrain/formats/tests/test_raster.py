"""GeoTIFFs that cannot be used say why; those that can are read with their scale, offset and nodata."""

import tempfile
from pathlib import Path

import numpy as np
import rasterio
from affine import Affine
from django.test import SimpleTestCase

from yama.terrain import formats
from yama.terrain.errors import InputError
from yama.terrain.formats import raster
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import Window
from yama.terrain.surface import StoredSurface, store

TRANSFORM = Affine(2, 0, 448_000, 0, -2, 5_438_000)


class GeoTiffTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def write(self, name="a.tif", bands=1, dtype="float32", crs="EPSG:32741", transform=TRANSFORM, size=64, **more):
        path = self.folder / name
        cells = (np.indices((size, size)).sum(0) + 100).astype(dtype)
        profile = {"driver": "GTiff", "width": size, "height": size, "count": bands, "dtype": dtype, "crs": crs}
        with rasterio.open(path, "w", transform=transform, **profile, **more) as dataset:
            for band in range(1, bands + 1):
                dataset.write(cells, band)
        return path

    def codes(self, path):
        return {finding.code: finding.weight for finding in raster.inspect(path).findings}

    def test_a_plain_one_has_no_findings(self):
        path = self.write()
        self.assertEqual(self.codes(path), {})
        self.assertEqual(formats.family_of(path), "raster")
        self.assertEqual(raster.read(path).read(Window(0, 0, 2, 2)).tolist(), [[100, 101], [101, 102]])

    def test_stops_and_cautions(self):
        self.assertEqual(self.codes(self.write(crs=None)), {"no_crs": "stop"})
        rotated = TRANSFORM * Affine.rotation(10)
        self.assertEqual(self.codes(self.write(transform=rotated)), {"turned": "caution"})
        self.assertEqual(self.codes(self.write(bands=3)), {"bands": "stop"})
        self.assertEqual(self.codes(self.write(dtype="int16")), {"whole_numbers": "note"})
        self.assertEqual(self.codes(self.write(dtype="complex64")), {"cell_type": "stop"})

    def test_a_file_cut_short_is_refused_when_its_cells_are_read(self):
        path = self.write(size=512, tiled=True, blockxsize=256, blockysize=256)
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
        with self.assertRaisesMessage(InputError, "damaged or cut short"):
            store(StoredSurface(path, name="mine.tif"), self.folder / "out.tif")
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.tif"])
        path.write_bytes(data[:30])
        with self.assertRaisesMessage(InputError, "not a readable GeoTIFF"):
            raster.inspect(path)

    def test_a_header_that_claims_too_much_is_refused(self):
        path = self.folder / "huge.tif"
        profile = {"driver": "GTiff", "count": 1, "dtype": "uint8", "crs": "EPSG:32741", "SPARSE_OK": True}
        with rasterio.open(
            path, "w", width=1_500_000, height=1_500_000, tiled=True, blockxsize=4096, blockysize=4096,
            transform=TRANSFORM, BIGTIFF="YES", **profile,
        ):  # fmt: skip
            pass
        self.assertEqual(self.codes(path).get("too_large"), "stop")
        with rasterio.open(
            path, "w", width=900_000, height=900_000, tiled=True, blockxsize=4096, blockysize=4096,
            transform=TRANSFORM, BIGTIFF="YES", **profile,
        ):  # fmt: skip
            pass
        self.assertEqual(self.codes(path).get("too_large"), "stop")

    def test_nodata_scale_and_offset_count(self):
        path = self.write(dtype="int16", nodata=101)
        with rasterio.open(path, "r+") as dataset:
            dataset.scales, dataset.offsets = (0.5,), (1000.0,)
        found = raster.read(path).read(Window(0, 0, 1, 3))
        np.testing.assert_array_equal(found, [[1050.0, np.nan, 1051.0]])

    def test_what_zero_means_is_what_was_declared_else_what_the_file_says(self):
        path = self.write()
        with rasterio.open(path, "r+") as dataset:
            dataset.update_tags(VERTICAL_DATUM="Sundrel 1954")
        self.assertEqual(raster.read(path).vertical_datum, "Sundrel 1954")
        declared = Declared(vertical_datum="Sundrel mean sea level")
        self.assertEqual(raster.read(path, declared).vertical_datum, "Sundrel mean sea level")
        self.assertEqual(Declared.from_dict(declared.to_dict()), declared)
        with self.assertRaisesMessage(InputError, "at most 120 characters"):
            Declared(vertical_datum="x" * 121)

    def test_the_name_people_know_is_in_the_sentence(self):
        path = self.folder / "3f2a.upload"
        path.write_bytes(b"II*\0" + bytes(60))
        with self.assertRaisesMessage(InputError, "valley.tif is not a readable GeoTIFF"):
            formats.inspect(path, name="valley.tif")
