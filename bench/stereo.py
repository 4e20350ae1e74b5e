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

from yama.demo import files, orbit, scene  # noqa: E402
from yama.demo import pair as demo  # noqa: E402
from yama.demo.products import geoid_at  # noqa: E402
from yama.demo.terrain import COVERS, FRAME, SEED, Island, island  # noqa: E402
from yama.terrain.formats import image  # noqa: E402
from yama.terrain.grid import Window, turn_between  # noqa: E402
from yama.terrain.stereo.dense import kept  # noqa: E402
from yama.terrain.stereo.epipolar import Plane, on_plane  # noqa: E402
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
    """Seconds of both matchers in turn, and the share of cells of each that are wrong by more than one, and that are
    filled, of those that both images show."""

    ours: list[float]
    theirs: list[float]
    wrong: list[float]
    filled: list[float]


def matchers(pair: Pair, truth: Island, turns: int = 5) -> Matchers:
    """Match 1024 x 1024 cells of fields, wood, Mossgate and the viaduct over 128 parallaxes, by ours and by the
    library's eight paths."""
    true = Pair(pair.left, pair.right, (Sensor(orbit.fitted(orbit.LEFT)), Sensor(orbit.fitted(orbit.RIGHT))))
    (plane,) = sections(true, (-40.0, 640.0))
    deck = truth.viaduct
    to_degrees = turn_between(FRAME.crs, "EPSG:4326")
    across, down = plane.place(*to_degrees.transform(*((deck.start + deck.end) / 2)))
    part = plane.window(int(down) - SIDE // 2, min(int(across) - SIDE // 2, plane.cols - SIDE), SIDE, SIDE)
    left, right = (on_plane(*one, part) for one in zip((true.left, true.right), true.sensors, strict=True))
    wanted = _true_parallax(true, part, truth)
    middle = int(np.nanmedian(wanted))
    low = np.full(left.shape, middle - RANGE // 2, np.int32)
    count = np.full(left.shape, RANGE, np.int32)
    grey = [np.clip((np.nan_to_num(cells) - 200) / 6, 0, 255).astype(np.uint8) for cells in (left, right)]
    matcher: Any = cv2  # its stubs leave it out
    library = matcher.StereoSGBM_create(
        minDisparity=-(middle + RANGE // 2), numDisparities=RANGE, blockSize=5, P1=8 * 25, P2=32 * 25, disp12MaxDiff=1,
        mode=cv2.StereoSGBM_MODE_HH,
    )  # fmt: skip
    found = Matchers([], [], [], [])
    how = PRESETS["hilly"]
    for _ in range(turns):
        began = time.perf_counter()
        mine = one_level(left, right, low, count, how, workers=2)
        found.ours.append(time.perf_counter() - began)
        began = time.perf_counter()
        theirs = library.compute(*grey).astype(np.float32) / 16
        found.theirs.append(time.perf_counter() - began)
    theirs = np.where(theirs < -(middle + RANGE // 2), np.nan, -theirs)
    for one in (mine.parallax, theirs, kept(mine, how).parallax):
        known = np.isfinite(one) & np.isfinite(wanted)
        found.wrong.append(float((np.abs(one - wanted)[known] > 1).mean()))
        found.filled.append(float(known.sum() / np.isfinite(wanted).sum()))
    return found


def _true_parallax(pair: Pair, plane: Plane, truth: Island) -> npt.NDArray[np.float64]:
    """Parallaxes of what the left image's cells see on a plane; NaN where the right one does not show it within the
    plane, and on still water and under the cloud."""
    row, col = np.mgrid[: plane.rows, : plane.cols]
    cast = scene.scene_of(truth, files.canopy_of(truth))
    first = scene.struck(cast, orbit.LEFT, *pair.sensors[0].image_of(*plane.ground(col, row), plane.height))
    both = scene.seen(cast, orbit.RIGHT, first.x, first.y, first.z) & (first.cloud < 0.05)
    lon, lat = turn_between(FRAME.crs, "EPSG:4326").transform(first.x, first.y)
    there = pair.sensors[1].image_of(lon, lat, first.z + geoid_at(lon, lat))
    across, _ = plane.place(*pair.sensors[1].ground_of(*there, plane.height))
    both &= (first.what != COVERS.index("water")) & (across > 4) & (across < plane.cols - 5)
    return np.where(both, across - col, np.nan)


def speckled(pair: Pair, truth: Island) -> float:
    """Robust spread of heights of open ground from images with the speckle of four looks, in cells of parallax."""
    with tempfile.TemporaryDirectory() as folder:
        paths = [Path(folder) / name for name in demo.NAMES]
        for number, (one, path) in enumerate(zip((pair.left, pair.right), paths, strict=True)):
            cells = demo.speckled(one.read().astype(np.uint16), 7 + number)
            image.write(cells, orbit.fitted((orbit.LEFT, orbit.RIGHT)[number]), path)
        radar = Pair.of(*(image.read(path) for path in paths))
        window = Window(2300, 2200, 900, 900)
        made = heights_on(radar, FRAME.part(window), Geoid(), (0.0, 400.0), PRESETS["speckled"])
    place = (slice(2300, 3200), slice(2200, 3100))
    error = made.height - truth.heights[place]
    known = np.isin(truth.cover[place], [COVERS.index(name) for name in ("grass", "rock")]) & np.isfinite(error)
    e = error[known] / radar.geometry().height_of_cell
    return 1.4826 * float(np.median(np.abs(e - np.median(e))))


def on_the_ground(pair: Pair, ties: Any, truth: Island) -> tuple[Pair, tuple[float, float]]:
    """The pair with its models brought together at tie points and onto 3000 surveyed places, and the heights to look
    for."""
    pair, found = pair.adjusted(ties)
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
    return pair, heights


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
        pair, heights = on_the_ground(pair, ties.cells, truth)
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
        place = (slice(1500, 3430), slice(2000, 3330))
        x, y = np.meshgrid(*FRAME.part(Window(1500, 2000, 1930, 1330)).centres(Window(0, 0, 1930, 1330)))
        cast = scene.scene_of(truth, files.canopy_of(truth))
        shown = np.isin(cover[place], [COVERS.index(name) for name in ("grass", "rock")])
        for sensor in (orbit.LEFT, orbit.RIGHT):
            shown &= scene.seen(cast, sensor, x, y, truth.heights[place].astype(float))
        filled = np.isfinite(made.height[place])[shown].mean()
        within = (np.abs(e - np.median(e)) <= made.uncertainty[known]).mean()
        spread = 1.4826 * float(np.median(np.abs(e - np.median(e))))
        print(tied, took, peak, spread / worth, float(np.sqrt((e**2).mean())) / worth, float((np.abs(e) > 3 * worth).mean()),
              float(within), float(1 - np.isfinite(made.height[lake]).mean()), looked, float(filled))  # fmt: skip


def whole_figures() -> list[float]:
    """What `whole` prints, run in a process of its own."""
    done = subprocess.run(
        [sys.executable, str(Path(__file__)), "whole"], capture_output=True, text=True, check=True, cwd=ROOT
    )
    return [float(word) for word in done.stdout.split()]


if __name__ == "__main__":
    whole()
