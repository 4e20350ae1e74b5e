"""Surfaces in pieces and pictures, read again by an independent library."""

import numpy as np
import rasterio

from yama.terrain.deliver.pieces import Piece, pieces, store_pieces, write_picture
from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, Window
from yama.terrain.relief.dress import Dress
from yama.terrain.relief.picture import span_of, view_picture
from yama.terrain.surface import ArraySurface
from yama.terrain.tests.test_surface import FolderTest, rough


class PiecesTest(FolderTest):
    def test_put_side_by_side_they_are_the_surface(self):
        surface = rough(700, 600)
        heights = surface.read_all()
        heights[:300, :300] = np.nan
        surface = ArraySurface(heights, surface.grid, "ft", "sea")
        files = list(store_pieces(surface, self.folder / "land.tif", 300, tags={"RECIPE": "abc"}))
        self.assertEqual([one.name for one in files], [f"land r{r}c{c}.tif" for r in (1, 2, 3) for c in (1, 2)][1:])
        self.assertEqual(len(list(self.folder.iterdir())), 5)  # the empty one is not there
        whole = np.full((700, 600), np.nan, np.float32)
        for file in files:
            with rasterio.open(file) as dataset:
                left, top = ~rasterio.Affine(2, 0, surface.grid.west, 0, -2, surface.grid.north) * (
                    dataset.bounds.left, dataset.bounds.top)  # fmt: skip
                self.assertEqual(dataset.tags()["RECIPE"], "abc")
                self.assertEqual(dataset.tags()["HEIGHT_UNIT"], "ft")
                row, col = round(top), round(left)
                whole[row : row + dataset.height, col : col + dataset.width] = dataset.read(1)
        np.testing.assert_array_equal(whole, heights)

    def test_a_piece_reads_past_its_edges_as_empty(self):
        surface = rough(60, 60)
        piece = Piece(surface, Window(10, 20, 30, 30))
        found = piece.read(Window(-2, -3, 40, 40))
        np.testing.assert_array_equal(found[2:32, 3:33], surface.read(Window(10, 20, 30, 30)))
        self.assertTrue(np.isnan(found[:2]).all() and np.isnan(found[:, 33:]).all())

    def test_too_small_and_too_many_are_refused(self):
        for grid, side in ((rough().grid, 10), (Grid("EPSG:32741", 0, 0, 1, 1, 100_000, 100_000), 512)):
            with self.assertRaisesRegex(InputError, "Files of"):
                pieces(grid, side)


class PictureTest(FolderTest):
    def test_lies_where_the_surface_lies_and_is_clear_where_it_is_empty(self):
        surface = rough(620, 90)  # of several strips
        told: list[float] = []
        files = write_picture(surface, self.folder / "land.png", Dress.usual("height"), told.append)
        self.assertEqual((len(told), told[-1]), (3, 1.0))
        self.assertEqual([one.suffix for one in files], [".png", ".pgw", ".prj"])
        # other programs find the world file by its name, which none of our processes does
        with rasterio.Env(GDAL_DISABLE_READDIR_ON_OPEN="FALSE"), rasterio.open(files[0]) as dataset:
            self.assertEqual(dataset.bounds, surface.grid.bounds)
            bands = dataset.read()
        np.testing.assert_array_equal(bands[3] > 0, ~np.isnan(surface.read_all()))
        dress = Dress.usual("height", span_of(surface, surface.grid.at_level(2)))
        with rasterio.MemoryFile(view_picture(surface, surface.grid, dress, clear=True)) as file, file.open() as whole:
            np.testing.assert_allclose(bands.astype(int), whole.read().astype(int), atol=1)  # no strip is seen
        self.assertEqual(rasterio.CRS.from_wkt(files[2].read_text()).to_epsg(), 32741)

    def test_colours_are_those_of_the_dress(self):
        grid = Grid("EPSG:32741", 0, 100, 1, 1, 20, 30)
        slope = ArraySurface(np.tile(np.linspace(0, 10, 30), (20, 1)), grid)
        dress = Dress(((0.0, "#000000"), (1.0, "#FF8000")), 0, 10, lit=False)
        (file, *_) = write_picture(slope, self.folder / "a.png", dress)
        with rasterio.open(file) as dataset:
            red, green = dataset.read(1)[5], dataset.read(2)[5]
        np.testing.assert_allclose(red, np.linspace(0, 255, 30), atol=0.6)
        np.testing.assert_allclose(green, np.linspace(0, 128, 30), atol=0.6)

    def test_a_dress_that_is_none_is_refused(self):
        two = ((0.0, "#000000"), (1.0, "#FFFFFF"))
        for stops, low, high in (
            (two[:1], 0, 1), (two[::-1], 0, 1), (((0.0, "red"), (1.0, "#FFFFFF")), 0, 1), (two, 3, 1), (two, 0, float("nan")),
        ):  # fmt: skip
            with self.assertRaises(InputError):
                Dress(stops, low, high)
