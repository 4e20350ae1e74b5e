"""Water over the island: streams of a good surface are the true ones, and worse sources have worse streams."""

from functools import cache

import numpy as np
import shapely
from django.test import SimpleTestCase

from yama.demo.products import FAULTS
from yama.demo.terrain import FRAME, island
from yama.demo.tests.test_judging import product
from yama.terrain.drain.catchments import catchments
from yama.terrain.drain.drainage import Conditioning, Drainage, drainage
from yama.terrain.drain.networks import likeness
from yama.terrain.grid import turn_between
from yama.terrain.surface import ArraySurface, Surface

_BEGINS = 120_000.0  # square metres
_SEA = 1.0


def followed(surface: Surface) -> Drainage:
    return drainage(surface, Conditioning("lesser", sea=_SEA))


def lines_of(found: Drainage, over_level: bool = True) -> list[shapely.LineString]:
    lines = found.channels(_BEGINS).streams(_BEGINS, over_level=over_level).lines()
    if found.grid.crs == FRAME.crs:
        return list(lines)
    turn = turn_between(found.grid.crs, FRAME.crs).transform
    return list(shapely.transform(lines, lambda at: np.column_stack(turn(at[:, 0], at[:, 1]))))


@cache
def true_water() -> Drainage:
    return followed(island().surface)


@cache
def truth() -> tuple[list[shapely.LineString], tuple[float, float], shapely.Geometry]:
    """The true streams; a place on the largest of them, above which nine tenths of its ground lie, and that ground."""
    found = true_water()
    counts = found.counts.ravel()
    low = np.flatnonzero(counts > 0.9 * counts.max())
    row, col = divmod(int(low[np.argmin(counts[low])]), found.grid.cols)
    at = float(found.grid.x_of(col)), float(found.grid.y_of(row))
    (above,) = catchments(found.to, found.grid, [found.outlet(*at, 0.0)]).shapes
    return lines_of(found), at, above


class StreamsOfSourcesTest(SimpleTestCase):
    def test_noise_of_lidar_leaves_the_streams_where_they_are(self):
        _, at, above = truth()
        # over the level water of lakes there is no true stream
        reference = lines_of(true_water(), over_level=False)
        cells = island().surface.read_all()
        noisy = ArraySurface(cells + np.random.default_rng(3).normal(0, 0.08, cells.shape).astype(np.float32), FRAME)
        found = followed(noisy)
        told = likeness(lines_of(found), reference, 4.0, FRAME.metres_per_unit())  # two cells
        self.assertGreater(told.found, 0.95)
        (made,) = catchments(found.to, found.grid, [found.outlet(*at, 5.0)]).shapes
        # the quarry is a pit: noise decides over which side of it water would leave
        quarry = shapely.Point(island().places["Dunnock Quarry"]).buffer(700)
        apart = made.symmetric_difference(above).difference(quarry)
        self.assertLess(apart.area / above.area, 0.01)

    def test_worse_sources_have_worse_streams(self):
        reference, _, _ = truth()
        sources = {
            "plover": product("plover-30", "smooth", up=FAULTS["plover_offset"]),
            "beacon": product("beacon-30", "first", 0.5 / 3600, noise=2.4),
            "heron": product("heron-90", "coarse", FAULTS["heron_shift"] / (111_320 * np.cos(0.7195)), noise=1.5),
        }
        alike = {}
        for name, surface in sources.items():
            found = followed(surface)
            alike[name] = likeness(lines_of(found), reference, 20.0, FRAME.metres_per_unit())
        for better, worse in (("plover", "beacon"), ("beacon", "heron")):
            self.assertGreater(alike[better].own_near, alike[worse].own_near + 0.03)
            self.assertGreater(alike[better].found, alike[worse].found)
            self.assertLess(alike[better].mean, alike[worse].mean)
