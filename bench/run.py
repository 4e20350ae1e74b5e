"""Benchmarks against general-purpose libraries or physical limits, side by side in one run.

    .venv/bin/python bench/run.py [NAME ...] [--markdown docs/benchmarks.md]

Each row runs ours and the peer in turn, several times, and gives the median of the paired ratios. Compilation is done
before and timed apart. The peer gets every core it can use and its best honest settings.
"""

from __future__ import annotations

import argparse
import http.client
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from scipy import ndimage
from scipy.interpolate import LinearNDInterpolator, RBFInterpolator
from scipy.spatial import Delaunay, cKDTree

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))

from bench import build, drain, gather, join, judge, mend, stereo  # noqa: E402
from yama.demo.terrain import island  # noqa: E402
from yama.terrain.allocation import keep_freed_memory  # noqa: E402
from yama.terrain.cloud import Cloud  # noqa: E402
from yama.terrain.cluster import cores  # noqa: E402
from yama.terrain.fit.expression import parse  # noqa: E402
from yama.terrain.fit.reproject import difference  # noqa: E402
from yama.terrain.formats import delimited, las, raster  # noqa: E402
from yama.terrain.grid import Grid, Window  # noqa: E402
from yama.terrain.interpolate.binning import GriddedCloud, Rule  # noqa: E402
from yama.terrain.interpolate.delaunay import triangulate  # noqa: E402
from yama.terrain.interpolate.idw import inverse_distance  # noqa: E402
from yama.terrain.interpolate.kriging import empirical, fit, kriged  # noqa: E402
from yama.terrain.interpolate.natural import natural_neighbour  # noqa: E402
from yama.terrain.interpolate.thin_plate import thin_plate_spline  # noqa: E402
from yama.terrain.interpolate.triangulation import triangulated  # noqa: E402
from yama.terrain.median import median_around, square  # noqa: E402
from yama.terrain.operations.calculate import calculated  # noqa: E402
from yama.terrain.relief.contrast import contrast_of  # noqa: E402
from yama.terrain.relief.slope import hillshade_of, slope_of  # noqa: E402
from yama.terrain.surface import ArraySurface, StoredSurface, Surface, read_block, store, walk  # noqa: E402
from yama.terrain.warming import warm  # noqa: E402

CORES = 2


@dataclass
class Row:
    """One measured line: seconds of ours and of the peer (medians), their ratio, the goal, and what was checked."""

    work: str
    peer: str
    ours: str
    theirs: str
    ratio: str
    goal: str
    held: bool
    equal: str = ""


def seconds(work: Callable[[], object]) -> float:
    """Wall time of one call."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def paired(ours: Callable[[], object], theirs: Callable[[], object], runs: int) -> tuple[float, float, float]:
    """Median seconds of each, and the median of theirs / ours over runs made in turn."""
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(runs)]
    mine, peer = (statistics.median(pair[i] for pair in pairs) for i in (0, 1))
    return mine, peer, statistics.median(b / a for a, b in pairs)


def read_on_all_cores(surface: Surface) -> np.ndarray:
    """All cells, computed in blocks on all cores as storing does."""
    result = np.empty((surface.grid.rows, surface.grid.cols), np.float32)

    def keep(window: Window, heights: Any) -> None:
        result[window.row : window.row + window.rows, window.col : window.col + window.cols] = heights

    walk(surface, read_block, keep, workers=CORES)
    return result


def quicker(work: str, peer: str, goal: float, result: tuple[float, float, float], equal: str = "") -> Row:
    """A row whose goal is a factor of speed."""
    mine, theirs, ratio = result
    return Row(
        work,
        peer,
        f"{mine:.3f} s",
        f"{theirs:.3f} s",
        f"{ratio:.1f}x faster",
        f"{goal:g}x faster",
        ratio >= goal,
        equal,
    )


def points(count: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Random points of a smooth surface over 1024 x 1024 cells of 1 m."""
    rng = np.random.default_rng(count)
    x, y = rng.uniform(0, 1024, (2, count))
    return x, y, 80 * np.sin(x / 90) + 60 * np.cos(y / 70) + 0.05 * x


GRID = Grid("EPSG:32741", 0.0, 1024.0, 1.0, 1.0, 1024, 1024)


def delaunay() -> list[Row]:
    """Delaunay of 1 M points."""
    x, y, _ = points(1_000_000)
    both = np.column_stack([x, y])
    count = len(triangulate(x, y).triangles) - len(Delaunay(both).simplices)
    result = paired(lambda: triangulate(x, y), lambda: Delaunay(both), 3)
    return [
        quicker("Delaunay of 1 M points", "scipy.spatial.Delaunay", 10, result, f"triangles differ by {abs(count)}")
    ]


def tin() -> list[Row]:
    """Linear interpolation on a triangulation."""
    x, y, z = points(200_000)
    both = np.column_stack([x, y])
    cx, cy = np.meshgrid(*GRID.centres(GRID.whole))
    mesh, theirs = triangulate(x, y), Delaunay(both)
    ours = read_on_all_cores(triangulated(x, y, z, GRID, triangulation=mesh))
    error = np.nanmax(np.abs(ours - LinearNDInterpolator(theirs, z)(cx, cy))) / np.ptp(z)
    whole = paired(
        lambda: read_on_all_cores(triangulated(x, y, z, GRID)), lambda: LinearNDInterpolator(both, z)(cx, cy), 3
    )
    given = paired(
        lambda: read_on_all_cores(triangulated(x, y, z, GRID, triangulation=mesh)),
        lambda: LinearNDInterpolator(theirs, z)(cx, cy),
        3,
    )
    against = paired(
        lambda: read_on_all_cores(triangulated(x, y, z, GRID, triangulation=mesh)),
        lambda: LinearNDInterpolator(both, z)(cx, cy),
        3,
    )
    name, equal = "scipy LinearNDInterpolator", f"within {error:.0e} of the height range"
    return [
        quicker("TIN to grid, 200 k points, 1024², triangulation included", name, 12, whole, equal),
        quicker(
            "TIN to grid, 200 k points, 1024², triangulation given to ours", f"{name}, whole run", 60, against, equal
        ),
        quicker("TIN to grid, 200 k points, 1024², triangulation given to both", name, 1, given, equal),
    ]


def idw() -> list[Row]:
    """Inverse distance from the 12 nearest."""
    x, y, z = points(500_000)
    both = np.column_stack([x, y])
    centres = np.column_stack([axis.ravel() for axis in np.meshgrid(*GRID.centres(GRID.whole))])

    def theirs() -> np.ndarray:
        distance, found = cKDTree(both).query(centres, 12, workers=CORES)
        weights = 1 / np.maximum(distance, 1e-12) ** 2
        return np.asarray((weights * z[found]).sum(1) / weights.sum(1)).reshape(1024, 1024)

    def ours() -> np.ndarray:
        return read_on_all_cores(inverse_distance(x, y, z, GRID, neighbours=12))

    error = np.abs(ours() - theirs()).max() / np.ptp(z)
    equal = f"within {error:.0e} of the height range"
    return [
        quicker(
            "IDW k = 12, 500 k points, 1024²",
            "scipy cKDTree query (workers=2) + weights",
            5,
            paired(ours, theirs, 3),
            equal,
        )
    ]


def isolines() -> list[Row]:
    """Contours of 4096² at 40 heights, against contourpy on the whole array."""
    import contourpy
    from scipy import ndimage

    from yama.terrain.relief.contours import Levels, contours

    rng = np.random.default_rng(5)
    side = 4096
    heights = sum(
        (200.0 / count) * ndimage.zoom(rng.standard_normal((count + 3, count + 3)), side / (count + 3), order=3)[:side, :side]
        for count in (4, 16, 64, 256, 1024)
    ).astype(np.float32)  # fmt: skip
    grid = Grid("EPSG:32741", 400_000.0, 5_500_000.0, 2.0, 2.0, side, side)
    interval = float(np.ptp(heights)) / 40
    numbers = range(int(np.floor(heights.min() / interval)) + 1, int(np.floor(heights.max() / interval)) + 1)
    counts = []

    def mine() -> None:
        counts.append(contours(ArraySurface(heights, grid), Levels(interval)).x.size)

    def theirs() -> None:
        drawn = contourpy.contour_generator(z=heights)
        counts.append(sum(len(line) for number in numbers for line in drawn.lines(number * interval)))

    mine()
    result = paired(mine, theirs, 3)
    equal = f"vertices differ by {abs(counts[-1] - counts[-2])} of {counts[-1]}"
    return [quicker("contours of 4096² at 40 heights, in blocks", "contourpy on the whole array", 2, result, equal)]


def relief() -> list[Row]:
    """Slope and hillshade of 8192 x 8192 cells against copying them."""
    from concurrent.futures import ThreadPoolExecutor

    heights = np.random.default_rng(1).normal(0, 5, (8192, 8192)).astype(np.float32)
    grid = Grid("EPSG:32741", 448_000, 5_446_192, 1, 1, 8192, 8192)
    target = np.empty_like(heights)

    def half(first: int) -> None:
        part = heights[first : first + 4098]
        slope_of(part, grid)
        hillshade_of(part, grid)

    def ours() -> None:
        with ThreadPoolExecutor(CORES) as pool:
            list(pool.map(half, (0, 4094)))

    ours()
    mine, copy, ratio = paired(ours, lambda: np.copyto(target, heights), 7)
    times = 1 / ratio
    return [Row("slope + hillshade, 8192²", "numpy copy of the array", f"{mine:.3f} s", f"{copy:.3f} s",
                f"{times:.1f}x the copy", "within 5x", times <= 5)]  # fmt: skip


def contrast() -> list[Row]:
    """Local contrast of 2048 x 2048 cells with holes over 30 cells, against Gaussian filters of heights, squares and
    weights."""
    from concurrent.futures import ThreadPoolExecutor

    from scipy.ndimage import gaussian_filter

    halo, side = 30, 2048
    heights = np.random.default_rng(1).normal(300, 5, (side + 2 * halo, side + 2 * halo)).astype(np.float32)
    heights[np.random.default_rng(2).random(heights.shape) < 0.05] = np.nan
    grid = Grid("EPSG:32741", 448_000, 5_440_000, 1, 1, side + 2 * halo, side + 2 * halo)
    made: dict[str, np.ndarray] = {}

    def ours() -> None:
        def part(first: int) -> np.ndarray:
            return contrast_of(heights[first : first + side // CORES + 2 * halo], grid, halo, 30.0, "deviation")

        with ThreadPoolExecutor(CORES) as pool:
            made["ours"] = np.vstack(list(pool.map(part, range(0, side, side // CORES))))

    def theirs() -> None:
        filled = ~np.isnan(heights)
        known = np.where(filled, heights, 0).astype(np.float64)
        with ThreadPoolExecutor(CORES) as pool:
            weights, sums, squares = pool.map(
                lambda one: gaussian_filter(one, 15.0, radius=30, mode="constant"), (filled * 1.0, known, known**2)
            )
        with np.errstate(divide="ignore", invalid="ignore"):
            mean = sums / weights
            found = (known - mean) / np.sqrt(squares / weights - mean**2)
        made["theirs"] = np.where(filled, found, np.nan)[halo:-halo, halo:-halo]

    ours()
    result = paired(ours, theirs, 5)
    apart = float(np.nanmax(np.abs(made["ours"] - made["theirs"])))
    return [quicker("local contrast in standard deviations, 2048², 30 cells around", "scipy gaussian_filter thrice", 1, result,
                    f"within {apart:.0e} of a deviation")]  # fmt: skip


def _store_difference() -> None:
    """In a process of its own: store the live difference of two surfaces of 20 000 x 20 000 cells."""
    with tempfile.TemporaryDirectory(dir=ROOT / "var") as folder:
        paths = [Path(folder) / f"{i}.tif" for i in range(2)]
        script = (
            "import sys,numpy as np; sys.path.insert(0,sys.argv[1])\n"
            "from yama.terrain.surface import *; from yama.terrain.grid import Grid\n"
            "g=Grid('EPSG:32741',0,40000,2,2,20000,20000); i=int(sys.argv[3])\n"
            "def f(p):\n"
            "    x,y=p.centres(p.whole); return (300+80*np.sin(x/900+i)[None,:]*np.cos(y/700)[:,None]).astype(np.float32)\n"
            "store(EvaluatedSurface(g,f),sys.argv[2])\n"
        )
        for i, path in enumerate(paths):
            subprocess.run([sys.executable, "-c", script, str(ROOT), str(path), str(i)], check=True)
        first, second = (StoredSurface(path) for path in paths)
        started = time.perf_counter()
        store(difference(first, second), Path(folder) / "out.tif", workers=CORES)
        peak = gather.peak_memory() / 1e3
        print(f"{time.perf_counter() - started:.1f} {peak:.3f}")


def memory() -> list[Row]:
    """Peak memory of storing a live difference of two 20 000 x 20 000 surfaces."""
    (ROOT / "var").mkdir(exist_ok=True)
    done = subprocess.run(
        [sys.executable, __file__, "--store-difference"], capture_output=True, text=True, check=True
    ).stdout.split()
    took, peak = float(done[0]), float(done[1])
    return [Row("store a live difference of two 20 000²", "none", f"{took:.0f} s", "", f"{peak:.2f} GB at most",
                "under 1.5 GB", peak < 1.5)]  # fmt: skip


def natural() -> list[Row]:
    """Natural neighbours beside our own triangulation; both triangulate."""
    x, y, z = points(200_000)
    mine, base, ratio = paired(
        lambda: read_on_all_cores(natural_neighbour(x, y, z, GRID)),
        lambda: read_on_all_cores(triangulated(x, y, z, GRID)), 5,
    )  # fmt: skip
    return [Row("natural neighbour, 200 k points, 1024²", "own TIN to grid", f"{mine:.3f} s", f"{base:.3f} s",
                f"{1 / ratio:.1f}x as long", "within 8x", 1 / ratio <= 8)]  # fmt: skip


def _gridded(held: Cloud, grid: Grid, rule: Rule) -> np.ndarray:
    return GriddedCloud([held], grid, rule).read_all()


def cloud() -> list[Row]:
    """Gridding 10 M lidar points beside decoding them."""
    rows = []
    with tempfile.TemporaryDirectory(prefix="yama-bench-") as folder:
        path = Path(folder) / "cloud.laz"
        gather.big_cloud(path)
        held = las.read(path)
        box = held.bounds
        grid = Grid.covering(held.crs, box, 2.0)

        def decode() -> None:
            for chunk in las.chunks(path):
                np.asarray(chunk.x), np.asarray(chunk.y), np.asarray(chunk.z)

        goals: dict[Rule, float] = {"lowest": 1.15, "mean": 1.15, "median": 1.4}
        for rule, goal in goals.items():
            mine, base, ratio = paired(partial(_gridded, held, grid, rule), decode, 7)
            rows.append(
                Row(f"10 M lidar points to {rule} cells of 2 m", "laspy + lazrs, decoding them", f"{mine:.2f} s",
                    f"{base:.2f} s", f"{1 / ratio:.2f}x the decoding", f"within {goal:g}x", 1 / ratio <= goal)
            )  # fmt: skip
    return rows


def tiles() -> list[Row]:
    """Fifty lidar tiles to one ground surface: how much memory that takes."""
    with tempfile.TemporaryDirectory(dir=ROOT / "var", prefix="bench-") as folder:
        gather.many_tiles(Path(folder))
        took, peak, count = gather.grid_tiles(Path(folder))
    return [Row(f"{count / 1e6:.0f} M lidar points in 50 tiles to a ground surface of 1 m, stored", "none", f"{took:.0f} s", "",
                f"{peak:.2f} GB at most", "under 2 GB", peak < 2)]  # fmt: skip


def contours() -> list[Row]:
    """The contour spline, alone: nobody else's does the same."""
    took = build.contour_spline()
    return [Row("contour spline of 2048², spots, streams, lake and coast with it", "none", f"{took:.1f} s", "", "", "under 20 s",
                took < 20)]  # fmt: skip


def kriging() -> list[Row]:
    """Kriging beside inverse distance with as many neighbours."""
    x, y, z = points(5_000)
    model = fit(empirical(x, y, z), "spherical")
    mine, base, ratio = paired(
        lambda: read_on_all_cores(kriged(x, y, z, GRID, model, 32)),
        lambda: read_on_all_cores(inverse_distance(x, y, z, GRID, 32)), 3,
    )  # fmt: skip
    return [Row("kriging, 5 000 points, 32 neighbours, 1024²", "own IDW with as many", f"{mine:.2f} s", f"{base:.2f} s",
                f"{1 / ratio:.1f}x as long", "within 25x", 1 / ratio <= 25)]  # fmt: skip


def thin_plate() -> list[Row]:
    """The thin-plate spline through all points at once, solved and evaluated."""
    x, y, z = points(2_000)
    x, y, grid = x / 2, y / 2, Grid("EPSG:32741", 0, 512, 1, 1, 512, 512)
    cx, cy = (axis.ravel() for axis in np.meshgrid(*grid.centres(grid.whole)))
    made: dict[str, np.ndarray] = {}

    def ours() -> None:
        made["ours"] = thin_plate_spline(x, y, z, grid).read_all()

    def theirs() -> None:
        spline = RBFInterpolator(np.column_stack([x, y]), z, kernel="thin_plate_spline")
        made["theirs"] = spline(np.column_stack([cx, cy])).reshape(512, 512)

    mine, base, ratio = paired(ours, theirs, 3)
    apart = float(np.abs(made["ours"] - made["theirs"]).max() / np.ptp(z))
    return [Row("thin-plate spline, 2 000 points, 512²", "scipy RBFInterpolator", f"{mine:.2f} s", f"{base:.2f} s",
                f"{ratio:.1f}x faster", "3x faster", ratio >= 3, f"within {apart:.0e} of the height range")]  # fmt: skip


def median() -> list[Row]:
    """The median of everything within 15 cells, by an expression."""
    cells = ndimage.gaussian_filter(np.random.default_rng(1).normal(100, 20, (1024, 1024)), 3).astype(np.float32)
    metres = 15 * min(GRID.metres_per_cell())
    surface = calculated(parse(f"median_around(a, {metres:.9f})", ["a"]), {"a": ArraySurface(cells, GRID)}, GRID)
    i, j = np.mgrid[-15:16, -15:16]
    mine, base, ratio = paired(
        lambda: read_on_all_cores(surface), lambda: ndimage.median_filter(cells, footprint=i * i + j * j <= 225), 3
    )  # fmt: skip
    inner = (slice(15, -15), slice(15, -15))
    apart = float(
        np.abs(surface.read_all()[inner] - ndimage.median_filter(cells, footprint=i * i + j * j <= 225)[inner]).max()
    )
    rows = [Row("median of the 709 cells within 15, 1024²", "scipy median_filter", f"{mine:.2f} s", f"{base:.2f} s",
                f"{ratio:.1f}x faster", "20x faster", ratio >= 20, f"differ by {apart:g}")]  # fmt: skip
    exact, found = cells.astype(np.float64), np.empty(cells.shape)
    theirs: list[Any] = []
    mine, base, ratio = paired(
        lambda: median_around(exact, square(37), found, cores()),
        lambda: theirs.append(ndimage.median_filter(exact, 75)),
        1,
    )
    apart = float(np.abs(found - theirs[-1])[37:-37, 37:-37].max())
    rows.append(Row("median of 75 x 75 cells, 1024²", "scipy median_filter", f"{mine:.2f} s", f"{base:.1f} s",
                    f"{ratio:.0f}x faster", "20x faster", ratio >= 20, f"differ by {apart:g}"))  # fmt: skip
    return rows


def mending() -> list[Row]:
    """Suspects, a changed patch, both images through the lens, and repairs of the demo's pair against the truth."""
    took, count = mend.found()
    after, alike = mend.changed()
    lens, repaired, untouched = mend.repairs()
    rows = [
        Row("suspects of 4096² cells", "none", f"{took:.1f} s", "", f"{count} found", "under 6 s", took < 6),
        Row("twelve tiles of 20 000² after one of 200 patches has changed", "none", f"{1000 * after:.0f} ms", "",
            f"unchanged {1000 * alike:.0f} ms", "under 300 ms", after < 0.3),
        Row("both orthoimages of 1024² through a mended surface", "none", f"{lens:.2f} s", "", "", "under 0.5 s", lens < 0.5),
    ]  # fmt: skip
    for name, before, now in repaired:
        fallen = 1 - now / before
        rows.append(Row(f"{name}: RMSE against the truth", "before", f"{now:.2f} m", f"{before:.2f} m",
                        f"falls by {100 * fallen:.0f} %", "by 40 %", fallen >= 0.4))  # fmt: skip
    filled, error, unlevel = mend.lake()
    rows.append(Row("Lantern Water levelled at its rim: RMSE against the truth", "empty before", f"{error:.2f} m", "none",
                    f"{100 * filled:.0f} % filled, level within {unlevel:g} m", "filled, level", filled == 1 and not unlevel))  # fmt: skip
    rows.append(
        Row("cells outside of these patches", "before", "", "", "equal" if untouched else "changed", "equal", untouched)
    )
    return rows


def judging() -> list[Row]:
    """Made shifts, intervals of error figures, scorecards, worst places and the best of several."""
    judge.shifted()  # once to compile
    told = judge.shifted()
    took, off, up = (max(one[i] for one in told) for i in range(3))
    sure = judge.sure()
    read, cards, worst = judge.judged_together()
    best, five = judge.fused()
    once, holes, figures, flooded, dragged = judge.looked_at()
    return [
        Row("shift, offset and tilt between two surfaces of 4096²", "none", f"{took:.1f} s", "", f"{len(told)} made shifts", "under 3 s", took < 3),
        Row("a made shift, against the one found", "the truth", f"{off:.4f} cells off", "", "", "0.02 cells", off <= 0.02),
        Row("its offset, against the one found", "the truth", f"{up:.4f} of the noise off", "", "", "0.02", up <= 0.02),
        Row("intervals of the figures of ten surfaces at 10 000 checkpoints", "none", f"{sure:.2f} s", "", "999 draws", "under 2 s", sure < 2),
        Row("ten surfaces of 4096² read at 10 000 checkpoints, once", "none", f"{read:.1f} s", "", "", "none", True),
        Row("their scorecard with four splits, from what is kept", "none", f"{cards:.1f} s", "", f"{cards / 4:.1f} s a split", "under 2 s", cards < 2),
        Row("worst places of two surfaces of 4096²", "none", f"{worst:.2f} s", "", "", "under 3 s", worst < 3),
        Row("holes within a polygon over 4096² cells", "reading them", f"{holes:.2f} s", f"{once:.2f} s", f"{holes / once:.1f}x its time", "4x", holes < 4 * once),
        Row("figures and variogram of the difference of two surfaces of 4096²", "reading both", f"{figures:.1f} s", f"{2 * once:.2f} s", f"{figures / once / 2:.1f}x its time", "none", True),
        Row("a lake's basin flooded at every level", "none", f"{flooded:.2f} s", "", "0.8 million cells", "under 1 s", flooded < 1),
        Row("its area, volume and shore at one level", "none", f"{1000 * dragged:.0f} ms", "", "", "under 200 ms", dragged < 0.2),
        Row("best of five surfaces of 4096², stored", "reading them", f"{best:.1f} s", f"{five:.1f} s", f"{best / five:.1f}x its time", "6x", best < 6 * five),
    ]  # fmt: skip


def draining() -> list[Row]:
    """Hollows, what drains where, streams and catchments on 4096² cells."""
    told = drain.measured()
    ours = told.ours
    faster, breach, copies = told.reconstruction / ours.fill, ours.lesser / ours.fill, ours.accumulated / told.copied
    return [
        Row(
            "hollows of 4096² found and filled",
            "scikit-image's reconstruction",
            f"{ours.fill:.2f} s",
            f"{told.reconstruction:.1f} s",
            f"{faster:.0f}x faster",
            "15x faster",
            faster >= 15,
            "equal" if told.alike else "not equal",
        ),
        Row(
            "the same filled or breached, whichever changes less",
            "filling",
            f"{ours.lesser:.2f} s",
            f"{ours.fill:.2f} s",
            f"{breach:.1f}x its time",
            "4x",
            breach <= 4,
        ),
        Row(
            "how many cells drain through each of 4096²",
            "a copy",
            f"{ours.accumulated:.2f} s",
            f"{1000 * told.copied:.0f} ms",
            f"{copies:.0f}x its time",
            "60x",
            copies <= 60,
        ),
        Row(
            "from heights of 4096² to streams and a catchment",
            "none",
            f"{ours.whole:.1f} s",
            "",
            "",
            "under 8 s",
            ours.whole < 8,
        ),
        Row(
            "streams from another threshold on, with their lines",
            "none",
            f"{1000 * ours.dragged:.0f} ms",
            "",
            "",
            "under 100 ms",
            ours.dragged < 0.1,
        ),
        Row(
            "the largest catchment at a press",
            "none",
            f"{1000 * ours.pressed:.0f} ms",
            "",
            "",
            "under 300 ms",
            ours.pressed < 0.3,
        ),
    ]


_WIDE = 40_000
_SPREAD = 12_288


def _drain_in_blocks() -> None:
    """In a process of its own: water over so many cells a side that they are not held at once."""
    tempfile.tempdir = str(ROOT / "var")
    share, took = drain.in_blocks(_WIDE)
    peak = gather.peak_memory() / 1e3
    print(share, took, peak, *drain.on_workers(_SPREAD))


def blocks() -> list[Row]:
    """Hollows filled and counts of what drains where, over a raster that is larger than memory."""
    (ROOT / "var").mkdir(exist_ok=True)
    done = subprocess.run(
        [sys.executable, __file__, "--drain-in-blocks"], capture_output=True, text=True, check=True
    ).stdout.split()
    share, took, peak, one, two = (float(each) for each in done)
    return [
        Row(
            f"hollows of {_WIDE:_}² filled and what drains where, in blocks".replace("_", " "),
            "4096² at once, cell by cell",
            f"{took / 60:.1f} min",
            "",
            f"{share:.1f}x its time, {peak:.1f} GB at most",
            "2x, 3 GB",
            share <= 2 and peak < 3,
        ),
        Row(
            f"the same of {_SPREAD:_}² on two workers of a scheduler".replace("_", " "),
            "one worker",
            f"{two:.0f} s",
            f"{one:.0f} s",
            f"{one / two:.2f}x faster",
            "1.6x faster",
            one / two >= 1.6,
        ),
    ]


def server() -> list[Row]:
    """Tiles and previews asked for over HTTP from a server of its own, with the demo."""
    import json

    from yama.launch import Instance, prepare

    with tempfile.TemporaryDirectory(prefix="yama-bench-") as folder:
        instance = Instance(prepare(Path(folder), 0))
        try:
            address = instance.start()
            link = http.client.HTTPConnection("127.0.0.1", instance.place.port)

            def ask(method: str, path: str, body: object = None, cookies: str = "") -> tuple[float, bytes, list[str]]:
                headers = {"Cookie": cookies, "Content-Type": "application/json"}
                if "csrftoken=" in cookies:
                    headers["X-CSRFToken"] = cookies.split("csrftoken=")[1].split(";")[0]
                started = time.perf_counter()
                link.request(method, path, json.dumps(body) if body else None, headers)
                answer = link.getresponse()
                data = answer.read()
                return time.perf_counter() - started, data, answer.headers.get_all("Set-Cookie") or []

            _, _, given = ask("GET", "/enter/" + address.rsplit("/", 1)[1])
            cookies = "; ".join(line.split(";")[0] for line in given)
            _, _, given = ask("GET", "/", cookies=cookies)
            cookies = "; ".join([cookies, *(line.split(";")[0] for line in given)])
            held = json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])
            survey = next(one for one in held if one["name"].startswith("Survey"))
            body: dict[str, Any] = {
                "operation": "interpolate_points",
                "params": {"reach_limit": 60},
                "inputs": {"points": survey["id"]},
            }
            previews = []
            for reach in range(60, 80):
                body["params"]["reach_limit"] = reach
                previews.append(ask("POST", "/api/projects/1/previews", body, cookies)[0])
            ask("POST", "/api/projects/1/runs", {**body, "name": "TIN"}, cookies)
            while True:
                held = json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])
                if held[0]["name"] == "TIN":
                    break
                time.sleep(0.3)
            # a plain copy as an uploaded file: a stored surface without a recipe is never served from the cache
            _, data, _ = ask("GET", f"/api/projects/1/holdings/{held[0]['id']}/geotiff", cookies=cookies)
            link.request("POST", "/api/projects/1/uploads?name=copy.tif", data,
                         {"Cookie": cookies, "X-CSRFToken": cookies.split("csrftoken=")[1].split(";")[0]})  # fmt: skip
            link.getresponse().read()
            while held[0]["name"] != "copy":
                time.sleep(0.3)
                held = json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])
            key = held[0]["key"]
            places = [(0, c, r) for c in range(8, 13) for r in range(5, 15)] + [
                (1, c, r) for c in range(4, 7) for r in range(3, 8)
            ]
            tiles = []
            for _ in range(3):
                for level, col, row in places:
                    took, data, _ = ask("GET", f"/api/projects/1/tiles/{key}/{level}/{col}/{row}", cookies=cookies)
                    if data:
                        tiles.append(took)

            def keep_live(operation: str, params: dict[str, Any], inputs: dict[str, Any], name: str) -> int:
                body = {"operation": operation, "params": params, "inputs": inputs, "name": name, "live": True}
                ask("POST", "/api/projects/1/runs", body, cookies)
                while True:
                    found = json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])[0]
                    if found["name"] == name:
                        return int(found["id"])
                    time.sleep(0.3)

            beacon = next(one["id"] for one in held if one["name"].startswith("Beacon"))
            joined = keep_live("mosaic", {}, {"surfaces": [held[0]["id"], beacon]}, "joined")
            filled = keep_live(
                "fill_voids",
                {"method": "plate", "across": 60, "across_in": "m"},
                {"surface": joined},
                "joined and filled",
            )
            keep_live("change_heights", {"offset": 1.5}, {"surface": filled}, "lifted")
            chain = json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])[0]["key"]
            chained = []  # each asked for once: none is in the cache
            for level, col, row in places:
                took, data, _ = ask("GET", f"/api/projects/1/tiles/{chain}/{level}/{col}/{row}", cookies=cookies)
                if data:
                    chained.append(took)
            grid = json.loads(ask("GET", "/api/projects/1", cookies=cookies)[1])["frame"]["grid"]
            west, north, cell = grid["west"], grid["north"], grid["cell_width"]
            corners = [(0.1, 0.1), (0.9, 0.55), (0.15, 0.9)]  # about 20 km, a sample every 2 m
            line = [(west + x * grid["cols"] * cell, north - y * grid["rows"] * cell) for x, y in corners]
            by_name = {
                one["name"]: one["key"]
                for one in json.loads(ask("GET", "/api/projects/1/holdings", cookies=cookies)[1])
            }
            four = [
                key,
                by_name["TIN"],
                next(k for name, k in by_name.items() if name.startswith("Beacon")),
                by_name["lifted"],
            ]
            profiles = []
            for move in range(12):
                moved = [(x + 3 * move, y) for x, y in line]
                took, data, _ = ask("POST", "/api/projects/1/profiles", {"keys": four, "line": moved}, cookies)
                profiles.append(took)
            samples = len(json.loads(data)["distance"])
            figures = [
                ask("POST", "/api/projects/1/heights", {"a": four[0], "b": four[2], "levels": [100 + n, 200]}, cookies)[
                    0
                ]
                for n in range(10)
            ]
            many = _previews_of_many(instance.place.port, cookies)
        finally:
            instance.stop()
    course, told = statistics.median(profiles) * 1e3, statistics.median(figures) * 1e3
    deep = statistics.median(chained) * 1e3
    tile, preview = statistics.median(tiles) * 1e3, statistics.median(previews) * 1e3
    return [
        Row("tile of a stored surface, in the server", "none", f"{tile:.1f} ms", "", f"median of {len(tiles)}", "15 ms", tile <= 15),
        Row("tile of a live chain of three, in the server, at first sight", "none", f"{deep:.0f} ms", "", f"median of {len(chained)}",
            "60 ms", deep <= 60),
        Row(f"profile of {samples} samples over four surfaces, one of them a chain, in the server", "none", f"{course:.0f} ms", "",
            f"median of {len(profiles)}", "150 ms", course <= 150),
        Row("heights of two surfaces and their difference over the frame, a million cells each", "none", f"{told:.0f} ms", "",
            f"median of {len(figures)}", "under 500 ms", told <= 500),
        Row("preview of the demo's 4 800 points after a change", "none", f"{preview:.0f} ms", "",
            f"median of {len(previews)}", "under 1 s", preview < 1000),
        *(Row(f"preview of 100 000 points by {method.replace('_', ' ')}, all its {_VIEW_TILES} tiles in view", "none",
              f"{statistics.median(times):.2f} s", "", f"median of {len(times)}", "under 1 s", statistics.median(times) < 1)
          for method, times in many.items()),
    ]  # fmt: skip


_VIEW_TILES = 12


def _previews_of_many(port: int, cookies: str) -> dict[str, list[float]]:
    """Seconds from a changed setting to the last tile of a view of 812 x 560 pixels on 100 000 points over the demo's
    frame, by method. Six connections at a time ask for tiles, as a browser does."""
    import json
    from concurrent.futures import ThreadPoolExecutor

    token = cookies.split("csrftoken=")[1].split(";")[0]

    def ask(method: str, path: str, body: bytes | None = None) -> bytes:
        link = http.client.HTTPConnection("127.0.0.1", port)
        link.request(method, path, body, {"Cookie": cookies, "X-CSRFToken": token})
        found = link.getresponse().read()
        link.close()
        return found

    frame = json.loads(ask("GET", "/api/projects/1"))["frame"]["grid"]
    rng = np.random.default_rng(1)
    wide, high = frame["cols"] * frame["cell_width"], frame["rows"] * frame["cell_height"]
    x, y = rng.uniform(0, wide, 100_000), rng.uniform(0, high, 100_000)
    z = 200 + 80 * np.sin(x / 900) + 60 * np.cos(y / 700) + 10 * np.sin(x / 123) * np.cos(y / 119)
    rows = (f"{frame['west'] + a:.2f},{frame['north'] - b:.2f},{c:.3f}" for a, b, c in zip(x, y, z, strict=True))
    ask("POST", "/api/projects/1/uploads?name=many.csv", ("x,y,z\n" + "\n".join(rows)).encode())
    points = None
    while points is None:
        time.sleep(0.3)
        held = json.loads(ask("GET", "/api/projects/1/holdings"))
        points = next((one["id"] for one in held if one["name"] == "many"), None)

    changes = {"spline": ("tension", (1.5, 2.5, 3.0, 3.5, 4.0)), "kriging": ("kriging_neighbours", (16, 24, 28, 32, 40)),
               "natural_neighbour": ("reach_limit", (80, 90, 100, 110, 120)),
               "inverse_distance": ("power", (1.5, 2.5, 3.0, 3.5, 4.0)),
               "triangulation": ("reach_limit", (80, 90, 100, 110, 120))}  # fmt: skip
    found: dict[str, list[float]] = {}
    with ThreadPoolExecutor(6) as pool:
        for method, (name, values) in changes.items():
            found[method] = []
            for value in values:
                body = {
                    "operation": "interpolate_points",
                    "params": {"method": method, name: value},
                    "inputs": {"points": points},
                }
                started = time.perf_counter()
                made = json.loads(ask("POST", "/api/projects/1/previews", json.dumps(body).encode()))
                rough = "?rough=true" if made["rough"] else ""
                paths = [
                    f"/api/projects/1/tiles/{made['key']}/1/{col}/{row}{rough}"
                    for row in range(3, 6)
                    for col in range(3, 7)
                ]
                list(pool.map(lambda path: ask("GET", path), paths))
                found[method].append(time.perf_counter() - started)
    return found


def arrivals() -> list[Row]:
    """Inspecting big files against reading them once."""
    rows = []
    (ROOT / "var").mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory(dir=ROOT / "var") as folder:
        tif, laz, csv = (Path(folder) / name for name in ("big.tif", "big.laz", "big.csv"))
        gather.big_raster(tif)
        gather.big_cloud(laz)
        gather.big_table(csv)
        for path, inspect, peer, work, name in (
            (tif, raster.inspect, gather.read_raster, "inspect a GeoTIFF of 20 000²", "rasterio, reading it once"),
            (laz, las.inspect, gather.decode_cloud, "inspect a LAZ of 10 M points", "laspy + lazrs, decoding it once"),
        ):
            inspect(path)
            mine, theirs, ratio = paired(partial(inspect, path), partial(peer, path), 3)
            rows.append(Row(work, name, f"{mine:.2f} s", f"{theirs:.2f} s", f"{1 / ratio:.2f}x the reading", "within 1.3x",
                            1 / ratio <= 1.3))  # fmt: skip
        peak = gather.peak_of_inspecting(laz)
        rows.append(
            Row("memory of inspecting it", "none", "", "", f"{peak:.0f} MB at most", "under 600 MB", peak < 600)
        )
        delimited.look(csv, frame_crs="EPSG:32741")
        took = seconds(lambda: delimited.look(csv, frame_crs="EPSG:32741"))
        rows.append(
            Row("1 M points of a CSV, inspected and read", "none", f"{took:.2f} s", "", "", "under 3 s", took < 3)
        )
    return rows


def drawn() -> list[Row]:
    """What the desk draws, in Chromium without a GPU."""
    found = gather.drawn_map()
    foot, most = found["footprints"], found["full longest"]
    return [
        Row("search to footprints on screen", "none", f"{foot:.2f} s", "", "", "under 1 s", foot < 1),
        Row("panning 85 000 line vertices and 1 M cloud points, no GPU", "the surface alone",
            f"median {found['full median']:.0f}, longest {most:.0f} ms a frame",
            f"median {found['surface median']:.0f}, longest {found['surface longest']:.0f} ms", "", "under 100 ms", most < 100),
    ]  # fmt: skip


def mosaics() -> list[Row]:
    """Mosaics of tiles of 4096², the cost of a feather, overlaps of 25 tiles, and a long chain of 20 000²."""
    rows = []
    with join.scratch() as place:
        folder = Path(place)
        paths = join.tiles(folder, 2)
        pairs = [(join.alone("ours", folder), join.alone("theirs", folder)) for _ in range(3)]
        mine, peer = (statistics.median(pair[i][0] for pair in pairs) for i in (0, 1))
        ratio = statistics.median(pair[1][0] / pair[0][0] for pair in pairs)
        small, large = (max(pair[i][1] - pair[i][2] for pair in pairs) for i in (0, 1))
        rows.append(
            quicker("store a live mosaic of four 4096²", "rasterio.merge and a write alike", 1.5, (mine, peer, ratio))
        )
        rows.append(Row("its memory, beyond that of the libraries", "the same", f"{small:.0f} MB", f"{large:.0f} MB", f"{small / large:.2f} of it", "a quarter",
                        small <= large / 4))  # fmt: skip
        join.rule_seconds(paths, "feather")
        times = [(join.rule_seconds(paths, "first"), join.rule_seconds(paths, "feather")) for _ in range(7)]
        first, feather = (statistics.median(pair[i] for pair in times) for i in (0, 1))
        factor = statistics.median(b / a for a, b in times)
        rows.append(Row("feather of four 4096²", "own rule first", f"{feather:.2f} s", f"{first:.2f} s", f"{factor:.2f}x as long",
                        "within 2x", factor <= 2))  # fmt: skip
    with join.scratch() as place:
        paths = join.tiles(Path(place), 5)
        join.overlap_seconds(paths)
        found, read = join.overlap_seconds(paths)
        rows.append(Row("overlaps of 25 tiles of 4096²", "own reading of them once", f"{found:.1f} s", f"{read:.1f} s",
                        f"{found / read:.2f}x as long", "within 1.5x", found <= 1.5 * read))  # fmt: skip
    with join.scratch() as place:
        join.tiles(Path(place), 2, 10_300, 590)
        took, peak, _ = join.alone("chain", Path(place))
        rows.append(Row("mosaic of 20 000², fitted aside, masked, stored", "none", f"{took:.0f} s", "", f"{peak / 1e3:.2f} GB at most",
                        "under 1.5 GB", peak < 1500))  # fmt: skip
    return rows


def pairs() -> list[Row]:
    """The demo's image pair."""
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        truth = island()
        pair = stereo.images(Path(folder), truth)
        found, radar = stereo.matchers(pair, truth), stereo.speckled(pair, truth)
    factor = statistics.median(ours / theirs for ours, theirs in zip(found.ours, found.theirs, strict=True))
    ours, theirs = statistics.median(found.ours), statistics.median(found.theirs)
    better = found.wrong[0] < found.wrong[1] and found.filled[0] >= found.filled[1] - 0.01
    shares = [
        f"{100 * wrong:.1f} % of {100 * filled:.0f} %" for wrong, filled in zip(found.wrong, found.filled, strict=True)
    ]
    rows.append(Row("match 1024² x 128 parallaxes of the demo's pair", "OpenCV StereoSGBM, eight paths", f"{ours:.2f} s", f"{theirs:.2f} s",
                    f"{factor:.2f}x as long", "within 2.5x, fewer wrong", factor <= 2.5 and better,
                    f"wrong by over one cell: {shares[0]} filled, {shares[2]} once what is unlike is left out, to {shares[1]}"))  # fmt: skip
    tied, took, peak, spread, rmse, blunders, within, water, looked, filled = stereo.whole_figures()
    rows.append(
        Row("tie points of the demo's pair, 3840 x 2944", "none", f"{tied:.1f} s", "", "", "under 20 s", tied < 20)
    )
    rows.append(Row("the demo's pair to heights of 2 m, tie points and adjustment with it", "none", f"{took:.0f} s", "", f"{peak:.2f} GB at most",
                    "under 240 s, 2.5 GB", took < 240 and peak < 2.5))  # fmt: skip
    rows.append(Row("their error on open ground, in cells of parallax", "the truth", f"NMAD {spread:.2f}", "", f"RMSE {rmse:.2f}, over 3: {100 * blunders:.2f} %",
                    "under 0.5, 0.9, 1 %", spread < 0.5 and rmse < 0.9 and blunders < 0.01,
                    f"{100 * within:.0f} % within the stated error; {100 * water:.1f} % of still water empty"))  # fmt: skip
    rows.append(
        Row(
            "open ground that both images show, filled",
            "the truth",
            f"{100 * filled:.1f} %",
            "",
            "",
            "95 %",
            filled >= 0.95,
        )
    )
    rows.append(
        Row(
            "error with the speckle of four looks, in cells of parallax",
            "the truth",
            f"NMAD {radar:.2f}",
            "",
            "",
            "under 1.2",
            radar < 1.2,
        )
    )
    rows.append(
        Row("orthoimage of 1024² through a surface", "none", f"{looked:.2f} s", "", "", "under 0.3 s", looked < 0.3)
    )
    return rows


BENCHMARKS = {"delaunay": delaunay, "tin": tin, "natural": natural, "kriging": kriging, "thin_plate": thin_plate, "median": median, "contours": contours, "idw": idw, "cloud": cloud, "tiles": tiles, "relief": relief, "contrast": contrast, "isolines": isolines, "memory": memory, "mosaics": mosaics, "server": server,
              "arrivals": arrivals, "drawn": drawn, "pairs": pairs, "mending": mending, "judging": judging,
              "draining": draining, "blocks": blocks}  # fmt: skip


def main() -> int:
    """Run the named benchmarks, or all; exit 1 where a goal was missed."""
    parser = argparse.ArgumentParser()
    parser.add_argument("names", nargs="*", choices=[*BENCHMARKS, []])
    parser.add_argument("--markdown", type=Path, help="write the table there")
    parser.add_argument("--store-difference", action="store_true", help=argparse.SUPPRESS)
    parser.add_argument("--drain-in-blocks", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args()
    keep_freed_memory()  # as the service does
    if options.store_difference:
        _store_difference()
        return 0
    if options.drain_in_blocks:
        _drain_in_blocks()
        return 0
    loaded = seconds(warm)
    rows = [row for name in options.names or BENCHMARKS for row in BENCHMARKS[name]()]
    lines = [
        "| work | against | ours | peer | measured | goal | held | equal to the peer |",
        "|---|---|---|---|---|---|---|---|",
    ]
    lines += [
        f"| {row.work} | {row.peer} | {row.ours} | {row.theirs} | {row.ratio} | {row.goal} | "
        f"{'yes' if row.held else '**no**'} | {row.equal} |"
        for row in rows
    ]
    print("\n".join(lines))
    if options.markdown:
        options.markdown.write_text(
            "# Benchmarks\n\n`.venv/bin/python bench/run.py --markdown docs/benchmarks.md` makes this page. Ours and the peer "
            "run in turn in one process; a ratio is the median of paired runs. The peer gets both cores where it can use "
            "them.\n\n"
            + "\n".join(lines)
            + "\n\n## Against the truth of Sundrel\n\nThe demo's own files on its frame of 2 m, compared with the ground they were "
            "made from. Terraces: cells within 0.25 m of a contour's height, as a multiple of the truth's.\n\n"
            + build.markdown()
            + f"\n\nMeasured on {date.today()}, {platform.machine()}, {CORES} cores, Python "
            f"{platform.python_version()}, NumPy {np.__version__}. Compiling or loading the kernels took {loaded:.1f} s before, "
            "and is kept on disk.\n",
            encoding="utf-8",
        )
    return 0 if all(row.held for row in rows) else 1


if __name__ == "__main__":
    sys.exit(main())
