"""Classes into which places are split: by what covers the ground, by slope, aspect, height, and distance to data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.grid import FloatArray
from yama.terrain.judge.places import Judged, Places
from yama.terrain.points import Points

SplitName = Literal["none", "cover", "slope", "aspect", "height", "distance", "polygon"]
_MOST = 12
_SLOPES = (5.0, 15.0, 30.0, 45.0)
_ASPECTS = ("N", "E", "S", "W")
_STEPS = (1.0, 2.0, 5.0)
_WANTED = 5


@dataclass(frozen=True)
class Split:
    """Classes of places.

    Parameters
    ----------
    title : str
        By what they are split.
    names : tuple of str
        Of the classes.
    of : ndarray of int, shape (places,)
        Which class each place is of; -1 where none.
    """

    title: str
    names: tuple[str, ...]
    of: npt.NDArray[np.int64]

    @property
    def counts(self) -> list[int]:
        """Places of each class."""
        return [int((self.of == number).sum()) for number in range(len(self.names))]


def none_of(places: Places) -> Split:
    """No classes at all."""
    return Split("nothing", (), np.full(len(places), -1, np.int64))


def by_cover(covers: npt.NDArray[np.str_], title: str = "land cover") -> Split:
    """Classes by a text each, those of most places first; the rarest together where there are too many."""
    if not covers.size:
        raise InputError("The points say nothing of what covers the ground: they have no codes. Split by polygons.")
    names, number, counts = np.unique(covers, return_inverse=True, return_counts=True)
    order = [int(i) for i in np.argsort(-counts, kind="stable") if names[i]]
    kept = order[:_MOST]
    place = np.full(len(names), -1, np.int64)
    place[kept] = np.arange(len(kept))
    titles = [str(names[i]) for i in kept]
    if len(order) > _MOST:
        place[order[_MOST:]] = len(kept)
        titles.append("others")
    return Split(title, tuple(titles), place[number])


def by_polygons(features: Sequence[Features], column: str, places: Places) -> Split:
    """Classes by the polygon that each place lies in: by a column of theirs, or one by one where there is none. Of
    several polygons the last one counts."""
    found = np.full(len(places), "", "U40")
    for one in features:
        there = one.in_crs(places.crs)
        names = there.attributes.get(column)
        for number, shape in enumerate(there.geometries):
            if shape is None or not shape.area:
                continue
            shapely.prepare(shape)
            inside = shapely.contains_xy(shape, places.x, places.y)
            found[inside] = str(names[number])[:40] if names else f"polygon {number + 1}"
    if not (found != "").any():
        raise InputError("None of the points lies in one of these polygons. Choose others.")
    return by_cover(found, "polygon")


def _between(title: str, values: FloatArray, breaks: Sequence[float], unit: str) -> Split:
    digits = 0 if all(float(one).is_integer() for one in breaks) else 1
    texts = [f"{one:.{digits}f}" for one in breaks]
    names = (
        [f"below {texts[0]} {unit}"] + [f"{a}–{b} {unit}" for a, b in pairwise(texts)] + [f"over {texts[-1]} {unit}"]
    )
    of = np.searchsorted(np.asarray(breaks), values, side="right").astype(np.int64)
    of[~np.isfinite(values)] = -1
    return Split(title, tuple(names), of)


def by_slope(slopes: FloatArray) -> Split:
    """Classes of slope in degrees: below 5, to 15, to 30, to 45, and steeper."""
    return _between("slope", slopes, _SLOPES, "°")


def by_aspect(aspects: FloatArray) -> Split:
    """The quarter of the compass towards which the ground falls."""
    of = np.full(aspects.size, -1, np.int64)
    known = np.isfinite(aspects)
    of[known] = ((aspects[known] + 45) // 90).astype(np.int64) % 4
    return Split("aspect", _ASPECTS, of)


def _nice_steps(values: FloatArray) -> list[float]:
    """Round numbers that part values into about five classes."""
    low, high = (float(one) for one in np.quantile(values, (0.02, 0.98)))
    rough = max(high - low, 1e-3) / _WANTED
    power = 10.0 ** np.floor(np.log10(rough))
    step = next((one * power for one in _STEPS if one * power >= rough), 10 * power)
    first = (np.floor(low / step) + 1) * step
    return [float(first + i * step) for i in range(_WANTED + 1) if first + i * step < high] or [float(first)]


def by_height(heights: FloatArray) -> Split:
    """About five classes of height in metres, between round numbers."""
    known = heights[np.isfinite(heights)]
    if not known.size:
        raise InputError("The points have no heights by which they could be split.")
    return _between("height", heights, _nice_steps(known), "m")


def distances_to(points: Sequence[Points], places: Places) -> FloatArray:
    """Metres from each place to the nearest of all points; infinite where there are none."""
    return np.min([places.nearest(one) for one in points], axis=0) if points else np.full(len(places), np.inf)


_REACHES = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0)


def by_distance(distances: FloatArray) -> Split:
    """Classes of distance to data in metres, at up to four of 1, 2, 5, 10 and so on that part the places best."""
    known = distances[np.isfinite(distances)]
    if not known.size:
        raise InputError("There are no points to which a distance could be told.")
    low, high = np.quantile(known, (0.1, 0.9))
    breaks = [one for one in _REACHES if low < one < high][-4:] or [
        next((one for one in _REACHES if one >= float(np.median(known))), _REACHES[-1])
    ]
    return _between("distance to data", distances, breaks, "m")


def split_by(
    name: SplitName,
    places: Places,
    ground: Judged,
    polygons: Sequence[Features] = (),
    column: str = "",
    data: Sequence[Points] = (),
) -> Split:
    """Classes of places by one of `SplitName`.

    Parameters
    ----------
    name : str
    places : Places
    ground : Judged
        The surface whose slopes and aspects the places have.
    polygons : sequence of Features, optional
        For "polygon".
    column : str, optional
        Of the polygons: what they are told apart by.
    data : sequence of Points, optional
        For "distance".

    Raises
    ------
    InputError
        Where the places cannot be split so, with what is missing.
    """
    if name == "cover":
        return by_cover(places.covers)
    if name == "slope":
        return by_slope(ground.slopes)
    if name == "aspect":
        return by_aspect(ground.aspects)
    if name == "height":
        return by_height(places.heights)
    if name == "distance":
        return by_distance(distances_to(data, places))
    if name == "polygon":
        if not polygons:
            raise InputError("Choose the polygons by which the points are split.")
        return by_polygons(polygons, column, places)
    return none_of(places)
