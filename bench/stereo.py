"""Image pairs: matching against a library's matcher on the demo's truth, tie points, the whole pair in time, memory
and error."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
from scipy import ndimage

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))

from yama.demo import files  # noqa: E402
from yama.demo import pair as demo  # noqa: E402
from yama.demo.products import geoid_at  # noqa: E402
from yama.demo.terrain import COVERS, FRAME, SEED, Island, island  # noqa: E402
from yama.terrain.formats import image  # noqa: E402
from yama.terrain.grid import Window, turn_between  # noqa: E402
from yama.terrain.stereo.epipolar import on_plane  # noqa: E402
from yama.terrain.stereo.matching import one_level  # noqa: E402
from yama.terrain.stereo.ortho import OrthoSurface  # noqa: E402
from yama.terrain.stereo.pair import PRESETS, Pair, heights_on, offset_at, sections  # noqa: E402
from yama.terrain.stereo.rays import Sensor  # noqa: E402
from yama.terrain.stereo.zero import ZeroLevel  # noqa: E402

SIDE, RANGE = 1024, 128


class Geoid(ZeroLevel):
    """The island's own."""

    def at(self, lon: npt.ArrayLike, lat: npt.ArrayLike) -> npt.NDArray[np.float64]:
        return geoid_at(lon, lat)


def images(folder: Path, truth: Island) -> Pair:
    """The demo's pair, made here."""
    paths = demo.make(truth, files.canopy_of(truth), folder, SEED + 40)
    return Pair.of(*(image.read(path) for path in paths))


@dataclass
class Matchers:
    """Seconds of both matchers in turn, and the share of cells of each that are wrong by more than one."""

    ours: list[float]
    theirs: list[float]
    wrong: tuple[float, float]
    filled: tuple[float, float]


def matchers(pair: Pair, truth: Island, turns: int = 5) -> Matchers:
    """Match 1024 x 1024 cells of open ground and wood over 128 parallaxes, by ours and by the library's eight paths."""
    true = Pair(pair.left, pair.right, (Sensor(demo.fitted(demo.LEFT)), Sensor(demo.fitted(demo.RIGHT))))
    (plane,) = sections(true, (-40.0, 640.0))
    seen = true.geometry(plane.height)
    part = plane.window(plane.rows // 2 - SIDE // 2 + 500, plane.cols // 2 - SIDE // 2 + 300, SIDE, SIDE)
    left, right = (on_plane(*one, part) for one in zip((true.left, true.right), true.sensors, strict=True))
    wanted = _true_parallax(true, part, truth, seen.base_to_height / part.cell)
    middle = int(np.nanmedian(wanted))
    low = np.full(left.shape, middle - RANGE // 2, np.int32)
    count = np.full(left.shape, RANGE, np.int32)
    grey = [np.clip((cells - 200) / 6, 0, 255).astype(np.uint8) for cells in (left, right)]
    matcher: Any = cv2  # its stubs leave it out
    library = matcher.StereoSGBM_create(
        minDisparity=-(middle + RANGE // 2), numDisparities=RANGE, blockSize=5, P1=8 * 25, P2=32 * 25, disp12MaxDiff=1,
        mode=cv2.StereoSGBM_MODE_HH,
    )  # fmt: skip
    found = Matchers([], [], (0.0, 0.0), (0.0, 0.0))
    for _ in range(turns):
        began = time.perf_counter()
        mine = one_level(left, right, low, count, PRESETS["hilly"], workers=2).parallax
        found.ours.append(time.perf_counter() - began)
        began = time.perf_counter()
        theirs = library.compute(*grey).astype(np.float32) / 16
        found.theirs.append(time.perf_counter() - began)
    theirs = np.where(theirs < -(middle + RANGE // 2), np.nan, -theirs)
    wrong, filled = [], []
    for one in (mine, theirs):
        known = np.isfinite(one) & np.isfinite(wanted)
        wrong.append(float((np.abs(one - wanted)[known] > 1).mean()))
        filled.append(float(known.sum() / np.isfinite(wanted).sum()))
    found.wrong, found.filled = (wrong[0], wrong[1]), (filled[0], filled[1])
    return found


def _true_parallax(pair: Pair, plane, truth: Island, per_metre: float) -> npt.NDArray[np.float64]:  # type: ignore[no-untyped-def]
    """Parallaxes of the ground that the left image sees on a plane; NaN where trees, houses or water are."""
    row, col = np.mgrid[: plane.rows, : plane.cols]
    lon, lat = plane.ground(col, row)
    at = pair.sensors[0].image_of(lon, lat, plane.height)
    height = np.full(lon.shape, plane.height)
    turn = turn_between("EPSG:4326", FRAME.crs)
    for _ in range(12):
        lon, lat = pair.sensors[0].ground_of(*at, height)
        x, y = turn.transform(lon, lat)
        r, c = FRAME.row_of(y), FRAME.col_of(x)
        height = ndimage.map_coordinates(truth.heights, [r, c], output=np.float64, order=1) + geoid_at(lon, lat)
    cover = truth.cover[np.rint(r).astype(int), np.rint(c).astype(int)]
    open_ground = np.isin(cover, [COVERS.index(name) for name in ("grass", "rock")])
    open_ground = ndimage.minimum_filter(open_ground, 9)
    u, _ = plane.place(*pair.sensors[1].ground_of(*pair.sensors[1].image_of(lon, lat, height), plane.height))
    return np.where(open_ground, u - col, np.nan)


def whole() -> None:
    """The whole pair to heights, in a process of its own: prints seconds of tie points, adjusting and heights, peak
    memory and errors on open ground."""
    truth = island()
    with tempfile.TemporaryDirectory() as folder:
        pair = images(Path(folder), truth)
        pair.tie_points(60)  # compiled and loaded
        began = time.perf_counter()
        ties = pair.tie_points()
        tied = time.perf_counter() - began
        began = time.perf_counter()
        pair, found = pair.adjusted(ties.cells)
        heights = pair.search_range(found.met.height[found.used])
        rng = np.random.default_rng(3)
        x, y = rng.uniform((447_900, 5_436_000), (449_800, 5_439_000), (3000, 2)).T
        r, c = FRAME.row_of(y), FRAME.col_of(x)
        z = ndimage.map_coordinates(truth.heights, [r, c], output=np.float64, order=1)
        grass = truth.cover[np.rint(r).astype(int), np.rint(c).astype(int)] == COVERS.index("grass")
        for _ in range(2):
            by = offset_at(pair, FRAME, Geoid(), heights, PRESETS["hilly"], x[grass], y[grass], z[grass])
            assert by is not None
            pair = pair.moved(by)
        made = heights_on(pair, FRAME, Geoid(), heights, PRESETS["hilly"])
        took = time.perf_counter() - began + tied
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
        error = made.height - truth.heights
        cover = truth.cover
        open_ground = ndimage.minimum_filter(np.isin(cover, [COVERS.index(n) for n in ("grass", "rock")]), 7)
        known = open_ground & np.isfinite(error)
        e, worth = error[known], pair.geometry().height_of_cell
        lake = ndimage.binary_erosion(cover == COVERS.index("water"), iterations=6)
        ortho = OrthoSurface(truth.surface, pair.left, pair.sensors[0], Geoid())
        window = Window(2400, 2200, 1024, 1024)
        ortho.read(window)
        began = time.perf_counter()
        ortho.read(window)
        looked = time.perf_counter() - began
        within = (np.abs(e - np.median(e)) <= made.uncertainty[known]).mean()
        spread = 1.4826 * float(np.median(np.abs(e - np.median(e))))
        print(tied, took, peak, spread / worth, float(np.sqrt((e**2).mean())) / worth, float((np.abs(e) > 3 * worth).mean()),
              float(within), float(1 - np.isfinite(made.height[lake]).mean()), looked)  # fmt: skip


def whole_figures() -> list[float]:
    """What `whole` prints, run in a process of its own."""
    done = subprocess.run(
        [sys.executable, str(Path(__file__)), "whole"], capture_output=True, text=True, check=True, cwd=ROOT
    )
    return [float(word) for word in done.stdout.split()]


if __name__ == "__main__":
    whole()
