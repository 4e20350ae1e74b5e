"""How alike two networks of lines are.

Shares of a length within a distance of the other one, both ways: M. Goodchild and G. Hunter, "A simple positional
accuracy measure for linear features", International Journal of Geographical Information Science 11 (1997).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import FloatArray

_STEPS = 4  # places on a line within the distance that is asked for
_LONG = 3.0  # times that distance that a stretch is long at least to be told
_MOST = 2_000_000


@dataclass(frozen=True)
class Parting:
    """A stretch along which a network is away from the other one.

    Parameters
    ----------
    x, y : float
        Its farthest place.
    away : float
        How far that is from the other network, in metres.
    length : float
        Metres of the stretch.
    of_reference : bool
        Whether it is the reference that is not found; else the network goes where the reference is not.
    """

    x: float
    y: float
    away: float
    length: float
    of_reference: bool


@dataclass(frozen=True)
class Likeness:
    """How alike a network is to a reference.

    Parameters
    ----------
    found : float
        Share of the reference's length that lies within the distance of the network.
    own_near : float
        Share of the network's own length that lies within the distance of the reference.
    mean, median : float
        Metres from the network to the reference, over its length.
    length, reference_length : float
        In metres.
    partings : tuple of Parting
        The longest first.
    """

    found: float
    own_near: float
    mean: float
    median: float
    length: float
    reference_length: float
    partings: tuple[Parting, ...]


def plain_lines(given: Sequence[Features], crs: str) -> list[shapely.LineString]:
    """The single lines among features, in a CRS."""
    return [line for one in given for line in _plain(list(one.in_crs(crs).geometries))]


def _plain(lines: Sequence[shapely.Geometry]) -> npt.NDArray[np.object_]:
    """Single lines, without empty ones and such of no length."""
    parts = shapely.get_parts(np.array(list(lines), object))
    lines_only = parts[shapely.get_type_id(parts) == shapely.GeometryType.LINESTRING]
    found: npt.NDArray[np.object_] = lines_only[shapely.length(lines_only) > 0]
    return found


def _pieces(lines: npt.NDArray[np.object_], step: float) -> tuple[FloatArray, FloatArray, npt.NDArray[np.int64]]:
    """Middles of short pieces of lines, their lengths, and of which line each is."""
    fine = shapely.segmentize(lines, step)
    places, of = shapely.get_coordinates(fine, return_index=True)
    goes_on = of[1:] == of[:-1]
    middles = (places[1:] + places[:-1])[goes_on] / 2
    lengths = np.hypot(*(places[1:] - places[:-1]).T)[goes_on]
    return middles, lengths, of[1:][goes_on]


def _away(middles: FloatArray, from_lines: npt.NDArray[np.object_], step: float) -> FloatArray:
    """Distances of places to the nearest of some lines."""
    # short lines have small boxes, so that few must be looked at
    fine = shapely.segmentize(from_lines, 20 * step)
    places, of = shapely.get_coordinates(fine, return_index=True)
    goes_on = np.flatnonzero(of[1:] == of[:-1])
    pairs = np.stack([places[goes_on], places[goes_on + 1]], axis=1)
    tree = shapely.STRtree(shapely.linestrings(pairs))
    _, found = tree.query_nearest(shapely.points(middles), return_distance=True, all_matches=False)
    away: FloatArray = found
    return away


def _partings(
    middles: FloatArray,
    lengths: FloatArray,
    of: npt.NDArray[np.int64],
    away: FloatArray,
    within: float,
    reference: bool,
) -> list[Parting]:
    off = away > within
    if not off.any():
        return []
    begins = off & np.append(True, ~off[:-1] | (of[1:] != of[:-1]))
    stretch = np.cumsum(begins) - 1
    told = []
    count = int(stretch[-1]) + 1
    sums = np.bincount(stretch[off], lengths[off], count)
    for number in np.flatnonzero(sums >= _LONG * within):
        own = np.flatnonzero(off & (stretch == number))
        far = own[np.argmax(away[own])]
        told.append(
            Parting(float(middles[far, 0]), float(middles[far, 1]), float(away[far]), float(sums[number]), reference)
        )
    return told


def apart_from(
    lines: npt.NDArray[np.object_],
    others: npt.NDArray[np.object_],
    within: float,
    scale: tuple[float, float] = (1.0, 1.0),
) -> tuple[npt.NDArray[np.object_], npt.NDArray[np.int64]]:
    """The stretches of lines that lie farther than a distance from all of some others.

    Parameters
    ----------
    lines, others : ndarray of LineString
        In one CRS.
    within : float
        Metres.
    scale : tuple of float
        Metres in a unit of x and of y.

    Returns
    -------
    stretches : ndarray of LineString
    of : ndarray of int64
        The line of each.

    Raises
    ------
    InputError
        Where they are too long to be compared within so small a distance.
    """
    if not len(lines) or not len(others):
        return lines, np.arange(len(lines))
    metres = np.array(scale)
    own, other = (shapely.transform(given, lambda at: at * metres) for given in (lines, others))
    step = within / _STEPS
    _refuse_too_long(own, other, step)
    places, of = shapely.get_coordinates(shapely.segmentize(own, step), return_index=True)
    goes_on = of[1:] == of[:-1]
    off = np.zeros(len(places), np.bool_)  # of the piece from each place on
    middles = (places[1:] + places[:-1])[goes_on] / 2
    off[np.flatnonzero(goes_on)] = _away(middles, other, step) > within
    begins = np.flatnonzero(off & ~np.append(False, off[:-1]))
    ends = np.flatnonzero(~off & np.append(False, off[:-1]))
    made = np.empty(len(begins), object)
    for number, (first, last) in enumerate(zip(begins.tolist(), ends.tolist(), strict=True)):
        made[number] = shapely.LineString(places[first : last + 1] / metres)
    return made, of[begins]


def _refuse_too_long(own: npt.NDArray[np.object_], other: npt.NDArray[np.object_], step: float) -> None:
    if (float(shapely.length(own).sum()) + float(shapely.length(other).sum())) / step > _MOST:
        raise InputError("These lines are too long to be compared within so small a distance. Choose a larger one.")


def likeness(
    lines: Sequence[shapely.Geometry],
    reference: Sequence[shapely.Geometry],
    within: float,
    scale: tuple[float, float] = (1.0, 1.0),
) -> Likeness:
    """How alike a network is to a reference.

    Parameters
    ----------
    lines, reference : sequence of LineString or MultiLineString
        In one CRS.
    within : float
        Metres.
    scale : tuple of float
        Metres in a unit of x and of y.

    Raises
    ------
    InputError
        Where one of them has no lines, or is too long to be compared within so small a distance.
    """
    if not within > 0:
        raise InputError("The distance within which lines count as found must be above 0 m.")
    metres = np.array(scale)
    own, other = (
        shapely.transform(_plain(given), lambda at: at * metres) if len(given) else np.empty(0, object)
        for given in (lines, reference)
    )
    if not own.size or not other.size:
        raise InputError("There are no lines to compare." if not own.size else "The reference has no lines.")
    step = within / _STEPS
    _refuse_too_long(own, other, step)
    middles, lengths, of = _pieces(own, step)
    away = _away(middles, other, step)
    told, known, which = _pieces(other, step)
    missed = _away(told, own, step)
    order = np.argsort(away)
    half = np.searchsorted(np.cumsum(lengths[order]), lengths.sum() / 2)
    partings = [
        *_partings(middles, lengths, of, away, within, False),
        *_partings(told, known, which, missed, within, True),
    ]
    partings.sort(key=lambda one: -one.length)
    return Likeness(
        float(known[missed <= within].sum() / known.sum()),
        float(lengths[away <= within].sum() / lengths.sum()),
        float((away * lengths).sum() / lengths.sum()),
        float(away[order][min(half, len(order) - 1)]),
        float(lengths.sum()),
        float(known.sum()),
        tuple(
            Parting(one.x / metres[0], one.y / metres[1], one.away, one.length, one.of_reference) for one in partings
        ),
    )
