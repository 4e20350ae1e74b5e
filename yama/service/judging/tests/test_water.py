import numpy as np
import shapely

from yama.service.holdings.features import keep_features
from yama.service.holdings.models import Holding
from yama.service.tests.base import GRID, ServiceTest
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface, store


class WaterTest(ServiceTest):
    def setUp(self):
        super().setUp()
        self.one, self.other = self.add_surface(0.0), self.add_surface(1.5)
        self.grid = Grid.from_dict(self.one.facts["grid"])
        west, south, east, north = self.grid.bounds
        middle = shapely.Point((west + east) / 2, (south + north) / 2)
        self.lakes = self.features([middle.buffer(20), shapely.box(west + 10, south + 10, west + 90, south + 90)])

    def features(self, shapes, **columns):
        held = Holding(project=self.project, name="Lakes", key=f"lakes-{len(shapes)}")
        columns = columns or {"name": [f"Lake {n}" for n in range(len(shapes))]}
        keep_features(held, Features(self.grid.crs, np.array(shapes, dtype=object), columns), {}, [])
        return held

    def water(self, status=200, **change):
        body = {"surfaces": [self.one.pk, self.other.pk], "features": self.lakes.pk, **change}
        return self.ask("POST", "/water", body, status)

    def test_lakes_are_listed_the_largest_first(self):
        found = self.ask("GET", f"/lakes/{self.lakes.pk}")
        self.assertEqual([one["name"] for one in found], ["Lake 1", "Lake 0"])
        self.assertAlmostEqual(found[0]["area"], 6400, delta=10)
        self.assertIn("holds no polygons", self.ask("GET", f"/lakes/{self.one.pk}", None, 422)["detail"])

    def test_water_stands_in_every_surface_at_one_level(self):
        told = self.water()
        one, other = told["basins"]
        self.assertEqual(told["to"], self.one.pk)
        self.assertAlmostEqual(told["level"], one["level"])
        self.assertAlmostEqual(other["level"] - one["level"], 1.5, places=2)
        self.assertEqual(len(one["areas"]), len(told["levels"]))
        self.assertTrue(all(np.diff(one["areas"]) >= 0) and all(np.diff(one["volumes"]) >= 0))
        self.assertLess(other["area"], one["area"])
        self.assertIsNone(one["unlike"])
        self.assertAlmostEqual(other["unlike"]["rim"], 1.5, places=2)
        self.assertTrue(one["shore"])

    def test_a_level_and_a_lake_and_what_it_is_compared_with_can_be_chosen(self):
        base = self.water(lake=1)
        higher = self.water(lake=1, level=base["level"] + 2, to=self.other.pk)
        self.assertEqual(higher["to"], self.other.pk)
        self.assertGreaterEqual(higher["basins"][0]["area"], base["basins"][0]["area"])
        self.assertIsNotNone(higher["basins"][0]["unlike"])
        self.assertIn("none of number 8", self.water(422, lake=7)["detail"])

    def test_a_lake_with_nothing_around_it_runs_out_nowhere(self):
        cells = np.full((GRID.rows, GRID.cols), np.nan)
        x, y = np.meshgrid(*GRID.centres(GRID.whole))
        inside = np.hypot(x - (GRID.west + 300), y - (GRID.north - 300)) < 40
        cells[inside] = 7.0
        store(ArraySurface(cells.astype(np.float32), GRID), self.folder / "pond.tif")
        self.send((self.folder / "pond.tif").read_bytes(), "pond.tif")
        pond = self.run_jobs()[0].holding
        lake = self.features([shapely.Point(GRID.west + 300, GRID.north - 300).buffer(30)], name=["Pond"])
        told = self.ask("POST", "/water", {"surfaces": [pond.pk], "features": lake.pk})
        self.assertIsNone(told["basins"][0]["spill"])
        self.assertEqual(told["level"], 7.0)
        self.assertEqual(told["levels"], sorted(told["levels"]))
        self.assertIn("less than or equal", self.water(422, level=1e9)["detail"])

    def test_all_that_is_low_in_a_view_is_under_water(self):
        west, south, east, north = self.grid.bounds
        told = self.water(features=None, bounds=[west, south, (west + east) / 2, north])
        one, other = told["basins"]
        self.assertIsNone(told["lake"])
        self.assertEqual((one["rim"], one["spill"]), ([None] * 3, None))
        self.assertAlmostEqual(other["level"] - one["level"], 1.5, places=2)
        # the chart goes from the lowest to the highest ground
        self.assertEqual(one["areas"][0] > 0, True)
        half = (east - west) * (north - south) / 2
        self.assertAlmostEqual(one["areas"][-1] / half, 1, delta=0.05)
        self.assertIn("Choose one of the two", self.water(422, bounds=[west, south, east, north])["detail"])
        self.assertIn("Choose one of the two", self.water(422, features=None)["detail"])
        self.assertIn("has no extent", self.water(422, features=None, bounds=[1, 1, 0, 2])["detail"])

    def test_a_surface_that_does_not_reach_there_says_so(self):
        west, south, *_ = self.grid.bounds
        self.lakes = self.features([shapely.box(west - 900, south - 900, west - 800, south - 800)], name=["far"])
        told = self.water()
        self.assertIsNone(told["level"])
        self.assertIn("does not reach there", told["basins"][0]["reason"])
