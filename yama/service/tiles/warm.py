"""Kernels are compiled once on a machine and kept on disk; loading them takes a second that no request should pay."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import get_args

import laspy
import numpy as np
import shapely

from yama.terrain.fit.reproject import Resampling, fitted
from yama.terrain.formats import las
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.interpolate.binning import GriddedCloud, Rule
from yama.terrain.interpolate.contour_sheet import Sheet, crossings, gaps, mislabelled
from yama.terrain.interpolate.contour_tin import contour_facets
from yama.terrain.interpolate.contours import ContourSpline
from yama.terrain.interpolate.idw import inverse_distance
from yama.terrain.interpolate.natural import natural_neighbour
from yama.terrain.interpolate.triangulation import triangulated
from yama.terrain.judge.distribution import Over, distributions
from yama.terrain.mosaic.fill import Filled, Method
from yama.terrain.mosaic.mosaic import Mosaic, place
from yama.terrain.mosaic.overlap import overlaps
from yama.terrain.mosaic.rules import RuleName
from yama.terrain.mosaic.seams import Seams
from yama.terrain.relief.contours import Levels, contours, lengths
from yama.terrain.relief.contrast import contrast
from yama.terrain.relief.curvature import curvature, zevenbergen_thorne_slope
from yama.terrain.relief.sky import sight
from yama.terrain.relief.slope import Light, aspect, hillshade, slope
from yama.terrain.surface import ArraySurface, sample


def warm() -> None:
    """Run each kernel a request may need on a few cells."""
    grid = Grid("EPSG:32741", 0.0, 16.0, 1.0, 1.0, 16, 16)
    rng = np.random.default_rng(1)
    x, y, z = rng.uniform(0, 16, (3, 40))
    for made in (triangulated, natural_neighbour, inverse_distance):
        made(x, y, z, grid, reach=5.0).read_all()
    _warm_clouds(grid)
    _warm_contours(grid)
    held = ArraySurface(rng.random((16, 16), np.float32), grid)
    held.read(held.grid.at_level(1).whole, 1)
    sample(held, [4.3], [5.2])
    other = Grid("EPSG:4326", 62.0, -41.0, 0.01, 0.01, 4, 4)
    for resampling in get_args(Resampling):
        fitted(held, other, resampling).read_all()
    few = [held, ArraySurface(rng.random((8, 8), np.float32), grid.part(Window(4, 4, 8, 8)))]
    placed = place(few, grid)
    overlaps(placed, grid)
    for rule in get_args(RuleName):
        Mosaic(placed, grid, rule, 2.0, Seams(placed, grid, 2.0) if rule == "seam" else None).read_all()
    holed = np.array(rng.random((16, 16)), np.float32)
    holed[6:9, 6:9] = np.nan
    for method in get_args(Method):
        Filled(ArraySurface(holed, grid), method, 6.0, held).read_all()
    for live in (
        slope(held), aspect(held), hillshade(held), hillshade(held, Light(several=True)), curvature(held),
        zevenbergen_thorne_slope(held), sight(held, 3.0), contrast(held, 3.0),
    ):  # fmt: skip
        live.read_all()
    lengths(contours(held, Levels(0.2)))
    distributions(held, held, Frame(grid, "m"), Over(polygons=(shapely.box(1.0, 1.0, 9.0, 9.0),)), (0.2, 0.4))


def _warm_contours(grid: Grid) -> None:
    rings = [8.0 + width * np.array([[-1.0, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]]) for width in (6.0, 3.0)]
    sheet = Sheet(rings, np.array([10.0, 20.0]), np.array([[8.0, 8.0, 5.0]]))
    ContourSpline(sheet, grid, smoothing=1.0).read_all()
    contour_facets(sheet, grid).read_all()
    mislabelled(sheet)
    gaps(sheet)
    crossings(sheet)


def _warm_clouds(grid: Grid) -> None:
    with tempfile.TemporaryDirectory(prefix="yama-") as folder:
        path = Path(folder) / "few.las"
        few = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
        few.x = few.y = few.z = np.array([2.0, 5.0, 9.0])
        few.write(str(path))
        held = las.read(path, Declared(crs=grid.crs))
        rules: tuple[Rule, ...] = ("lowest", "mean", "median", "deviation", "intensity")
        for rule in rules:
            GriddedCloud([held], grid, rule, gap=0.0 if rule in ("deviation", "intensity") else 9.0).read_all()
