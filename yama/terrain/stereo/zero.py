"""What height 0 is: the ellipsoid itself, or a level surface such as mean sea level, which a geoid places above or below it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.grid import FloatArray, turn_between
from yama.terrain.surface import Surface, sample


class ZeroLevel:
    """Heights of a zero level above the ellipsoid.

    Parameters
    ----------
    geoid : Surface, optional
        Heights of the level above the ellipsoid, in metres; without one heights are above the ellipsoid itself.
    offset : float
        Added to them everywhere, in metres.
    """

    def __init__(self, geoid: Surface | None = None, offset: float = 0.0) -> None:
        self.geoid, self.offset = geoid, offset

    def made_of(self) -> tuple[Any, ...]:
        """For fingerprints of what depends on it."""
        return (self.geoid.fingerprint if self.geoid else "", self.offset)

    def at(self, lon: npt.ArrayLike, lat: npt.ArrayLike) -> FloatArray:
        """The level's height above the ellipsoid at places. Beyond the geoid it is the nearest that is known, at least in the
        mean."""
        x, y = np.asarray(lon, np.float64), np.asarray(lat, np.float64)
        if self.geoid is None:
            return np.full(x.shape, self.offset)
        across, up = turn_between("EPSG:4326", self.geoid.grid.crs).transform(x.ravel(), y.ravel())
        found = sample(self.geoid, across, up).reshape(x.shape)
        if np.isnan(found).any():
            found = np.where(np.isnan(found), np.nanmean(found) if np.isfinite(found).any() else 0.0, found)
        return found + self.offset
