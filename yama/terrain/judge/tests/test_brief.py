import numpy as np
import shapely
from django.test import SimpleTestCase
from pydantic import TypeAdapter, ValidationError

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import Grid
from yama.terrain.judge.brief import Subject, answer, statement
from yama.terrain.judge.demands import AnyDemand, Brief
from yama.terrain.judge.places import Places, judged_at
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_600.0, 2.0, 2.0, 300, 300)
X, Y = np.meshgrid(*GRID.centres(GRID.whole))
EAST, NORTH = X - 448_000, Y - 5_438_000
DEMAND = TypeAdapter(AnyDemand)


def demand(kind, **settings):
    return DEMAND.validate_python({"kind": kind, **settings})


def box(west, south, east, north):
    return shapely.box(448_000 + west, 5_438_000 + south, 448_000 + east, 5_438_000 + north)


def features(*shapes, **columns):
    return Features(CRS, np.array(shapes, dtype=object), columns)


def hills(x, y):
    return 100 + 12 * np.sin((x - 448_000) / 60) + 9 * np.cos((y - 5_438_000) / 50)


def checkpoints(count=200, off=0.0, noise=0.0, seed=3):
    """Places over the grid, half of them in wood, whose heights a surface of hills misses by `off` and noise."""
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(448_010, 448_590, count), rng.uniform(5_438_010, 5_438_590, count)
    covers = np.where(np.arange(count) % 2 == 0, "grass", "wood")
    return Places(CRS, x, y, hills(x, y) - off - rng.normal(0, noise, count) * (1 + 3 * (covers == "wood")), covers)


def subject(cells=None, places=None, shapes=None, datum="", **more):
    cells = hills(X, Y) if cells is None else cells
    surface = ArraySurface(cells.astype(np.float32), GRID, "m", datum)
    judged = judged_at(surface, places) if places is not None else None
    held = {1: shapes} if shapes is not None else {}
    return Subject(surface, places, judged, features=held, names=dict.fromkeys(held, "Fields"), **more)


class ErrorsTest(SimpleTestCase):
    def test_errors_are_told_by_cover_with_how_sure_they_are(self):
        held = subject(places=checkpoints(noise=0.3))
        open_ground = answer(demand("error", within=1.0, covers=["grass"], called="open ground"), held)
        wood = answer(demand("error", within=1.0, covers=["wood"]), held)
        self.assertTrue(open_ground.met)
        self.assertAlmostEqual(open_ground.figure, 1.96 * 0.3, delta=0.12)
        self.assertFalse(wood.met)
        self.assertAlmostEqual(wood.figure, 1.96 * 1.2, delta=0.5)
        self.assertIn("At 100 checkpoints; between", wood.told)
        self.assertIsNone(open_ground.at)
        self.assertIsNotNone(wood.at)

    def test_what_is_near_its_limit_may_be_chance(self):
        held = subject(places=checkpoints(noise=0.3))
        near = answer(demand("error", figure="rmse", within=0.31, covers=["grass"]), held)
        self.assertIn("it may be chance", near.told)
        far = answer(demand("error", figure="rmse", within=3.0, covers=["grass"]), held)
        self.assertNotIn("chance", far.told)

    def test_few_checkpoints_are_said_to_be_few(self):
        told = answer(demand("error", within=1.0, covers=["wood"]), subject(places=checkpoints(20, noise=0.1))).told
        self.assertIn("At 10 checkpoints, fewer than the 20", told)

    def test_points_that_went_into_it_do_not_count(self):
        places = checkpoints(off=0.5)
        held = subject(places=places, left_out=places.covers == "grass")
        self.assertEqual(answer(demand("error", within=1.0), held).told[:18], "At 100 checkpoints")
        self.assertIsNone(answer(demand("error", within=1.0, covers=["grass"]), held).met)

    def test_what_cannot_be_told_says_why(self):
        self.assertIn("no checkpoints", answer(demand("error", within=1.0), subject()).told)
        nowhere = answer(demand("error", within=1.0, covers=["rock"]), subject(places=checkpoints()))
        self.assertIsNone(nowhere.met)
        self.assertEqual(nowhere.told, "No checkpoint stands in rock; they stand in grass, wood.")


class AreasTest(SimpleTestCase):
    def test_holes_within_the_area_are_counted_and_the_largest_is_shown(self):
        cells = hills(X, Y)
        cells[(np.abs(EAST - 200) < 20) & (np.abs(NORTH - 300) < 20)] = np.nan  # within
        cells[(np.abs(EAST - 100) < 6) & (np.abs(NORTH - 300) < 200)] = np.nan  # across its western rim
        cells[(EAST > 500)] = np.nan  # outside
        held = subject(cells, shapes=features(box(100, 100, 400, 450)))
        found = answer(demand("holes", features=1), held)
        self.assertEqual((found.met, found.figure), (False, 2))
        expected = int(np.isnan(cells)[(EAST > 100) & (EAST < 400) & (NORTH > 100) & (NORTH < 450)].sum()) * 4
        self.assertIn(f"{expected:,}".replace(",", "\u202f") + " m² stay empty", found.told)
        self.assertTrue(box(100, 100, 400, 450).contains(shapely.Point(found.at)))
        self.assertTrue(np.isnan(cells[int(GRID.row_of(found.at[1])), int(GRID.col_of(found.at[0]))]))
        whole = answer(demand("holes", features=1), subject(shapes=features(box(100, 100, 400, 450))))
        self.assertEqual((whole.met, whole.figure, whole.at), (True, 0, None))

    def test_a_thousand_rows_and_more_have_the_same_holes(self):
        grid = Grid(CRS, 448_000.0, 5_438_600.0, 2.0, 2.0, 2300, 40)
        cells = np.ones((2300, 40), np.float32)
        for row in (0, 1022, 1023, 1024, 2046, 2047, 2299):
            cells[row, 7] = np.nan
        bounds = shapely.box(*grid.bounds)
        held = Subject(ArraySurface(cells, grid), features={1: features(bounds)}, names={1: "all"})
        # three rows that touch are one hole, and so are two
        self.assertEqual(answer(demand("holes", features=1), held).figure, 4)

    def test_how_much_of_an_area_has_heights(self):
        cells = hills(X, Y)
        cells[NORTH < 300] = np.nan
        # half of it is empty, and a third lies to the east of the surface
        held = subject(cells, shapes=features(box(400, 200, 700, 400)))
        found = answer(demand("area", features=1), held)
        self.assertFalse(found.met)
        self.assertAlmostEqual(found.figure, 100 / 3, delta=0.5)
        self.assertTrue(answer(demand("area", features=1, share=33.0), held).met)
        beyond = subject(shapes=features(box(900, 900, 950, 950)))
        self.assertEqual(answer(demand("area", features=1), beyond).figure, 0.0)
        self.assertFalse(answer(demand("holes", features=1), beyond).met)

    def test_only_features_with_a_value_count(self):
        shapes = features(box(0, 0, 100, 100), box(200, 200, 300, 300), kind=["wood", "water"])
        cells = hills(X, Y)
        cells[(EAST < 50) & (NORTH < 50)] = np.nan
        held = subject(cells, shapes=shapes)
        self.assertTrue(answer(demand("holes", features=1, column="kind", value="water"), held).met)
        self.assertFalse(answer(demand("holes", features=1, column="kind", value="wood"), held).met)
        gone = answer(demand("holes", features=1, column="kind", value="town"), held)
        self.assertEqual((gone.met, gone.told[:26]), (None, "town is not among these fe"))
        self.assertIsNone(answer(demand("holes", features=7), held).met)


class WaterTest(SimpleTestCase):
    LAKE = box(100, 100, 400, 400)

    def test_a_lake_lies_level_where_its_cells_do(self):
        within = (EAST > 100) & (EAST < 400) & (NORTH > 100) & (NORTH < 400)
        rng = np.random.default_rng(1)
        for noise in (0.0, 0.04, 0.4):
            cells = np.where(within, 231.5 + rng.normal(0, noise, X.shape), hills(X, Y) + 200)
            found = answer(demand("level", features=1, within=0.1), subject(cells, shapes=features(self.LAKE)))
            self.assertEqual(found.met, noise < 0.05)
            self.assertAlmostEqual(found.figure, 1.96 * noise, delta=0.03 + noise * 0.05)
            self.assertIn("231.5", found.told)

    def test_of_several_lakes_the_worst_is_told(self):
        other = box(450, 450, 550, 550)
        cells = np.where(EAST < 430, 50.0, 60 + 0.01 * EAST)
        found = answer(demand("level", features=1), subject(cells, shapes=features(self.LAKE, other)))
        self.assertFalse(found.met)
        self.assertIn("The worst of 2 lies at 65.", found.told)
        self.assertTrue(other.contains(shapely.Point(found.at)))

    def test_an_empty_lake_is_not_level(self):
        found = answer(demand("level", features=1), subject(np.full(X.shape, np.nan), shapes=features(self.LAKE)))
        self.assertEqual((found.met, found.figure), (False, None))

    def test_a_river_falls_whichever_way_it_is_drawn(self):
        line = shapely.LineString([(448_050, 5_438_300), (448_550, 5_438_300)])
        dam = 0.8 * np.exp(-(((EAST - 300) / 8) ** 2))
        for shape in (line, shapely.reverse(line)):
            plain = answer(demand("falling", features=1), subject(50 - 0.01 * EAST, shapes=features(shape)))
            self.assertTrue(plain.met)
            self.assertAlmostEqual(plain.figure, 0.0, places=3)
            dammed = answer(demand("falling", features=1), subject(50 - 0.01 * EAST + dam, shapes=features(shape)))
            self.assertFalse(dammed.met)
            # it climbs from 16 m upstream of the crest
            self.assertAlmostEqual(dammed.figure, 0.8 - 0.16, delta=0.06)
            self.assertAlmostEqual(dammed.at[0], 448_300, delta=4)


class PlainTest(SimpleTestCase):
    def test_cells_zero_and_format(self):
        held = subject(datum="Sundrel mean sea level", places=checkpoints(off=0.2))
        self.assertTrue(answer(demand("cells", size=2), held).met)
        self.assertFalse(answer(demand("cells", size=1), held).met)
        self.assertTrue(answer(demand("datum", datum="sundrel mean sea level "), held).met)
        self.assertFalse(answer(demand("datum", datum="ellipsoid"), held).met)
        self.assertIsNone(answer(demand("datum", datum="ellipsoid"), subject()).met)
        off = answer(demand("datum", datum="Sundrel mean sea level", within=0.1), held)
        self.assertFalse(off.met)
        self.assertAlmostEqual(off.figure, 0.2, delta=0.02)
        self.assertIsNone(answer(demand("format"), held).met)
        self.assertTrue(answer(demand("format"), subject(handed_over_as="tif")).met)
        self.assertFalse(answer(demand("format"), subject(handed_over_as="asc")).met)

    def test_what_is_asked_reads_as_a_sentence(self):
        names = {4: "Boundary"}
        titles = {
            "95 % of errors in open ground within 0.50 m": {
                "kind": "error",
                "within": 0.5,
                "covers": ["grass", "rock"],
                "called": "open ground",
            },
            "RMSE in grass, rock and sand at most 0.125 m": {
                "kind": "error",
                "figure": "rmse",
                "within": 0.125,
                "covers": ["grass", "rock", "sand"],
            },
            "No hole inside Boundary": {"kind": "holes", "features": 4},
            "Heights on 98 % of Boundary": {"kind": "area", "features": 4, "share": 98},
            "Lantern Water lies level within 0.05 m": {
                "kind": "level",
                "features": 4,
                "column": "name",
                "value": "Lantern Water",
            },
            "Avel falls, rising by at most 0.10 m": {"kind": "falling", "features": 4, "label": "Avel"},
            "Heights above Sundrel mean sea level": {"kind": "datum", "datum": "Sundrel mean sea level"},
            "Cells of 2 m": {"kind": "cells", "size": 2},
            "Handed over as GeoTIFF": {"kind": "format"},
        }
        for title, one in titles.items():
            self.assertEqual(DEMAND.validate_python(one).title(names), title)

    def test_demands_that_contradict_each_other_are_refused(self):
        twice = [
            {"kind": "error", "within": 0.5, "covers": ["wood", "grass"]},
            {"kind": "cells", "size": 2},
            {"kind": "error", "within": 1.0, "covers": ["grass", "wood"]},
        ]
        with self.assertRaisesMessage(InputError, "“95 % of errors in grass and wood within 1.00 m”"):
            Brief(demands=twice).refuse_contradictions({})
        Brief(demands=twice[:2]).refuse_contradictions({})

    def test_settings_that_mean_nothing_are_refused(self):
        for wrong in (
            {"kind": "error", "within": 0},
            {"kind": "error", "within": float("nan")},
            {"kind": "cells", "size": -2},
            {"kind": "area", "features": 1, "share": 120},
            {"kind": "beauty"},
            {"kind": "datum", "datum": ""},
            {"kind": "holes"},
            {"kind": "cells", "size": 2, "more": 1},
        ):
            with self.assertRaises(ValidationError):
                DEMAND.validate_python(wrong)

    def test_the_statement_has_the_terms_of_the_standards(self):
        held = subject(places=checkpoints(noise=0.3))
        plain, grown = statement(held, ["wood"])
        errors = held.judged.errors[held.places.covers == "grass"]
        rmse = float(np.sqrt(np.mean(errors**2)))
        self.assertIn(f"in non-vegetated ground: {1.96 * rmse:.2f} m at the 95 % confidence level", plain)
        self.assertIn("95th percentile", grown)
        self.assertEqual(len(statement(held)), 1)
        self.assertEqual(statement(subject()), [])
