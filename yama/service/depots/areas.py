"""Areas as providers are asked for them."""

from __future__ import annotations

from typing import Any

import numpy as np
from pyproj import Transformer

from yama.terrain.errors import InputError
from yama.terrain.grid import Grid, parse_crs


def turned(source: str, target: str, bounds: Any) -> list[float]:
    """The box in another CRS around a box. Raises InputError where it has none."""
    turn = Transformer.from_crs(parse_crs(source), parse_crs(target), always_xy=True)
    box = [float(value) for value in turn.transform_bounds(bounds[0], bounds[1], bounds[2], bounds[3])]
    if not np.isfinite(box).all():
        raise InputError("That area cannot be expressed in the provider's CRS. Choose one nearer to the frame.")
    return box


def checked(bounds: Any, frame: Grid) -> list[float]:
    """West, south, east and north of an area in the frame's CRS. Raises InputError where it is none or far away."""
    west, south, east, north = bounds
    if not (np.isfinite(bounds).all() and west < east and south < north):
        raise InputError("The area is not a rectangle: west must be less than east, south less than north.")
    around = frame.bounds
    width, height = around.east - around.west, around.north - around.south
    if (
        west < around.west - 20 * width
        or east > around.east + 20 * width
        or south < around.south - 20 * height
        or north > around.north + 20 * height
    ):
        raise InputError("That area lies far outside the frame. Choose one near it.")
    return [float(value) for value in bounds]
