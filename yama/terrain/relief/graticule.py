"""Lines of equal coordinates over a map: round figures of its CRS, or of longitude and latitude."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from pyproj import CRS, Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, horizontal, parse_crs

Kind = Literal["coordinates", "degrees"]
Axis = Literal["x", "y"]

_CORNERS = 48  # pieces that a line is drawn in; it bends evenly between its ends
_MOST = 400  # lines of either direction
_STEPS = (1.0, 2.0, 5.0)
_SECONDS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 18000, 36000, 54000, 108000)
"""Round steps of an angle, in seconds; finer ones are decimal."""
_NEAR = 1e-6  # of a side: as near as a line's end must come to it


@dataclass(frozen=True)
class GraticuleLine:
    """A line along which one coordinate stays the same.

    Parameters
    ----------
    axis : {"x", "y"}
        The coordinate that stays the same: x is east or longitude, y north or latitude.
    value : float
        In units of the CRS, or in degrees.
    text : str
        The value as it stands at the line.
    places : ndarray, shape (places, 2)
        In coordinates of the map, within its bounds.
    """

    axis: Axis
    value: float
    text: str
    places: FloatArray


def graticule(crs: str, bounds: Bounds, kind: Kind, about: int = 6) -> list[GraticuleLine]:
    """Lines of equal coordinates within bounds.

    Parameters
    ----------
    crs : str
        Of the map.
    bounds : Bounds
        In its units.
    kind : {"coordinates", "degrees"}
        Of the CRS itself, or longitude and latitude on its ellipsoid. A geographic CRS has degrees in both cases.
    about : int
        How many lines there are at most across the longer side.

    Returns
    -------
    list of GraticuleLine
        The same step lies between lines of both directions: the least round one that gives so few.

    Raises
    ------
    InputError
        Where the bounds are no rectangle, or the CRS does not hold all over them.
    """
    if not (np.isfinite(bounds).all() and bounds.west < bounds.east and bounds.south < bounds.north):
        raise InputError("The area must be four numbers: west, south, east, north.")
    known = horizontal(parse_crs(crs))
    box = shapely.box(*bounds)
    if kind == "coordinates" and not known.is_geographic:
        step = _round_step(max(bounds.east - bounds.west, bounds.north - bounds.south) / about)
        decimals = max(0, -math.floor(math.log10(step) + 1e-9))
        return [
            GraticuleLine(axis, value, _plain(value, decimals, "E" if axis == "x" else "N"), places)
            for axis, value in _values(bounds, step)
            for places in _within(_straight(axis, value, bounds), box)
        ]
    if known.is_geographic:  # its own degrees, wherever it counts them from
        turn, around = None, bounds
    else:
        turn = _from_degrees(known)
        west, south, east, north = turn.transform_bounds(*bounds, densify_pts=_CORNERS, direction="INVERSE")
        around = Bounds(west, south, east + 360 if east < west else east, north)
        if not np.isfinite(around).all():
            raise InputError("The CRS does not hold all over this view. Look closer.")
    unit = known.axis_info[0].unit_conversion_factor * 180 / math.pi if known.is_geographic else 1.0
    longest = max(around.east - around.west, around.north - around.south) * unit
    step = _round_angle(longest / about) / unit
    found = []
    for axis, value in _values(around, step):
        line = _straight(axis, value, around)
        if turn is not None:
            line = np.column_stack(turn.transform(line[:, 0], line[:, 1]))
        text = degrees_in_words(value * unit, axis, step * unit)
        found += [GraticuleLine(axis, value, text, places) for places in _within(line, box)]
    return found


def ends_of(lines: list[GraticuleLine], bounds: Bounds) -> dict[str, list[tuple[float, str]]]:
    """Where lines of equal x meet the lower and the upper side of bounds, and lines of equal y the left and the right one: by
    `south`, `north`, `west` and `east` the place along the side, as a share from the west or the north, with its
    figure."""
    wide, high = bounds.east - bounds.west, bounds.north - bounds.south
    found: dict[str, list[tuple[float, str]]] = {"south": [], "north": [], "west": [], "east": []}
    for line in lines:
        for x, y in (line.places[0], line.places[-1]):
            across, down = (x - bounds.west) / wide, (bounds.north - y) / high
            if line.axis == "x":
                side = "north" if down < _NEAR else "south" if down > 1 - _NEAR else ""
                at = across
            else:
                side = "west" if across < _NEAR else "east" if across > 1 - _NEAR else ""
                at = down
            if side:
                found[side].append((float(at), line.text))
    return {side: sorted(set(ends)) for side, ends in found.items()}


def lonlat(crs: str, x: float, y: float) -> tuple[float, float]:
    """Longitude and latitude of a place on the ellipsoid of its CRS, in degrees; infinite where the CRS does not reach."""
    known = horizontal(parse_crs(crs))
    if known.is_geographic:
        unit = known.axis_info[0].unit_conversion_factor * 180 / math.pi
        return x * unit, y * unit
    east, north = _from_degrees(known).transform(x, y, direction="INVERSE")
    return float(east), float(north)


def _from_degrees(known: CRS) -> Transformer:
    """From longitude and latitude on the ellipsoid of a projected CRS to its coordinates."""
    geodetic = known.geodetic_crs
    assert geodetic is not None
    return Transformer.from_crs(geodetic, known, always_xy=True)


def degrees_in_words(value: float, axis: Axis, step: float) -> str:
    """Degrees with minutes and seconds, as far as a step of so many degrees needs them, and the letter of the hemisphere."""
    if axis == "x":
        value = (value + 180) % 360 - 180
    letter = ("W" if value < 0 else "E") if axis == "x" else ("S" if value < 0 else "N")
    least = step * 3600
    decimals = max(0, -math.floor(math.log10(least) + 1e-9)) if least < 1 else 0
    seconds = round(abs(value) * 3600, decimals)
    degrees, seconds = divmod(seconds, 3600)
    minutes, seconds = divmod(round(seconds, decimals), 60)
    text = f"{degrees:.0f}°"
    if least % 3600 > 1e-6:
        text += f"{minutes:02.0f}\u2032"
    if least % 60 > 1e-6:
        text += f"{round(seconds, decimals):0{3 + decimals if decimals else 2}.{decimals}f}\u2033"
    return f"{text} {letter}" if value or axis == "x" else text


def _plain(value: float, decimals: int, letter: str) -> str:
    text = f"{value:,.{decimals}f}".replace(",", "\u202f").replace("-", "\u2212")
    return f"{text} {letter}"


def _round_step(least: float) -> float:
    """1, 2 or 5 times a power of ten, not less than so much."""
    power = 10.0 ** math.floor(math.log10(least))
    return next((one * power for one in _STEPS if one * power >= least * (1 - 1e-9)), 10 * power)


def _round_angle(least: float) -> float:
    """Degrees of a round step, not less than so many."""
    if least * 3600 <= 1:
        return _round_step(least * 3600) / 3600
    return next((one / 3600 for one in _SECONDS if one >= least * 3600 * (1 - 1e-9)), 30.0)


def _values(bounds: Bounds, step: float) -> list[tuple[Axis, float]]:
    """Multiples of a step in either direction."""
    found: list[tuple[Axis, float]] = []
    sides: tuple[tuple[Axis, float, float], ...] = (
        ("x", bounds.west, bounds.east),
        ("y", bounds.south, bounds.north),
    )
    for axis, low, high in sides:
        first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
        found += [(axis, number * step) for number in range(first, min(last, first + _MOST) + 1)]
    return found


def _straight(axis: Axis, value: float, bounds: Bounds) -> FloatArray:
    """A line through bounds along which one coordinate stays the same."""
    if axis == "x":
        along = np.linspace(bounds.south, bounds.north, _CORNERS + 1)
        return np.column_stack([np.full_like(along, value), along])
    along = np.linspace(bounds.west, bounds.east, _CORNERS + 1)
    return np.column_stack([along, np.full_like(along, value)])


def _within(line: FloatArray, box: shapely.Polygon) -> list[FloatArray]:
    """The parts of a line inside a box. Where it has no place on the map, or jumps from one rim of the earth to the other, it is
    broken."""
    west, south, east, north = box.bounds
    far = np.hypot(*np.diff(line, axis=0).T) > 2 * math.hypot(east - west, north - south)
    breaks = np.flatnonzero(far | ~np.isfinite(line[1:]).all(1) | ~np.isfinite(line[:-1]).all(1)) + 1
    found: list[FloatArray] = []
    for piece in np.split(line, breaks):
        piece = piece[np.isfinite(piece).all(1)]
        if len(piece) < 2:
            continue
        shown = shapely.line_merge(shapely.intersection(shapely.LineString(piece), box))
        found += [
            shapely.get_coordinates(shapely.simplify(part, 0.0))
            for part in shapely.get_parts(shown)
            if part.geom_type == "LineString" and part.length > 0
        ]
    return found
