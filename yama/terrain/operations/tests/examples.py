"""Something for every operation of the catalogue to be run on, small, and such that a file can hold it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pyproj
import shapely

from yama.terrain.features import Features
from yama.terrain.formats import las
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid
from yama.terrain.held import Held
from yama.terrain.operations import Task, find
from yama.terrain.points import Points
from yama.terrain.stereo.tests import synthetic
from yama.terrain.surface import ArraySurface
from yama.terrain.table import Table

CRS = "EPSG:32741"
GRID = Grid(CRS, 448_000.0, 5_438_200.0, 2.0, 2.0, 100, 90)
FRAME = Frame(GRID, "m", "Sundrel mean sea level")


def _heights(x, y):
    return 60 + 12 * np.sin((x - 448_000) / 31) + 9 * np.cos((y - 5_438_000) / 23) + 0.05 * (x - 448_000)


def surface(west=0.0, south=0.0, cell=2.0, rows=100, cols=90, offset=0.0) -> ArraySurface:
    """Hills with a hole, somewhere about the frame."""
    grid = Grid(CRS, 448_000.0 + west, 5_438_000.0 + south + rows * cell, cell, cell, rows, cols)
    x, y = np.meshgrid(*grid.centres(grid.whole))
    heights = _heights(x, y) + offset
    heights[rows // 3 : rows // 3 + 3, cols // 2 : cols // 2 + 4] = np.nan
    return ArraySurface(heights.astype(np.float32), grid)


def points(count=260) -> Points:
    """Scattered over the frame, on the same hills."""
    x, y = np.random.default_rng(3).uniform((448_000, 5_438_000), (448_180, 5_438_200), (count, 2)).round(2).T
    names = np.where(np.arange(count) % 5 == 0, "spot", "ground")
    return Points(CRS, x, y, {"z": _heights(x, y).round(3)}, names, "z", "m")


def _features(shapes, **columns) -> Features:
    return Features(CRS, np.array(shapes, dtype=object), columns or {"kind": ["a"] * len(shapes)})


def _box(west, south, east, north):
    return shapely.box(448_000 + west, 5_438_000 + south, 448_000 + east, 5_438_000 + north)


def _ring(west, south, east, north):
    return [list(place) for place in shapely.get_coordinates(_box(west, south, east, north))[:4].tolist()]


def _patches():
    """Two patches that overlap, one of them along a line."""
    return [
        {"name": "smooth", "ring": _ring(40, 60, 120, 130), "feather": 6, "operator": {"kind": "smooth", "radius": 9}},
        {
            "name": "culvert",
            "line": [[448_030, 5_438_080], [448_090, 5_438_080]],
            "width": 5,
            "operator": {"kind": "breach"},
        },
    ]


def _streams() -> Features:
    ways = ([(448_010, 5_438_190), (448_170, 5_438_020)], [(448_010, 5_438_020), (448_170, 5_438_190)])
    return _features([shapely.LineString(way) for way in ways])


def _outlets() -> Features:
    return _features([shapely.Point(448_060, 5_438_060), shapely.Point(448_120, 5_438_140)], name=["one", "other"])


def _raised(one: ArraySurface) -> ArraySurface:
    """The same with a mound on it."""
    cells = one.read_all().copy()
    cells[20:40, 30:55] += 4.0
    return ArraySurface(cells, one.grid)


def cloud(folder: Path, name="flight.laz", seed=1) -> Held:
    """Returns from the hills, a tenth of them from crowns."""
    rng = np.random.default_rng(seed)
    made = laspy.LasData(laspy.LasHeader(version="1.4", point_format=6))
    made.header.scales, made.header.offsets = [0.01] * 3, [448_000, 5_438_000, 0]
    made.header.add_crs(pyproj.CRS.from_user_input(CRS))
    x, y = rng.uniform(448_000, 448_180, 30_000), rng.uniform(5_438_000, 5_438_200, 30_000)
    crowns = rng.random(x.size) < 0.1
    made.x, made.y, made.z = x, y, _heights(x, y) + 7 * crowns
    made.classification = np.where(crowns, 5, 2).astype(np.uint8)
    made.return_number = made.number_of_returns = np.ones(x.size, np.uint8)
    made.write(str(folder / name))
    return las.read(folder / name)


def _ties(images: dict[str, Any]) -> Held:
    """Tie points of a pair."""
    found = Task(find("tie_points"), images, {"count": 60, "low": 0, "high": 150}, FRAME).run()["ties"]
    assert isinstance(found, Table)
    return found


def examples(folder: Path) -> dict[str, tuple[dict[str, Any], dict[str, Any], list[str]]]:
    """By operation: what goes in, settings, and the outputs asked for beside those always made."""
    contours = _features(
        [
            shapely.LineString([(448_000 + 12 * k + 3 * (j % 2), 5_438_000 + 50.0 * j) for j in range(5)])
            for k in range(15)
        ],
        elev=[40.0 + 5 * k for k in range(15)],
    )
    area = [_features([_box(21, 33, 171, 187)])]
    one, other = surface(), surface(60, 40, 3.0, 50, 60, 1.5)
    relief = ({"surface": one}, {}, [])
    left, right = synthetic.pair(folder, lambda x, y: _heights(x + 448_090, y + 5_438_100), 280, 260)
    images = {"left": left, "right": right}
    held = points()
    return {
        "interpolate_points": ({"points": held, "area": area}, {"method": "kriging", "reach_limit": 40}, ["uncertainty", "distance"]),
        "contour_surface": ({"contours": contours}, {"tension": 1.0}, []),
        "grid_cloud": ({"clouds": [cloud(folder)]}, {"gap": 6}, []),
        "find_ground": ({"cloud": cloud(folder, "other.laz", 2)}, {"cell": 2.0, "cube": 12.0}, []),
        "mosaic": ({"surfaces": [one, other]}, {"rule": "feather", "levelling": "offset", "pair": [0, 1]}, ["source", "difference"]),
        "overlaps": ({"surfaces": [one, other]}, {}, []),
        "fill_voids": ({"surface": one}, {"across": 12}, ["filled"]),
        "fit_to_frame": ({"surface": other}, {"resampling": "cubic"}, []),
        "clip": ({"surface": one, "area": area}, {}, []),
        "calculate": ({"surfaces": [one, other]}, {"expression": "mean_around(a, 6) - b", "quantity": "difference"}, []),
        "change_heights": ({"surface": one}, {"to_unit": "ft", "offset": 1.0}, []),
        "cell_type": ({"surface": one}, {"step": 0.1}, []),
        "difference": ({"first": one, "second": other}, {}, []),
        "height_above_ground": ({"surface": other, "ground": one}, {"below": "zero"}, []),
        "scorecard": ({"surfaces": [one, other], "checkpoints": points(40)}, {"split": "cover"}, []),
        "check_brief": (
            {"surfaces": [one, other], "checkpoints": points(40), "features": area},
            {"demands": [{"kind": "error", "within": 1.0}, {"kind": "holes", "features": 1}, {"kind": "cells", "size": 2}]},
            [],
        ),
        "uncertainty": ({"surface": one, "points": points(60)}, {}, ["model"]),
        "difference_figures": ({"first": one, "second": other}, {}, []),
        "best_of_all": ({"surfaces": [one, other]}, {}, ["uncertainty", "source", "models"]),
        "worst_places": ({"first": one, "second": _raised(one)}, {"count": 3}, []),
        "shift": ({"surface": other, "reference": one}, {"tilt": True}, []),
        "move": ({"surface": one}, {"east": 3.5, "north": -2.25, "up": 1.0, "tilt_east": 2.0}, []),
        "heights": ({"first": one, "second": other}, {"levels": [50, 70]}, []),
        "mend": ({"surface": one}, {"patches": _patches(), "keep_outs": [{"ring": _ring(90, 90, 110, 110)}]}, ["patches"]),
        "suspects": ({"surface": one, "waters": area}, {}, []),
        "contours": ({"surface": one}, {"interval": 4}, []),
        "edit_features": ({"features": contours}, {"edits": [{"kind": "remove", "features": [0]}]}, []),
        "variogram": ({"points": held}, {}, []),
        "spline_smoothing": ({"points": held}, {}, []),
        "which_method": ({"points": held}, {"methods": ["triangulation", "nearest"], "folds": 4}, []),
        **dict.fromkeys(("slope", "aspect", "hillshade", "curvature"), relief),
        "sky": ({"surface": one}, {"radius": 20}, []),
        "tie_points": (images, {"count": 60, "low": 0, "high": 150}, []),
        "adjust_models": ({**images, "ties": _ties(images)}, {}, []),
        "image_pair": (images, {"low": 0, "high": 150, "points": True}, ["model", "ties"]),
        "orthoimage": ({"image": left, "second": images["right"], "surface": one}, {}, []),
        "image_jump": ({**images, "surface": one}, {"most": 3}, []),
        "hollows": ({"surface": one, "waters": area}, {"least_depth": 0.2}, []),
        "condition": ({"surface": one, "burned": contours}, {"method": "lesser", "most_depth": 30}, ["change", "lines"]),
        "upslope_area": ({"surface": one}, {"flow": "two"}, []),
        "streams": ({"surface": one}, {"begins_at": 0.05, "minimum_length": 6}, ["orders"]),
        "order_rivers": ({"surface": one, "rivers": _streams()}, {"within": 6}, ["orders"]),
        "compare_networks": ({"streams": contours, "reference": _streams()}, {"within": 6}, ["partings"]),
        "crossings": ({"surface": one, "lines": _streams()}, {"begins_at": 0.05}, []),
        "catchments": ({"surface": one, "outlets": _outlets()}, {"snap": 12, "corners": 2}, []),
        "local_contrast": ({"surface": one}, {"radius": 20}, []),
    }  # fmt: skip
