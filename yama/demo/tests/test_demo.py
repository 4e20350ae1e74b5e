"""The island's files: what is wrong with them is there, and nothing else is."""

import json
import tempfile
from pathlib import Path

import numpy as np
import rasterio
import shapely
from django.test import SimpleTestCase

from yama.demo import files, lidar, products, sheet, waymark
from yama.demo.terrain import COVERS, FRAME, island
from yama.demo.tests import made
from yama.terrain import formats
from yama.terrain.fit.reproject import fitted
from yama.terrain.formats import las
from yama.terrain.formats.declared import NOTHING, Declared
from yama.terrain.judge.accuracy import accuracy
from yama.terrain.points import duplicate_places
from yama.terrain.surface import StoredSurface, sample


class DemoTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.paths = made()
        cls.truth = island()

    def survey(self):
        return formats.read(self.paths["survey"], frame_crs="EPSG:32741")

    def test_the_island_lies_whole_within_its_frame(self):
        heights = self.truth.heights
        rim = np.concatenate([heights[0], heights[-1], heights[:, 0], heights[:, -1]])
        self.assertLess(rim.max(), 0)
        self.assertGreater((heights > 0).mean(), 0.3)
        self.assertTrue(550 < heights.max() < 650)

    def test_the_avel_falls_from_the_lake_to_the_sea(self):
        x, y = self.truth.river.T
        bed = sample(self.truth.surface, x, y)
        self.assertLess(bed[-1], 3)
        smooth = np.convolve(bed, np.ones(9) / 9, "valid")
        self.assertLess((np.diff(smooth) > 0.5).sum(), 4)
        lake = self.truth.heights[self.truth.cover == COVERS.index("water")]
        self.assertEqual(np.ptp(lake), 0)

    def test_survey_points_lie_on_the_truth_but_for_their_faults(self):
        points = self.survey()
        self.assertTrue(4500 < len(points) < 5200)
        error = points.z - sample(self.truth.surface, points.x, points.y)
        swapped = np.isnan(error)
        self.assertEqual(swapped.sum(), files.FAULTS["swapped"])
        self.assertEqual((np.abs(error) > 10).sum(), files.FAULTS["blunders"])
        good = error[np.abs(error) < 0.2]
        self.assertAlmostEqual(float(np.std(good)), 0.02, places=2)
        found = duplicate_places(points)
        self.assertEqual(found["differing"], files.FAULTS["duplicates"])
        self.assertLess(found["largest"], 2.0)
        self.assertEqual(set(points.code_counts()), {"ground", "breakline", "spot", "water"})

    def test_checkpoints_have_decimal_commas_and_land_cover(self):
        self.assertIn(",", self.paths["checkpoints"].read_text().splitlines()[1].split(";")[1])
        points = formats.read(self.paths["checkpoints"], frame_crs="EPSG:32741")
        self.assertEqual(len(points), 200)
        self.assertLess(accuracy(self.truth.surface, points).all.rmse, 0.05)
        self.assertLessEqual(set(points.code_counts()), set(COVERS))

    def test_beacon_is_whole_metres_with_voids_trees_and_half_a_cell_off(self):
        with rasterio.open(self.paths["beacon"]) as dataset:
            self.assertEqual((dataset.dtypes[0], dataset.nodata), ("int16", -32768))
            self.assertGreater((dataset.read(1) == -32768).sum(), 100)
        beacon = StoredSurface(self.paths["beacon"])
        shown = fitted(beacon, FRAME)
        heights = shown.read(FRAME.at_level(2).whole, 2)[:, :1280]
        truth = self.truth.surface.read(FRAME.at_level(2).whole, 2)
        cover = self.truth.cover[2::4, 2::4]
        land = np.isfinite(heights) & (truth > 2)
        wood = heights[land & (cover == COVERS.index("wood"))] - truth[land & (cover == COVERS.index("wood"))]
        grass = heights[land & (cover == COVERS.index("grass"))] - truth[land & (cover == COVERS.index("grass"))]
        self.assertGreater(np.median(wood) - np.median(grass), 6)

        # moved by columns, it fits the truth best half a cell to the west
        def misfit(cells):
            step = round(cells * beacon.grid.metres_per_cell()[0] / 8)
            moved = np.roll(heights, step, axis=1)
            good = np.isfinite(moved) & (truth > 2) & (cover == COVERS.index("grass"))
            return np.std(moved[good] - truth[good])

        self.assertLess(misfit(-0.5), misfit(0.0))
        self.assertLess(misfit(-0.5), misfit(-1.3))

    def test_lidar_has_its_classes_its_high_strip_and_nothing_over_the_lake(self):
        count = 0
        offset = {}
        lake = self.truth.cover == COVERS.index("water")
        for number in range(len(lidar.TILES)):
            facts = formats.inspect(self.paths[f"lidar_{number}"])
            self.assertEqual((facts.version, facts.strips, facts.crs), ("1.4", 3, "EPSG:32741"))
            self.assertEqual(facts.classes[7], lidar.FAULTS["noise"])
            self.assertIn("noise", [finding.code for finding in facts.findings])
            count += facts.count
            for chunk in las.chunks(self.paths[f"lidar_{number}"]):
                x, y = np.array(chunk.x), np.array(chunk.y)
                rows, cols = np.floor(FRAME.row_of(y) + 0.5).astype(int), np.floor(FRAME.col_of(x) + 0.5).astype(int)
                self.assertLess(lake[rows, cols].sum(), 0.01 * lake.sum())
                ground = np.asarray(chunk.classification) == 2
                error = np.array(chunk.z)[ground] - sample(self.truth.surface, x[ground], y[ground])
                strip = np.asarray(chunk.point_source_id)[ground]
                for each in (1, 2, 3):
                    offset.setdefault(each, []).append(
                        np.median(error[strip == each]) if (strip == each).any() else np.nan
                    )
        self.assertTrue(2_400_000 < count < 3_600_000, count)
        medians = {each: np.nanmedian(values) for each, values in offset.items()}
        self.assertAlmostEqual(medians[2] - medians[1], lidar.FAULTS["strip_offset"], delta=0.03)
        self.assertAlmostEqual(medians[1], medians[3], delta=0.03)

    def test_the_old_sheet_lies_on_the_ground_but_for_the_quarry_and_one_label(self):
        contours = formats.read(self.paths["contours"])
        self.assertEqual(contours.crs, "EPSG:4326")
        levels = np.array(contours.attributes["elev"])
        self.assertTrue((levels % sheet.INTERVAL == 0).all())
        placed = contours.in_crs(FRAME.crs)
        qx, qy = self.truth.places["Dunnock Quarry"]
        wrong = 0
        for shape, level in zip(placed.geometries, levels, strict=True):
            x, y = shapely.get_coordinates(shape).T
            beyond = np.hypot(x - qx, y - qy) > 400
            if beyond.sum() > 40:
                wrong += abs(np.median(sample(self.truth.surface, x[beyond], y[beyond])) - level) > 1.5 * sheet.INTERVAL
        self.assertEqual(wrong, sheet.FAULTS["mislabelled"])
        facts = formats.inspect(self.paths["sheet"])
        self.assertEqual(facts.layers, ["streams", "spots"])
        spots = formats.read(self.paths["sheet"], Declared(layer="spots"))
        self.assertGreater(len(spots), 20)

    def test_every_depot_product_is_wrong_in_its_own_way(self):
        folder = self.paths["contours"].parent / "depot"
        catalogue = json.loads((folder / "catalogue.json").read_text())
        tiles = {product["name"]: {tile["name"] for tile in product["tiles"]} for product in catalogue["products"]}
        self.assertEqual(set(tiles), {"beacon-30", "plover-30", "heron-90", "skerry-5"})
        self.assertNotIn(products.FAULTS["skerry_missing"], tiles["skerry-5"])

        def error(product, tile, declared=NOTHING):
            held = formats.read(folder / product / f"{tile}.tif", declared)
            shown = fitted(held, FRAME).read(FRAME.at_level(3).whole, 3)
            truth = self.truth.surface.read(FRAME.at_level(3).whole, 3)
            good = np.isfinite(shown) & (truth > 3)
            return (shown - truth)[good]

        self.assertAlmostEqual(
            np.median(error("plover-30", "S4122E06237")), products.FAULTS["plover_offset"], delta=0.6
        )
        void = products.FAULTS["skerry_void"]
        facts = formats.inspect(folder / "skerry-5" / f"{void}.tif")
        self.assertEqual([value for value, _ in facts.voids], [-9999])
        feet = products.FAULTS["skerry_feet"]
        self.assertGreater(np.median(error("skerry-5", feet)), 100)
        self.assertLess(abs(np.median(error("skerry-5", feet, Declared(unit="ft")))), products.FAULTS["skerry_step"])
        self.assertLess(abs(np.median(error("skerry-5", void, Declared(nodata=-9999)))), products.FAULTS["skerry_step"])

    def test_waymarks_rivers_have_gaps_side_channels_and_two_spellings(self):
        rivers = formats.read(self.paths["rivers"])
        names = np.array(rivers.attributes["name"])
        kinds = np.array(rivers.attributes["kind"])
        self.assertLessEqual(set(waymark.SPELLINGS), set(names))
        self.assertEqual((kinds == "side channel").sum(), waymark.FAULTS["side_channels"])
        main = rivers.kept(kinds == "river").in_crs(FRAME.crs)
        ends = [(shapely.get_point(shape, 0), shapely.get_point(shape, -1)) for shape in main.geometries]
        gaps = [a[1].distance(b[0]) for a, b in zip(ends, ends[1:], strict=False)]
        self.assertEqual(sum(10 < gap < 200 for gap in gaps), waymark.FAULTS["gaps"])

    def test_made_again_it_is_the_same(self):
        with tempfile.TemporaryDirectory() as folder:
            again = files.make(Path(folder))
            for name, path in self.paths.items():
                if path.suffix == ".gpkg":  # says when it was written
                    first, second = formats.read(path), formats.read(again[name])
                    self.assertTrue(shapely.equals_exact(first.geometries, second.geometries, 0).all())
                elif name == "contours":
                    self.assertTrue(
                        shapely.equals_exact(
                            formats.read(path).geometries, formats.read(again[name]).geometries, 0
                        ).all()
                    )
                else:
                    self.assertEqual(path.read_bytes(), again[name].read_bytes(), name)
