"""Where lines cross streams."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.streams import Streams
from yama.terrain.grid import FloatArray

_ASIDE = 25.0  # metres up and down a stream over which its slope is told
_BESIDE = 1.5  # cells that a line and a stream may be apart to run along each other


@dataclass(frozen=True)
class Crossing:
    """A place at which a line crosses a stream.

    Parameters
    ----------
    line : int
        The number of the line, from 0 on.
    x, y : float
        In the streams' CRS.
    along : float
        Metres from the beginning of the line.
    area : float
        Square metres that drain through the stream there.
    order : int
        After Strahler.
    bed : float
        Height of the stream's bed there, in metres.
    slope : float
        Of the stream there, in percent.
    angle : float
        Between the line and the stream, in degrees from 0 to 90.
    """

    line: int
    x: float
    y: float
    along: float
    area: float
    order: int
    bed: float
    slope: float
    angle: float


def _points(shape: shapely.Geometry) -> list[tuple[float, float]]:
    """Single places of what two lines share; of a stretch its middle."""
    found = []
    for part in shapely.get_parts(shape):
        at = part if part.geom_type == "Point" else part.interpolate(0.5, normalized=True)
        found.append((float(at.x), float(at.y)))
    return found


def _together(
    line: shapely.LineString, first: float, last: float, streams: npt.NDArray[np.object_], reach: float
) -> bool:
    """Whether a stretch of a line runs along streams."""
    places = shapely.line_interpolate_point(line, np.linspace(first, last, 7))
    return bool((shapely.distance(places[:, None], streams[None, :]).min(axis=1) <= reach).all())


def _bearing(line: shapely.LineString, at: float, step: float) -> FloatArray:
    one, other = line.interpolate(max(at - step, 0.0)), line.interpolate(min(at + step, line.length))
    way = np.array([other.x - one.x, other.y - one.y])
    return way / (np.hypot(*way) or 1.0)


def crossings(lines: Sequence[shapely.LineString], streams: Streams, counts: npt.NDArray[np.int32]) -> list[Crossing]:
    """Where lines cross streams, line by line, from the beginning of each.

    Parameters
    ----------
    lines : sequence of LineString
        In the CRS of the streams.
    streams : Streams
    counts : ndarray, shape (rows, cols)
        How many cells drain through each.

    Returns
    -------
    list of Crossing
        A line that runs along a stream crosses it once, in the middle of what they share.
    """
    if not len(streams):
        return []
    grid = streams.grid
    links = streams.lines()
    tree = shapely.STRtree(links)
    across, along = grid.metres_per_unit()
    ground = float(np.prod(grid.metres_per_cell()))
    cell = min(grid.cell_width, grid.cell_height)
    metres = float(np.sqrt(across * along))
    told = []
    for number, line in enumerate(lines):
        places: list[tuple[float, float, float, int]] = []
        for link in tree.query(line, predicate="intersects").tolist():
            for x, y in _points(shapely.intersection(line, links[link])):
                places.append((float(line.project(shapely.Point(x, y))), x, y, link))
        places.sort()
        last: dict[int, float] = {}
        for at, x, y, link in places:
            # a stream that goes on below a junction is the same one there
            near = [link, int(streams.below[link]), *np.flatnonzero(streams.below == link).tolist()]
            before = max((last[one] for one in near if one in last), default=None)
            last[link] = at
            if before is not None and _together(
                line, before, at, links[[one for one in near if one >= 0]], _BESIDE * cell
            ):
                continue
            told.append(_crossing(number, line, at, x, y, link, streams, links[link], counts, ground, metres))
    return told


def _crossing(
    number: int, line: shapely.LineString, at: float, x: float, y: float, link: int, streams: Streams,
    stream: shapely.LineString, counts: npt.NDArray[np.int32], ground: float, metres: float,
) -> Crossing:  # fmt: skip
    grid = streams.grid
    first, last = int(streams.starts[link]), int(streams.starts[link + 1])
    cells = streams.cells[first:last]
    rows, cols = np.divmod(cells, grid.cols)
    away = np.hypot(grid.x_of(cols) - x, grid.y_of(rows) - y)
    nearest = int(np.argmin(away))
    here = float(stream.project(shapely.Point(x, y)))
    share = here / stream.length
    bed = float(streams.top[link] + (streams.bottom[link] - streams.top[link]) * share)
    slope = float((streams.top[link] - streams.bottom[link]) / max(streams.length[link], 1e-9) * 100)
    step = _ASIDE / metres
    one, other = _bearing(line, at, step), _bearing(stream, here, step)
    angle = float(np.degrees(np.arccos(np.clip(abs(float(one @ other)), 0.0, 1.0))))
    area = float(counts[int(rows[nearest]), int(cols[nearest])]) * ground
    return Crossing(number, x, y, at * metres, area, int(streams.order[link]), bed, slope, angle)
