"""What operations on water refuse and propose; what they compute is tested in `drain`."""

from unittest import mock

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.operations.tests.running import codes, task_for
from yama.terrain.surface import ArraySurface

CRS = "EPSG:32741"
GRID = Grid(CRS, 500_000.0, 5_436_000.0, 2.0, 2.0, 90, 110)
FRAME = Frame(GRID, "m")


def island() -> ArraySurface:
    """A cone of 30 m in a sea that is 20 cm rough."""
    y, x = np.mgrid[0:90, 0:110]
    cells = 30 - np.hypot(x - 55, y - 45)
    sea = np.random.default_rng(2).uniform(-0.1, 0.1, cells.shape)
    return ArraySurface(np.maximum(cells, sea).astype(np.float32), GRID)


def rivers(*lines) -> Features:
    return Features(CRS, np.array([shapely.LineString(line) for line in lines], object), {})


class DrainTest(SimpleTestCase):
    def found(self, name, inputs, **params):
        return codes(task_for(name, inputs, FRAME, params))

    def test_a_sea_is_proposed_and_not_once_it_is_named(self):
        for name in ("condition", "upslope_area", "streams", "catchments"):
            sea = self.found(name, {"surface": island()})["sea"]
            self.assertEqual(sea.fix.set_params, {"sea": 0.1})
            self.assertNotIn("sea", self.found(name, {"surface": island()}, sea=0.1))

    def test_a_network_is_not_compared_with_itself(self):
        one = rivers([(500_010, 5_435_900), (500_100, 5_435_900)])
        other = rivers([(500_010, 5_435_905), (500_100, 5_435_905)])
        self.assertEqual(self.found("compare_networks", {"streams": one, "reference": one})["same"].weight, "stop")
        self.assertEqual(self.found("compare_networks", {"streams": one, "reference": other}), {})
        table = task_for("compare_networks", {"streams": one, "reference": other}, FRAME, {"within": 6}).run()[
            "figures"
        ]
        values = dict(zip(table.column("measure"), table.column("value"), strict=True))
        self.assertEqual(values["reference found within 6 m"], 100)
        self.assertAlmostEqual(values["mean distance to the reference"], 5, delta=0.01)

    def test_where_nothing_is_found_it_says_what_to_do(self):
        surface = island()
        for name, inputs, params, words in (
            ("streams", {"surface": surface}, {"begins_at": 900}, "Let streams begin at less"),
            ("hollows", {"surface": surface}, {"least_depth": 50}, "Ask for less deep ones"),
            ("catchments", {"surface": surface}, {"least_area": 900}, "Ask for smaller ones"),
            (
                "crossings",
                {"surface": surface, "lines": rivers([(500_001, 5_435_999), (500_003, 5_435_999)])},
                {"begins_at": 0.05, "sea": 0.1},
                "cross no stream",
            ),
            (
                "streams",
                {"surface": surface},
                {"begins_at": 0.05, "sea": 0.1, "above": [(500_110, 5_435_910)], "snap": 0},
                "flows through the outlets",
            ),
            (
                "order_rivers",
                {"surface": surface, "rivers": rivers([(600_001, 5_435_999), (600_003, 5_435_999)])},
                {},
                "run over the surface",
            ),
            (
                "condition",
                {"surface": surface, "burned": rivers([(500_010, 5_435_900), (500_100, 5_435_900)])},
                {"bed_width": 0},
                "greater than 0",
            ),
        ):
            with self.assertRaisesMessage(InputError, words):
                results = task_for(name, inputs, FRAME, params).run()
                [results[one] for one in results]

    def test_ground_of_streams_lines_and_beds_of_crossings_are_made(self):
        surface = island()
        ground = task_for(
            "catchments", {"surface": surface}, FRAME, {"without": "links", "begins_at": 0.01, "sea": 0.1}
        )
        made = ground.run()["catchments"]
        self.assertLessEqual({"link", "below", "order", "area"}, set(made.attributes))
        self.assertTrue(shapely.coverage_is_valid(made.geometries))
        plain, smooth = (
            task_for("streams", {"surface": surface}, FRAME, {"begins_at": 0.01, "sea": 0.1, "smooth": smooth}).run()[
                "streams"
            ]
            for smooth in (False, True)
        )
        self.assertEqual(len(plain), len(made))
        self.assertLess(shapely.length(smooth.geometries).sum(), shapely.length(plain.geometries).sum())
        across = rivers([(500_060, 5_435_990), (500_060, 5_435_830), (500_160, 5_435_830)])
        results = task_for(
            "crossings", {"surface": surface, "lines": across}, FRAME, {"begins_at": 0.01, "sea": 0.1}
        ).run()
        profiles = results["profiles"]
        self.assertEqual(set(profiles.column("crossing")), set(range(1, len(results["crossings"]) + 1)))
        with self.assertRaisesMessage(InputError, "Let streams begin at less"):
            task_for("catchments", {"surface": surface}, FRAME, {"without": "links", "begins_at": 90}).run()

    def test_over_more_cells_than_are_held_at_once_the_same_is_made(self):
        surface = island()
        across = rivers([(500_060, 5_435_990), (500_060, 5_435_830), (500_160, 5_435_830)])
        of_streams = {"begins_at": 0.02, "sea": 0.1}
        for name, params, key, also in (
            ("condition", {}, "surface", {}),
            ("upslope_area", {"method": "fill", "flow": "two"}, "surface", {}),
            ("streams", of_streams, "streams", {}),
            ("streams", {**of_streams, "above": [(500_180, 5_435_910)]}, "streams", {}),
            ("order_rivers", {"sea": 0.1}, "rivers", {"rivers": across}),
            ("hollows", {"least_depth": 0.1}, "hollows", {}),
            ("catchments", {"without": "links", "begins_at": 0.05}, "catchments", {}),
            ("catchments", {"least_area": 0.01}, "catchments", {}),
            ("crossings", {"begins_at": 0.01, "sea": 0.1}, "crossings", {"lines": across}),
        ):
            with self.subTest(name):
                whole = task_for(name, {"surface": surface, **also}, FRAME, params).run()[key]
                with mock.patch("yama.terrain.drain.drainage._MOST_CELLS", 1_000):
                    large = task_for(name, {"surface": surface, **also}, FRAME, params).run()[key]
                    if key == "surface":
                        np.testing.assert_array_equal(large.read_all(), whole.read_all())
                        continue
                mine, theirs = (
                    sorted(one.wkb for one in shapely.normalize(made.geometries)) for made in (large, whole)
                )
                self.assertEqual(mine, theirs)
