"""Where lines cross streams."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.drain.links import Numbers
from yama.terrain.drain.streams import Streams
from yama.terrain.grid import FloatArray
from yama.terrain.surface import Heights

_ASIDE = 25.0  # metres to both sides of a crossing over which slope and angle are told
_PROFILE = 100.0  # metres of the bed to both sides of a crossing
_BESIDE = 1.5  # cells that a line and a stream may be apart to run along each other


@dataclass(frozen=True)
class Crossing:
    """A place at which a line crosses a stream.

    Parameters
    ----------
    line : int
        The number of the line, from 0 on.
    link : int
        The link of the network that it crosses.
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
    link: int
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


def _bearing(line: shapely.LineString, at: float) -> FloatArray:
    one, other = line.interpolate(max(at - _ASIDE, 0.0)), line.interpolate(min(at + _ASIDE, line.length))
    way = np.array([other.x - one.x, other.y - one.y])
    return way / (np.hypot(*way) or 1.0)


def crossings(
    lines: Sequence[shapely.LineString], streams: Streams, heights: Heights, counts: npt.NDArray[np.int32]
) -> list[Crossing]:
    """Where lines cross streams, line by line, from the beginning of each.

    Parameters
    ----------
    lines : sequence of LineString
        In the CRS of the streams.
    streams : Streams
    heights : ndarray, shape (rows, cols)
        Conditioned, in metres.
    counts : ndarray, shape (rows, cols)
        How many cells drain through each.

    Returns
    -------
    list of Crossing
        A line that runs along a stream crosses it once, in the middle of what they share.
    """
    if not len(streams):
        return []
    scale = np.array(streams.grid.metres_per_unit())
    links = shapely.transform(streams.lines(), lambda at: at * scale)
    tree = shapely.STRtree(links)
    reach = _BESIDE * min(streams.grid.metres_per_cell())
    told = []
    for number, given in enumerate(lines):
        line = shapely.transform(given, lambda at: at * scale)
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
            around = links[[one for one in near if one >= 0]]
            if before is not None and _together(line, before, at, around, reach):
                continue
            one, other = _bearing(line, at), _bearing(links[link], float(links[link].project(shapely.Point(x, y))))
            angle = float(np.degrees(np.arccos(np.clip(abs(float(one @ other)), 0.0, 1.0))))
            area, bed, slope = _bed(streams, link, np.array([x, y]) / scale, heights, counts)
            order = int(streams.order[link])
            told.append(Crossing(number, link, x / scale[0], y / scale[1], at, area, order, bed, slope, angle))
    return told


def bed_profile(crossing: Crossing, streams: Streams, heights: Heights, reach: float = _PROFILE) -> FloatArray:
    """Along the bed of a crossed stream, from so many metres above its crossing to as many below: metres from there,
    less than 0 above, and heights, `(places, 2)`. Above a junction it follows the stream that drains most."""
    grid = streams.grid

    def cells(link: int) -> Numbers:
        return streams.cells[streams.starts[link] : streams.starts[link + 1]]

    path = cells(crossing.link)
    scale = np.array(grid.metres_per_unit())

    def metres(path: Numbers) -> tuple[FloatArray, float]:
        """Along a path, and where on it the crossing lies."""
        rows, cols = np.divmod(path, grid.cols)
        at = np.column_stack([grid.x_of(cols), grid.y_of(rows)]) * scale
        line = shapely.LineString(at)
        along = np.append(0.0, np.cumsum(np.hypot(*np.diff(at, axis=0).T)))
        return along, float(line.project(shapely.Point(crossing.x * scale[0], crossing.y * scale[1])))

    top, bottom = crossing.link, crossing.link
    along, here = metres(path)
    while along[-1] - here < reach and streams.below[bottom] >= 0:
        bottom = int(streams.below[bottom])
        path = np.append(path[:-1], cells(bottom))
        along, here = metres(path)
    while here < reach and len(above := np.flatnonzero(streams.below == top)):
        top = int(above[np.argmax(streams.area[above])])
        path = np.append(cells(top)[:-1], path)
        along, here = metres(path)
    rows, cols = np.divmod(path, grid.cols)
    near = np.abs(along - here) <= reach
    told: FloatArray = np.column_stack([along - here, heights[rows, cols]])[near]
    return told


def _bed(
    streams: Streams, link: int, place: FloatArray, heights: Heights, counts: npt.NDArray[np.int32]
) -> tuple[float, float, float]:
    """What drains through the cell of a link that is nearest to a place, in square metres; its height; and how steeply
    the link falls there, in percent."""
    grid = streams.grid
    scale = np.array(grid.metres_per_unit())
    rows, cols = np.divmod(streams.cells[streams.starts[link] : streams.starts[link + 1]], grid.cols)
    at = np.column_stack([grid.x_of(cols), grid.y_of(rows)]) * scale
    nearest = int(np.argmin(np.hypot(*(at - place * scale).T)))
    along = np.append(0.0, np.cumsum(np.hypot(*np.diff(at, axis=0).T)))
    near = np.flatnonzero(np.abs(along - along[nearest]) <= _ASIDE)
    first, last = (near[0], near[-1]) if near[-1] > near[0] else (0, len(at) - 1)
    fall = float(heights[rows[first], cols[first]]) - float(heights[rows[last], cols[last]])
    area = float(counts[rows[nearest], cols[nearest]]) * float(np.prod(grid.metres_per_cell()))
    return area, float(heights[rows[nearest], cols[nearest]]), 100 * fall / float(along[last] - along[first])
