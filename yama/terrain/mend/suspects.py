"""What is probably wrong in a surface, found cell by cell: each with its reason, and a patch that would repair it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Literal

import numpy as np
import shapely

from yama.terrain.cluster import cores
from yama.terrain.ending import go_on
from yama.terrain.fit.clip import inside
from yama.terrain.grid import FloatArray, Grid, Window
from yama.terrain.interpolate.ground import Settings, ground_surface
from yama.terrain.kernels import kernel
from yama.terrain.later import later
from yama.terrain.mend.mended import MendedSurface
from yama.terrain.mend.outlines import Ring
from yama.terrain.mend.patches import Patch
from yama.terrain.progress import Progress, ignore_progress
from yama.terrain.surface import Heights, Surface

ndimage = later("scipy.ndimage")

Kind = Literal["spike", "pit", "step", "water", "trees", "hole"]

TITLES: dict[Kind, str] = {
    "spike": "Spike",
    "pit": "Pit",
    "step": "Step",
    "water": "Hump on water",
    "trees": "Wall of trees",
    "hole": "Hole",
}

_BLOCK = 2048
_HALO = 96  # cells around a block that its finders see
# cells from the middle at which spikes and pits are compared with what is around, times the unevenness there that
# they stand out
# by, and the share of that by which they are beyond all of it
_RINGS = ((3, 2.0, 0.5), (5, 0.0, 0.0))
_STEEP = 0.4  # rise over run that a spike is steeper than, out to its ring
_FLAT = 1.35  # how much farther it may stand out of the farther ring than of the nearer one
_JUMP = 4.0  # times the changes on both sides of it that a step is
_LONG = 12  # cells that a step is long at least
_GAP = 2  # cells, half of a gap in it that is bridged
_BENT = 0.9  # cells that a step's cells lie off its line
_WATER = 0.5  # metres that a hump stands above its water
_COARSE = 8.0  # metres of the cells in which trees are sought
_RISING = 0.4  # rise over run of the ground that trees are sought on
_WIDEST = 60.0  # metres that a stand of trees is wide at most
_TALL = 3.0  # metres that it stands above the ground
_WALL = 0.5  # rise over run of its edges, at least
_AROUND = 0.85  # share of its rim at which the ground lies lower
_STAND = 6  # coarse cells that it covers at least
_MOST = 400  # of each kind
_PROFILE = 41


@dataclass(frozen=True)
class Limits:
    """From where on something is suspect.

    Parameters
    ----------
    least : float
        Metres that a spike stands out at least, a pit goes down, or a step is high.
    smallest_hole : int
        Cells.
    """

    least: float = 1.0
    smallest_hole: int = 1


@dataclass(frozen=True)
class Suspect:
    """Something that is probably wrong.

    Parameters
    ----------
    kind : {"spike", "pit", "step", "water", "trees", "hole"}
    x, y : float
        Where it is worst, in the surface's CRS.
    height : float
        Metres that it stands out; below 0 where it goes down. Of a hole how far its rim rises and falls.
    cells : int
    length : float
        Metres from end to end.
    ring : list of (float, float)
        An outline around it.
    across : float
        Degrees clockwise from north of the line that shows it best.
    """

    kind: Kind
    x: float
    y: float
    height: float
    cells: int
    length: float
    ring: Ring
    across: float

    @property
    def score(self) -> float:
        """How bad it is beside the others: its height, and little more where it is larger."""
        if self.kind == "hole":
            return 2.0 * float(np.log1p(self.cells))
        return abs(self.height) * float(1 + np.log1p(self.cells) / 4)

    @property
    def why(self) -> str:
        """The reason, in words."""
        height = abs(self.height)
        return {
            "spike": f"Stands {height:.1f} m above all that is around it.",
            "pit": f"Goes {height:.1f} m below all that is around it.",
            "step": f"Heights jump by {height:.1f} m along a straight line, and change little on both sides.",
            "water": f"Stands {height:.1f} m above the water around it.",
            "trees": f"Stands {height:.1f} m above the ground around it, with steep edges.",
            "hole": "No heights here, and heights all around.",
        }[self.kind]


# -- kernels -------------------------------------------------------------------------------------------------------


@kernel
def _standing_out(cells, down, along, steep, apart, beyond, first, last, result):
    """How far cells stand out of the means of opposite places on a ring, so that a slope is no spike: the least of
    these where a cell is above all of them, the greatest where it is below, else 0. Of the rows from `first` to
    before `last`."""
    rows, cols = cells.shape
    pairs = down.size
    for r in range(first, last):
        for c in range(cols):
            z = cells[r, c]
            if np.isnan(z):
                continue
            low, high, counted = np.inf, -np.inf, 0
            lowest, highest = np.inf, -np.inf
            for k in range(pairs):
                a, b = r + down[k], r - down[k]
                d, e = c + along[k], c - along[k]
                if min(a, b) < 0 or max(a, b) >= rows or min(d, e) < 0 or max(d, e) >= cols:
                    continue
                mean = (cells[a, d] + cells[b, e]) / 2
                if np.isnan(mean):
                    continue
                counted += 1
                low, high = min(low, mean), max(high, mean)
                lowest = min(lowest, cells[a, d], cells[b, e])
                highest = max(highest, cells[a, d], cells[b, e])
                if z - high < steep and low - z < steep:
                    break  # neither a spike nor a pit any more
            if counted < pairs // 2:
                continue
            out = z - high if z > high else (z - low if z < low else 0.0)
            if abs(out) < steep or abs(out) < apart * (high - low):
                continue
            # at the corner of a cliff half the ring is as high
            if (z - highest if out > 0 else lowest - z) >= beyond * abs(out):
                result[r, c] = out


@kernel
def _jumps(cells, least, times, first, last, result):
    """Jumps from one cell to the next, to the right and downwards, that are much greater than the changes on both
    sides."""
    rows, cols = cells.shape
    for r in range(max(first, 2), min(last, rows - 3)):
        for c in range(2, cols - 3):
            z = cells[r, c]
            right = cells[r, c + 1] - z
            if abs(right) >= least:
                calm = max(abs(z - cells[r, c - 1]), abs(cells[r, c - 1] - cells[r, c - 2]))
                calm = max(calm, abs(cells[r, c + 2] - cells[r, c + 1]), abs(cells[r, c + 3] - cells[r, c + 2]))
                if abs(right) > times * calm:  # false where one is empty
                    result[r, c] = right
            below = cells[r + 1, c] - z
            if abs(below) >= least and abs(below) > abs(result[r, c]):
                calm = max(abs(z - cells[r - 1, c]), abs(cells[r - 1, c] - cells[r - 2, c]))
                calm = max(calm, abs(cells[r + 2, c] - cells[r + 1, c]), abs(cells[r + 3, c] - cells[r + 2, c]))
                if abs(below) > times * calm:
                    result[r, c] = below


@kernel
def _grouped(flat, cols, number):
    """Numbers of groups of touching cells, also over corners. flat: their places in rising order. number: `(rows *
    cols,)`, -1 everywhere before and afterwards but for the cells' own places in `flat`."""
    parent = np.empty(flat.size, np.int64)
    for i in range(flat.size):
        parent[i] = i
        place = flat[i]
        number[place] = i
        c = place % cols
        for step in (1, cols - 1, cols, cols + 1):
            if (step == 1 or step == cols + 1) and c == 0:
                continue
            if step == cols - 1 and c == cols - 1:
                continue
            if place - step < 0 or number[place - step] < 0:
                continue
            a, b = number[place - step], i
            while parent[a] != a:
                parent[a] = parent[parent[a]]
                a = parent[a]
            while parent[b] != b:
                parent[b] = parent[parent[b]]
                b = parent[b]
            parent[max(a, b)] = min(a, b)
    for i in range(flat.size):
        parent[i] = parent[parent[i]]
    for i in range(flat.size):
        number[flat[i]] = -1
    return parent


def _groups(mask: Any) -> Iterator[Any]:
    """Places in the flattened mask of each group of touching cells."""
    flat = np.flatnonzero(mask)
    if not flat.size:
        return
    number = np.full(mask.size, -1, np.int64)
    parent = _grouped(flat, mask.shape[1], number)
    order = np.argsort(parent, kind="stable")
    ends = np.flatnonzero(np.diff(parent[order])) + 1
    yield from np.split(flat[order], ends)


def _in_rows(work: Callable[[int, int], None], rows: int) -> None:
    """Do something with bands of rows on all cores."""
    size = max(rows // (4 * cores()), 64)
    with ThreadPoolExecutor(cores()) as pool:
        for done in [pool.submit(work, top, min(top + size, rows)) for top in range(0, rows, size)]:
            done.result()


# -- finders -------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Seen:
    """Cells that a finder looks at."""

    cells: Heights
    grid: Grid
    limits: Limits

    @property
    def metres(self) -> tuple[float, float]:
        return self.grid.metres_per_cell()

    def suspect(self, kind: Kind, places: Any, height: float, at: int, across: float | None = None) -> Suspect:
        """A suspect of cells, by their places in the flattened window. at: which of them is the worst."""
        rows, cols = np.divmod(places, self.cells.shape[1])
        wide, high = self.metres
        east, north = (cols - cols.mean()) * wide, -(rows - rows.mean()) * high
        way, length = _axis(east, north)
        x, y = self.grid.x_of(cols), self.grid.y_of(rows)
        corners = np.concatenate(
            [
                np.stack([x + i * 1.5 * self.grid.cell_width, y + j * 1.5 * self.grid.cell_height], axis=1)
                for i in (-1, 1)
                for j in (-1, 1)
            ]
        )
        hull = shapely.convex_hull(shapely.multipoints(corners))
        ring = [(float(a), float(b)) for a, b in shapely.get_coordinates(hull)[:-1]]
        worst_row, worst_col = divmod(int(at), self.cells.shape[1])
        return Suspect(
            kind,
            float(self.grid.x_of(worst_col)),
            float(self.grid.y_of(worst_row)),
            height,
            len(places),
            length + max(wide, high),
            ring,
            (way + 90) % 180 if across is None else across,
        )


def _axis(east: FloatArray, north: FloatArray) -> tuple[float, float]:
    """Degrees clockwise from north of the longer axis of places about their middle, and their length along it."""
    if east.size < 2:
        return 0.0, 0.0
    values, vectors = np.linalg.eigh(np.cov(np.stack([east, north])) + 1e-12 * np.eye(2))
    a, b = vectors[:, 1]
    along = east * a + north * b
    return float(np.degrees(np.arctan2(a, b)) % 180), float(np.ptp(along))


def _spikes(seen: _Seen) -> Iterator[Suspect]:
    cells = seen.cells
    outs: list[Heights] = []
    steep = max(_STEEP * _RINGS[0][0] * float(np.sqrt(seen.metres[0] * seen.metres[1])), seen.limits.least)
    for ring, apart, beyond in _RINGS:
        turn = np.pi * np.arange(8) / 8
        # the four that are farthest from each other first: most cells are done after two
        turn = turn[[0, 4, 2, 6, 1, 5, 3, 7]]
        down, along = (np.rint(ring * one(turn)).astype(np.int64) for one in (np.sin, np.cos))
        out = np.zeros(cells.shape, np.float32)

        look = partial(_standing_out, cells, down, along, steep, apart, beyond)
        _in_rows(lambda top, bottom, look=look, out=out: look(top, bottom, out), cells.shape[0])  # type: ignore[misc]
        outs.append(out)
    near, far = outs
    # what goes on rising from the nearer ring to the farther one is a hill or a hollow
    out = np.where((np.abs(far) <= _FLAT * np.abs(near)) & (np.sign(far) == np.sign(near)), near, np.float32(0))
    flat = out.ravel()
    for kind, mask in (("spike", out > 0), ("pit", out < 0)):
        for places in _groups(mask):
            at = places[np.argmax(np.abs(flat[places]))]
            yield seen.suspect(kind, places, float(flat[at]), at)  # type: ignore[arg-type]


def _steps(seen: _Seen) -> Iterator[Suspect]:
    cells = seen.cells
    jumps = np.zeros(cells.shape, np.float32)
    _in_rows(lambda top, bottom: _jumps(cells, seen.limits.least, _JUMP, top, bottom, jumps), cells.shape[0])
    flat = jumps.ravel()
    found = jumps != 0
    # a line has gaps where noise hides the jump
    for near in _groups(ndimage.binary_dilation(found, np.ones((3, 3), np.bool_), _GAP)):
        places = near[found.ravel()[near]]
        if len(places) < _LONG:
            continue
        rows, cols = np.divmod(places, cells.shape[1])
        along, length = _axis(cols - cols.mean(), -(rows - rows.mean()))
        a, b = np.sin(np.radians(along)), np.cos(np.radians(along))
        off = (cols - cols.mean()) * b + (rows - rows.mean()) * a
        if length < _LONG or np.sqrt(np.mean(off**2)) > _BENT:
            continue
        height = float(np.median(np.abs(flat[places])))
        at = places[np.argmin(np.hypot(rows - rows.mean(), cols - cols.mean()))]
        yield seen.suspect("step", places, height, at)


def _on_water(seen: _Seen, waters: Sequence[shapely.Polygon]) -> Iterator[Suspect]:
    west, south, east, north = (
        seen.grid.bounds.west,
        seen.grid.bounds.south,
        seen.grid.bounds.east,
        seen.grid.bounds.north,
    )
    view = shapely.box(west, south, east, north)
    for water in waters:
        if not water.intersects(view):
            continue
        # the shore itself is no hump
        inner = water.buffer(-2 * max(seen.grid.cell_width, seen.grid.cell_height))
        if inner.is_empty:
            continue
        on = inside([inner], seen.grid, seen.grid.whole) > 0
        known = on & np.isfinite(seen.cells)
        if known.sum() < 9:
            continue
        level = float(np.percentile(seen.cells[known], 25))
        flat = seen.cells.ravel()
        with np.errstate(invalid="ignore"):
            high = known & (seen.cells - level > _WATER)
        for places in _groups(high):
            at = places[np.argmax(flat[places])]
            yield seen.suspect("water", places, float(flat[at]) - level, at)


def _trees(seen: _Seen) -> Iterator[Suspect]:
    wide, high = seen.metres
    size = max(round(_COARSE / float(np.sqrt(wide * high))), 1)
    rows, cols = (n // size for n in seen.cells.shape)
    if min(rows, cols) < 4:
        return
    blocks = seen.cells[: rows * size, : cols * size].reshape(rows, size, cols, size)
    with np.errstate(invalid="ignore"):
        low = np.fmin.reduce(np.fmin.reduce(blocks, axis=3), axis=1).astype(np.float64)
        top = np.fmax.reduce(np.fmax.reduce(blocks, axis=3), axis=1).astype(np.float64)
    known = np.isfinite(low)
    if not known.any():
        return
    cell = size * float(np.sqrt(wide * high))
    ground, _ = ground_surface(low, cell, Settings(window=_WIDEST, slope=_RISING))
    up = np.where(known, top - ground, 0.0)
    down, along = np.gradient(ground, cell)
    stands = up > _TALL + cell * np.hypot(down, along)
    coarse = Grid(
        seen.grid.crs,
        seen.grid.west,
        seen.grid.north,
        seen.grid.cell_width * size,
        seen.grid.cell_height * size,
        rows,
        cols,
    )
    at_coarse = _Seen(up.astype(np.float32), coarse, seen.limits)
    flat = up.ravel()
    for places in _groups(stands):
        if len(places) < _STAND or not _stands_alone(places, top, low, max(_TALL, _WALL * cell)):
            continue
        at = places[np.argmax(flat[places])]
        found = at_coarse.suspect("trees", places, float(np.median(flat[places])), at)
        yield replace(found, cells=len(places) * size * size)


def _stands_alone(places: Any, top: FloatArray, low: FloatArray, drop: float) -> bool:
    """Whether the ground lies lower by so much on nearly all sides of a group of cells, as it does not along a
    cliff."""
    rows, cols = np.divmod(places, top.shape[1])
    part = np.s_[max(rows.min() - 1, 0) : rows.max() + 2, max(cols.min() - 1, 0) : cols.max() + 2]
    group = np.zeros(top.shape, np.bool_)
    group[rows, cols] = True
    # beyond what is seen the ground may be as high
    inner = np.pad(group[part], 1)
    around = np.pad(low[part], 1, constant_values=np.inf)
    highest = ndimage.maximum_filter(np.where(inner, np.pad(top[part], 1), -np.inf), 3)
    rim = ~inner & np.isfinite(highest) & ~np.isnan(around)
    return bool(rim.any()) and float(np.mean(highest[rim] - around[rim] > drop)) >= _AROUND


def _holes(seen: _Seen) -> Iterator[Suspect]:
    rows, cols = seen.cells.shape
    empty = np.isnan(seen.cells)
    if not empty.any():
        return
    flat = seen.cells.ravel()
    # the largest alone: of a matched surface there are tens of thousands
    for places in sorted(_groups(empty), key=len, reverse=True)[:_MOST]:
        if len(places) < seen.limits.smallest_hole:
            continue
        r, c = np.divmod(places, cols)
        if r.min() == 0 or c.min() == 0 or r.max() == rows - 1 or c.max() == cols - 1:
            continue  # the outside, or what goes on beyond what is seen
        rim = np.unique(np.concatenate([places + step for step in (-1, 1, -cols, cols)]))
        heights = flat[rim]
        heights = heights[np.isfinite(heights)]
        at = places[np.argmin(np.hypot(r - r.mean(), c - c.mean()))]
        yield seen.suspect("hole", places, float(np.ptp(heights)) if heights.size else 0.0, at)


def suspects(
    surface: Surface,
    window: Window | None = None,
    waters: Sequence[shapely.Polygon] = (),
    real: Sequence[shapely.Polygon] = (),
    limits: Limits = Limits(),
    progress: Progress = ignore_progress,
) -> list[Suspect]:
    """What is probably wrong in a surface, worst first.

    Spikes and pits stand out of the means of opposite places around them, which a slope, a ridge and a hill do not.
    Steps are straight lines along which heights jump while they change little on both sides. Walls of trees stand
    above what an opening leaves of the lowest heights, with steep edges. Humps stand above the lower quartile of the
    water they lie in.

    Parameters
    ----------
    surface : Surface
        Heights in metres.
    window : Window, optional
        Where to look; everywhere where not given.
    waters : sequence of shapely.Polygon
        Lakes, in the surface's CRS.
    real : sequence of shapely.Polygon
        Areas in which nothing is suspect.
    limits : Limits
    progress : callable

    Returns
    -------
    list of Suspect
        The worst 400 of each kind.
    """
    window = surface.grid.whole if window is None else window.clipped(surface.grid.rows, surface.grid.cols)
    blocks = [
        Window(row, col, min(_BLOCK, window.row + window.rows - row), min(_BLOCK, window.col + window.cols - col))
        for row in range(window.row, window.row + window.rows, _BLOCK)
        for col in range(window.col, window.col + window.cols, _BLOCK)
    ]
    tree = shapely.STRtree(list(real))

    def look(block: Window) -> list[Suspect]:
        seen_of = block.grown(_HALO).clipped(surface.grid.rows, surface.grid.cols)
        seen = _Seen(surface.read(seen_of), surface.grid.part(seen_of), limits)
        bounds = surface.grid.window_bounds(block)
        return [
            one
            for finder in (_spikes, _steps, _trees, _holes, lambda seen: _on_water(seen, waters))
            for one in finder(seen)
            if bounds.west <= one.x < bounds.east
            and bounds.south < one.y <= bounds.north
            and not tree.query(shapely.Point(one.x, one.y), predicate="within").size
        ]

    surface.prepare()
    found: list[Suspect] = []
    with ThreadPoolExecutor(cores()) as pool:
        for first in range(0, len(blocks), cores()):  # no more at once than are worked on: each holds its cells
            go_on()
            for listed in pool.map(look, blocks[first : first + cores()]):
                found = _worst(found + listed)
            progress(min(first + cores(), len(blocks)) / len(blocks))
    return found


def _worst(listed: list[Suspect]) -> list[Suspect]:
    """The worst of each kind, worst first."""
    counted: Counter[Kind] = Counter()
    kept: list[Suspect] = []
    for one in sorted(listed, key=lambda one: -one.score):
        counted[one.kind] += 1
        if counted[one.kind] <= _MOST:
            kept.append(one)
    return kept


# -- repairs -------------------------------------------------------------------------------------------------------


def proposal(suspect: Suspect, grid: Grid) -> Patch:
    """The patch that would repair a suspect."""
    cell = max(grid.metres_per_cell())
    drawn: dict[str, Any] = {"name": TITLES[suspect.kind], "ring": suspect.ring}
    operator: dict[str, Any]
    if suspect.kind == "step":
        across, up = grid.metres_per_unit()
        way = np.radians(suspect.across + 90)
        half = suspect.length / 2
        ends = [(suspect.x + s * half * np.sin(way) / across, suspect.y + s * half * np.cos(way) / up) for s in (-1, 1)]
        drawn = {
            "name": TITLES["step"],
            "line": [(float(x), float(y)) for x, y in ends],
            "width": 24 * cell,
            "feather": 6 * cell,
        }
        operator = {"kind": "smooth", "how": "gaussian", "radius": 4 * cell}
    elif suspect.kind == "trees":
        operator = {"kind": "clear", "widest": min(max(suspect.length, 20.0), 200.0)}
    elif suspect.kind == "water":
        operator = {"kind": "level", "percentile": 50.0}
    else:
        operator = {"kind": "across", "only_empty": suspect.kind == "hole"}
    return Patch.model_validate(drawn | {"operator": operator})


@dataclass(frozen=True)
class Cross:
    """Heights along a line across a suspect: as they are, and as the proposed patch makes them. distance: metres from
    where it is worst; heights in metres, NaN where empty."""

    distance: FloatArray
    before: FloatArray
    after: FloatArray


def cross(surface: Surface, suspect: Suspect, patch: Patch) -> Cross:
    """Heights across a suspect, with the cells that lie nearest."""
    grid = surface.grid
    wide, high = grid.metres_per_cell()
    half = max(min(suspect.length, 400 * max(wide, high)) * 1.2, 10 * max(wide, high))
    if suspect.kind == "step":
        half = 16 * max(wide, high)
    distance = np.linspace(-half, half, _PROFILE)
    way = np.radians(suspect.across)
    cols = np.rint(grid.col_of(suspect.x) + distance * np.sin(way) / wide).astype(np.int64)
    rows = np.rint(grid.row_of(suspect.y) - distance * np.cos(way) / high).astype(np.int64)
    window = Window(int(rows.min()), int(cols.min()), int(np.ptp(rows)) + 1, int(np.ptp(cols)) + 1)
    after = MendedSurface(surface, [patch], lenient=True)
    return Cross(
        distance,
        *(one.read(window)[rows - window.row, cols - window.col].astype(np.float64) for one in (surface, after)),
    )
