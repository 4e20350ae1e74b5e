"""Compile every kernel once: `python -m yama.terrain.warming`.

Kernels are kept on disk when they have been compiled (`var/numba`), which takes a minute or two on a machine that has
none of them. Loaded from there they cost a second, which a server spends before its first request."""

from __future__ import annotations

import multiprocessing
import os
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path
from typing import get_args

import numpy as np
import shapely

from yama.terrain.apart import readers
from yama.terrain.cog import halve
from yama.terrain.drain.accumulation import Flow
from yama.terrain.drain.burning import Burning
from yama.terrain.drain.catchments import basins, catchments, polygons
from yama.terrain.drain.drainage import Conditioning, drainage
from yama.terrain.drain.hollows import hollows
from yama.terrain.drain.kinds import listed
from yama.terrain.drain.large import Given, LargeDrainage
from yama.terrain.drain.working_off import Method as Changing
from yama.terrain.fit.expression import parse
from yama.terrain.fit.reproject import Resampling, fitted
from yama.terrain.formats import image, las, text_grid
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window, turn_between
from yama.terrain.interpolate import validate
from yama.terrain.interpolate.binning import GriddedCloud, Rule
from yama.terrain.interpolate.contour_sheet import Sheet, crossings, gaps, mislabelled
from yama.terrain.interpolate.contour_tin import contour_facets
from yama.terrain.interpolate.contours import ContourSpline
from yama.terrain.interpolate.delaunay import PARALLEL_FROM, triangulate
from yama.terrain.interpolate.ground import GroundFinder, Settings
from yama.terrain.interpolate.idw import distance_to_nearest, inverse_distance, nearest
from yama.terrain.interpolate.kriging import empirical, fit, kriged
from yama.terrain.interpolate.natural import natural_neighbour
from yama.terrain.interpolate.rough import RoughSpline, Sparse
from yama.terrain.interpolate.spline import TensionSpline, tension_spline
from yama.terrain.interpolate.thin_plate import thin_plate_spline
from yama.terrain.interpolate.triangulation import triangulated
from yama.terrain.judge.coregistration import coregistration
from yama.terrain.judge.distribution import Over, distributions
from yama.terrain.judge.intervals import sureness
from yama.terrain.judge.places import Places, judged_at
from yama.terrain.judge.water import basin
from yama.terrain.judge.worst import worst_places
from yama.terrain.later import later
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.patches import Patch
from yama.terrain.mend.ribbon import along
from yama.terrain.mend.suspects import suspects
from yama.terrain.mosaic.fill import Filled, Method
from yama.terrain.mosaic.fusion import Fused
from yama.terrain.mosaic.mosaic import Mosaic, place
from yama.terrain.mosaic.overlap import overlaps
from yama.terrain.mosaic.rules import RuleName
from yama.terrain.mosaic.seams import Seams
from yama.terrain.rational import RationalModel
from yama.terrain.relief.contours import Levels, contours, lengths
from yama.terrain.relief.contrast import contrast
from yama.terrain.relief.curvature import curvature, zevenbergen_thorne_slope
from yama.terrain.relief.sky import sight
from yama.terrain.relief.slope import Light, aspect, gradients_of, hillshade, slope
from yama.terrain.stereo.ortho import JumpSurface, OrthoSurface
from yama.terrain.stereo.pair import PRESETS, Pair, heights_on
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import ArraySurface, sample

laspy = later("laspy")
ndimage = later("scipy.ndimage")

_GRID = Grid("EPSG:32741", 0.0, 16.0, 1.0, 1.0, 16, 16)


def _surface() -> ArraySurface:
    return ArraySurface(np.random.default_rng(1).random((16, 16), np.float32), _GRID)


def _points() -> None:
    x, y, z = np.random.default_rng(1).uniform(0, 16, (3, 60))
    for made in (
        triangulated(x, y, z, _GRID, reach=5.0), triangulated(x, y, z, _GRID, edge_limit=5.0),
        natural_neighbour(x, y, z, _GRID, reach=5.0), inverse_distance(x, y, z, _GRID, reach=5.0),
        inverse_distance(x, y, z, _GRID, neighbours=8, sectors=4), nearest(x, y, z, _GRID, reach=5.0),
        distance_to_nearest(x, y, _GRID),
    ):  # fmt: skip
        made.read_all()
    triangulated(x, y, z, _GRID).edges(_GRID.bounds, 200)
    triangulate(*np.random.default_rng(1).uniform(0, 16, (2, PARALLEL_FROM)))


def _slow_methods() -> None:
    x, y, z = np.random.default_rng(1).uniform(0, 16, (3, 60))
    variogram = fit(empirical(x, y, z), "spherical")
    smooth = kriged(x, y, z, _GRID, variogram, reach=5.0)
    for made in (
        smooth, Sparse(smooth, 4), tension_spline(x, y, z, _GRID, reach=5.0),
        RoughSpline(x, y, z, _GRID, 2.0, 0.1, 5.0),
    ):  # fmt: skip
        made.read_all()
    thin_plate_spline(x, y, z, _GRID, reach=5.0).read_all()
    TensionSpline(x, y, z, 2.0, 0.1).left_out_errors((0.1, 1.0))
    validate.compare(x, y, z, validate.folds_of(x, y, 2, "random"), validate.methods())


def _contours() -> None:
    rings = [8.0 + width * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]]) for width in (6.0, 3.0)]
    sheet = Sheet(rings, np.array([10.0, 20.0]), np.array([[8.0, 8.0, 5.0]]))
    ContourSpline(sheet, _GRID, smoothing=1.0).read_all()
    contour_facets(sheet, _GRID).read_all()
    mislabelled(sheet)
    gaps(sheet)
    crossings(sheet)


def _clouds() -> None:
    rng = np.random.default_rng(1)
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        path = Path(folder) / "few.las"
        few = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        few.x, few.y, few.z = rng.uniform(0, 16, (3, 40))
        few.return_number = few.number_of_returns = np.ones(40, np.uint8)
        few.write(str(path))
        held = las.read(path, Declared(crs=_GRID.crs))
        rules: tuple[Rule, ...] = ("lowest", "mean", "median", "deviation", "intensity")
        for rule in rules:
            GriddedCloud([held], _GRID, rule, gap=0.0 if rule in ("deviation", "intensity") else 9.0).read_all()
        GroundFinder(held, [], _GRID.crs, Settings()).prepare()


def _files() -> None:
    readers.warm()
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        text_grid.write_ascii(_surface(), Path(folder) / "few.asc")
        text_grid.write_xyz(_surface(), Path(folder) / "few.xyz")


def _surfaces() -> None:
    held = _surface()
    held.read(_GRID.at_level(1).whole, 1)
    halve(np.rint(held.read_all()), categorical=True)
    sample(held, [4.3], [5.2])
    other = Grid(_GRID.crs, _GRID.west + 2.3, _GRID.north - 2.2, 1.5, 1.5, 6, 6)
    for resampling in get_args(Resampling):
        fitted(held, other, resampling).read_all()
    for live in (
        slope(held), aspect(held), hillshade(held), hillshade(held, Light(several=True)), curvature(held),
        zevenbergen_thorne_slope(held), sight(held, 3.0), contrast(held, 3.0),
    ):  # fmt: skip
        live.read_all()
    gradients_of(held.read_all(), _GRID)
    lengths(contours(held, Levels(0.2)))
    distributions(held, held, Frame(_GRID, "m"), Over(polygons=(shapely.box(1.0, 1.0, 9.0, 9.0),)), (0.2, 0.4))
    for around in ("mean_around(a, 2)", "median_around(a, 2)"):
        parse(around, ["a"]).value({"a": held.read_all().astype(np.float64)}, 1.0)


def _mosaics() -> None:
    held = _surface()
    part = _GRID.part(Window(4, 4, 8, 8))
    placed = place([held, ArraySurface(np.random.default_rng(2).random((8, 8), np.float32), part)], _GRID)
    overlaps(placed, _GRID)
    for rule in get_args(RuleName):
        Mosaic(placed, _GRID, rule, 2.0, Seams(placed, _GRID, 2.0) if rule == "seam" else None).read_all()
    holed = held.read_all()
    holed[6:9, 6:9] = np.nan
    for method in get_args(Method):
        Filled(ArraySurface(holed, _GRID), method, 6.0, held).read_all()


def _images() -> None:
    """The same noise seen by two cameras that lean apart: level ground."""
    side = 160
    rng = np.random.default_rng(3)
    cells = 500 + 90 * ndimage.gaussian_filter(rng.standard_normal((side, side)), 1.2) / 0.24
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        images = []
        for lean in (-0.1, 0.1):
            half, one = side / 2, (1.0,) + (0.0,) * 19
            row, col = (0.0, 0.0, -1.0, lean * 4) + (0.0,) * 16, (0.0, 1.0) + (0.0,) * 18
            model = RationalModel(
                half, half, -41.2, 62.4, 0.0, half, half, half / 111_195, half / 83_665, 320.0, row, one, col, one
            )
            path = Path(folder) / f"{lean}.tif"
            image.write(np.clip(cells, 1, 4000).astype(np.uint16), model, path)
            images.append(image.read(path))
        given = Pair.of(*images)
        pair, _ = given.adjusted(given.tie_points(40, (-60.0, 60.0)).cells)
        x, y = turn_between("EPSG:4326", "EPSG:32741").transform(62.4, -41.2)
        grid = Grid("EPSG:32741", round(x) - 50.0, round(y) + 50.0, 2.0, 2.0, 50, 50)
        heights_on(pair, grid, ZeroLevel(), (-60.0, 60.0), PRESETS["hilly"])
        surface = ArraySurface(np.zeros((50, 50), np.float32), grid)
        left, right = (
            OrthoSurface(surface, one, sensor, ZeroLevel()) for one, sensor in zip(images, pair.sensors, strict=True)
        )
        JumpSurface(left, right).read_all()


def _judged() -> None:
    """Two surfaces of one ground, one of which lies beside the other."""
    x, y = np.meshgrid(np.arange(64.0), np.arange(64.0))
    grid = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 64, 64)
    one, other = (
        ArraySurface((5 * np.sin((x + by) / 9) + 4 * np.cos(y / 7)).astype(np.float32), grid) for by in (0.0, 0.3)
    )
    coregistration(one, other, tilted=True)
    sureness(np.arange(9.0), np.arange(9.0), np.arange(9.0))
    worst_places(one, other, grid)
    basin(one, shapely.box(448_040, 5_437_900, 448_070, 5_437_930))
    Fused([one, other], grid).read_all()
    at = Places(grid.crs, x[0] * 2 + 448_000, x[0] * 2 + 5_437_880, np.zeros(64))
    judged_at(one, at)


def _water() -> None:
    """Water over rough ground with hollows, whatever becomes of them and however it is shared."""
    cells = np.random.default_rng(6).normal(50, 2, (64, 64)).astype(np.float32)
    cells[20:28, 20:28] = 40.0
    cells[40, 40] = np.nan
    grid = Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 64, 64)
    held = ArraySurface(cells, grid)
    listed(hollows(cells, grid))
    for method in get_args(Changing):
        found = drainage(held, Conditioning(method, sea=0.0))
    for flow in get_args(Flow):
        found.drained(flow)
    found.channels(8.0).streams(8.0, 4.0, heads="slope", above=[0])
    outlet = found.outlet(448_060.0, 5_437_940.0, 10.0)
    catchments(found.to, grid, [outlet])
    polygons(basins(found.to), grid)
    found.falling(1e-4)
    wide = Given.read(
        held, 0.0, Burning(2.0, 1.0), [shapely.LineString([(448_004.0, 5_437_900.0), (448_100.0, 5_437_990.0)])], 20
    )
    wide.hollows(0.0, 5)
    for method in get_args(Changing):
        large = LargeDrainage.worked_out(wide, method, waters=[(448_048.0, 5_437_950.0)], side=20)
    large.catchments([large.outlet(448_060.0, 5_437_940.0, 10.0)])
    large.basins(0.0)
    large.drained("many")


def _patches() -> None:
    """Suspects of ground with a spike, a step, a stand of trees and a hole, and what clears and smooths it."""
    cells = np.random.default_rng(4).normal(50, 0.1, (128, 128)).astype(np.float32)
    cells[:, 90:] += 3.0
    cells[20, 30] += 9.0
    cells[60:80, 40:60] += 12.0
    cells[100:103, 50:53] = np.nan
    held = ArraySurface(cells, Grid("EPSG:32741", 448_000.0, 5_438_000.0, 2.0, 2.0, 128, 128))
    suspects(held)
    ring = [(448_020.0, 5_437_780.0), (448_200.0, 5_437_780.0), (448_200.0, 5_437_980.0), (448_020.0, 5_437_980.0)]
    for operator in ({"kind": "clear"}, {"kind": "spikes"}, {"kind": "smooth", "how": "edges"}, {"kind": "across"}):
        MendedSurface(held, [Patch.model_validate({"ring": ring, "operator": operator})]).read_all()
    band = np.zeros((9, 60), np.bool_)
    band[3:6] = True
    along(band, 2.0, 2.0)


PARTS: dict[str, Callable[[], None]] = {
    "points": _points,
    "slow methods": _slow_methods,
    "contours": _contours,
    "clouds": _clouds,
    "files": _files,
    "surfaces": _surfaces,
    "mosaics": _mosaics,
    "images": _images,
    "judged": _judged,
    "patches": _patches,
    "water": _water,
}
"""What runs the kernels, in parts that do not need each other."""


def warm() -> None:
    """Run each kernel that a request may need on a few cells."""
    for part in PARTS.values():
        part()


def _timed(name: str) -> tuple[str, float]:
    started = time.perf_counter()
    PARTS[name]()
    return name, time.perf_counter() - started


def main() -> None:
    """Run all parts, each in a process, on all cores; says which are done."""
    workers = len(os.sched_getaffinity(0))
    with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn")) as pool:
        waiting = [pool.submit(_timed, name) for name in PARTS]
        for number, done in enumerate(as_completed(waiting), start=1):
            name, seconds = done.result()
            print(f"  {number} of {len(waiting)}: {name} ({seconds:.0f} s)", file=sys.stderr, flush=True)


if __name__ == "__main__":
    main()
