"""Building surfaces on the island of Sundrel: how long contours and kriging take, and how near each method comes to the truth."""

from __future__ import annotations

import tempfile
import time
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from yama.demo import files
from yama.demo.terrain import COVERS, island
from yama.terrain import formats
from yama.terrain.formats import vector
from yama.terrain.formats.declared import Declared
from yama.terrain.frame import Frame
from yama.terrain.grid import Grid, Window
from yama.terrain.operations import Task, find
from yama.terrain.surface import ArraySurface, Surface, read_block, sample, store, walk

METHODS = ("triangulation", "natural_neighbour", "inverse_distance", "spline", "kriging", "nearest")


@lru_cache(maxsize=1)
def sheets() -> dict[str, Any]:
    """The demo's points, contours and what lies beside them."""
    with tempfile.TemporaryDirectory(prefix="yama-bench-") as folder:
        paths = files.make(Path(folder))
        beside = paths["sheet"]
        return {
            "points": formats.read(paths["survey"], frame_crs="EPSG:32741"),
            "contours": vector.look(paths["contours"])[1],
            "spots": vector.look(beside, Declared(layer="spots"))[1],
            "streams": [vector.look(beside, Declared(layer="streams"))[1]],
            "lakes": [vector.look(paths["water"])[1]],
            "coast": vector.look(paths["coast"])[1],
        }


def from_contours() -> dict[str, Any]:
    """The inputs of a surface from contours."""
    return {name: held for name, held in sheets().items() if name != "points"}


def _made(operation: str, inputs: dict[str, Any], params: dict[str, Any], frame: Frame) -> Surface:
    return Task(find(operation), inputs, params, frame).run().surface("surface")


def contour_spline() -> float:
    """Seconds to store 2048² cells of the spline through the old sheet, all inputs used."""
    grid = island().surface.grid
    part = grid.part(Window(900, 1500, 2048, 2048))
    surface = _made("contour_surface", from_contours(), {}, Frame(part, "m", ""))
    with tempfile.TemporaryDirectory(prefix="yama-bench-") as folder:
        started = time.perf_counter()
        store(surface, Path(folder) / "spline.tif")
        return time.perf_counter() - started


def accuracy() -> list[tuple[str, str, str, str, str]]:
    """Each method against the island's truth, on its own cells of 2 m: work, cells judged, RMSE, NMAD, terraces.

    Terraces: the share of cells within 0.25 m of a contour's height, as a multiple of the truth's. From points: within 60 m
    of one, no water; the three blunders and the swapped pair left out. From contours: land above 12 m but for the quarry,
    which the old sheet is older than.
    """
    truth = island()
    grid: Grid = truth.surface.grid
    cover, heights = truth.cover, truth.heights.astype(np.float64)
    water = (cover == COVERS.index("sea")) | (cover == COVERS.index("water"))
    quarry = np.hypot(*np.meshgrid(grid.x_of(np.arange(grid.cols)) - truth.places["Dunnock Quarry"][0],
                                   grid.y_of(np.arange(grid.rows)) - truth.places["Dunnock Quarry"][1])) < 300  # fmt: skip
    frame = Frame(grid, "m", "")
    rows = []

    def judge(work: str, made: npt.NDArray[np.float32], judged: npt.NDArray[np.bool_]) -> None:
        judged = judged & np.isfinite(made)
        error = made[judged].astype(np.float64) - heights[judged]
        spread = 1.4826 * float(np.median(np.abs(error - np.median(error))))
        near = [float((np.abs(v - np.round(v / 10) * 10) < 0.25).mean()) for v in (made[judged], heights[judged])]
        rows.append((work, f"{judged.sum() / 1e6:.2f} million", f"{np.sqrt((error**2).mean()):.2f} m", f"{spread:.2f} m",
                     f"{near[0] / near[1]:.2f}"))  # fmt: skip

    points = sheets()["points"]
    good = np.abs(_miss(points.x, points.y, points.z, truth.surface)) < 5
    for method in METHODS:
        params: dict[str, Any] = {"method": method, "reach_limit": 60, "duplicates": "lowest"}
        made = _made("interpolate_points", {"points": points.kept(good)}, params, frame)
        judge(f"{method.replace('_', ' ')} of {int(good.sum())} points", _whole(made), ~water)
    for method in ("spline", "triangulation"):
        params = {"method": method, "labels": "as_neighbours", "join_gaps": 250}
        made = _made("contour_surface", from_contours(), params, frame)
        judge(f"{method} of contours, spots, streams, lakes", _whole(made), ~water & (heights > 12) & ~quarry)
    return rows


def _miss(x: Any, y: Any, z: Any, truth: ArraySurface) -> npt.NDArray[np.float64]:
    return np.asarray(np.nan_to_num(z - sample(truth, x, y), nan=np.inf), np.float64)


def _whole(surface: Any) -> npt.NDArray[np.float32]:
    result = np.full((surface.grid.rows, surface.grid.cols), np.nan, np.float32)

    def put(window: Window, part: npt.NDArray[np.float32]) -> None:
        result[window.row : window.row + window.rows, window.col : window.col + window.cols] = part

    walk(surface, read_block, put)
    return result


def markdown() -> str:
    """The table of `accuracy`."""
    lines = ["| surface | cells judged | RMSE | NMAD | terraces |", "|---|---|---|---|---|"]
    lines += [f"| {' | '.join(row)} |" for row in accuracy()]
    return "\n".join(lines)
