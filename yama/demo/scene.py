"""What the demo's image pair shows: the true ground with its trees, houses and the Pell viaduct, cast ray by ray, lit
by the sun, under one cloud."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numba
import numpy as np
import numpy.typing as npt
from pyproj import Transformer
from scipy import ndimage

from yama.demo.lidar import river_cells
from yama.demo.orbit import CENTRE, COLS, ORBIT, ROWS, Sensor, fitted
from yama.demo.products import geoid_at
from yama.demo.terrain import COVERS, FRAME, Deck, Island
from yama.terrain.cluster import cores

CLOUD = (449_560.0, 5_437_880.0, 1_350.0, 240.0)
"""x, y, height and radius of the cloud."""

_SUN = (np.deg2rad(38.0), np.deg2rad(47.0))  # azimuth, and height above the horizon
_SAME, _CLEAR = 0.8, 0.02  # metres between places that are one; optical depth of a cloud that hides nothing
_GAIN = ((2650.0, 110.0), (2280.0, 170.0))  # and offset of each image

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Scene:
    """What rays meet. tops: heights of ground, trees and roofs in cells of 1 m from `west`, `north` down. highest: of
    each block of 16 x 16. shade: height up to which a place lies in shadow. cover: of each cell. boxes: `(n, 9)` of
    x, y of the middle, half length and half width, the length's direction in x and y, lowest and highest height,
    kind."""

    tops: npt.NDArray[np.float32]
    highest: npt.NDArray[np.float32]
    shade: npt.NDArray[np.float32]
    cover: npt.NDArray[np.uint8]
    boxes: Array
    west: float
    north: float


_BLOCK = 16
_WATER, _RIVER, _ROOF, _TREE, _DECK, _PIER = 5, 7, 8, 2, 9, 10


def _boxes(deck: Deck) -> Array:
    ux, uy = (deck.end - deck.start) / deck.length
    middle = (deck.start + deck.end) / 2
    side = np.array([-uy, ux])
    found = [[*middle, deck.length / 2 + 1, deck.width / 2, ux, uy, deck.height - deck.thickness, deck.height, _DECK]]
    for aside in (-1, 1):
        place = middle + side * aside * (deck.width / 2 - 0.3)
        found.append([*place, deck.length / 2 + 1, 0.3, ux, uy, deck.height, deck.height + 1.1, _DECK])
    for along in np.arange(30.0, deck.length - 1, 30.0):
        place = deck.start + (deck.end - deck.start) * (along / deck.length)
        found.append([*place, 2.0, 3.0, ux, uy, -50.0, deck.height - deck.thickness, _PIER])
    return np.array(found)


def scene_of(truth: Island, canopy: npt.NDArray[np.float32]) -> Scene:
    west, north = CENTRE[0] - COLS / 2 - 420, CENTRE[1] + ROWS / 2 + 480
    rows, cols = ROWS + 960, COLS + 840
    y, x = north - np.arange(rows) - 0.5, west + np.arange(cols) + 0.5
    r, c = np.meshgrid(FRAME.row_of(y), FRAME.col_of(x), indexing="ij")
    tops = ndimage.map_coordinates(truth.heights, [r, c], output=np.float32, order=1, mode="nearest")
    nearest = np.ix_(np.rint(r[:, 0]).astype(int), np.rint(c[0]).astype(int))
    cover = truth.cover[nearest]
    cover[(river_cells(truth)[nearest] > 0) & (cover != _WATER)] = _RIVER
    above = canopy[nearest]
    wood, house = cover == COVERS.index("wood"), (cover == COVERS.index("town")) & (above > 2)
    crowns = ndimage.map_coordinates(canopy, [r, c], output=np.float32, order=1, mode="nearest")
    tops += np.where(wood & (above > 2), crowns * _crowns(rows, cols), np.float32(0))
    tops += np.where(house, above, np.float32(0))
    cover[house] = _ROOF
    blocks = tops[: rows // _BLOCK * _BLOCK, : cols // _BLOCK * _BLOCK]
    blocks = blocks.reshape(rows // _BLOCK, _BLOCK, cols // _BLOCK, _BLOCK).max((1, 3))
    highest = ndimage.maximum_filter(blocks, 3)
    shade = np.empty_like(tops)
    _shade(tops, np.sin(_SUN[0]), -np.cos(_SUN[0]), np.tan(_SUN[1]), shade)
    return Scene(tops, highest, shade, cover, _boxes(truth.viaduct), west, north)


@numba.njit(cache=True, nogil=True)
def _hash(x, y, seed):
    """A number from 0 to 1 that belongs to whole x and y."""
    h = (
        np.uint32(x) * np.uint32(374761393)
        + np.uint32(y) * np.uint32(668265263)
        + np.uint32(seed) * np.uint32(2246822519)
    )
    h = (h ^ (h >> np.uint32(13))) * np.uint32(1274126177)
    return np.float32((h ^ (h >> np.uint32(16))) & np.uint32(0xFFFFFF)) * np.float32(1 / 16777215.0)


@numba.njit(cache=True, nogil=True)
def _waves(x, y, size, seed):
    """Smooth noise from -1 to 1 with features `size` metres wide."""
    u, v = x / size, y / size
    i, j = np.floor(u), np.floor(v)
    s, t = u - i, v - j
    s, t = s * s * (3 - 2 * s), t * t * (3 - 2 * t)
    a, b = np.int64(i), np.int64(j)
    upper = _hash(a, b, seed) * (1 - s) + _hash(a + 1, b, seed) * s
    lower = _hash(a, b + 1, seed) * (1 - s) + _hash(a + 1, b + 1, seed) * s
    return 2 * (upper * (1 - t) + lower * t) - 1


@numba.njit(cache=True, nogil=True)
def _crowns(rows, cols):
    """Share of a wood's height at each cell: round crowns some 6 m apart."""
    out = np.empty((rows, cols), np.float32)
    for r in range(rows):
        for c in range(cols):
            best = np.float32(9.0)
            i, j = r // 6, c // 6
            for p in range(i - 1, i + 2):
                for q in range(j - 1, j + 2):
                    x = (q + 0.15 + 0.7 * _hash(q, p, 71)) * 6 - c
                    y = (p + 0.15 + 0.7 * _hash(q, p, 72)) * 6 - r
                    best = min(best, np.float32((x * x + y * y) / (16 + 9 * _hash(q, p, 73))))
            out[r, c] = 1.0 - 0.55 * min(best, np.float32(1.0))
    return out


@numba.njit(cache=True, nogil=True)
def _shade(tops, dx, dy, rise, out):
    """Heights below which each cell lies in the shadow of what stands toward the sun, whose direction is dx, dy in
    cells."""
    rows, cols = tops.shape
    if abs(dy) >= abs(dx):
        step = np.sqrt(1 + (dx / dy) ** 2) * rise
        first, last, way = (0, rows, 1) if dy < 0 else (rows - 1, -1, -1)
        for r in range(first, last, way):
            for c in range(cols):
                at = c + dx / abs(dy)
                before = r - way
                q = int(np.floor(at))
                if not 0 <= before < rows or q < 0 or q + 1 >= cols:
                    out[r, c] = -1e4
                    continue
                t = at - q
                a = max(tops[before, q], out[before, q])
                b = max(tops[before, q + 1], out[before, q + 1])
                out[r, c] = a * (1 - t) + b * t - step
    else:
        step = np.sqrt(1 + (dy / dx) ** 2) * rise
        first, last, way = (0, cols, 1) if dx < 0 else (cols - 1, -1, -1)
        for c in range(first, last, way):
            for r in range(rows):
                at = r + dy / abs(dx)
                before = c - way
                q = int(np.floor(at))
                if not 0 <= before < cols or q < 0 or q + 1 >= rows:
                    out[r, c] = -1e4
                    continue
                t = at - q
                a = max(tops[q, before], out[q, before])
                b = max(tops[q + 1, before], out[q + 1, before])
                out[r, c] = a * (1 - t) + b * t - step


@numba.njit(cache=True, nogil=True)
def _top(tops, u, v):
    """Height at a fractional column and row."""
    c, r = int(u), int(v)
    if c < 0 or r < 0 or c + 1 >= tops.shape[1] or r + 1 >= tops.shape[0]:
        return -100.0
    s, t = u - c, v - r
    return (tops[r, c] * (1 - s) + tops[r, c + 1] * s) * (1 - t) + (
        tops[r + 1, c] * (1 - s) + tops[r + 1, c + 1] * s
    ) * t


@numba.njit(cache=True, nogil=True)
def _meets(tops, highest, x, y, sx, sy):
    """Height at which a ray first meets the ground. x, y: where it is at height 0, in columns and rows; sx, sy: by how
    much it moves with each metre of height."""
    run = max(np.sqrt(sx * sx + sy * sy), 1e-9)
    z, above = 700.0, 700.0
    while z > -60.0:
        u, v = x + sx * z, y + sy * z
        i, j = int(v) // 16, int(u) // 16
        limit = -60.0
        if 0 <= i < highest.shape[0] and 0 <= j < highest.shape[1]:
            limit = highest[i, j]
        if (
            z > limit
        ):  # nothing within this block and its neighbours is as high: down to it, but no farther than 16 cells
            above = z
            z = max(limit, z - 16.0 / run) - 1e-6
            continue
        if z <= _top(tops, u, v):
            low, high = z, above
            for _ in range(12):
                half = (low + high) / 2
                if half <= _top(tops, x + sx * half, y + sy * half):
                    low = half
                else:
                    high = half
            return (low + high) / 2
        above = z
        z -= 0.4 / run
    return -60.0


@numba.njit(cache=True, nogil=True)
def _enters(boxes, x, y, sx, sy, below, above):
    """Highest height between two at which a ray is inside a box, and which; and through which of its faces it comes."""
    best, which, face = -1e9, -1, 0
    for b in range(boxes.shape[0]):
        ux, uy = boxes[b, 4], boxes[b, 5]
        px, py = x - boxes[b, 0], y - boxes[b, 1]
        top, bottom, side = min(boxes[b, 7], above), max(boxes[b, 6], below), 0
        for axis in range(2):
            ax, ay = (ux, uy) if axis == 0 else (-uy, ux)
            half = boxes[b, 2 + axis]
            at, slope = px * ax + py * ay, sx * ax + sy * ay
            if abs(slope) < 1e-12:
                if abs(at) > half:
                    top = -1e9
                continue
            one, two = (-half - at) / slope, (half - at) / slope
            if max(one, two) < top:
                top, side = max(one, two), 1 + axis
            bottom = max(bottom, min(one, two))
        if top > bottom and top > best:
            best, which, face = top, b, side
    return best, which, face


@numba.njit(cache=True, nogil=True)
def cloud_depth(x, y, cx, cy, radius):
    """Optical depth of the cloud at a place of its height."""
    away = np.sqrt((x - cx) ** 2 + ((y - cy) * 1.25) ** 2) / radius
    if away > 1.6:
        return 0.0
    edge = 1.05 - away + 0.28 * _waves(x, y, 90.0, 61) + 0.14 * _waves(x, y, 34.0, 62)
    return max(edge, 0.0) * 7.0


@numba.njit(cache=True, nogil=True)
def _shine(tops, shade, cover, boxes, near, west, north, x, y, z, box, face, kind, sun, cloud, image):
    """Reflected light of a place, from 0 to about 1."""
    u, v = x - west - 0.5, north - y - 0.5
    c, r = min(max(int(u + 0.5), 1), tops.shape[1] - 2), min(max(int(v + 0.5), 1), tops.shape[0] - 2)
    what = int(kind) if box >= 0 else int(cover[r, c])
    if what == 5:  # still water: no texture, but light that plays on it otherwise in each image
        return 0.07 + 0.02 * _waves(x, y, 140.0, 80 + image) + 0.05 * max(_waves(x, y, 60.0, 90 + image) - 0.55, 0.0)
    base = 0.30
    rough = 0.22
    if what == 1:
        base = 0.30 + 0.10 * (
            _hash(
                np.int64(np.floor((x + 30 * _waves(x, y, 90.0, 5)) / 110)),
                np.int64(np.floor((y + 30 * _waves(x, y, 90.0, 6)) / 80)),
                7,
            )
            - 0.5
        )
    elif what == 2:
        base, rough = 0.17, 0.34
    elif what == 3:
        base, rough = 0.40, 0.30
    elif what == 4:
        base, rough = 0.36, 0.16
    elif what == 6:
        base, rough = 0.33, 0.14
    elif what == 7:
        base, rough = 0.10, 0.10
    elif what == 8:
        base, rough = 0.34 + 0.22 * (_hash(np.int64(x) // 16, np.int64(y) // 16, 9) - 0.4), 0.10
    elif what >= 9:
        base, rough = 0.46, 0.10
    # the texture belongs to the place in space, so that walls have one too
    p, q = x + 0.73 * z, y - 0.61 * z
    texture = 0.30 * _waves(p, q, 0.9, 11) + 0.30 * _waves(p, q, 2.1, 12) + 0.26 * _waves(p, q, 5.0, 13)
    texture += 0.24 * _waves(x, y, 13.0, 14) + 0.22 * _waves(x, y, 41.0, 15) + 0.20 * _waves(x, y, 150.0, 16)
    light = base * (1 + 1.9 * rough * texture)
    # the sun's direction against the surface
    if box >= 0 and face == 0:
        nx, ny, nz = 0.0, 0.0, 1.0
    elif box >= 0:
        ux, uy = boxes[box, 4], boxes[box, 5]
        ax, ay = (ux, uy) if face == 1 else (-uy, ux)
        side = (x - boxes[box, 0]) * ax + (y - boxes[box, 1]) * ay
        nx, ny, nz = (ax, ay, 0.0) if side > 0 else (-ax, -ay, 0.0)
    else:
        nx = (tops[r, c - 1] - tops[r, c + 1]) / 2
        ny = (tops[r + 1, c] - tops[r - 1, c]) / 2
        long = np.sqrt(nx * nx + ny * ny + 1)
        nx, ny, nz = nx / long, ny / long, 1 / long
    straight = max(nx * sun[0] + ny * sun[1] + nz * sun[2], 0.0)
    lit = min(max((z - _top(shade, u, v)) / 0.6 + 0.5, 0.0), 1.0)
    if near and lit > 0:
        sx, sy = sun[0] / sun[2], sun[1] / sun[2]
        _, blocked, _ = _enters(boxes, x - sx * z, y - sy * z, sx, sy, z + 0.3, 1e4)
        if blocked >= 0:
            lit = 0.0
    rise = (cloud[2] - z) / sun[2]
    lit *= 0.06 + 0.94 * np.exp(-cloud_depth(x + sun[0] * rise, y + sun[1] * rise, cloud[0], cloud[1], cloud[3]))
    return light * (0.26 + 0.14 * nz + 0.85 * straight * lit)


@numba.njit(cache=True, nogil=True)
def _cast(
    tops, highest, shade, cover, boxes, west, north, origins, slopes, step_x, step_y, orbit, sun, cloud, image, out
):
    """Light of the cells of some rows, each the mean of 2 x 2 rays. origins: of two lines a row `(2 rows, 2)`;
    slopes: of the first of their rays; step_x, step_y: from one cell to the next."""
    reach = 0.0
    for b in range(boxes.shape[0]):
        reach = max(reach, boxes[b, 2])
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            total = 0.0
            for part in range(2):
                for half in range(2):
                    at = c + half * 0.5 - 0.25
                    sx = slopes[2 * r + part, 0] + step_x * at
                    sy = slopes[2 * r + part, 1] + step_y * at
                    x = origins[2 * r + part, 0] - sx * orbit
                    y = origins[2 * r + part, 1] - sy * orbit
                    z = _meets(tops, highest, x - west - 0.5, north - y - 0.5, sx, -sy)
                    gx, gy = x + sx * z, y + sy * z
                    near = (gx - boxes[0, 0]) ** 2 + (gy - boxes[0, 1]) ** 2 < (reach + 200) ** 2
                    which, face, kind = -1, 0, 0.0
                    if near:
                        top, which, face = _enters(boxes, x, y, sx, sy, z, 1e4)
                        if which >= 0:
                            z, kind = top, boxes[which, 8]
                            gx, gy = x + sx * z, y + sy * z
                    light = _shine(
                        tops, shade, cover, boxes, near, west, north, gx, gy, z, which, face, kind, sun, cloud, image
                    )
                    cx, cy = x + sx * cloud[2], y + sy * cloud[2]
                    thick = cloud_depth(cx, cy, cloud[0], cloud[1], cloud[3])
                    if thick > 0:
                        through = np.exp(-thick)
                        white = 1.10 + 0.05 * _waves(cx, cy, 120.0, 63)
                        light = light * through + white * (1 - through)
                    total += light
            out[r, c] = total / 4


@numba.njit(cache=True, nogil=True)
def _struck(tops, highest, cover, boxes, cloud, west, north, x, y, sx, sy, out, what, depth):
    """Height at which each of many rays meets the scene, the kind of what it meets, and the optical depth of the cloud.
    x, y: where a ray is at height 0; sx, sy: how far it moves with each metre of height."""
    for i in range(x.size):
        depth[i] = cloud_depth(x[i] + sx[i] * cloud[2], y[i] + sy[i] * cloud[2], cloud[0], cloud[1], cloud[3])
        z = _meets(tops, highest, x[i] - west - 0.5, north - y[i] - 0.5, sx[i], -sy[i])
        top, which, _ = _enters(boxes, x[i], y[i], sx[i], sy[i], z, 1e4)
        if which >= 0:
            out[i], what[i] = top, int(boxes[which, 8])
            continue
        c, r = int(x[i] + sx[i] * z - west), int(north - y[i] - sy[i] * z)
        out[i] = z
        what[i] = cover[min(max(r, 0), cover.shape[0] - 1), min(max(c, 0), cover.shape[1] - 1)]


@dataclass(frozen=True)
class Struck:
    """What rays meet: x, y and height, metres; the kind of cover or structure; the optical depth of the cloud they
    pass."""

    x: Array
    y: Array
    z: Array
    what: npt.NDArray[np.uint8]
    cloud: Array


def struck(scene: Scene, sensor: Sensor, col: npt.ArrayLike, row: npt.ArrayLike) -> Struck:
    """What the middles of an image's cells see, or places between them."""
    slope = sensor.slopes(col, row)
    shape = slope.shape[:-1]
    sx, sy = slope[..., 0].ravel(), slope[..., 1].ravel()
    x, y = (one.ravel() for one in np.moveaxis(sensor.ground(col, row, 0.0), -1, 0))
    z, what, cloud = np.empty(x.size), np.empty(x.size, np.uint8), np.empty(x.size)
    _struck(
        scene.tops, scene.highest, scene.cover, scene.boxes, np.array(CLOUD), scene.west, scene.north, x, y, sx, sy, z,
        what, cloud,
    )  # fmt: skip
    return Struck(
        (x + sx * z).reshape(shape), (y + sy * z).reshape(shape), z.reshape(shape), what.reshape(shape),
        cloud.reshape(shape),
    )  # fmt: skip


def seen(scene: Scene, sensor: Sensor, x: Array, y: Array, z: Array) -> npt.NDArray[np.bool_]:
    """Whether an image shows places of the scene: not beside it, not behind something else, not under the cloud."""
    lon, lat = Transformer.from_crs(FRAME.crs, "EPSG:4326", always_xy=True).transform(x, y)
    col, row = fitted(sensor).image_of(lon, lat, z + geoid_at(lon, lat))
    first = struck(scene, sensor, col, row)
    found: npt.NDArray[np.bool_] = (col > 0) & (col < COLS - 1) & (row > 0) & (row < ROWS - 1)
    return found & (np.abs(first.z - z) < _SAME) & (first.cloud < _CLEAR)


def render(scene: Scene, sensor: Sensor, number: int, seed: int) -> npt.NDArray[np.uint16]:
    """One image, `(ROWS, COLS)` of 12 bits, with the detectors' noise."""
    azimuth, height = _SUN
    sun = np.array([np.sin(azimuth) * np.cos(height), np.cos(azimuth) * np.cos(height), np.sin(height)])
    gain, offset = _GAIN[number]
    cells = np.empty((ROWS, COLS), np.uint16)

    def band(first: int) -> None:
        last = min(first + 64, ROWS)
        lines = (np.arange(first, last)[:, None] + np.array([-0.25, 0.25])).ravel()
        start, after = sensor.slopes(0.0, lines), sensor.slopes(1.0, lines)
        light = np.empty((last - first, COLS), np.float32)
        _cast(scene.tops, scene.highest, scene.shade, scene.cover, scene.boxes, scene.west, scene.north,
              np.ascontiguousarray(sensor.origin(lines)[:, :2]), start, float(after[0, 0] - start[0, 0]),
              float(after[0, 1] - start[0, 1]), ORBIT, sun, np.array(CLOUD), number, light)  # fmt: skip
        rng = np.random.default_rng((seed, number, first))
        level = offset + gain * light
        level += rng.standard_normal(level.shape, dtype=np.float32) * np.sqrt(25 + 0.03 * level)
        cells[first:last] = np.clip(np.rint(level), 1, 4095)

    with ThreadPoolExecutor(cores()) as pool:
        list(pool.map(band, range(0, ROWS, 64)))
    return cells
