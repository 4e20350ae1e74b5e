"""Positions as people type them."""

from __future__ import annotations

import re

import numpy as np

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, parse_crs, turn_between

_ONE = re.compile(
    r"""\s*(?P<before>[NSEW])?\s*(?P<sign>[-+\u2212])?\s*(?P<whole>\d+(?:\.\d+)?)
    (?:\s*(?P<degrees>[°º]|deg\b|d\b))?
    (?:\s*(?P<minutes>\d+(?:\.\d+)?)\s*['\u2032\u2019])?
    (?:\s*(?P<seconds>\d+(?:\.\d+)?)\s*(?:["\u2033\u201d]|''))?
    (?(before)|(?:\s*(?P<after>[NSEW]))?)\s*""",
    re.VERBOSE | re.IGNORECASE,
)
_BETWEEN = re.compile(r"\s*[,;/]?\s*")


def read_position(text: str, grid: Grid) -> tuple[float, float]:
    """A position that was typed, as coordinates of a frame.

    Parameters
    ----------
    text : str
        Two numbers. Degrees, in any common form: ``41.25 S 62.4 E``, ``41°15'30"S, 62°24'E``, ``-41.25, 62.4`` (latitude first where
        no letter says which is which). Or east and north of the frame: ``448000 5438000``, ``N 5438000 E 448000``.
    grid : Grid
        The frame's cells; its CRS is that of the result.

    Returns
    -------
    x, y : float
        Within the grid.

    Raises
    ------
    InputError
        Where the text is no position, or lies outside the frame.

    Examples
    --------
    >>> grid = Grid("EPSG:32741", 440_000.0, 5_440_000.0, 10.0, 10.0, 2_000, 2_000)
    >>> read_position("E 448000 N 5438000", grid)
    (448000.0, 5438000.0)
    """
    first = _ONE.match(text)
    between = _BETWEEN.match(text, first.end()) if first else None
    second = _ONE.fullmatch(text, between.end()) if between else None
    if first is None or second is None:
        raise InputError(
            f"{text.strip()[:60]!r} is no position. Type degrees, such as 41.25 S 62.4 E, or east and north."
        )
    letters = [_letter(one) for one in (first, second)]
    values = [_value(one) for one in (first, second)]
    axes = ["" if not one else "x" if one in "EW" else "y" for one in letters]
    if bool(axes[0]) != bool(axes[1]) or (axes[0] and axes[0] == axes[1]):
        raise InputError(
            f"{text.strip()[:60]!r} does not say both east and north. Give a letter to both numbers, or to neither."
        )
    geographic = parse_crs(grid.crs).is_geographic
    marked = any(one[name] for one in (first, second) for name in ("degrees", "minutes", "seconds"))
    small = abs(values[0]) <= 180 and abs(values[1]) <= 180
    if marked or small or geographic:
        across_first = axes[0] == "x"
        longitude, latitude = (values[0], values[1]) if across_first else (values[1], values[0])
        if abs(latitude) > 90 or abs(longitude) > 180:
            raise InputError(
                f"{text.strip()[:60]!r} lies beyond 90° of latitude or 180° of longitude. Without letters, latitude comes first."
            )
        x, y = (float(value) for value in turn_between("EPSG:4326", grid.crs).transform(longitude, latitude))
    else:
        x, y = (values[1], values[0]) if axes[0] == "y" else (values[0], values[1])
    if not (np.isfinite(x) and np.isfinite(y)) or not grid.bounds.holds(x, y):
        raise InputError(f"{text.strip()[:60]!r} lies outside the frame.")
    return x, y


def _letter(found: re.Match[str]) -> str:
    return (found["before"] or found["after"] or "").upper()


def _value(found: re.Match[str]) -> float:
    minutes, seconds = float(found["minutes"] or 0), float(found["seconds"] or 0)
    if minutes >= 60 or seconds >= 60:
        raise InputError(f"{found[0].strip()[:60]!r} has 60 minutes or seconds, or more.")
    value = float(found["whole"]) + minutes / 60 + seconds / 3600
    turned = (found["sign"] or "+") != "+"
    return -value if turned != (_letter(found) in ("S", "W")) else value
