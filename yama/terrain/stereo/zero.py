"""What height 0 is: the ellipsoid itself, or a level surface such as mean sea level, which a geoid places above or
below it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.errors import InputError
from yama.terrain.grid import Bounds, FloatArray, turn_between
from yama.terrain.surface import Surface, sample

_HIGHEST = 120.0  # metres between any geoid and the ellipsoid


class ZeroLevel:
    """Heights of a zero level above the ellipsoid.

    Parameters
    ----------
    geoid : Surface, optional
        Heights of the level above the ellipsoid, in metres; without one heights are above the ellipsoid itself.
    """

    def __init__(self, geoid: Surface | None = None) -> None:
        self.geoid = geoid

    def made_of(self) -> tuple[Any, ...]:
        """For fingerprints of what depends on it."""
        return (self.geoid.fingerprint if self.geoid else "",)

    def require(self, bounds: Bounds) -> None:
        """Refuse a surface that cannot be the geoid of an area.

        Parameters
        ----------
        bounds : Bounds
            Longitudes and latitudes of what is computed.

        Raises
        ------
        InputError
            Where it is empty somewhere in the area, or reaches higher than any geoid.
        """
        if self.geoid is None:
            return
        lon, lat = np.meshgrid(np.linspace(bounds.west, bounds.east, 9), np.linspace(bounds.south, bounds.north, 9))
        found = self._read(lon, lat)
        if np.isnan(found).any():
            raise InputError("The geoid does not cover all that is computed. Choose one that does.")
        highest = float(np.abs(found).max())
        if highest > _HIGHEST:
            raise InputError(
                f"What is chosen as geoid reaches {highest:.0f} m; no geoid lies farther than {_HIGHEST:.0f} m from the "
                "ellipsoid. Choose a surface of the sea level's heights, not of the ground's."
            )

    def at(self, lon: npt.ArrayLike, lat: npt.ArrayLike) -> FloatArray:
        """The level's height above the ellipsoid at places. Around the area that was required to be covered, where only
        interpolation reaches, it is taken as its mean."""
        x = np.asarray(lon, np.float64)
        if self.geoid is None:
            return np.zeros(x.shape)
        found = self._read(x, np.asarray(lat, np.float64))
        if np.isnan(found).all():
            raise InputError("The geoid lies elsewhere. Choose one of this area.")
        return np.where(np.isnan(found), np.nanmean(found), found)

    def _read(self, lon: FloatArray, lat: FloatArray) -> FloatArray:
        assert self.geoid is not None, "only asked where there is one"
        x, y = turn_between("EPSG:4326", self.geoid.grid.crs).transform(lon.ravel(), lat.ravel())
        return sample(self.geoid, x, y).reshape(lon.shape)
