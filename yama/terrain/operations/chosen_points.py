"""The points that an operation is to use, of those it is given."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from yama.terrain.frame import Frame
from yama.terrain.later import later
from yama.terrain.points import Points

spatial = later("scipy.spatial")

_AT_PLACE = 0.02
"""Metres within which a point lies at a place that is named: the desk rounds places to centimetres."""


def chosen_points(points: Points, params: Any, frame: Frame) -> Points:
    """The points that an operation works with.

    Parameters
    ----------
    points : Points
        In any CRS.
    params : Params
        With `codes`, `stray_points` and `left_out`; see `Interpolation`.
    frame : Frame
        Into whose CRS they are brought.

    Returns
    -------
    Points
        Those with a known place and height that the parameters leave.
    """
    points = points.in_crs(frame.grid.crs)
    keep = np.isfinite(points.x) & np.isfinite(points.y) & np.isfinite(points.z)
    if params.codes is not None and points.codes.size:
        keep &= np.isin(points.codes, params.codes)
    if params.stray_points == "leave_out":
        keep &= ~strays(points, frame)
    if params.left_out:
        across, up = frame.grid.metres_per_unit()
        known = np.flatnonzero(keep)  # the others may have no place
        places = np.column_stack([points.x[known] * across, points.y[known] * up])
        out = spatial.cKDTree(np.array(params.left_out) * [across, up])
        keep[known] &= ~np.isfinite(out.query(places, distance_upper_bound=_AT_PLACE)[0])
    return points.kept(keep)


def strays(points: Points, frame: Frame) -> npt.NDArray[np.bool_]:
    """Which points `(points,)`, in the frame's CRS, lie farther outside the frame than its longer side."""
    bounds = frame.grid.bounds
    reach = max(bounds.east - bounds.west, bounds.north - bounds.south)
    outside_x = np.maximum(bounds.west - points.x, points.x - bounds.east)
    outside_y = np.maximum(bounds.south - points.y, points.y - bounds.north)
    far: npt.NDArray[np.bool_] = np.maximum(outside_x, outside_y) > reach
    return far
