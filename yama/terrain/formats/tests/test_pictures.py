"""Pictures with a position: asked for, kept in colours, and shown where they lie in any CRS."""

import tempfile
from pathlib import Path

import numpy as np
import rasterio
from affine import Affine
from django.test import SimpleTestCase

from yama.terrain import formats, kinds
from yama.terrain.errors import InputError, QuestionError
from yama.terrain.formats import picture
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.grid import Grid, Window, turn_between
from yama.terrain.kinds.picture import PIXELS
from yama.terrain.pictures import Picture

CRS = "EPSG:32741"
PLACE = Affine(2, 0, 447_000, 0, -2, 5_438_000)
PICTURE = Declared(picture=True)


class PictureTest(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def write(self, cells, name="shot.tif", place=PLACE, crs=CRS, driver="GTiff", **more):
        path = self.folder / name
        bands, rows, cols = cells.shape
        profile = {"driver": driver, "dtype": cells.dtype, "count": bands, "height": rows, "width": cols}
        placed = {"crs": crs, "transform": place} if driver == "GTiff" else {}
        with rasterio.open(path, "w", **profile, **placed, **more) as dataset:
            dataset.write(cells)
        return path

    def kept(self, path, declared=PICTURE):
        """What is kept of a file, as taking it in does."""
        looked = formats.family(path, declared=declared).look(path, declared, path.name, "", lambda share: None)
        made = self.folder / "kept"
        made.mkdir()
        kept = kinds.kind_of(looked.held).keep(looked.held, looked, made, CRS, lambda share: None)
        self.assertEqual(kept.kind, "picture")
        return Picture(made / PIXELS, kept.facts["crs"], looked.held.bounds, path.name), kept

    def ramp(self, rows=300, cols=400):
        """Red grows to the east and green to the south."""
        row, col = np.mgrid[:rows, :cols]
        return np.stack([col * 255 // cols, row * 255 // rows, np.full((rows, cols), 90)]).astype(np.uint8)

    def test_colours_are_a_question_and_grey_values_may_be_one(self):
        path = self.write(self.ramp())
        with self.assertRaises(QuestionError) as asked:
            formats.read(path)
        answers = [one.set_params for finding in asked.exception.findings for one in finding.answers]
        self.assertIn({"picture": True}, answers)
        self.assertEqual(formats.family_of(path, declared=PICTURE), "picture")
        grey = self.write(self.ramp()[:1], "grey.tif")
        fixes = {one.code: one.fix for one in formats.inspect(grey).findings}
        self.assertEqual(fixes["whole_numbers"].set_params, {"picture": True})

    def test_facts_say_where_it_lies_and_how_fine_it_is(self):
        facts = formats.inspect(self.write(self.ramp()), PICTURE)
        self.assertEqual((facts.rows, facts.cols, facts.bands), (300, 400, 3))
        self.assertAlmostEqual(facts.cell, 2, places=6)
        self.assertEqual(facts.bounds, (447_000, 5_437_400, 447_800, 5_438_000))
        self.assertEqual(formats.extent(self.write(self.ramp()), declared=PICTURE).bounds.west, 447_000)

    def test_on_its_own_grid_it_is_itself(self):
        cells = self.ramp()
        shown, _ = self.kept(self.write(cells))
        grid = Grid(CRS, 447_000, 5_438_000, 2, 2, 300, 400)
        read = shown.read(grid, Window(10, 20, 50, 60))
        np.testing.assert_array_equal(read[..., 3], 255)
        np.testing.assert_array_equal(np.moveaxis(read[..., :3], -1, 0), cells[:, 10:60, 20:80])
        beside = shown.read(grid, Window(-40, -40, 50, 50))
        self.assertTrue((beside[:40, :, 3] == 0).all() and (beside[40:, 40:, 3] == 255).all())

    def test_turned_and_in_another_crs_each_place_keeps_its_colour(self):
        place = PLACE * Affine.rotation(11)
        shown, _ = self.kept(self.write(self.ramp(), place=place))
        for crs, west, north, size in ((CRS, 446_900, 5_438_100, 1.5), ("EPSG:32742", -20_000, 5_430_000, 0)):
            if crs == "EPSG:32742":
                x, y = turn_between(CRS, crs).transform(447_350, 5_437_700)
                west, north, size = x - 200, y + 200, 2
            grid = Grid(crs, west, north, size, size, 200, 200)
            read = shown.read(grid, grid.whole).astype(float)
            x, y = np.meshgrid(*grid.centres(grid.whole))
            col, row = ~place @ np.array(turn_between(crs, CRS).transform(x, y))
            inside = (col > 3) & (col < 396) & (row > 3) & (row < 296)
            self.assertGreater(inside.sum(), 5000)
            self.assertTrue((read[inside][:, 3] == 255).all())
            self.assertLess(np.abs(read[..., 0] - (col - 0.5) * 255 / 400)[inside].max(), 2)
            self.assertLess(np.abs(read[..., 1] - (row - 0.5) * 255 / 300)[inside].max(), 2)

    def test_levels_are_means(self):
        shown, _ = self.kept(self.write(self.ramp(1200, 1000)))
        grid = Grid(CRS, 447_000, 5_438_000, 2, 2, 1200, 1000)
        read = shown.read(grid, Window(10, 10, 100, 100), 3).astype(float)
        expected = (np.arange(10, 110) * 8 + 3.5) * 255 / 1000
        self.assertLess(np.abs(read[..., 0] - expected).max(), 3)

    def test_deep_bands_are_stretched_and_what_is_empty_lets_through(self):
        rng = np.random.default_rng(1)
        cells = rng.uniform(900, 1100, (4, 200, 200)).astype(np.float32)
        cells[:, :40] = 0
        shown, kept = self.kept(self.write(cells, nodata=0))
        self.assertIn("bands", [one.code for one in kept.findings])
        read = shown.read(Grid(CRS, 447_000, 5_438_000, 2, 2, 200, 200), Window(0, 0, 200, 200))
        self.assertTrue((read[:39, :, 3] == 0).all() and (read[41:, :, 3] == 255).all())
        low, high = np.percentile(read[41:, :, 0], [2, 98])
        self.assertTrue(low < 12 and high > 243)

    def test_a_palette_is_its_colours(self):
        cells = np.repeat(np.arange(4, dtype=np.uint8), 50)[None, None].repeat(100, 1)
        path = self.folder / "tints.tif"
        with rasterio.open(path, "w", driver="GTiff", dtype="uint8", count=1, height=100, width=200, crs=CRS, transform=PLACE,
                           photometric="palette") as dataset:  # fmt: skip
            dataset.write(cells)
            dataset.write_colormap(
                1, {0: (9, 8, 7, 255), 1: (200, 10, 20, 255), 2: (30, 220, 40, 255), 3: (0, 0, 0, 255)}
            )
        shown, _ = self.kept(path)
        read = shown.read(Grid(CRS, 447_000, 5_438_000, 2, 2, 100, 200), Window(50, 75, 1, 1))
        self.assertEqual(read[0, 0].tolist(), [200, 10, 20, 255])

    def test_jpeg_and_png_lie_where_a_world_file_says(self):
        for driver, suffix in (("JPEG", "jpg"), ("PNG", "png")):
            path = self.write(self.ramp(), f"sheet.{suffix}", driver=driver)
            declared = PICTURE if driver == "PNG" else NOTHING
            with self.assertRaises(QuestionError):
                formats.glance(path, declared)
            beside = self.folder / f"sheet.{suffix[0]}{suffix[-1]}w"
            beside.write_text("2\n0\n0\n-2\n447001\n5437999\n")
            said = formats.with_beside(
                path, declared.also({"crs": CRS}), path.name, {"world": beside}, {"world": beside.name}
            )
            self.assertEqual(picture.header(path, said).bounds, (447_000, 5_437_400, 447_800, 5_438_000))
            self.assertEqual(formats.family_of(path, declared=said), "picture")

    def test_what_is_wrong_gets_a_sentence(self):
        path = self.write(self.ramp())
        whole = path.read_bytes()
        path.write_bytes(whole[: len(whole) // 2])
        with self.assertRaisesRegex(InputError, "damaged, cut short|cut short"):
            self.kept(path)
        with self.assertRaisesRegex(InputError, "complex"):
            formats.glance(self.write(np.ones((1, 20, 20), np.complex64), "c.tif"), PICTURE)
        with self.assertRaisesRegex(InputError, "taken away as it came"):
            kinds.write(Picture(path, CRS, None, "shot"), self.folder / "out.tif")
