"""How wrong a surface is, as a curve over slope and as a surface: the model of its errors where it stands."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import shapely

from yama.terrain.features import Features
from yama.terrain.fit.clip import inside, named_polygons
from yama.terrain.grid import FloatArray, Grid
from yama.terrain.judge.places import Judged, Places
from yama.terrain.judge.uncertainty import ErrorModel, fitted_model
from yama.terrain.surface import Heights, LiveSurface, Surface, sample
from yama.terrain.units import UNITS

SLOPES = np.arange(0.0, 61.0, 2.5)
"""Degrees at which a curve is told."""
_OF_A_CLASS = 10


class Cover:
    """What covers the ground, by polygons in a CRS: the later of several counts."""

    def __init__(self, cover: Sequence[Features], column: str, crs: str) -> None:
        found = named_polygons(cover, column, crs, "covered")
        self.polygons = [polygon for polygon, _ in found]
        self.names = tuple(dict.fromkeys(name for _, name in found))
        self._of = [self.names.index(name) for _, name in found]
        self._crs = crs

    def at(self, places: Places) -> npt.NDArray[np.int64]:
        """The number of the class at each place, -1 in none."""
        found = np.full(len(places), -1, np.int64)
        x, y = places.in_crs(self._crs)
        for polygon, number in zip(self.polygons, self._of, strict=True):
            shapely.prepare(polygon)
            found[shapely.contains_xy(polygon, x, y)] = number
        return found

    def of(self, grid: Grid) -> npt.NDArray[np.int64]:
        """The number of the class of each cell of a grid in their CRS."""
        which = inside(self.polygons, grid)
        return np.array([-1, *self._of], np.int64)[which]


def model_at(
    judged: Judged, classes: npt.NDArray[np.int64] | None, names: Sequence[str], own: FloatArray | None = None
) -> ErrorModel:
    """The model of a surface's errors at places; see `fitted_model`."""
    return fitted_model(judged.errors, np.hypot(*judged.rises), classes, names, own)


def curve(model: ErrorModel, number: int = -1) -> FloatArray:
    """Standard deviations in metres at `SLOPES`, of a class, or of all other ground."""
    rise = np.tan(np.radians(SLOPES))
    found: FloatArray = np.sqrt(model.floor[number] ** 2 + (model.per_rise * rise) ** 2)
    return found


def spreads_by_slope(judged: Judged, chosen: npt.NDArray[np.bool_] | None = None) -> list[tuple[float, float, int]]:
    """What errors do at slopes, to see a curve by: slope in degrees, standard deviation told from the errors that 68 %
    stay within, and how many there are; of about six classes that hold the same number of places."""
    known = np.isfinite(judged.errors) & np.isfinite(judged.slopes)
    if chosen is not None:
        known &= chosen
    count = int(known.sum())
    parts = min(max(count // _OF_A_CLASS, 0), 6)
    if not parts:
        return []
    slopes, errors = judged.slopes[known], judged.errors[known] - np.median(judged.errors[known])
    order = np.argsort(slopes, kind="stable")
    return [
        (float(np.median(slopes[part])), float(np.quantile(np.abs(errors[part]), 0.683)), int(part.size))
        for part in np.array_split(order, parts)
    ]


def own_at(surface: Surface, places: Places) -> FloatArray | None:
    """What a surface says of its own uncertainty at places, in metres; None where it says nothing."""
    doubts = surface.companions.get("uncertainty")
    if doubts is None:
        return None
    return sample(doubts, *places.in_crs(doubts.grid.crs)) * UNITS[surface.unit]


def doubts_of(surface: Surface, model: ErrorModel, cover: Cover | None = None) -> Surface:
    """One standard deviation of a surface's errors, cell by cell, in its unit; live, empty where the surface is.

    Parameters
    ----------
    surface : Surface
        Of heights.
    model : ErrorModel
        Of its errors, with the classes of `cover` where there is one.
    cover : Cover, optional
        In the surface's CRS.
    """
    metres = np.float32(UNITS[surface.unit])
    own = surface.companions.get("uncertainty") if model.own else None

    def compute(held: list[Heights], grid: Grid) -> Heights:
        z = held[0] * metres
        wide, high = grid.metres_per_cell()
        east = (z[1:-1, 2:] - z[1:-1, :-2]) / (2 * wide)
        north = (z[:-2, 1:-1] - z[2:, 1:-1]) / (2 * high)
        rise = np.hypot(east, north).astype(np.float64)
        classes = cover.of(grid)[1:-1, 1:-1] if cover is not None else None
        told = held[1][1:-1, 1:-1].astype(np.float64) * float(metres) if len(held) > 1 else None
        found = np.sqrt(model.variance(rise, classes, told)) / float(metres)
        return np.where(np.isnan(z[1:-1, 1:-1]), np.float32(np.nan), found.astype(np.float32))

    told = (
        "doubts",
        model.names,
        model.floor,
        model.per_rise,
        model.own,
        [one.wkb for one in cover.polygons] if cover is not None else [],
    )
    inputs = [surface] if own is None else [surface, own]
    return LiveSurface(inputs, compute, 1, surface.unit, of=told)
