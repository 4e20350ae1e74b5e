"""Judging: shifts between two surfaces, how sure error figures are, scorecards, worst places, the best of several."""

from __future__ import annotations

import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import shapely
from scipy import ndimage

from yama.terrain.features import Features
from yama.terrain.grid import Grid, Window
from yama.terrain.judge.brief import Subject as Subject_
from yama.terrain.judge.brief import answer
from yama.terrain.judge.coregistration import coregistration
from yama.terrain.judge.demands import NoHole
from yama.terrain.judge.intervals import sureness
from yama.terrain.judge.likeness import statistics
from yama.terrain.judge.places import Places, judged_at
from yama.terrain.judge.scorecard import Subject, scorecard
from yama.terrain.judge.splits import by_aspect, by_cover, by_height, by_slope
from yama.terrain.judge.water import basin
from yama.terrain.judge.worst import worst_places
from yama.terrain.mosaic.fusion import Fused
from yama.terrain.surface import ArraySurface, StoredSurface, store

SIDE = 4096
_ROOM = 100  # cells around, so that what is moved in is ground too


def _seen(ground: np.ndarray, east: float, north: float, up: float, seed: int) -> ArraySurface:  # type: ignore[type-arg]
    """The ground moved by so many cells and metres, with noise of 0.3 m."""
    moved = ndimage.shift(ground, (-north, east), order=3)[_ROOM:-_ROOM, _ROOM:-_ROOM] + up
    cells = moved + np.random.default_rng(seed).normal(0, 0.3, moved.shape)
    return ArraySurface(cells.astype(np.float32), Grid("EPSG:32741", 440_000.0, 5_450_000.0, 2.0, 2.0, SIDE, SIDE))


def shifted() -> list[tuple[float, float, float]]:
    """For made shifts of 4096² cells: seconds, by how many cells the one that is found is off, and by how much of the
    noise its offset is."""
    rng = np.random.default_rng(1)
    side = SIDE + 2 * _ROOM
    ground = ndimage.zoom(rng.normal(0, 60, (67, 67)), side / 67 + 0.01, order=3)[:side, :side]
    reference = _seen(ground, 0, 0, 0, 2)
    told = []
    for east, north, up in ((0.35, -0.2, 1.7), (20.5, -2.15, 0.5), (-3.3, 7.8, -2.0)):
        judged = _seen(ground, east, north, up, 3)
        began = time.perf_counter()
        found = coregistration(judged, reference, tilted=True)
        took = time.perf_counter() - began
        told.append((took, float(np.hypot(found.east / 2 - east, found.north / 2 - north)), abs(found.up - up) / 0.3))
    return told


def sure() -> float:
    """Seconds for the intervals of the figures of ten surfaces at 10 000 checkpoints."""
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 8000, (2, 10_000))
    errors = rng.normal(0, 1, (10, 10_000))
    sureness(errors[0], x, y)
    began = time.perf_counter()
    for one in errors:
        sureness(one, x, y)
    return time.perf_counter() - began


def _stored(count: int, folder: Path) -> list[StoredSurface]:
    """Surfaces of one ground as files, each with noise and an offset of its own."""
    rng = np.random.default_rng(5)
    ground = ndimage.zoom(rng.normal(0, 60, (66, 66)), SIDE / 66 + 0.01, order=3)[:SIDE, :SIDE]
    grid = Grid("EPSG:32741", 440_000.0, 5_450_000.0, 2.0, 2.0, SIDE, SIDE)
    made = []
    for number in range(count):
        cells = ground + rng.normal(0, 0.2 + 0.1 * number, ground.shape) + 0.1 * number
        cells[number * 200 : number * 200 + 60, 1000:1300] = np.nan
        path = folder / f"{number}.tif"
        store(ArraySurface(cells.astype(np.float32), grid), path)
        made.append(StoredSurface(path))
    return made


def judged_together() -> tuple[float, float, float]:
    """Seconds for ten surfaces of 4096² at 10 000 checkpoints: read there, a scorecard with every split of it; and for
    the worst places of two of them."""
    with tempfile.TemporaryDirectory() as folder:
        surfaces = _stored(10, Path(folder))
        rng = np.random.default_rng(6)
        x, y = rng.uniform(20, 2 * SIDE - 20, (2, 10_000))
        covers = rng.choice(["grass", "wood", "rock", "town"], 10_000)
        at = Places("EPSG:32741", 440_000 + x, 5_450_000 - y, rng.normal(0, 60, 10_000), covers)
        judged_at(surfaces[0], at)
        began = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            found = list(pool.map(lambda one: judged_at(one, at), surfaces))
        read = time.perf_counter() - began
        subjects = [Subject(str(number), one) for number, one in enumerate(found)]
        scorecard(subjects[:1], at, by_cover(covers))
        began = time.perf_counter()
        for split in (by_cover(covers), by_slope(found[0].slopes), by_aspect(found[0].aspects), by_height(at.heights)):
            scorecard(subjects, at, split)
        cards = time.perf_counter() - began
        worst_places(surfaces[0], surfaces[1], surfaces[0].grid)
        began = time.perf_counter()
        worst_places(surfaces[2], surfaces[3], surfaces[0].grid)
        return read, cards, time.perf_counter() - began


def looked_at() -> tuple[float, float, float, float, float]:
    """Seconds to read a surface of 4096² block by block; for holes within a polygon over all of it; for the figures of
    the difference of two, and how it hangs together; for a basin of a million cells, and for its level dragged once."""
    with tempfile.TemporaryDirectory() as folder:
        one, other = _stored(2, Path(folder))
        grid = one.grid
        area = Features(grid.crs, np.array([shapely.box(*grid.bounds).buffer(-50)], dtype=object), {})
        lake = shapely.Point(444_096, 5_445_904).buffer(450)
        subject = Subject_(one, features={1: area}, names={1: "all"})
        small = one.grid.part(Window(0, 0, 256, 256))
        statistics(one, other, small)
        found = basin(one, lake)
        answer(NoHole(kind="holes", features=1), subject)
        blocks = list(grid.blocks(512))
        began = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(one.read, blocks))
        read = time.perf_counter() - began
        times = []
        for work in (
            lambda: answer(NoHole(kind="holes", features=1), subject),
            lambda: statistics(one, other, grid),
            lambda: basin(one, lake),
            lambda: (found.at(found.level + 3), found.outline(found.level + 3)),
        ):
            began = time.perf_counter()
            work()
            times.append(time.perf_counter() - began)
        return (read, *times)  # type: ignore[return-value]


def fused() -> tuple[float, float]:
    """Seconds to store the best of five surfaces of 4096², and to read the five block by block."""
    with tempfile.TemporaryDirectory() as folder:
        surfaces = _stored(5, Path(folder))
        grid = surfaces[0].grid
        Fused(surfaces[:2], grid.part(Window(0, 0, 256, 256))).read_all()
        blocks = list(grid.blocks(512))
        began = time.perf_counter()
        for one in surfaces:
            with ThreadPoolExecutor(2) as pool:
                list(pool.map(one.read, blocks))
        read = time.perf_counter() - began
        began = time.perf_counter()
        store(Fused(surfaces, grid), Path(folder) / "best.tif")
        return time.perf_counter() - began, read
