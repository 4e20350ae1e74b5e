"""Mending: suspects, patches that are changed on a large surface, both images through a lens, and repairs against the
truth."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from scipy import ndimage

from bench.stereo import Geoid, images, on_the_ground
from yama.demo.sheet import old_ground
from yama.demo.terrain import COVERS, FRAME, Island, island
from yama.terrain.fit.clip import inside
from yama.terrain.grid import Grid, Window
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.outlines import grown, offset
from yama.terrain.mend.patches import Patch
from yama.terrain.mend.suspects import suspects
from yama.terrain.stereo.ortho import OrthoSurface
from yama.terrain.stereo.pair import PRESETS, heights_on
from yama.terrain.surface import ArraySurface, Heights, Over

SIDE = 4096


class Wide(Over):
    """A surface of 20 000² cells, each of which is one of a smaller one, again and again."""

    def __init__(self, surface: ArraySurface) -> None:
        super().__init__(surface)
        own = surface.grid
        self.cells = surface.read_all()
        self.grid = Grid(own.crs, own.west, own.north, own.cell_width, own.cell_height, 20_000, 20_000)

    def settings(self) -> tuple[Any, ...]:
        return (self.grid.rows,)

    def read(self, window: Window, level: int = 0) -> Heights:
        scale = 2**level
        rows = (window.row + np.arange(window.rows)) * scale % self.cells.shape[0]
        cols = (window.col + np.arange(window.cols)) * scale % self.cells.shape[1]
        return self.cells[np.ix_(rows, cols)].copy()


def hills(side: int = SIDE) -> ArraySurface:
    """Rolling ground with noise, spikes, pits, a step along a tile's edge and a hole."""
    rng = np.random.default_rng(1)
    cells = ndimage.zoom(rng.normal(0, 60, (33, 33)), side / 33 + 0.01, order=3)[:side, :side] + rng.normal(
        0, 0.1, (side, side)
    )
    for row, col in rng.integers(20, side - 20, (200, 2)):
        cells[row : row + 2, col : col + 2] += rng.choice([-8, 6])
    cells[:, 3000:] += 2.0
    cells[1000:1010, 2000:2012] = np.nan
    return ArraySurface(cells.astype(np.float32), Grid("EPSG:32741", 440_000.0, 5_450_000.0, 2.0, 2.0, side, side))


def found() -> tuple[float, int]:
    """Seconds of finding the suspects of 4096² cells, and how many there are."""
    surface = hills()
    suspects(surface, Window(0, 0, 256, 256))
    began = time.perf_counter()
    listed = suspects(surface)
    return time.perf_counter() - began, len(listed)


def changed() -> tuple[float, float]:
    """Seconds until the twelve tiles of a view are there after one of 200 patches on 20 000² cells has changed, and
    while nothing is changed."""
    surface = Wide(hills())
    rng = np.random.default_rng(2)
    patches: list[Patch] = []
    for k, (x, y) in enumerate(rng.uniform((441_000, 5_448_000), (442_500, 5_449_000), (200, 2))):
        ring = [(x, y), (x + 80, y), (x + 80, y + 60), (x, y + 60)]
        patches.append(
            Patch.model_validate(
                {"name": str(k), "ring": ring, "feather": 6, "operator": {"kind": "smooth", "radius": 12}}
            )
        )
    view = [Window(500 + 256 * i, 500 + 256 * j, 258, 258) for i in range(3) for j in range(4)]

    def look(stack: list[Patch]) -> float:
        began = time.perf_counter()
        mended = MendedSurface(surface, stack)
        for tile in view:
            mended.read(tile)
        return time.perf_counter() - began

    look(patches)
    alike = look(patches)
    times = []
    for k in (3, 60, 120):
        stack = [one.model_copy(update={"strength": 0.5}) if one.name == str(k) else one for one in patches]
        times.append(look(stack))
    return float(np.median(times)), alike


def _rmse(cells: Any, truth: Any, where: Any) -> float:
    error = (cells - truth)[where]
    return float(np.sqrt(np.nanmean(error.astype(np.float64) ** 2)))


def _stand(truth: Island, name: str, number: int) -> Any:
    """The cells of one of the largest areas of a cover."""
    labels, count = ndimage.label(truth.cover == COVERS.index(name))
    sizes = ndimage.sum(labels > 0, labels, range(1, count + 1))
    return labels == int(np.argsort(sizes)[::-1][number]) + 1


def _around(where: Any, metres: float) -> list[tuple[float, float]]:
    rows, cols = np.nonzero(where)
    west, east = FRAME.x_of(cols.min()) - metres, FRAME.x_of(cols.max()) + metres
    south, north = FRAME.y_of(rows.max()) - metres, FRAME.y_of(rows.min()) + metres
    return [(float(x), float(y)) for x, y in ((west, south), (east, south), (east, north), (west, north))]


def _quarry(truth: Island) -> tuple[str, float, float]:
    """A quarry dug out since the old sheet, taken from a newer survey that lies 1.70 m higher: errors before and
    after."""
    rough = old_ground(truth)
    old = ndimage.zoom(rough, (FRAME.rows / rough.shape[0], FRAME.cols / rough.shape[1]), order=1)
    x, y = truth.places["Dunnock Quarry"]
    ring = [tuple(one) for one in shapely.Point(x, y).buffer(230, 24).exterior.coords[:-1]]
    newer = truth.heights + 1.7 + np.random.default_rng(5).normal(0, 0.1, truth.heights.shape)
    patch = Patch.model_validate({"ring": ring, "feather": 10, "operator": {"kind": "replace"}})
    surface, other = (ArraySurface(one.astype(np.float32), FRAME) for one in (old, newer))
    after = MendedSurface(surface, [patch], [], other).read_all()
    where = inside([shapely.Point(x, y).buffer(205)], FRAME) > 0
    return "quarry from a newer survey", _rmse(old, truth.heights, where), _rmse(after, truth.heights, where)


def lake() -> tuple[float, float, float]:
    """Lantern Water, which images leave empty, levelled at its rim from heights with noise, trees and humps: the
    share that is filled, its error against the truth, and by how much the water is not level."""
    truth = island()
    x, y = truth.places["Lantern Water"]
    ring = offset(grown(truth.surface, x, y, 0.3, 10), 2.0, FRAME)
    area = inside([shapely.Polygon(ring)], FRAME) > 0
    rng = np.random.default_rng(6)
    cells = truth.heights + rng.normal(0, 0.4, truth.heights.shape)
    cells[truth.cover == COVERS.index("wood")] += 12
    cells[area & (rng.uniform(size=cells.shape) < 0.9)] = np.nan
    cells[area] += rng.normal(0, 3, int(area.sum()))
    patch = Patch.model_validate({"ring": ring, "operator": {"kind": "level"}})
    after = MendedSurface(ArraySurface(cells.astype(np.float32), FRAME), [patch]).read_all()
    water = area & (truth.cover == COVERS.index("water"))
    found = after[water]
    return (
        float(np.isfinite(found).mean()),
        float(np.sqrt(np.nanmean((found - truth.lake_level) ** 2))),
        float(np.ptp(found)),
    )


def repairs() -> tuple[float, list[tuple[str, float, float]], bool]:
    """Seconds of both orthoimages of 1024² cells through a mended surface; for each repair of the demo's pair its
    error before and after; and whether nothing is changed outside of patches."""
    truth = island()
    with tempfile.TemporaryDirectory() as folder:
        pair = images(Path(folder), truth)
        pair, heights = on_the_ground(pair, pair.tie_points().cells, truth)
        surface = ArraySurface(heights_on(pair, FRAME, Geoid(), heights, PRESETS["hilly"]).height, FRAME)
        deck = truth.viaduct
        way = (deck.end - deck.start) / deck.length
        across = np.array([-way[1], way[0]]) * deck.width / 2
        on_deck = [
            tuple(map(float, p))
            for p in (deck.start - across, deck.end - across, deck.end + across, deck.start + across)
        ]
        river = truth.river[(truth.river[:, 1] < 5_438_600) & (truth.river[:, 1] > 5_436_400)]
        course = {"line": [tuple(map(float, p)) for p in river], "width": 10.0}
        houses, wood = _stand(truth, "town", 0), _stand(truth, "wood", 2)
        drawn: list[tuple[str, dict[str, Any], Any, Any]] = [
            (
                "deck of the viaduct, along 75 m",
                {"ring": on_deck, "operator": {"kind": "along", "window": 75}},
                inside([shapely.Polygon(on_deck)], FRAME) > 0,
                deck.height,
            ),
            (
                "roofs and trees of Mossgate cleared",
                {"ring": _around(houses, 20), "operator": {"kind": "clear", "widest": 40}},
                houses,
                None,
            ),
            (
                "a wood of 7 ha cleared",
                {"ring": _around(wood, 60), "operator": {"kind": "clear", "widest": 200}},
                wood,
                None,
            ),
            (
                "the Avel falling over 3 km",
                course | {"operator": {"kind": "falling", "level": True}},
                inside([shapely.LineString(river).buffer(5, cap_style="flat")], FRAME) > 0,
                None,
            ),
        ]
        told, untouched = [_quarry(truth)], True
        before = surface.read_all()
        for name, patch, where, level in drawn:
            mended = MendedSurface(surface, [Patch.model_validate({"name": name, **patch})], lenient=True)
            after = mended.read_all()
            target = truth.heights if level is None else np.full_like(truth.heights, level)
            known = where & np.isfinite(before)
            told.append((name, _rmse(before, target, known), _rmse(after, target, known)))
            area = mended.patches[0].outline(FRAME)
            outside = inside([area], FRAME) == 0
            untouched &= np.array_equal(before[outside], after[outside], equal_nan=True)
        window = Window(2700, 2200, 1024, 1024)
        views = [
            OrthoSurface(mended, one, sensor, Geoid())
            for one, sensor in zip((pair.left, pair.right), pair.sensors, strict=True)
        ]
        for view in views:
            view.read(window)
        began = time.perf_counter()
        for view in views:
            view.read(window)
        return time.perf_counter() - began, told, bool(untouched)
