"""The true ground of Sundrel: an island that never was, grown by uplift and running water from a fixed seed.

The relief comes from the stream-power law solved implicitly (J. Braun and S. Willett, "A very efficient O(n),
implicit and parallel method to solve the stream power equation", Geomorphology 180, 2013) on a coarse grid,
whose drainage comes from flooding upwards from the sea (R. Barnes, C. Lehman and D. Mulla, "Priority-flood",
Computers & Geosciences 62, 2014). Detail below the coarse cells is added as smooth noise.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass
from functools import lru_cache

import numba
import numpy as np
import numpy.typing as npt
from scipy import ndimage

from yama.terrain.grid import Grid
from yama.terrain.surface import ArraySurface

SEED = 20411
FRAME = Grid("EPSG:32741", 443_520.0, 5_442_560.0, 2.0, 2.0, 4096, 5120)
"""The demo project's frame: 10.24 x 8.192 km in cells of 2 m."""

_COARSE = 16
_VIADUCT_AT = 0.84  # of the Avel's way
_STEPS = np.array([(-1, -1), (-1, 0), (-1, 1), (0, -1), (0, 1), (1, -1), (1, 0), (1, 1)], np.int64)

Array = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Deck:
    """A bridge's deck: its two ends, `(2,)` each, its height and width, and the height of the slab below it."""

    start: Array
    end: Array
    height: float
    width: float = 9.0
    thickness: float = 2.5

    @property
    def length(self) -> float:
        """From end to end."""
        return float(np.hypot(*(self.end - self.start)))

    def along_and_aside(self, x: npt.ArrayLike, y: npt.ArrayLike) -> tuple[Array, Array]:
        """How far along the deck from its start, and how far to its left, places lie."""
        to_x, to_y = (self.end - self.start) / self.length
        dx, dy = np.asarray(x, np.float64) - self.start[0], np.asarray(y, np.float64) - self.start[1]
        return dx * to_x + dy * to_y, dy * to_x - dx * to_y


@dataclass(frozen=True)
class Island:
    """The truth.

    heights: float32 on FRAME, below 0 under the sea. cover: uint8 codes, names in COVERS. river: `(points, 2)`
    x, y of the Avel from reservoir to sea. lake_level: height of Lantern Water. places: name to x, y. viaduct: the deck
    of the Pell viaduct.
    """

    heights: npt.NDArray[np.float32]
    cover: npt.NDArray[np.uint8]
    river: Array
    lake_level: float
    places: dict[str, tuple[float, float]]
    viaduct: Deck

    @property
    def surface(self) -> ArraySurface:
        """The bare ground as a surface, sea floor included."""
        return ArraySurface(self.heights, FRAME)


COVERS = ("sea", "grass", "wood", "rock", "town", "water", "flats")


@numba.njit(cache=True)
def _cubic(values, rows, cols, out):
    """Catmull-Rom values at fractional rows and columns of a lattice; the border is repeated outwards."""
    last_row, last_col = values.shape[0] - 1, values.shape[1] - 1
    places = np.empty((cols.size, 4), np.int64)
    weights = np.empty((cols.size, 4), np.float32)
    for i in range(cols.size):
        t = cols[i] - np.floor(cols[i])
        for k in range(4):
            places[i, k] = min(max(int(np.floor(cols[i])) - 1 + k, 0), last_col)
        weights[i, 0] = ((-0.5 * t + 1.0) * t - 0.5) * t
        weights[i, 1] = (1.5 * t - 2.5) * t * t + 1.0
        weights[i, 2] = ((-1.5 * t + 2.0) * t + 0.5) * t
        weights[i, 3] = (0.5 * t - 0.5) * t * t
    line = np.empty(values.shape[1], np.float32)
    for r in range(rows.size):
        first = int(np.floor(rows[r]))
        t = rows[r] - first
        w0 = ((-0.5 * t + 1.0) * t - 0.5) * t
        w1 = (1.5 * t - 2.5) * t * t + 1.0
        w2 = ((-1.5 * t + 2.0) * t + 0.5) * t
        w3 = (0.5 * t - 0.5) * t * t
        above = values[min(max(first - 1, 0), last_row)]
        here = values[min(max(first, 0), last_row)]
        below = values[min(max(first + 1, 0), last_row)]
        further = values[min(max(first + 2, 0), last_row)]
        for c in range(line.size):
            line[c] = w0 * above[c] + w1 * here[c] + w2 * below[c] + w3 * further[c]
        for c in range(cols.size):
            total = np.float32(0.0)
            for k in range(4):
                total += weights[c, k] * line[places[c, k]]
            out[r, c] = total


def _resize(values: npt.NDArray[np.floating], rows: Array, cols: Array) -> npt.NDArray[np.float32]:
    out = np.empty((rows.size, cols.size), np.float32)
    _cubic(values.astype(np.float32), rows, cols, out)
    return out


def _noise(shape: tuple[int, int], cells: float, rng: np.random.Generator) -> npt.NDArray[np.float32]:
    """Smooth noise with features about `cells` cells wide, of unit deviation."""
    small = (int(shape[0] / cells) + 4, int(shape[1] / cells) + 4)
    raw = rng.standard_normal(small).astype(np.float32)
    out = _resize(raw, np.linspace(1, small[0] - 3, shape[0]), np.linspace(1, small[1] - 3, shape[1]))
    return out / max(float(out[::3, ::3].std()), 1e-6)


def _enlarge(values: npt.NDArray[np.floating], factor: int) -> npt.NDArray[np.float32]:
    """Values of coarse cells at the centres of cells `factor` times smaller."""
    rows = (np.arange(values.shape[0] * factor) + 0.5) / factor - 0.5
    cols = (np.arange(values.shape[1] * factor) + 0.5) / factor - 0.5
    return _resize(values, rows, cols)


@numba.njit(cache=True)
def _drainage(heights, steps):
    """Cells in the order in which water rising from the sea reaches them, and where each drains to."""
    rows, cols = heights.shape
    receiver = np.full(rows * cols, -1, np.int64)
    order = np.empty(rows * cols, np.int64)
    seen = np.zeros(rows * cols, np.bool_)
    queue = [(0.0, 0)]
    queue.pop()
    for r in range(rows):
        for c in range(cols):
            if heights[r, c] <= 0.0 or r in (0, rows - 1) or c in (0, cols - 1):
                heapq.heappush(queue, (heights[r, c], r * cols + c))
                seen[r * cols + c] = True
    count = 0
    while queue:
        level, cell = heapq.heappop(queue)
        order[count] = cell
        count += 1
        r = cell // cols
        c = cell % cols
        for s in range(8):
            i = r + steps[s, 0]
            j = c + steps[s, 1]
            if 0 <= i < rows and 0 <= j < cols and not seen[i * cols + j]:
                seen[i * cols + j] = True
                receiver[i * cols + j] = cell
                heapq.heappush(queue, (max(heights[i, j], level + 1e-5), i * cols + j))
    return order, receiver


@numba.njit(cache=True)
def _upslope(order, receiver, count):
    cells = np.ones(count)
    for i in range(count - 1, -1, -1):
        if receiver[order[i]] >= 0:
            cells[receiver[order[i]]] += cells[order[i]]
    return cells


@numba.njit(cache=True)
def _erode(heights, uplift, order, receiver, upslope, cell, strength, power):
    """One implicit step of the stream-power law, from the sea upwards."""
    flat = heights.ravel()
    lift = uplift.ravel()
    cols = heights.shape[1]
    for i in range(order.size):
        at = order[i]
        to = receiver[at]
        if to < 0:
            continue
        diagonal = (at // cols != to // cols) and (at % cols != to % cols)
        distance = cell * (1.41421356 if diagonal else 1.0)
        factor = strength * (upslope[at] * cell * cell) ** power / distance
        flat[at] = (flat[at] + lift[at] + factor * max(flat[to], 0.0)) / (1.0 + factor)


def _grow(rng: np.random.Generator) -> tuple[Array, npt.NDArray[np.int64], Array]:
    """Coarse heights with their drainage (receiver of each cell, upslope cells)."""
    heights = np.zeros((1, 1))
    rows, cols = FRAME.rows * 2 // _COARSE, FRAME.cols * 2 // _COARSE
    v, u = np.mgrid[-1 : 1 : rows * 1j, -1 : 1 : cols * 1j]
    warp = 0.10 * _noise((rows, cols), 90, rng) + 0.05 * _noise((rows, cols), 30, rng)
    warp += 0.02 * _noise((rows, cols), 11, rng)
    away = np.hypot(u / 0.86, v / 0.90) + warp
    # a wide bay in the south-west, where the harbour is
    away += 0.62 * np.exp(-(((u + 0.66) / 0.24) ** 2 + ((v - 0.62) / 0.28) ** 2))
    shore = np.clip(0.93 - away, -0.4, 1)
    crest = np.exp(-(((v + 0.28 - 0.2 * u + 0.8 * warp) / 0.30) ** 2))
    harder = np.exp(0.45 * _noise((rows, cols), 40, rng))
    uplift = np.where(shore > 0, (0.25 + np.minimum(shore, 0.45) * (0.5 + 2.2 * crest)) * harder, 0.0)
    rough = rng.random((rows, cols))
    for cell, turns in ((2 * _COARSE, 70), (_COARSE, 16)):
        step = cell // _COARSE
        above, lift = shore[::step, ::step], uplift[::step, ::step]
        if step > 1:
            heights = np.where(above > 0, 14 * above + 4 * rough[::step, ::step], 90 * above)
        else:
            heights = np.where(above > 0, np.maximum(_enlarge(heights, 2), 0.5) + rough, 90 * above)
        for turn in range(turns):
            order, receiver = _drainage(heights, _STEPS)
            upslope = _upslope(order, receiver, heights.size)
            _erode(heights, np.where(heights > 0, lift, 0), order, receiver, upslope, float(cell), 0.03, 0.5)
            if turn % 4 == 3:  # slopes creep
                heights = np.where(heights > 0, 0.85 * heights + 0.15 * ndimage.uniform_filter(heights, 3), heights)
    heights = np.where(heights > 0, 610 * (np.maximum(heights, 0) / heights.max()) ** 0.75, heights)
    order, receiver = _drainage(heights, _STEPS)
    return heights, receiver, _upslope(order, receiver, heights.size)


def _main_river(heights: Array, receiver: npt.NDArray[np.int64], upslope: Array) -> npt.NDArray[np.int64]:
    """Coarse cells of the longest river of the largest catchment, from its head to the first cell of the sea."""
    cols = heights.shape[1]
    land = np.flatnonzero(heights.ravel() > 0)
    largest = land[np.argmax(upslope[land])]
    donors: dict[int, list[int]] = {}
    for cell in land:
        donors.setdefault(int(receiver[cell]), []).append(int(cell))
    path = [int(largest)]
    while path[-1] in donors:
        following = max(donors[path[-1]], key=lambda cell: upslope[cell])
        if upslope[following] < 120:
            break
        path.append(following)
    mouth = int(receiver[largest])  # the first cell of the sea
    cells = np.array([*path[::-1], *([mouth] if mouth >= 0 else [])])
    return np.stack([cells // cols, cells % cols], 1)


def _smooth_line(line: Array, passes: int = 6) -> Array:
    for _ in range(passes):
        inner = (line[:-2] + 2 * line[1:-1] + line[2:]) / 4
        line = np.vstack([line[:1], inner, line[-1:]])
    return line


@lru_cache(maxsize=1)
def island() -> Island:
    """Grow Sundrel: about twenty seconds the first time in a process, the same to the last bit every time."""
    rng = np.random.default_rng(SEED)
    coarse, receiver, upslope = _grow(rng)
    path = _main_river(coarse, receiver, upslope)
    scale = _COARSE // 2
    heights = _enlarge(coarse, scale)
    land = heights > 0

    line = _smooth_line(np.column_stack([
        FRAME.west + (path[:, 1] + 0.5) * _COARSE, FRAME.north - (path[:, 0] + 0.5) * _COARSE,
    ]).astype(np.float64))  # fmt: skip

    # detail: rougher where it is steep, none on the shore
    gy, gx = np.gradient(_enlarge(ndimage.gaussian_filter(coarse, 1.5), scale), 2.0)
    steep = np.clip(np.hypot(gx, gy), 0, 1.2)
    rise = np.clip(heights / 12, 0, 1)
    heights += rise * (0.4 + 4.0 * steep) * _noise(heights.shape, 36, rng)
    heights += rise * (0.15 + 1.2 * steep) * _noise(heights.shape, 13, rng)
    heights += rise * (0.04 + 0.22 * steep) * _noise(heights.shape, 5, rng)
    high = np.clip((heights - 330) / 120, 0, 1)  # terraces in the uplands
    step = 24.0
    bench = np.floor(heights / step) * step + step * np.clip((heights / step) % 1 * 2.2 - 0.6, 0, 1)
    heights += high * 0.5 * (bench - heights)
    heights = np.where(land, np.maximum(heights, 0.3), np.minimum(heights, -0.2)).astype(np.float32)
    cliff = ndimage.distance_transform_edt(land[::4, ::4]).astype(np.float32)
    heights[land] += (6 * np.clip(_enlarge(cliff, 4) / 6, 0, 1) * np.clip(steep * 3, 0, 1))[land]

    # Lantern Water: the valley flooded behind a dam some way down from the head
    along = np.r_[0, np.cumsum(np.hypot(*np.diff(line, axis=0).T))]
    dam = int(np.searchsorted(along, along[-1] * 0.30))
    dam_row, dam_col = (int(v) for v in (FRAME.row_of(line[dam, 1]), FRAME.col_of(line[dam, 0])))
    level = float(heights[dam_row, dam_col]) + 26.0
    head = line[max(dam - 12, 0)]
    below = heights < level
    rr, cc = np.ogrid[: FRAME.rows, : FRAME.cols]
    fall = line[dam] - line[max(dam - 14, 0)]
    fall /= np.hypot(*fall)
    x, y = FRAME.x_of(cc), FRAME.y_of(rr)
    past_dam = (x - line[dam, 0]) * fall[0] + (y - line[dam, 1]) * fall[1]
    near = (x - line[dam, 0]) ** 2 + (y - line[dam, 1]) ** 2 < 1500.0**2
    labels, _ = ndimage.label(below & (past_dam < 0) & near)
    lake = labels == labels[int(FRAME.row_of(head[1])), int(FRAME.col_of(head[0]))]
    heights[lake] = level
    wall = (np.abs(past_dam + 6) < 7) & near & (heights < level + 3) & ndimage.binary_dilation(lake, iterations=110)
    heights[wall] = level + 3.0
    lake &= ~wall

    # the Avel's bed, cut below its banks
    bed = np.zeros(heights.shape, bool)
    fine = np.column_stack([np.interp(np.arange(along[dam], along[-1], 1.0), along, line[:, i]) for i in (0, 1)])
    bed_rows = np.clip(FRAME.row_of(fine[:, 1]).round().astype(int), 0, FRAME.rows - 1)
    bed_cols = np.clip(FRAME.col_of(fine[:, 0]).round().astype(int), 0, FRAME.cols - 1)
    bed[bed_rows, bed_cols] = True
    window = (slice(bed_rows.min() - 60, bed_rows.max() + 60), slice(bed_cols.min() - 60, bed_cols.max() + 60))
    crossing = 10 * int(-(-len(fine) // 10) * _VIADUCT_AT)
    distance, (ir, ic) = ndimage.distance_transform_edt(~bed[window], return_indices=True)
    profile = np.minimum.accumulate(ndimage.gaussian_filter1d(heights[bed_rows, bed_cols].astype(float), 60))
    to_mouth = np.arange(len(fine) - 1, -1, -1.0)
    profile = np.minimum(profile, 1.8 + 0.03 * to_mouth)  # it comes down to the sea before it meets it
    bed_height = np.zeros(heights.shape, np.float32)
    bed_height[bed_rows, bed_cols] = profile
    gorge = np.exp(-((np.hypot(x - fine[crossing, 0], y - fine[crossing, 1])[window] / 220.0) ** 4)).astype(np.float32)
    target = bed_height[window][ir, ic] - 1.6 + np.clip(distance * 2 - 8, 0, None) * (0.45 + 0.6 * gorge)
    near_bed = (distance * 2 < 70 + 40 * gorge) & land[window] & ~lake[window] & ~wall[window]
    part = heights[window]
    part[near_bed] = np.minimum(part[near_bed], target[near_bed].astype(np.float32))
    heights[window] = np.where(land[window], np.maximum(part, 0.1), part)

    viaduct = _bridged(heights, fine, crossing)

    places = _places(line, along, dam, heights)
    qx, qy = places["Dunnock Quarry"]
    away = np.hypot(x - qx, y - qy)
    rim = heights[int(FRAME.row_of(qy)), int(FRAME.col_of(qx))]
    pit = max(rim - 42, 5.0) + 14 * np.floor(np.clip(away - 60, 0, None) / 45)
    heights = np.where((away < 190) & (pit < heights) & land, pit, heights).astype(np.float32)

    cover = _cover(heights, land, lake, away, places, steep, rng)
    river = np.column_stack([fine, np.zeros(len(fine))])[::10, :2]
    return Island(heights, cover, river, level, places, viaduct)


def _bridged(heights: npt.NDArray[np.float32], fine: Array, crossing: int) -> Deck:
    """The viaduct's deck across the gorge, at the height of the lower shoulder; the ground at both ends is brought to
    it, as abutments and the road's cuttings and banks."""
    along = fine[crossing + 40] - fine[crossing - 40]
    along /= np.hypot(*along)
    across = np.array([-along[1], along[0]])
    ends = fine[crossing] - 90.0 * across, fine[crossing] + 90.0 * across
    shoulders = [float(heights[int(FRAME.row_of(y)), int(FRAME.col_of(x))]) for x, y in ends]
    deck = Deck(*ends, round(min(shoulders), 1))
    row, col = int(FRAME.row_of(fine[crossing, 1])), int(FRAME.col_of(fine[crossing, 0]))
    window = (slice(row - 200, row + 200), slice(col - 200, col + 200))
    rows, cols = np.ogrid[window]
    on, aside = deck.along_and_aside(FRAME.x_of(cols), FRAME.y_of(rows))
    beyond = np.maximum(-on, on - deck.length)  # metres outside the deck
    # level for 60 m behind each abutment, then back to the ground; sides sloping over 25 m
    flat = np.clip(1 - (beyond - 60) / 80, 0, 1) * np.clip(1 - (np.abs(aside) - 7) / 25, 0, 1) * (beyond >= 0)
    share = (flat * flat * (3 - 2 * flat)).astype(np.float32)
    part = heights[window]
    part += share * (np.float32(deck.height) - part)
    return deck


def streams(truth: Island, least: int) -> list[Array]:
    """Streams of the island as lines `(points, 2)` of x, y from head to mouth or to where they join a larger one, largest
    first. least: cells of 16 m that must drain to where a stream begins."""
    coarse = ndimage.minimum_filter(truth.heights, 3)[4::8, 4::8].astype(np.float64)
    order, receiver = _drainage(coarse, _STEPS)
    upslope = _upslope(order, receiver, coarse.size)
    cols = coarse.shape[1]
    wet = upslope >= least
    has_donor = np.zeros(coarse.size, np.bool_)
    draining = np.flatnonzero(wet & (receiver >= 0))
    has_donor[receiver[draining]] = True
    heads = draining[~has_donor[draining]]
    heads = heads[np.argsort(-coarse.ravel()[heads], kind="stable")]
    taken = np.zeros(coarse.size, np.bool_)
    found: list[Array] = []
    for head in heads:
        path = [int(head)]
        while receiver[path[-1]] >= 0 and not taken[path[-1]] and coarse.ravel()[path[-1]] > 0:
            taken[path[-1]] = True
            path.append(int(receiver[path[-1]]))
        if len(path) > 5:
            cells = np.array(path)
            line = np.column_stack([FRAME.x_of(4 + 8 * (cells % cols)), FRAME.y_of(4 + 8 * (cells // cols))])
            found.append(_smooth_line(line, 3))
    return sorted(found, key=lambda line: -len(line))


def _places(line: Array, along: Array, dam: int, heights: npt.NDArray[np.float32]) -> dict[str, tuple[float, float]]:
    def at(share: float, aside: float = 0.0) -> tuple[float, float]:
        where = along[dam] + (along[-1] - along[dam]) * share
        i = int(np.clip(np.searchsorted(along, where), 3, len(line) - 4))
        direction = line[i + 3] - line[i - 3]
        direction /= np.hypot(*direction)
        return float(line[i, 0] - direction[1] * aside), float(line[i, 1] + direction[0] * aside)

    top = np.unravel_index(np.argmax(heights), heights.shape)
    lake = line[max(dam - 14, 0)]
    return {
        "Lantern Water": (float(lake[0]), float(lake[1])),
        "Harrow": (float(FRAME.x_of(top[1])), float(FRAME.y_of(top[0]))),
        "Hallow Wood": at(0.35, 420),
        "Mossgate": at(0.66, -260),
        "Dunnock Quarry": at(0.72, 720),
        "Curlew Flats": at(0.93, -320),
        "Pell Harbour": at(0.985, 200),
    }


def _cover(heights, land, lake, from_quarry, places, steep, rng) -> npt.NDArray[np.uint8]:  # type: ignore[no-untyped-def]
    code = {name: i for i, name in enumerate(COVERS)}
    cover = np.where(land, code["grass"], code["sea"]).astype(np.uint8)
    rows, cols = np.ogrid[: FRAME.rows, : FRAME.cols]
    x, y = FRAME.x_of(cols), FRAME.y_of(rows)
    patchy = _noise(heights.shape, 110, rng)
    wx, wy = places["Hallow Wood"]
    wood = (np.hypot(x - wx, y - wy) < 1300 + 350 * patchy) | (patchy > 1.05)
    cover[land & wood & (heights < 420) & (heights > 8)] = code["wood"]
    cover[land & ((steep > 0.75) | (heights > 470) | (from_quarry < 190))] = code["rock"]
    for name in ("Mossgate", "Pell Harbour"):
        tx, ty = places[name]
        cover[land & (np.hypot(x - tx, y - ty) < 260) & (steep < 0.6)] = code["town"]
    fx, fy = places["Curlew Flats"]
    cover[land & (np.hypot(x - fx, y - fy) < 600) & (heights < 5)] = code["flats"]
    cover[lake] = code["water"]
    return cover
