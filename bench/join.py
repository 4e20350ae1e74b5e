"""Joining surfaces: mosaics stored against a library's, the cost of a feather, overlaps against reading, and a long chain."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import rasterio
import rasterio.merge
import shapely

from yama.terrain.fit.clip import Masked
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import Grid, Window
from yama.terrain.mosaic.mosaic import Mosaic, place
from yama.terrain.mosaic.overlap import overlaps
from yama.terrain.surface import EvaluatedSurface, StoredSurface, read_block, store, walk

ROOT = Path(__file__).resolve().parents[1]
TILE, SHARED = 4096, 512
_WRITTEN = {"compress": "deflate", "predictor": "floating_point", "blocksize": 256, "level": 4, "num_threads": "2",
            "overviews": "ignore_existing", "resampling": "average", "bigtiff": "if_safer"}  # fmt: skip


def tiles(folder: Path, across: int, side: int = TILE, shared: int = SHARED) -> list[Path]:
    """Tiles of rough land in a square of so many, each overlapping the next, in files."""
    step = side - shared
    whole = Grid("EPSG:32741", 400_000.0, 5_500_000.0, 2.0, 2.0, step * across + shared, step * across + shared)
    paths = []
    for i in range(across * across):
        row, col = divmod(i, across)

        def heights(part: Grid, seed: int = i) -> np.ndarray:
            x, y = part.centres(part.whole)
            smooth = 300 + 80 * np.sin(x / 900)[None, :] * np.cos(y / 700)[:, None]
            noise = np.random.default_rng(seed).standard_normal((64, 64))
            return (smooth + noise[np.arange(part.rows)[:, None] % 64, np.arange(part.cols) % 64]).astype(np.float32)

        path = folder / f"{side}_{i}.tif"
        store(EvaluatedSurface(whole.part(Window(row * step, col * step, side, side)), heights), path)
        paths.append(path)
    return paths


def frame_of(paths: list[Path]) -> Grid:
    """The grid that holds all tiles."""
    grids = [StoredSurface(path).grid for path in paths]
    first = grids[0]
    ends = [(first.offset_of(one)[0] + one.rows, first.offset_of(one)[1] + one.cols) for one in grids]
    return first.part(Window(0, 0, max(row for row, _ in ends), max(col for _, col in ends)))


def ours(paths: list[Path], out: Path) -> None:
    """Store the live mosaic of tiles."""
    grid = frame_of(paths)
    store(Mosaic(place([StoredSurface(path) for path in paths], grid), grid, "first"), out)


def theirs(paths: list[Path], out: Path) -> None:
    """The library's merge of the same tiles in memory, and a write in the same format."""
    merged, transform = rasterio.merge.merge([str(path) for path in paths], nodata=np.nan)
    with rasterio.open(
        out, "w", driver="COG", dtype="float32", count=1, width=merged.shape[2], height=merged.shape[1],
        crs="EPSG:32741", transform=transform, nodata=np.nan, **_WRITTEN,
    ) as target:  # fmt: skip
        target.write(merged)


def chain(paths: list[Path], out: Path) -> None:
    """Store a mosaic that is fitted half a cell aside and masked: 20 000 x 20 000 cells."""
    grid = frame_of(paths)
    joined = Mosaic(place([StoredSurface(path) for path in paths], grid), grid, "priority", 40.0)
    aside = Grid(grid.crs, grid.west + 1.0, grid.north - 1.0, 2.0, 2.0, 20_000, 20_000)
    middle = shapely.Point((aside.bounds.west + aside.bounds.east) / 2, (aside.bounds.south + aside.bounds.north) / 2)
    store(Masked(fitted(joined, aside), [middle.buffer(17_000)]), out)


def alone(work: str, folder: Path) -> tuple[float, float, float]:
    """Seconds and peak memory in MB of one of the above in a process of its own, on the tiles in a folder; last, how much of
    that memory was taken before it began, by interpreter and libraries."""
    script = (
        "import sys,time; sys.path[:0] = [sys.argv[1], sys.argv[1] + '/bench']\n"
        "from pathlib import Path; import join; from gather import peak_memory\n"
        "paths = sorted(Path(sys.argv[2]).glob('*_*.tif'), key=lambda one: int(one.stem.split('_')[1]))\n"
        "before = peak_memory(); started = time.perf_counter(); getattr(join, sys.argv[3])(paths, Path(sys.argv[2]) / 'out.tif')\n"
        "print(time.perf_counter() - started, peak_memory(), before)\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, str(ROOT), str(folder), work], capture_output=True, text=True, check=True
    ).stdout.split()
    (folder / "out.tif").unlink()
    return float(done[0]), float(done[1]), float(done[2])


def read_all(path: Path) -> None:
    """Read every cell of a file once, as blocks on all cores."""
    walk(StoredSurface(path), read_block, lambda _window, _heights: None)


def rule_seconds(paths: list[Path], rule: str) -> float:
    """Seconds to compute every cell of a mosaic."""
    grid = frame_of(paths)
    mosaic = Mosaic(place([StoredSurface(path) for path in paths], grid), grid, rule, 40.0)  # type: ignore[arg-type]
    started = time.perf_counter()
    walk(mosaic, read_block, lambda _window, _heights: None)
    return time.perf_counter() - started


def overlap_seconds(paths: list[Path]) -> tuple[float, float]:
    """Seconds to measure all overlaps of tiles on their own cells, and to read the tiles once."""
    grid = frame_of(paths)
    placed = place([StoredSurface(path) for path in paths], grid)
    started = time.perf_counter()
    overlaps(placed, grid)
    middle = time.perf_counter()
    for path in paths:
        read_all(path)
    return middle - started, time.perf_counter() - middle


def scratch() -> tempfile.TemporaryDirectory[str]:
    """A folder for large files."""
    (ROOT / "var").mkdir(exist_ok=True)
    return tempfile.TemporaryDirectory(dir=ROOT / "var", prefix="bench-")
