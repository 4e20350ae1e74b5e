"""Profiles: heights of surfaces along a line."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, Grid, ground_lengths, ground_of, parse_crs
from yama.terrain.surface import Surface, sample
from yama.terrain.units import UNITS

MOST_SAMPLES = 20_000
MOST_VERTICES = 100_000


@dataclass(frozen=True)
class Track:
    """Places along a line. distance: metres on the ground from its start; x, y: in the line's CRS. step: metres from one
    to the next, but for the last, at the line's end, which is nearer."""

    distance: FloatArray
    x: FloatArray
    y: FloatArray
    step: float


@dataclass(frozen=True)
class Course:
    """One surface along a track. heights: `(places,)`, NaN where empty. climb, fall: sums of all that goes up and down, as
    positive numbers; steepest: the greatest gradient of a step, in per cent. None where there is no height."""

    heights: FloatArray
    lowest: float | None
    highest: float | None
    mean: float | None
    climb: float | None
    fall: float | None
    steepest: float | None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values, heights rounded to millimetres and None where empty."""
        rounded = self.heights.round(3).astype(object)
        rounded[np.isnan(self.heights)] = None
        return {**vars(self), "heights": rounded.tolist()}


_SHORTEST = 1e-6
"""Of a step: less than that at the end of a line is rounding, and no place of its own."""
_PARTS, _MOST_PARTS = 64, 20_000
"""Of each side of a line, and of all of it, where the CRS stretches the ground."""


def _measured(places: FloatArray, crs: str) -> tuple[FloatArray, FloatArray]:
    """Corners of a line, and how far along the ground each is, in metres. Where the CRS stretches the ground the line has more
    corners, between which it does so evenly."""
    bounds = Bounds(*places.min(axis=0).tolist(), *places.max(axis=0).tolist())
    unit = ground_of(crs, bounds).unit
    if unit is None:
        between = np.linspace(0, 1, min(max(_MOST_PARTS // len(places), 2), _PARTS), endpoint=False)[1:]
        every = np.arange(len(places), dtype=np.float64)
        corners = np.sort(np.concatenate([every, (every[:-1, None] + between).ravel()]))
        places = np.column_stack([np.interp(corners, every, places[:, i]) for i in (0, 1)])
    steps = np.diff(places, axis=0)
    if unit is None:
        middle = (places[1:] + places[:-1]) / 2
        across, up = ground_lengths(crs, middle[:, 0], middle[:, 1])
        steps = steps * np.column_stack([across, up])
    else:
        steps = steps * unit
    return places, np.concatenate([[0.0], np.cumsum(np.hypot(*steps.T))])


def track(line: npt.ArrayLike, crs: str, step: float) -> Track:
    """Places every `step` metres along a line `(vertices, 2)`, and its end; farther apart where they would be more than
    MOST_SAMPLES. Raises InputError for fewer than two different places, or numbers that are none."""
    places = np.asarray(line, np.float64)
    if len(places) > MOST_VERTICES:
        raise InputError(
            f"A profile's line has at most {MOST_VERTICES} corners, and this one {len(places)}. Take a part of it."
        )
    if places.ndim != 2 or places.shape[1] != 2:
        raise InputError("The corners of a profile's line are pairs of x and y.")
    if not np.isfinite(places).all():
        raise InputError("The corners of a profile's line must be numbers.")
    if len(places):
        places, along = _measured(places, crs)
    else:
        along = np.zeros(1)
    length = float(along[-1])
    if len(places) < 2 or length <= 0:
        raise InputError("A profile needs a line of two different places.")
    step = max(step, length / (MOST_SAMPLES - 1))
    whole = int(length / step * (1 + 1e-12))
    distance = step * np.arange(whole + 1, dtype=np.float64)
    if length - distance[-1] > _SHORTEST * step or not whole:
        distance = np.append(distance, length)
    distance[-1] = length
    x, y = (np.interp(distance, along, places[:, i]) for i in (0, 1))
    return Track(distance, x, y, float(step))


def _course(heights: FloatArray, along: Track, metres: float) -> Course:
    known = heights[~np.isnan(heights)]
    if not known.size:
        return Course(heights, None, None, None, None, None, None)
    rise, run = np.diff(heights), np.diff(along.distance)
    if rise.size > 1 and run[-1] < 0.5 * along.step:
        run[-1] = along.step  # what is left at the end is too short for a gradient of its own
    run = run[~np.isnan(rise)]
    rise = rise[~np.isnan(rise)]
    return Course(
        heights, float(known.min()), float(known.max()), float(known.mean()), float(rise[rise > 0].sum()),
        float(-rise[rise < 0].sum()) + 0.0, float((np.abs(rise) / run).max() * metres * 100) if rise.size else None,
    )  # fmt: skip


def courses(surfaces: Sequence[Surface], along: Track, crs: str, nearest: bool = False) -> list[Course]:
    """Bilinear heights of surfaces along a track, or those of the nearest cells, each read in its own CRS and at its own cells."""

    def one(surface: Surface) -> Course:
        x, y = along.x, along.y
        if parse_crs(surface.grid.crs) != parse_crs(crs):
            x, y = Transformer.from_crs(parse_crs(crs), parse_crs(surface.grid.crs), always_xy=True).transform(x, y)
        return _course(sample(surface, x, y, nearest), along, UNITS.get(surface.unit, 1.0))

    # one after the other: a thread that is new has no file open, and opening them takes longer than the reading
    return [one(surface) for surface in surfaces]


def finest(grids: Sequence[Grid]) -> float:
    """The smallest cell of some grids, in metres."""
    return min(min(grid.metres_per_cell()) for grid in grids)
