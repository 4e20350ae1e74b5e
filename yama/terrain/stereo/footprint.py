"""The outline of the ground that an image shows, drawn on the ground itself."""

from __future__ import annotations

import numpy as np

from yama.terrain.grid import FloatArray, turn_between
from yama.terrain.images import Image
from yama.terrain.stereo.rays import Sensor
from yama.terrain.stereo.zero import ZeroLevel
from yama.terrain.surface import Surface, sample

_ALONG = 24  # places along each side
_TURNS = 12


def footprint(image: Image, sensor: Sensor, surface: Surface, zero: ZeroLevel) -> FloatArray:
    """Where the rays of an image's border meet a surface.

    Parameters
    ----------
    image : Image
    sensor : Sensor
        Its model, adjusted or not.
    surface : Surface
        Heights in metres above the zero level.
    zero : ZeroLevel

    Returns
    -------
    ndarray, shape (n, 2)
        Longitude and latitude of a closed ring. Where the surface is empty, the ground lies at the mean of the heights
        that are met elsewhere, or at the model's middle height where none is.
    """
    share = np.linspace(0, 1, _ALONG, endpoint=False)
    across, down = image.cols - 1, image.rows - 1
    col = np.concatenate([share * across, np.full(_ALONG, across), (1 - share) * across, np.zeros(_ALONG)])
    row = np.concatenate([np.zeros(_ALONG), share * down, np.full(_ALONG, down), (1 - share) * down])
    turn = turn_between("EPSG:4326", surface.grid.crs)
    height = np.full(col.shape, image.model.height_offset)
    for _ in range(_TURNS):
        lon, lat = sensor.ground_of(col, row, height)
        met = sample(surface, *turn.transform(lon, lat)) + zero.at(lon, lat)
        known = np.isfinite(met)
        if not known.any():
            break
        found = np.where(known, met, met[known].mean())
        if np.abs(found - height).max() < 0.01:
            break
        height = found
    lon, lat = sensor.ground_of(col, row, height)
    return np.stack([np.append(lon, lon[0]), np.append(lat, lat[0])], axis=1)
