"""What is written is read again, in every format that is written."""

import tempfile
import zipfile
from pathlib import Path

import laspy
import numpy as np
import pyproj
import shapely
from django.test import SimpleTestCase
from scipy.io import netcdf_file

from yama.terrain import formats, kinds
from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.formats import las, text_grid
from yama.terrain.formats.declared import Declared
from yama.terrain.grid import Grid
from yama.terrain.points import Points
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_000.0, 2.5, 2.5, 61, 47)


class RoundTrip(SimpleTestCase):
    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)


class SurfaceTest(RoundTrip):
    def surface(self, grid=GRID, low=-40.0):
        rng = np.random.default_rng(2)
        heights = rng.uniform(low, 900, (grid.rows, grid.cols)).astype(np.float32)
        heights[rng.random(heights.shape) < 0.1] = np.nan
        heights[0, 0], heights[-1, -1] = -0.0004, 0.0
        return ArraySurface(heights, grid)

    def read_again(self, suffix, surface, declared=None):
        path = self.folder / f"made{suffix}"
        kinds.write(surface, path)
        return formats.read(path, *([declared] if declared else []), frame_crs=CRS)

    def test_geotiff_is_exact(self):
        surface = self.surface()
        again = self.read_again(".tif", surface)
        self.assertEqual(again.grid, GRID)
        np.testing.assert_array_equal(again.read(GRID.whole), surface.read(GRID.whole))

    def test_ascii_grid_is_within_half_a_millimetre_and_brings_its_crs(self):
        surface = self.surface()
        again = self.read_again(".asc", surface)
        self.assertEqual(again.grid, GRID)
        self.assertTrue((self.folder / "made.prj").exists())
        found, wanted = again.read(GRID.whole), surface.read(GRID.whole)
        np.testing.assert_array_equal(np.isnan(found), np.isnan(wanted))
        self.assertLess(np.nanmax(np.abs(found - wanted)), 0.00051 + 900 * 6e-8)

    def test_xyz_gives_every_filled_cell_at_its_centre(self):
        surface = self.surface()
        again = self.read_again(".xyz", surface, Declared(grid=True))
        self.assertEqual(again.grid, GRID)
        found, wanted = again.read(GRID.whole), surface.read(GRID.whole)
        np.testing.assert_array_equal(np.isnan(found), np.isnan(wanted))
        self.assertLess(np.nanmax(np.abs(found - wanted)), 0.00051 + 900 * 6e-8)

    def test_text_is_what_python_would_write(self):
        grid = Grid("EPSG:4326", 62.4, -41.2, 1 / 3600, 1 / 3600, 3, 4)
        heights = np.array([[0.0005, -0.0005, 1e9, -12.25], [np.nan, 7, 123456.789, 0.1], [1, 2, 3, 4]], np.float32)
        text_grid.write_xyz(ArraySurface(heights, grid), self.folder / "a.xyz", decimals=6)
        rows = [[float(value) for value in row.split()] for row in (self.folder / "a.xyz").read_text().splitlines()]
        wanted = [
            (grid.x_of(c).item(), grid.y_of(r).item(), float(heights[r, c]))
            for r in range(3) for c in range(4) if np.isfinite(heights[r, c])
        ]  # fmt: skip
        np.testing.assert_allclose(rows, wanted, rtol=0, atol=6e-7)
        text_grid.write_ascii(ArraySurface(heights, grid), self.folder / "a.asc", decimals=1)
        body = (self.folder / "a.asc").read_text().splitlines()[6:]
        self.assertEqual(body, ["0 0 1000000000 -12.3", "-9999 7 123456.8 0.1", "1 2 3 4"])

    def test_what_a_format_cannot_hold_is_refused_and_leaves_nothing(self):
        wide = Grid(CRS, 448_000.0, 5_438_000.0, 2.0, 3.0, 10, 10)
        deep = ArraySurface(np.full((61, 47), -10_000, np.float32), GRID)
        for surface, suffix, words in (
            (self.surface(wide), ".asc", "square cells"),
            (deep, ".asc", "read as empty"),
            (self.surface(), ".png", "written as .tif"),
        ):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                kinds.write(surface, self.folder / f"no{suffix}")
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_netcdf_is_read(self):
        path = self.folder / "relief.nc"
        with netcdf_file(path, "w") as file:
            for name, values in (("lat", -41.2 - np.arange(20) / 1200), ("lon", 62.4 + np.arange(30) / 1200)):
                file.createDimension(name, values.size)
                made = file.createVariable(name, "f8", (name,))
                made[:] = values
                made.units = {"lat": b"degrees_north", "lon": b"degrees_east"}[name]
                made.standard_name = {"lat": b"latitude", "lon": b"longitude"}[name]
            heights = file.createVariable("height", "f4", ("lat", "lon"))
            heights[:] = np.arange(600).reshape(20, 30)
            heights.units = b"m"
        held = formats.read(path, Declared(crs="EPSG:4326"))
        self.assertEqual((held.grid.rows, held.grid.cols), (20, 30))
        np.testing.assert_array_equal(held.read(held.grid.whole), np.arange(600, dtype=np.float32).reshape(20, 30))
        self.assertAlmostEqual(float(held.grid.x_of(0)), 62.4)


class PointsTest(RoundTrip):
    def points(self, crs=CRS, count=40):
        rng = np.random.default_rng(4)
        west, south, wide = (62.4, -41.2, 0.05) if crs == "EPSG:4326" else (448_000.0, 5_438_000.0, 500.0)
        fields = {"height": np.round(rng.uniform(0, 90, count), 3)}
        return Points(crs, west + wide * rng.random(count), south + wide * rng.random(count), fields,
                      np.array(["ground", "bank, left"])[rng.integers(0, 2, count)], "height")  # fmt: skip

    def test_tables_keep_places_numbers_and_codes(self):
        for suffix in (".csv", ".xlsx"):
            for crs, apart in ((CRS, 6e-4), ("EPSG:4326", 6e-10)):
                with self.subTest(suffix, crs=crs):
                    path = self.folder / f"{crs[-4:]}{suffix}"
                    kinds.write(self.points(crs), path)
                    again = formats.read(path, frame_crs=crs)
                    self.assertEqual((again.crs, again.height_field), (crs, "height"))
                    np.testing.assert_allclose(again.x, self.points(crs).x, rtol=0, atol=apart)
                    np.testing.assert_allclose(again.y, self.points(crs).y, rtol=0, atol=apart)
                    np.testing.assert_allclose(again.z, self.points(crs).z, rtol=0, atol=1e-9)
                    self.assertEqual(again.codes.tolist(), self.points(crs).codes.tolist())

    def test_other_names_are_refused(self):
        with self.assertRaisesRegex(InputError, ".csv or .xlsx"):
            kinds.write(self.points(), self.folder / "a.parquet")


class CloudTest(RoundTrip):
    def cloud(self, count=1_200_000):
        rng = np.random.default_rng(3)
        header = laspy.LasHeader(version="1.4", point_format=6)
        header.scales, header.offsets = np.full(3, 0.01), np.array([448_000.0, 5_438_000.0, 0.0])
        header.add_crs(pyproj.CRS.from_user_input(CRS))
        made = laspy.LasData(header)
        made.x, made.y = 448_000 + 400 * rng.random(count), 5_438_000 + 300 * rng.random(count)
        made.z = 10 + 5 * rng.random(count)
        made.classification = rng.choice([1, 2, 5, 7], count).astype(np.uint8)
        made.intensity = rng.integers(0, 4000, count).astype(np.uint16)
        made.gps_time = np.arange(count) / 1000
        path = self.folder / "tile.laz"
        made.write(str(path))
        return path, made

    def test_las_and_laz_keep_every_attribute_across_chunks(self):
        path, made = self.cloud()
        for suffix in (".las", ".laz"):
            out = self.folder / f"again{suffix}"
            kinds.write(formats.read(path), out)
            again = laspy.read(out)
            self.assertEqual(formats.read(out).crs, CRS)
            for name in made.point_format.dimension_names:
                np.testing.assert_array_equal(np.asarray(again[name]), np.asarray(made[name]), name)

    def test_points_are_kept_by_what_they_are(self):
        path, made = self.cloud(30_000)
        out = self.folder / "ground.laz"
        ground = np.asarray(made.classification) == 2
        count = las.write(formats.read(path), out, lambda chunk: np.asarray(chunk.classification) == 2)
        self.assertEqual(count, int(ground.sum()))
        np.testing.assert_array_equal(np.asarray(laspy.read(out).X), np.asarray(made.X)[ground])
        facts = formats.inspect(out)
        self.assertEqual((facts.classes, facts.findings), ({2: count}, []))
        with self.assertRaisesRegex(InputError, "No point"):
            las.write(formats.read(path), self.folder / "none.laz", lambda chunk: np.zeros(len(chunk), bool))
        self.assertFalse((self.folder / "none.laz").exists())


class FeaturesTest(RoundTrip):
    def features(self):
        shapes = [shapely.LineString([(448_000, 5_438_000, 5), (448_100, 5_438_050, 7)]),
                  shapely.LineString([(448_000, 5_438_100, 1), (448_010, 5_438_110, 2)])]  # fmt: skip
        return Features(CRS, np.array(shapes, dtype=object), {"name": ["Avel", "Sill"], "kind": ["river", "stream"]})

    def test_every_format_keeps_shapes_and_what_it_can_of_attributes(self):
        for suffix, apart, columns in (
            (".gpkg", 0.0, {"name": ["Avel", "Sill"], "kind": ["river", "stream"]}),
            (".shp", 0.0, {"name": ["Avel", "Sill"], "kind": ["river", "stream"]}),
            (".geojson", 0.02, {"name": ["Avel", "Sill"], "kind": ["river", "stream"]}),
            (".kml", 1e-3, {"Name": ["Avel", "Sill"]}),
            (".dxf", 0.0, {"layer": ["river", "stream"]}),
        ):
            with self.subTest(suffix):
                path = self.folder / f"made{suffix}"
                kinds.write(self.features(), path)
                if suffix == ".shp":
                    path = self.folder / "made.zip"
                    with zipfile.ZipFile(path, "w") as pack:
                        for part in self.folder.glob("made.*"):
                            if part.suffix in (".shp", ".shx", ".dbf", ".prj"):
                                pack.write(part, part.name)
                again = formats.read(path, frame_crs=CRS)
                for name, values in columns.items():
                    self.assertEqual(again.attributes[name], values)
                for one, other in zip(self.features().geometries, again.in_crs(CRS).geometries, strict=True):
                    self.assertLess(shapely.hausdorff_distance(one, other), apart + 1e-6)
                    np.testing.assert_allclose(
                        shapely.get_coordinates(other, include_z=True)[:, 2],
                        shapely.get_coordinates(one, include_z=True)[:, 2],
                    )

    def test_polygons_become_rings_in_a_drawing(self):
        path = self.folder / "lake.dxf"
        lake = shapely.Polygon([(0, 0), (90, 0), (90, 60), (0, 60)], [[(10, 10), (20, 10), (20, 20)]])
        kinds.write(Features(CRS, np.array([lake], dtype=object), {"kind": ['water: "old"']}), path)
        again = formats.read(path, frame_crs=CRS)
        self.assertEqual(again.counts(), {"lines": 2})
        self.assertEqual(again.attributes["layer"][0], "water_ _old_")

    def test_other_names_are_refused(self):
        with self.assertRaisesRegex(InputError, ".gpkg"):
            kinds.write(self.features(), self.folder / "a.svg")
