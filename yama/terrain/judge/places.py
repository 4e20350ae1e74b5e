"""Places at which surfaces are judged, and the errors of a surface there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import shapely
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.features import Features
from yama.terrain.fit.reproject import fitted
from yama.terrain.grid import FloatArray, Grid, metres_per_unit, parse_crs
from yama.terrain.points import Points
from yama.terrain.surface import Surface, sample, sample_with_rises
from yama.terrain.units import UNITS

SPREAD = 20_000
"""Places at which a surface is compared with another, at most."""
_SAME = 0.02  # metres within which two points are one


@dataclass(frozen=True)
class Places:
    """Places with known heights.

    Parameters
    ----------
    crs : str
    x, y : ndarray, shape (places,)
    heights : ndarray, shape (places,)
        In metres.
    covers : ndarray of str, shape (places,)
        What covers the ground there; empty where nobody says.
    """

    crs: str
    x: FloatArray
    y: FloatArray
    heights: FloatArray
    covers: npt.NDArray[np.str_] = field(default_factory=lambda: np.empty(0, "U1"))

    def __len__(self) -> int:
        return int(self.x.size)

    @property
    def scale(self) -> tuple[float, float]:
        """Metres in a unit of x and of y, in their middle."""
        if not len(self):
            return 1.0, 1.0
        return metres_per_unit(self.crs, float(np.median(self.x)), float(np.median(self.y)))

    def in_metres(self) -> tuple[FloatArray, FloatArray]:
        """Where they lie, in metres to the east and north of the CRS's origin, near enough to tell neighbours."""
        across, up = self.scale
        return self.x * across, self.y * up

    def nearest(self, points: Points, within: float = np.inf) -> FloatArray:
        """Metres from each place to the nearest of some points; infinite where none is within so many."""
        from scipy.spatial import cKDTree  # heavy, and seldom needed

        there = points.in_crs(self.crs)
        known = np.isfinite(there.x) & np.isfinite(there.y)
        if not known.any() or not len(self):
            return np.full(len(self), np.inf)
        across, up = self.scale
        tree = cKDTree(np.stack([there.x[known] * across, there.y[known] * up], axis=1))
        found: FloatArray = tree.query(np.stack(self.in_metres(), axis=1), distance_upper_bound=within)[0]
        return found

    def in_crs(self, crs: str) -> tuple[FloatArray, FloatArray]:
        """x, y in another CRS."""
        if parse_crs(self.crs) == parse_crs(crs):
            return self.x, self.y
        x, y = Transformer.from_crs(parse_crs(self.crs), parse_crs(crs), always_xy=True).transform(self.x, self.y)
        return np.asarray(x), np.asarray(y)

    def among(self, points: Points) -> npt.NDArray[np.bool_]:
        """Which of the places are points of these too: what was made from them cannot be judged there."""
        return np.isfinite(self.nearest(points, _SAME))


def at_points(points: Points, crs: str) -> Places:
    """Checkpoints as places of a CRS, whatever their own CRS and unit of height. Raises InputError where there are
    none, or where they have no heights."""
    if not len(points):
        raise InputError("There are no checkpoints here: the file holds no points.")
    there = points.in_crs(crs)
    return Places(crs, there.x, there.y, there.z * UNITS[points.unit], points.codes)


def spread_over(reference: Surface, grid: Grid, most: int = SPREAD) -> Places:
    """Places spread evenly over a grid, with the heights of a reference.

    Parameters
    ----------
    reference : Surface
        Of heights.
    grid : Grid
        Such as the frame's: places are centres of its cells.
    most : int
        How many there are at most.

    Raises
    ------
    InputError
        Where the reference has no height on the grid.
    """
    _refuse_other_units(reference)
    step = max(int(np.ceil(np.sqrt(grid.cell_count / most))), 1)
    rows, cols = (np.arange(step // 2, count, step) for count in (grid.rows, grid.cols))
    x, y = (one.ravel() for one in np.meshgrid(grid.x_of(cols), grid.y_of(rows)))
    heights = sample(fitted(reference, grid), x, y) * UNITS[reference.unit]
    known = np.isfinite(heights)
    if not known.any():
        name = reference.name or "The surface that is judged against"
        raise InputError(f"{name} is empty all over the frame, so nothing can be judged against it.")
    return Places(grid.crs, x[known], y[known], heights[known])


@dataclass(frozen=True)
class Judged:
    """What a surface says at places.

    Parameters
    ----------
    errors : ndarray, shape (places,)
        Surface minus height of the place, in metres; NaN where the surface is empty.
    rises : ndarray, shape (2, places)
        Rise over run of the surface towards east and north.
    """

    errors: FloatArray
    rises: FloatArray = field(repr=False)

    @property
    def slopes(self) -> FloatArray:
        """In degrees."""
        found: FloatArray = np.degrees(np.arctan(np.hypot(*self.rises)))
        return found

    @property
    def aspects(self) -> FloatArray:
        """Towards which the ground falls, in degrees from north; NaN where it is level."""
        east, north = self.rises
        with np.errstate(invalid="ignore"):
            found: FloatArray = np.where(np.hypot(east, north) > 0, np.degrees(np.arctan2(-east, -north)) % 360, np.nan)
        return found

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON values, to a tenth of a millimetre."""

        def plain(values: FloatArray) -> list[float | None]:
            return [None if np.isnan(one) else round(float(one), 4) for one in values]

        return {"errors": plain(self.errors), "rises": [plain(one) for one in self.rises]}

    @classmethod
    def from_dict(cls, told: dict[str, Any]) -> Judged:
        """The inverse of `to_dict`."""
        return cls(np.array(told["errors"], np.float64), np.array(told["rises"], np.float64))


def _refuse_other_units(surface: Surface) -> None:
    if surface.unit not in UNITS:
        name = surface.name or "The surface"
        raise InputError(f"{name} is in {surface.unit or 'no unit'}: it has no heights that could be judged.")


def judged_at(surface: Surface, places: Places) -> Judged:
    """How a surface does at places, read bilinearly. Raises InputError where its unit is none of heights."""
    _refuse_other_units(surface)
    heights, rises = sample_with_rises(surface, *places.in_crs(surface.grid.crs))
    metres = UNITS[surface.unit]
    return Judged(heights * metres - places.heights, rises * metres)


_COMPASS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


@dataclass(frozen=True)
class Named:
    """Something with a name near a place. away: how far its middle is, in metres; side: on which side of it the place
    lies."""

    name: str
    away: float
    side: str


def nearest_named(x: float, y: float, crs: str, named: Sequence[Features]) -> Named | None:
    """What has a name and is nearest to a place; None where nothing has one.

    named: features whose column `name` tells it.
    """
    best: Named | None = None
    scale = Places(crs, np.array([x]), np.array([y]), np.zeros(1)).scale
    for one in named:
        there = one.in_crs(crs)
        for name, shape in zip(there.attributes.get("name", []), there.geometries, strict=False):
            if shape is None or not name:
                continue
            middle = shapely.centroid(shape)
            east, north = (x - middle.x) * scale[0], (y - middle.y) * scale[1]
            away = float(np.hypot(east, north))
            if best is None or away < best.away:
                best = Named(str(name), away, _COMPASS[int(round(np.degrees(np.arctan2(east, north)) / 45)) % 8])
    return best
