"""The catalogue of operations. Importing it registers every one."""

from yama.terrain.operations import (  # noqa: F401
    calculate,
    cell_type,
    change_heights,
    clip,
    contour_surface,
    contours,
    edit_features,
    fill_voids,
    find_ground,
    fit_to_frame,
    grid_cloud,
    heights,
    interpolate_points,
    judge,
    mosaic,
    relief,
    spline_smoothing,
    variogram,
    which_method,
)
from yama.terrain.operations.base import Task, catalogue, describe, find, make_step, parse_params, take_inputs

__all__ = ["Task", "catalogue", "describe", "find", "make_step", "parse_params", "take_inputs"]
